"""``here`` on real shells, editors and notebooks: what is said is what the interpreter says."""

from __future__ import annotations

import json
import os
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import pytest

from tests.support.build import (
    World,
    kernelspec,
    notebook,
    other_pythons,
    python_of,
    run,
    site_of,
    write,
)

FAKE_KERNEL = ["-m", "ipykernel_launcher", "-f", "{connection_file}"]


def settings(w: World, value: str, more: str = "") -> Path:
    """Write editor settings with comments and a trailing comma."""
    return write(w.project / ".vscode" / "settings.json", (
        '// for this folder\n{\n  /* "python.defaultInterpreterPath": "/old", */\n'
        f'  "python.defaultInterpreterPath": {json.dumps(value)}, // mine\n{more}}}\n'))


def with_pip(env: Path, python: Path | None = None, *, form: str = "direct") -> None:
    """Give an environment a pip script whose first line names an interpreter."""
    target = python or env / "bin" / "python"
    head = {"direct": f"#!{target}\n", "env": "#!/usr/bin/env python\n",
            "sh": f"#!/bin/sh\n'''exec' \"{target}\" \"$0\" \"$@\"\n' '''\n"}[form]
    write(env / "bin" / "pip", head + "print('pip')\n", 0o755)
    write(site_of(env) / "pip" / "__init__.py", "")


@dataclass(frozen=True)
class Scene:
    """A state of shell and folder, and what ``here`` must find in it."""

    slug: str
    build: Callable[[World], object]
    causes: tuple[str, ...] = ()
    agree: bool | None = True
    prefix: str | None = "lab"
    trail: str = ""
    exit: int = 0
    notes: tuple[str, ...] = ()


def _active(w: World, **more: object) -> Path:
    lab = w.venv("lab", **more)
    with_pip(lab)
    w.activate(lab)
    return lab


def _wrapper(text: str) -> Callable[[World], object]:
    def build(w: World) -> None:
        lab = w.venv("lab")
        with_pip(lab)
        body = text.replace("PYTHON", python_of(lab)).replace("LAB", str(lab))
        write(w.home / "wrap" / "python", body, 0o755)
        write(w.home / "wrap" / "pip", body, 0o755)
        w.env["PATH"] = f"{w.home / 'wrap'}:{w.env['PATH']}"
    return build


def _by_folder(w: World) -> None:
    """A wrapper that picks by a version file found upwards, as version managers do."""
    for name in ("lab", "other"):
        with_pip(w.venv(name))
    write(w.home / ".python-version", "lab\n")
    _wrapper('#!/bin/bash\nset -e\nd=$PWD\nwhile [ ! -f "$d/.python-version" ]; do d=${d%/*}; done\n'
             'read v < "$d/.python-version"\nexec "' + str(w.home) + '/envs/$v/bin/${0##*/}" "$@"\n')(w)


def _pip_elsewhere(w: World) -> None:
    old = w.venv("lab-old")
    _active(w)
    with_pip(old)
    write(w.home / "bin" / "pip", (old / "bin" / "pip").read_bytes(), 0o755)
    w.env["PATH"] = f"{w.home / 'bin'}:{w.env['PATH']}"


def _pip_gone(w: World) -> None:
    lab = _active(w)
    with_pip(lab, w.home / "moved" / "bin" / "python")


def _outranked(w: World) -> None:
    _active(w)
    with_pip(w.venv("lab-old"))
    w.env["PATH"] = f"{w.home / 'envs/lab-old/bin'}:{w.env['PATH']}"


def _stale(w: World) -> None:
    _active(w)
    w.env["VIRTUAL_ENV"] = str(w.home / "envs" / "gone")


def _not_on_path(w: World) -> None:
    w.env["VIRTUAL_ENV"] = str(w.venv("lab"))


def _editor(value: str) -> Callable[[World], object]:
    def build(w: World) -> None:
        _active(w)
        with_pip(w.venv("lab-old"))
        settings(w, value.replace("ENVS", str(w.home / "envs")))
    return build


def _broken_settings(w: World) -> None:
    _active(w)
    write(w.project / ".vscode" / "settings.json", '{"python.defaultInterpreterPath": ')


def _kernel(label: str, env: str, kernel: str = "lab", module: str = "ipykernel_launcher",
            names: str | None = None) -> Callable[[World], object]:
    def build(w: World) -> None:
        lab = _active(w)
        old = w.venv("lab-old")
        for place in (lab, old):
            write(site_of(place) / "ipykernel_launcher.py", "")
        argv = [str(w.home / "envs" / env / "bin" / "python"), "-m", module, "-f",
                "{connection_file}"]
        kernelspec(w.home, kernel, argv, label)
        notebook(w.project / "deep" / "trial.ipynb", names or kernel)
    return build


def _bad_files(w: World) -> None:
    _active(w)
    write(w.project / "broken.ipynb", "{")
    write(w.project / "list.ipynb", "[]")
    write(w.project / "bytes.ipynb", b"\xff\xfe\x00")
    notebook(w.project / "plain.ipynb", None)
    os.mkfifo(w.project / "pipe.ipynb")
    (w.project / "loop").symlink_to(w.project)
    write(w.home / ".local/share/jupyter/kernels/bad/kernel.json", "nope")
    notebook(w.project / "uses_bad.ipynb", "bad")


def _own_script(w: World) -> None:
    _active(w)
    write(w.project / "count.py", "#!/usr/bin/python3\nimport this\n", 0o755)
    write(w.project / "not-run.py", "#!/usr/bin/python3\n")


SCENES = [
    Scene("script of its own", _own_script, ("seats-disagree",), agree=False, exit=1),
    Scene("system python", lambda w: None, prefix="/usr"),
    Scene("activated", _active, trail="pyvenv.cfg"),
    Scene("long path", lambda w: with_pip(_active(w), form="sh")),
    Scene("shebang by env", lambda w: with_pip(_active(w), form="env")),
    Scene("wrapper that says where", _wrapper('#!/bin/sh\nexec "PYTHON" "$@"\n'),
          trail="wrapper", notes=("python3-elsewhere",)),
    Scene("wrapper by name", _wrapper('#!/bin/sh\nexec "LAB/bin/${0##*/}" "$@"\n'),
          trail="wrapper", notes=("python3-elsewhere",)),
    Scene("wrapper by folder", _by_folder, trail=".python-version", notes=("python3-elsewhere",)),
    Scene("wrapper that fails", _wrapper('#!/bin/sh\n[ -d /nowhere ] && exec python3 "$@"\nexit 3\n'),
          ("interpreter-broken",), agree=None, prefix=None, exit=1),
    Scene("wrapper that talks rubbish",
          _wrapper('#!/bin/sh\n[ -d /nowhere ] && exec python3 "$@"\nhead -c 3000 /dev/urandom\n'),
          ("interpreter-broken",), agree=None, prefix=None, exit=1),
    Scene("script that shows no Python", _wrapper("#!/bin/sh\nexit 0\n"), agree=None, prefix=None, exit=3,
          notes=("seat-untold",)),
    Scene("no python", lambda w: w.env.update(PATH="/nonexistent"), agree=None, prefix=None, exit=3),
    Scene("pip of another", _pip_elsewhere, ("pip-elsewhere",), exit=1),
    Scene("pip of nobody", _pip_gone, ("pip-absent",), exit=1),
    Scene("outranked", _outranked, ("activation-outranked",), prefix="lab-old", exit=1),
    Scene("stale", _stale, ("activation-stale",), exit=1),
    Scene("not on PATH", _not_on_path, ("activation-stale",), prefix="/usr", exit=1),
    Scene("editor agrees", _editor("${workspaceFolder}/../envs/lab/bin/python")),
    Scene("editor names a folder", _editor("../envs/lab")),
    Scene("editor differs", _editor("ENVS/lab-old/bin/python"), ("seats-disagree",), agree=False,
          exit=1),
    Scene("editor one folder off", _editor("${workspaceFolder}/envs/lab/bin/python"),
          ("setting-points-nowhere",), exit=1),
    Scene("settings broken", _broken_settings, ("setting-unreadable",), exit=1),
    Scene("kernel agrees", _kernel("lab (Python 3)", "lab")),
    Scene("kernel of another", _kernel("Trials", "lab-old", "trials"), ("seats-disagree",),
          agree=False, exit=1),
    Scene("kernel mislabelled", _kernel("lab", "lab-old"),
          ("seats-disagree", "kernel-mislabelled"), agree=False, exit=1),
    Scene("kernel of a wrong version", _kernel("Python 3.4", "lab"), ("kernel-mislabelled",), exit=1),
    Scene("kernel gone", _kernel("lab", "gone"), ("kernel-interpreter-gone",), exit=1),
    Scene("kernel without its package", _kernel("lab", "lab", module="nixkernel"),
          ("kernel-cannot-start",), exit=1),
    Scene("kernel missing", _kernel("lab", "lab", names="labb"), ("kernel-missing",), exit=1),
    Scene("kernel of the server", _kernel("lab", "lab", names="python3"), ("kernel-missing",), exit=1),
    Scene("bad files", _bad_files, ("notebook-unreadable", "notebook-unreadable",
          "notebook-unreadable", "notebook-unreadable", "kernel-unreadable"), exit=1,
          notes=("notebook-names-no-kernel",)),
]


@pytest.mark.parametrize("scene", SCENES, ids=lambda s: s.slug)
def test_scene(scene: Scene, world: World, validate) -> None:
    """The findings are those, and the shell's python is what the shell itself starts."""
    scene.build(world)
    document = world.answer("here")
    validate(document)
    result = document["result"]
    findings = [*result["findings"], *[f for s in result["seats"] for f in s["findings"]]]
    assert tuple(f["cause"] for f in findings if f["severity"] != "note") == scene.causes
    assert (document["exit"], result["agreement"]["agree"]) == (scene.exit, scene.agree)
    assert tuple(n["note"] for n in document["notes"]) == scene.notes
    shell = result["seats"][0]
    assert [s["step"] for s in shell["trail"]] == list(range(1, len(shell["trail"]) + 1))
    assert scene.trail in json.dumps(shell["trail"])
    text = world.kalyx("here")
    assert text.returncode == scene.exit and "Traceback" not in text.stderr
    if scene.prefix is None:
        return
    prefix = scene.prefix if scene.prefix.startswith("/") else str(world.home / "envs" / scene.prefix)
    said = run(["sh", "-c", "$(command -v python || command -v python3) -c 'import sys; "
                "print(sys.executable); print(sys.prefix); print(sys.base_prefix); "
                "print(sys.version.split()[0])'"], cwd=world.project, env=world.env).stdout.split()
    mine = shell["interpreter"]
    assert [mine["path"], mine["prefix"], mine["base_prefix"], mine["version"]] == said
    assert shell["environment"]["path"] == prefix


def test_remedies_bring_seats_in_line(world: World) -> None:
    """The edit of a setting and the edit of a notebook, carried out, leave nothing to say."""
    _kernel("Trials", "lab-old", "trials")(world)
    kernelspec(world.home, "lab", [python_of(world.home / "envs/lab"), *FAKE_KERNEL])
    settings(world, "${workspaceFolder}/envs/lab/bin/python")
    write(world.project / "count.py", "#!/usr/bin/python3\nimport this\n", 0o755)
    document = world.answer("here")
    edited = 0
    for holder in (document["result"], *document["result"]["seats"]):
        for finding in holder["findings"]:
            for edit in (e for r in finding["remedies"] for e in r["edits"]):
                path = Path(edit["path"])
                text = path.read_text()
                assert text.count(edit["before"]) == 1
                path.write_text(text.replace(edit["before"], edit["after"]))
                edited += 1
    after = world.answer("here")
    assert (edited, after["exit"], after["result"]["agreement"]["agree"]) == (3, 0, True)


def test_nothing_of_the_folder_is_run(world: World) -> None:
    """An interpreter, a .pth and a sitecustomize that leave a mark when run leave none."""
    mark = world.root / "mark"
    lab = world.venv("lab")
    world.activate(lab)
    code = f"import os; open({str(mark)!r}, 'a').write('x')\n"
    write(site_of(lab) / "evil.pth", code)
    write(site_of(lab) / "sitecustomize.py", code)
    shell = f"#!/bin/sh\necho x >> {mark}\n"
    write(world.project / ".venv" / "bin" / "python", shell, 0o755)
    write(world.project / ".venv" / "pyvenv.cfg", "home = /usr/bin\n")
    shared = write(world.home / "open" / "python", shell, 0o755)
    shared.chmod(0o777)
    settings(world, "${workspaceFolder}/.venv/bin/python")
    kernelspec(world.home, "open", [str(shared), *FAKE_KERNEL])
    notebook(world.project / "n.ipynb", "open")
    world.env["PATH"] = f"{world.project / '.venv/bin'}:{world.env['PATH']}"
    document = world.answer("here")
    assert not mark.exists()
    assert {(s["interpreter"] or {}).get("version") for s in document["result"]["seats"]} == {None}


@pytest.mark.parametrize("version", sorted(other_pythons()))
def test_every_interpreter_is_read_right(version: str, world: World) -> None:
    """What is read without running equals what the interpreter answers."""
    from kalyx.core.facts.interpreters.installation import read_interpreter
    from kalyx.core.facts.interpreters.pyvenv import find_venv_config
    from kalyx.core.machine.local import RealMachine

    machine, python = RealMachine(), other_pythons()[version]
    programs = [python]
    if version not in ("2.7", "/usr/bin/pypy3"):
        programs.append(python_of(world.venv("e", python)))
    for program in programs:
        found = read_interpreter(machine, program, find_venv_config(machine, program))
        said = run([program, "-c", "import sys, platform; print(sys.prefix); print(getattr(sys, "
                    "'base_prefix', sys.prefix)); print(platform.python_version()); "
                    "print(platform.python_implementation().lower())"], cwd="/").stdout.split()
        assert [found.prefix, found.base_prefix, found.implementation] == [said[0], said[1], said[3]]
        assert found.version in (said[2], None)


def test_what_may_not_be_read(world: World, validate) -> None:
    """Folders and files without permission: each is named, and the rest of the answer is there."""
    plain = world.kalyx("here").stdout
    shut = [settings(world, "${workspaceFolder}/../envs/lab/bin/python"),
            notebook(world.project / "shut.ipynb", "lab"), world.project / "data"]
    shut[2].mkdir()
    kernels = kernelspec(world.home, "lab", ["/usr/bin/python3", "-m", "x"]).parent.parent
    env = world.venv("lab")
    world.activate(env)
    for path in (*shut, kernels / "lab" / "kernel.json"):
        path.chmod(0)
    document = world.answer("here", privileged=False)
    validate(document)
    causes = {f["cause"] for s in document["result"]["seats"] for f in s["findings"]}
    assert {"setting-unreadable", "notebook-unreadable"} <= causes and document["exit"] == 1
    assert document["result"]["seats"][0]["environment"]["path"] == str(env) and plain
    site_of(env).chmod(0)
    report = world.answer("why", "humidlog", privileged=False)["result"]["imports"][0]
    assert report["outcome"] == "fails"
    for closed in (world.project, env):
        closed.chmod(0)
    document = world.answer("here", str(world.project), cwd=world.home, privileged=False)
    assert "folder-unreadable" in {n["note"] for n in document["notes"]}
    for path in (world.project, env, *shut, site_of(env)):
        path.chmod(0o755)


def test_interpreter_that_hangs(world: World, validate) -> None:
    """One sentence within the limit, and all the rest of the answer."""
    _wrapper('#!/bin/sh\nwhile sleep 4327; do :; done\nexec python3 "$@"\n')(world)
    settings(world, "/usr/bin/python3")
    document = world.answer("here", "--timeout", "1")
    validate(document)
    shell, editor = document["result"]["seats"][:2]
    assert [f["cause"] for f in shell["findings"]] == ["interpreter-broken"]
    assert "1 s" in shell["findings"][0]["because"] and editor["environment"]["path"] == "/usr"
    assert "4327" not in run(["ps", "-eo", "args"]).stdout


def test_lived_in_folder_is_bounded(world: World) -> None:
    """Many notebooks and settings above: cut, and said to be cut."""
    _active(world)
    settings(world, "../envs/lab")
    for number in range(60):
        notebook(world.project / "many" / f"{number}.ipynb", None)
    document = world.answer("here", cwd=world.project / "many")
    assert "notebooks-cut" in {n["note"] for n in document["notes"]}
    assert [s["kind"] for s in document["result"]["seats"]][:2] == ["shell", "editor"]
