"""Looking runs nothing that the folder, its files or other users brought; what is not run is read all the same."""

from __future__ import annotations

import json
import os
import py_compile
import shutil
import sys
from collections.abc import Callable
from pathlib import Path

import pytest

from tests.support.build import (
    BASE_PYTHON,
    SHORT,
    World,
    kernelspec,
    make_venv,
    notebook,
    python_of,
    run,
    site_of,
    write,
)
from tests.support.thorough import first_of_each

ROOT = os.geteuid() == 0
NOBODY = 65534
LOOKING = [["here", "--running"], ["envs", "."], ["fit", "."], ["weigh"], ["report", "--overwrite"],
           ["packages"], ["kernels"], ["running"],
           ["why", "json", "--no-run"], ["why", "run.py", "--no-run"], ["why", ".", "--no-run"],
           ["make", "fresh", "--dry-run"]]


def marking(mark: Path) -> str:
    """Return code that leaves a mark, and can do so before Python has its encodings."""
    return f"import posix\nposix.close(posix.open({str(mark)!r}, posix.O_CREAT | posix.O_WRONLY, 0o644))\n"


def evil_python(prefix: Path, mark: Path) -> str:
    """Lay out a real interpreter with a standard library that leaves a mark when it starts."""
    program = prefix / "bin" / f"python{SHORT}"
    program.parent.mkdir(parents=True, exist_ok=True)
    shutil.copy2(os.path.realpath(BASE_PYTHON), program)
    for name in ("python", "python3"):
        (prefix / "bin" / name).symlink_to(program.name)
    evil_library(prefix, mark)
    return str(prefix / "bin" / "python")


def evil_library(prefix: Path, mark: Path) -> Path:
    """Make what is found as a standard library, and leaves a mark when it is loaded."""
    library = prefix / "lib" / f"python{SHORT}"
    write(library / "os.py", "")
    write(library / "encodings" / "__init__.py", marking(mark))
    (prefix / "bin").mkdir(exist_ok=True)
    return library


def led_astray(place: Path, home: str) -> Path:
    """Make an environment whose python is the system's by a link, and whose pyvenv.cfg names another library."""
    (place / "bin").mkdir(parents=True)
    (place / "bin" / "python").symlink_to(os.path.realpath(BASE_PYTHON))
    write(place / "pyvenv.cfg", f"home = {home}\ninclude-system-site-packages = false\nversion = {SHORT}.1\n")
    return place


def names(w: World, program: str, folder: Path | None = None) -> None:
    """Name a program as interpreter in every way that a folder's files can, and run kernels with it."""
    folder = folder or w.project
    write(folder / ".vscode" / "settings.json", json.dumps({"python.defaultInterpreterPath": program}))
    write(folder / "a.code-workspace", json.dumps({"folders": [], "settings": {"python.pythonPath": program}}))
    write(folder / "b.sublime-project", json.dumps({"settings": {"python_interpreter": program}}))
    write(folder / "c.sublime-build", json.dumps({"cmd": [program, "-u", "$file"]}))
    write(folder / "pyrightconfig.json", json.dumps({"pythonPath": program}))
    write(folder / "pyproject.toml", f"[tool.mypy]\npython_executable = {json.dumps(program)}\n")
    write(folder / "start", f"#!{program}\nimport json\n", 0o755)
    write(folder / "kalyx.toml",
          '[[editors]]\nname = "own"\nfiles = ["own.json"]\nformat = "json"\nkeys = ["python"]\n')
    write(folder / "own.json", json.dumps({"python": program}))
    kernelspec(w.home, "own", [program, "-m", "ipykernel_launcher", "-f", "{connection_file}"])
    notebook(folder / "n.ipynb", "own")
    write(folder / "run.py", "import json\n")


def in_project(w: World, mark: Path) -> str:
    program = evil_python(w.project / "tool", mark)
    names(w, program)
    return program


def by_link(home: str) -> Callable[[World, Path], str]:
    def build(w: World, mark: Path) -> str:
        evil_library(w.project / "archive", mark)
        env = led_astray(w.project / ".venv", home.replace("PROJECT", str(w.project)))
        names(w, "${workspaceFolder}/.venv/bin/python")
        return str(env / "bin" / "python")
    return build


def above(mark_in: str) -> Callable[[World, Path], str]:
    """Make a checkout or workspace of which only a sub-folder is looked at."""
    def build(w: World, mark: Path) -> str:
        repo = w.home / "clone"
        program = evil_python(repo / "tool", mark)
        (repo / mark_in).mkdir(parents=True, exist_ok=True)
        names(w, program, repo)
        w.project = repo / "deep" / "er"
        w.project.mkdir(parents=True)
        names(w, program)
        (w.project / "kalyx.toml").unlink()
        return program
    return build


def beside_it(checkout: bool) -> Callable[[World, Path], str]:
    """Have the folder's files name what lies in its neighbour, a checkout or unpacked together with it."""
    def build(w: World, mark: Path) -> str:
        program = evil_python(w.home / "neighbour" / "tool", mark)
        if checkout:
            (w.home / "neighbour" / ".git").mkdir()
            w.env["PATH"] = f"{w.home / 'neighbour/tool/bin'}:{w.env['PATH']}"
        names(w, program)
        if not checkout:  # a kernel of one's own is no file of the folder
            shutil.rmtree(w.home / ".local")
        return program
    return build


def wrapped_neighbour(w: World, mark: Path) -> str:
    """Have a wrapper of the folder's start what was unpacked together with it."""
    program = evil_python(w.home / "neighbour" / "tool", mark)
    names(w, str(write(w.project / "bin" / "python", f'#!/bin/sh\nexec "{program}" "$@"\n', 0o755)))
    w.env["PATH"] = f"{w.project / 'bin'}:{w.env['PATH']}"
    shutil.rmtree(w.home / ".local")
    return program


def scripted_neighbour(w: World, mark: Path) -> str:
    """Have a kernel of one's own start a script of the folder, which starts what was unpacked together with it."""
    program = evil_python(w.home / "neighbour" / "tool", mark)
    script = write(w.project / "start", f'#!/bin/sh\nexec "{program}" -m ipykernel_launcher "$@"\n', 0o755)
    kernelspec(w.home, "evil", [str(script), "-f", "{connection_file}"])
    notebook(w.project / "scripted.ipynb", "evil")
    return program


def linked_neighbour(w: World, mark: Path) -> str:
    """Have an environment of the folder's whose program is a link to what was unpacked together with it."""
    program = evil_python(w.home / "neighbour" / "tool", mark)
    env = w.project / ".venv"
    (env / "bin").mkdir(parents=True)
    for name in ("python", "python3"):
        (env / "bin" / name).symlink_to(program)
    write(env / "pyvenv.cfg", f"home = {os.path.dirname(program)}\nversion = {SHORT}.1\n")
    names(w, str(env / "bin" / "python"))
    w.env["PATH"] = f"{env / 'bin'}:{w.env['PATH']}"
    shutil.rmtree(w.home / ".local")
    return program


def scripts(w: World, mark: Path) -> str:
    """Name a program of the person's own that is no Python."""
    program = write(w.home / "bin" / "deploy-production", f"#!/bin/sh\ntouch {mark}\n", 0o755)
    names(w, str(program))
    w.env["PATH"] = f"{w.home / 'bin'}:{w.env['PATH']}"
    return str(program)


def named_python(w: World, mark: Path) -> str:
    """Name a script that is called python, shows no Python, and stands on PATH."""
    program = write(w.home / "bin" / "python", f"#!/bin/sh\ntouch {mark}\n", 0o755)
    w.env["PATH"] = f"{w.home / 'bin'}:{w.env['PATH']}"
    names(w, str(program))
    return str(program)


def version_file(value: str, file: str = ".python-version") -> Callable[[World, Path], str]:
    """Have a wrapper on PATH that starts what a file of the folder names."""
    def build(w: World, mark: Path) -> str:
        program = evil_python(w.project / "evil", mark)
        w.venv("lab")
        write(w.project / file, value.replace("PROJECT", str(w.project)) + "\n")
        wrapper = write(w.home / "wrap" / "python", (
            f'#!/bin/bash\nset -e\nread v < "{file}"\nexec "{w.home}/envs/$v/bin/${{0##*/}}" "$@"\n'), 0o755)
        w.env["PATH"] = f"{wrapper.parent}:{w.env['PATH']}"
        names(w, str(wrapper))
        return program
    return build


def of_another(change: Callable[[Path], object]) -> Callable[[World, Path], str]:
    """Have an interpreter outside the project that others could have changed."""
    def build(w: World, mark: Path) -> str:
        program = evil_python(w.home / "sw" / "py", mark)
        change(w.home / "sw" / "py")
        names(w, program)
        w.env["PATH"] = f"{w.home / 'sw/py/bin'}:{w.env['PATH']}"
        return program
    return build


def library_elsewhere(w: World, mark: Path) -> str:
    """Have a program that is the person's own, and a library that is a link into the project."""
    program = evil_python(w.home / "sw" / "py", mark)
    shutil.move(str(w.home / "sw/py/lib"), str(w.project / "lib"))
    (w.home / "sw/py/lib").symlink_to(w.project / "lib")
    names(w, program)
    w.env["PATH"] = f"{w.home / 'sw/py/bin'}:{w.env['PATH']}"
    return program


def beside(name: str, text: str) -> Callable[[World, Path], str]:
    """Have a whole Python, with a file beside its program that leads it to another library."""
    def build(w: World, mark: Path) -> str:
        program = w.home / "sw" / "py" / "bin" / f"python{SHORT}"
        program.parent.mkdir(parents=True)
        shutil.copy2(os.path.realpath(BASE_PYTHON), program)
        (w.home / "sw/py/lib").mkdir()
        (w.home / "sw/py/lib" / f"python{SHORT}").symlink_to(Path(os.__file__).parent)
        evil_library(w.project / "archive", mark)
        write(program.parent / name.replace("VERSION", SHORT), text.replace("PROJECT", str(w.project)))
        names(w, str(program))
        w.env["PATH"] = f"{program.parent}:{w.env['PATH']}"
        return str(program)
    return build


def start_code(w: World, mark: Path) -> str:
    """Have an environment whose every start runs code, and modules that leave a mark when they are imported."""
    lab = w.venv("lab")
    w.activate(lab)
    for name in ("evil.pth", "sitecustomize.py", "json.py"):
        write(site_of(lab) / name, marking(mark).replace("\n", ";", 1))
    write(w.project / "mine.py", marking(mark))
    names(w, python_of(lab))
    write(w.project / "run.py", "import mine, json\n")
    return python_of(lab)


def hooks(w: World, mark: Path) -> str:
    """Have a checkout whose configuration names programs to run."""
    hook = write(w.project / "hook", f"#!/bin/sh\ntouch {mark}\n", 0o755)
    run(["git", "init", "-q", w.project], env={**os.environ, "HOME": str(w.home)})
    for key in ("core.fsmonitor", "core.sshCommand", "core.hooksPath", "core.pager", "core.editor"):
        run(["git", "-C", w.project, "config", key, str(hook)])
    names(w, str(hook))
    return str(hook)


def loaded(w: World, mark: Path) -> str:
    """Have variables that lead a program to libraries and start files of the working folder."""
    write(w.project / "bash_env", f"touch {mark}\n")
    w.env.update(LD_LIBRARY_PATH=f":{w.project}", BASH_ENV=str(w.project / "bash_env"), ENV=str(w.project / "bash_env"))
    wrapper = write(w.home / "wrap" / "python", '#!/bin/bash\n[ -z "$NO" ] && exec python3 "$@"\n', 0o755)
    w.env["PATH"] = f"{wrapper.parent}:{w.env['PATH']}"
    names(w, str(wrapper))
    return ""


def compiled(prefix: Path) -> None:
    """Have the mark left by a compiled file alone, which any user may write."""
    source = prefix / "lib" / f"python{SHORT}" / "encodings" / "__init__.py"
    made = Path(py_compile.compile(str(source), invalidation_mode=py_compile.PycInvalidationMode.UNCHECKED_HASH))
    source.write_text("")
    made.chmod(0o666)


def away(w: World, mark: Path) -> str:
    """Look from the home folder, which holds the checkout as well."""
    program = evil_python(w.home / "clone" / "tool", mark)
    (w.home / "clone" / ".git").mkdir()
    names(w, program, w.home / "clone")
    names(w, program, w.home)
    w.env["PATH"] = f"{w.home / 'clone/tool/bin'}:{w.env['PATH']}"
    w.project = w.home
    return program


ATTACKS: dict[str, Callable[[World, Path], str]] = {
    "interpreter in the folder": in_project,
    "link and absolute home": by_link("PROJECT/archive/bin"),
    "link and relative home": by_link("../archive/bin"),
    "link and home without a library": by_link("PROJECT/nowhere"),
    "above, in a checkout": above(".git"),
    "above, in another checkout": above(".hg"),
    "above, in a workspace": above(".vscode"),
    "home folder, with a checkout": away,
    "neighbour that is a checkout, on PATH": beside_it(True),
    "neighbour that was unpacked with it": beside_it(False),
    "neighbour through a script": scripted_neighbour,
    "neighbour through a wrapper": wrapped_neighbour, "neighbour through a link": linked_neighbour,
    "program that is no Python": scripts,
    "script called python": named_python,
    "version file that leads out": version_file("../../project/evil"),
    "version file with a path": version_file("PROJECT/evil"),
    "tool's file with a path": version_file("python path:PROJECT/evil", ".tool-versions"),
    "library that is a link into the project": library_elsewhere,
    "path file beside the program": beside("pythonVERSION._pth", "PROJECT/archive/lib/pythonVERSION\n"),
    "build folder beside the program": beside("pybuilddir.txt", "../../../project/archive"),
    "pyvenv.cfg beside the program": beside("pyvenv.cfg", "home = PROJECT/archive/bin\n"),
    "code at the start": start_code,
    "hooks of the checkout": hooks,
    "variables of the loader": loaded,
}
RIGHTS: dict[str, Callable[[World, Path], str]] = {
    "program that all may write": of_another(lambda p: (p / "bin" / f"python{SHORT}").chmod(0o777)),
    "folder that all may write": of_another(lambda p: p.parent.chmod(0o777)),
    "library that all may write": of_another(lambda p: (p / "lib" / f"python{SHORT}").chmod(0o777)),
    "module that all may write": of_another(
        lambda p: (p / "lib" / f"python{SHORT}" / "encodings" / "__init__.py").chmod(0o666)),
    "compiled module that all may write": of_another(compiled),
    "setuid": of_another(lambda p: (p / "bin" / f"python{SHORT}").chmod(0o4755)),
}
if ROOT:
    RIGHTS |= {
        "group that is not private": of_another(lambda p: (os.chown(p / "bin", 0, 100), (p / "bin").chmod(0o775))),
        "program of another user": of_another(lambda p: os.chown(p / "bin" / f"python{SHORT}", NOBODY, 0)),
        "folder of another user": of_another(lambda p: os.chown(p.parent, NOBODY, 0)),
        "link of another user": of_another(
            lambda p: os.chown(p / "bin" / "python", NOBODY, 0, follow_symlinks=False)),
        "library of another user": of_another(lambda p: os.chown(p / "lib" / f"python{SHORT}", NOBODY, 0)),
    }
ATTACKS |= RIGHTS


@pytest.mark.parametrize("part", first_of_each((0, 1), lambda n: None, 1))
@pytest.mark.parametrize("name", first_of_each(ATTACKS, lambda n: "rights" if n in RIGHTS else n, 3))
def test_looking_runs_nothing_foreign(name: str, part: int, world: World) -> None:
    """Every command that looks, in every place: no mark, an answer, and no traceback."""
    mark = world.root / "mark"
    program = ATTACKS[name](world, mark)
    named = [["packages", "--at", f"python:{program}"], ["packages", "--at", "editor:.vscode/settings.json"],
             ["packages", "--at", "script:start"], ["packages", "--at", "notebook:n.ipynb"],
             ["packages", "--at", "kernel:own"], ["why", "json", "--no-run", "--at", f"python:{program}"],
             ["kernels", "--server", str(Path(program).parent.parent)], ["retire", "own", "--dry-run"],
             ["enrol", str(Path(program).parent.parent), "--dry-run"],
             ["contrast", f"python:{program}", "shell"]]
    commands = [*LOOKING, *(named if program else [])]
    if name in RIGHTS:  # all of them are judged by one rule: each command meets several of these, not every one
        commands = commands[list(RIGHTS).index(name) % 3::3]
    for command in commands[(list(ATTACKS).index(name) + part) % 2::2]:  # each command meets every second one, or all
        done = world.kalyx(*command)
        assert not mark.exists(), command
        assert done.returncode in (0, 1, 3) and "mistake" not in done.stderr, (command, done.stderr)
    places = (world.root, "here"), (world.home, "here"), (world.home, "envs"), (Path("/"), "here")
    for place, command in places[part:]:
        assert world.kalyx(command, str(world.project), cwd=place).returncode in (0, 1, 3)
        assert not mark.exists(), (place, command)
    for place in (world.home, Path("/")) if program else ():
        assert world.kalyx("packages", "--at", f"python:{program}", cwd=place).returncode in (0, 1, 3)
        assert not mark.exists(), place


@pytest.mark.parametrize("program", ["/usr/bin/nice", "/bin/sh", "/usr/bin/env", "/bin/cat"])
def test_what_is_no_python_is_not_called_one(program: str, world: World, validate) -> None:
    """No version, no prefix, no word about its health, and nothing to install into it."""
    names(world, program)
    document = world.answer("here")
    validate(document)
    for seat in document["result"]["seats"]:
        if seat["interpreter"] and seat["interpreter"]["path"] == program:
            assert (seat["interpreter"]["version"], seat["interpreter"]["prefix"], seat["environment"]) == (None,) * 3
            assert not [f for f in seat["findings"] if f["cause"] in ("interpreter-broken", "kernel-cannot-start")]
    why = world.answer("why", "json", "--at", f"python:{program}")
    assert (why["result"]["imports"][0]["outcome"], why["exit"]) == ("unknown", 3)
    assert [n["note"] for n in why["notes"]] == ["not-a-python"] and "pip" not in json.dumps(why["result"])


def in_folder(w: World) -> tuple[Path, str]:
    return make_venv(w.project / ".venv"), BASE_PYTHON


def copied(w: World) -> tuple[Path, str]:
    return make_venv(w.project / ".venv", options=["--copies"]), BASE_PYTHON


def of_system(w: World) -> tuple[Path, str]:
    return make_venv(w.project / ".venv", "/usr/bin/python3"), "/usr/bin/python3"


def elsewhere(w: World) -> tuple[Path, str]:
    return w.venv("lab"), BASE_PYTHON


def in_checkout(w: World) -> tuple[Path, str]:
    (w.home / ".git").mkdir()  # a home folder may be one: what is in it is the person's own all the same
    return w.venv("lab"), BASE_PYTHON


def by_wrapper(w: World) -> tuple[Path, str]:
    lab = w.venv("lab")
    write(w.home / "wrap" / "python",
          f'#!/bin/sh\nROOT={w.home}/envs\nexec "$ROOT/lab/bin/$(basename "$0")" "$@"\n', 0o755)
    return lab, BASE_PYTHON


def by_choosing_wrapper(w: World) -> tuple[Path, str]:
    lab = w.venv("lab")
    write(w.project / ".python-version", "lab\n")
    write(w.home / "wrap" / "python", (
        f'#!/bin/bash\nset -e\nread v < .python-version\nexec "{w.home}/envs/$v/bin/${{0##*/}}" "$@"\n'), 0o755)
    return lab, BASE_PYTHON


@pytest.mark.parametrize("build", [in_folder, copied, of_system, elsewhere, in_checkout, by_wrapper,
                                   by_choosing_wrapper], ids=lambda f: f.__name__)
@pytest.mark.parametrize("from_home", [False, True], ids=["from the folder", "from the home folder"])
def test_what_is_not_run_is_read_right(build: Callable[[World], tuple[Path, str]], from_home: bool,
                                       world: World) -> None:
    """Version, prefix, base and packages are what the interpreter itself says."""
    env, _ = build(world)
    world.wheels.install(world.wheels.add("humidlog", "2.1"), site_of(env))
    wrapped = (world.home / "wrap" / "python").exists()
    if from_home and wrapped and build is by_choosing_wrapper:
        pytest.skip("the wrapper reads the file of the folder that it is started in")
    world.env["PATH"] = f"{world.home / 'wrap' if wrapped else env / 'bin'}:{world.env['PATH']}"
    place = world.home if from_home else world.project
    said = run(["sh", "-c", "python -c 'import sys; print(sys.version.split()[0]); print(sys.prefix); "
                "print(sys.base_prefix)'"], cwd=place, env=world.env).stdout.split()
    for command in (["here"], ["packages"], ["packages", "--at", f"env:{env}"], ["why", "humidlog", "--no-run"]):
        result = world.answer(*command, cwd=place)["result"]
        if "distributions" in result:
            assert ("humidlog", "2.1") in {(d["name"], d["version"]) for d in result["distributions"]}
            continue
        interpreter = (result.get("seats") or result.get("imports"))[0]["interpreter"]
        assert [interpreter[k] for k in ("version", "prefix", "base_prefix")] == said, command


@pytest.mark.skipif(not os.path.exists(os.path.expanduser("~/.pyenv/shims/python")), reason="no version manager here")
@pytest.mark.real
def test_a_version_managers_wrapper_still_works(world: World) -> None:
    """A real version manager's wrapper is asked, and answers what the shell's python answers."""
    root = os.path.expanduser("~/.pyenv")
    world.env.update(PYENV_ROOT=root, PATH=f"{root}/shims:{world.env['PATH']}")
    said = run(["python", "-c", "import sys; print(sys.executable)"], cwd=world.project, env=world.env).stdout.strip()
    assert world.answer("here")["result"]["seats"][0]["interpreter"]["path"] == said
    write(world.project / ".python-version", "../../../evil\n")
    seat = world.answer("here")["result"]["seats"][0]
    assert seat["interpreter"]["version"] is None and "read, not run" in json.dumps(seat["trail"])


HOSTILE = ("re", "collections", "os", "site", "sitecustomize", "usercustomize", "json", "argparse",
           "encodings/__init__", "runpy", "pip", "venv", "functools", "kalyx", "rich")


@pytest.mark.real
def test_own_start_is_isolated(world: World) -> None:
    """Neither PYTHONPATH nor the working folder runs anything in the command itself."""
    mark = world.root / "mark"
    for name in HOSTILE:
        write(world.project / f"{name}.py", marking(mark))
    for env in ({"PYTHONPATH": str(world.project)}, {"PYTHONPATH": ""}, {"PYTHONPATH": ".", "PYTHONSTARTUP": "re.py"},
                {"PYTHONHOME": "/nowhere"}, {"PYTHONWARNINGS": "error::re.X"}):
        done = world.kalyx("--version", env=env)
        assert done.returncode == 0 and done.stdout.startswith("kalyx ") and not mark.exists(), (env, done.stderr)
        assert world.kalyx("kernels", env=env).returncode in (0, 1) and not mark.exists()
    link = world.home / "bin" / "kalyx"
    link.parent.mkdir()
    link.symlink_to(Path(sys.executable).parent / "kalyx")
    assert run([link, "--version"], env={**world.env, "PYTHONPATH": str(world.project)}).returncode == 0
    assert not mark.exists()


@pytest.mark.real
def test_building_runs_the_modules_that_are_meant(world: World) -> None:
    """A venv.py or pip.py of the working folder is not what makes or fills an environment."""
    mark = world.root / "mark"
    world.activate(world.venv("lab", pip=True))
    world.wheels.add("humidlog")
    for name in ("venv", "pip", "runpy", "ensurepip"):
        write(world.project / f"{name}.py", marking(mark))
    for command in (["put", "humidlog"], ["make", "fresh", "--put", "humidlog"]):
        done = world.kalyx(*command, "--json")
        assert done.returncode == 0, done.stdout + done.stderr
        assert not mark.exists(), command


def test_a_text_names_nothing_to_run(world: World) -> None:
    """A pasted traceback chooses among what is known here; a program that it names is not run."""
    mark = world.root / "mark"
    program = evil_python(world.root / "sent" / "py", mark)
    write(world.root / "sent" / "beds.py", marking(mark))
    for named in (f'File "{world.root}/sent/py/lib/python{SHORT}/site-packages/x.py", line 1, in <module>',
                  f'File "{world.root}/sent/run.py", line 1, in <module>'):
        text = (f"Traceback (most recent call last):\n  {named}\n    import beds\n"
                "ModuleNotFoundError: No module named 'beds'\n")
        (world.root / "sent").chmod(0o777)
        file = write(world.project / "error.txt", f"{program}: No module named beds\n" + text)
        done = world.kalyx("why", "--traceback", str(file))
        assert not mark.exists() and done.returncode in (0, 1, 3), done.stdout


@pytest.mark.skipif(not ROOT, reason="needs processes of two users")
@pytest.mark.real
def test_another_users_process_is_not_run(world: World) -> None:
    """What another user's process says of itself would run with one's own rights: only --anyway does that."""
    import subprocess

    mark = world.root / "mark"
    with subprocess.Popen(["setpriv", "--reuid=65534", "--clear-groups", "/usr/bin/python3", "-c",
                           "import time; print(1, flush=True); time.sleep(60)"], stdout=subprocess.PIPE,
                          env={"PYTHONPATH": str(world.root / "theirs"), "PATH": "/usr/bin:/bin"}, cwd="/") as process:
        try:
            process.stdout.readline()
            write(world.root / "theirs" / "sitecustomize.py", marking(mark) + "\n")  # it has started by now
            for command in (["why", "json"], ["ask", f"process:{process.pid}"]):
                at = ["--at", f"process:{process.pid}"] if command[0] == "why" else []
                done = world.answer(*command, *at)
                assert done["exit"] == 3 and "--anyway" in done["result"]["hint"] and not mark.exists()
                assert world.kalyx(*command, *at, "--anyway").returncode == 0
                mark.unlink()
        finally:
            process.kill()


CONFIG = {
    "root out of the project": '[search]\nroots = ["../envs"]\n',
    "root in the home folder": '[search]\nroots = ["~/envs"]\n',
    "root by a variable": '[search]\nroots = ["$HOME/envs"]\n',
    "absolute root": '[search]\nroots = ["HOME/envs"]\n',
    "root by a link": '[search]\nroots = ["link"]\n',
    "secret by an absolute path": '[[editors]]\nname="x"\nfiles=["HOME/.secret"]\nformat="ini"\nkeys=["a.password"]\n',
    "secret by the home folder": '[[editors]]\nname="x"\nfiles=["~/.secret"]\nformat="ini"\nkeys=["a.password"]\n',
    "secret by a parent": '[[editors]]\nname="x"\nfiles=["../.secret"]\nformat="ini"\nkeys=["a.password"]\n',
    "secret by a link": '[[editors]]\nname="x"\nfiles=["link/.secret"]\nformat="ini"\nkeys=["a.password"]\n',
    "secret by a linked file": '[[editors]]\nname="x"\nfiles=["linked"]\nformat="ini"\nkeys=["a.password"]\n',
    "secret in the project": '[[editors]]\nname="x"\nfiles=["secret.ini"]\nformat="ini"\nkeys=["a.password"]\n',
    "wrong types": 'search = 3\nlimits = []\n'
                   'editors = [1, {name = 2}, {name="x", files=[{}], format="ini", keys=[1]}]\n',
}


@pytest.mark.parametrize("name", CONFIG)
def test_a_projects_configuration_stays_inside(name: str, world: World) -> None:
    """It adds no place outside the project, and prints nothing that is no path."""
    world.venv("lab")
    secret = "[a]\npassword = hunter2 and more\n"
    write(world.home / ".secret", secret)
    write(world.project / "secret.ini", secret)
    (world.project / "link").symlink_to(world.home)
    (world.project / "linked").symlink_to(world.home / ".secret")
    write(world.project / "kalyx.toml", CONFIG[name].replace("HOME", str(world.home)))
    for command in (["here", "--json"], ["here", "--verbose"], ["envs", "--json"]):
        done = world.kalyx(*command, cwd=world.project)
        assert "hunter2" not in done.stdout + done.stderr and "mistake" not in done.stderr, done.stdout
        assert done.returncode in (0, 1)
