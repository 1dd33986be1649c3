"""``why`` on real situations: the cause is right, and its first remedy makes the import work."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

import pytest

from tests.situations.accidents import ACCIDENTS, MISHAPS, NEEDS_WHOLE, planted
from tests.situations.compiled import COMPILED
from tests.situations.damage import MORE_SITUATIONS
from tests.situations.general import HEALTHY, SITUATIONS, Situation
from tests.situations.generated import GENERATED
from tests.situations.healthy import MORE_HEALTHY
from tests.situations.links import LINKS
from tests.situations.natives import NATIVES
from tests.situations.owners import OWNERS
from tests.situations.projects import PROJECTS
from tests.situations.reach import REACH, TROUBLES, kernel, old_copy
from tests.situations.starts import STARTS
from tests.support.build import (
    SHORT,
    World,
    carry_out,
    kernelspec,
    make_venv,
    mend,
    notebook,
    other_pythons,
    python_of,
    run,
    site_of,
    write,
)
from tests.support.thorough import first_of_each, some_pythons

ALL = [*SITUATIONS, *MORE_SITUATIONS, *COMPILED, *PROJECTS, *MISHAPS, *REACH, *NATIVES, *OWNERS, *LINKS, *STARTS,
       *GENERATED]


SHOWN: set[tuple[str, ...]] = set()  # what this process has looked at as text


@pytest.mark.parametrize("case", first_of_each(ALL, lambda s: (s.cause, s.remedy), 1), ids=lambda s: s.slug)
def test_cause_and_remedy(case: Situation, world: World, validate) -> None:
    """The primary cause is right; the first remedy, carried out as given, mends it."""
    lab = world.venv("lab", pip=case.remedy is not None)
    world.activate(lab)
    if case.cause == "base-site-off":
        if not Path("/usr/lib/python3/dist-packages/six.py").exists():
            pytest.skip("this system's Python has no package to find in it")
        make_venv(world.home / "base", "/usr/bin/python3")
    case.build(world, lab)
    limit = ("--timeout", "6") if case.hangs else ()  # where it hangs is told by itself, half a second before
    document = world.answer("why", case.ask, "--at", case.at, *limit, privileged=case.privileged)
    validate(document)
    report = document["result"]["imports"][0]
    assert (report["outcome"], document["status"], document["exit"]) == (case.outcome, "problem", 1)
    first = report["causes"][0]
    assert first["cause"] == case.cause
    assert case.says in first["because"]
    assert set(case.others) <= {f["cause"] for f in report["causes"]}
    assert "raises" not in {f["cause"] for f in report["causes"][1:]}
    assert first["evidence"] and first["remedies"]
    shown = (*(f["cause"] for f in report["causes"]), *(r["kind"] for r in first["remedies"]))
    if shown not in SHOWN:  # the same causes with such remedies are laid out by the same code
        SHOWN.add(shown)
        text = world.kalyx("why", case.ask, "--at", case.at, *limit, privileged=case.privileged)
        assert text.returncode == 1 and "Traceback" not in text.stdout + text.stderr
        assert [p for p in ("because", "how we know", "what to do") if f"\n  {p}\n" in text.stdout] == [
            "because", "how we know", "what to do"]
    if len(case.slug) % 3 == 0:  # what differs between situations is what is read; a third shows that for each of these
        read = world.answer("why", case.ask, "--at", case.at, "--no-run", privileged=case.privileged)
        said = read["result"]["imports"][0]
        assert said["outcome"] == "unknown" and [f["cause"] for f in said["causes"]][:1] in ([], [case.cause], *(
            [["hidden-by-file"]] if case.cause == "bytecode-stale" else [])), "not run, but read"
    elif len(case.slug) % 3 == 1:
        all_say_the_same(world, case, report)
    else:
        said_elsewhere(world, case, report)
    if case.remedy:
        assert first["remedies"][0]["kind"] == case.remedy
        todo = first["remedies"][0]
        undone = len(case.slug) % (4 if "pip" in " ".join(todo["argv"]) else 2) == 0
        mend(world, case.ask, case.at, todo, *limit, undone=undone, privileged=case.privileged)


def said_elsewhere(world: World, case: Situation, report: dict) -> None:
    """Hold what is concluded from a snapshot against what is concluded here: it is the same."""
    limit = ("--timeout", "6") if case.hangs else ()  # where it hangs is told by itself, half a second before
    file = str(world.root / "snapshot.json")
    taken = world.kalyx("snapshot", "--at", case.at, "--why", case.ask, "--to", file, *limit,
                        privileged=case.privileged)
    assert taken.returncode == 0, taken.stderr
    said = world.answer("why", case.ask, "--from", file)
    os.unlink(file)
    found = said["result"]["imports"][0]
    keys = ["outcome", "error", "origin", "layer", "distribution", "elsewhere", *([] if case.hangs else ["causes"])]
    assert {k: found[k] for k in keys} == {k: report[k] for k in keys}
    assert [c["cause"] for c in found["causes"]] == [c["cause"] for c in report["causes"]]


def all_say_the_same(world: World, case: Situation, report: dict) -> None:
    """Hold `packages` and `here` against `why`: the same seat, its interpreter and findings, the same copy."""
    packages = world.answer("packages", "--at", case.at, privileged=case.privileged)["result"]
    if "seat" not in packages:  # named outright, and nowhere
        assert report["causes"][0]["cause"] == "interpreter-gone"
        return
    seat, all_here = packages["seat"], packages["distributions"]
    assert (seat["interpreter"] or {}).get("path") == (report["interpreter"] or {}).get("path")
    brought = report["distribution"]
    if report["outcome"] == "imports" and brought:
        copy = next(d for d in all_here if (d["name"], d["location"]) == (brought["name"], brought["location"]))
        assert (copy["version"], copy["layer"], copy["hidden_by"]) == (brought["version"], report["layer"], None)
    if report["causes"][0]["cause"] in ("not-installed", "installed-elsewhere", "own-code-unreachable"):
        assert not [d for d in all_here if report["module"].split(".")[0] in d["modules"]]
    if not (case.at == "shell" or case.at.endswith((".ipynb", ".py"))):
        return  # `here` shows no seat that was named outright
    shown = world.answer("here", privileged=case.privileged)["result"]["seats"]
    for other in (s for s in shown if s["ref"] == seat["ref"]):
        assert other["interpreter"] == seat["interpreter"] and other["findings"] == seat["findings"]
        assert (other["environment"] or {}).get("findings") == (seat["environment"] or {}).get("findings")


EVERY = sorted(other_pythons(), key=lambda v: [int(n) for n in v.split(".")] if v[0].isdigit() else [99])
PAIRS = [(a, b) for n, a in enumerate(ACCIDENTS) for b in list(ACCIDENTS)[n + 4::7]]


@pytest.mark.parametrize("both", first_of_each(PAIRS, lambda p: None, 4), ids=" and ".join)
def test_first_remedies_lead_out(both: tuple[str, str], world: World) -> None:
    """Of two accidents at once one is found after the other, and each first remedy is a step."""
    lab = world.venv("lab", pip=True)
    world.activate(lab)
    site = planted(world, lab)
    for name in both:
        if name not in NEEDS_WHOLE or (site / "soilbook" / "ground.py").is_file():
            ACCIDENTS[name][0](world, site)
    _follow_first_remedies(world, "shell")
    assert run([python_of(lab), "-c", "import seedling"], cwd=world.project, env=world.env).returncode == 0


TOGETHER = [(a, b) for n, a in enumerate(TROUBLES) for b in list(TROUBLES)[n + 2::3] if (a, b) != ("-S", "-I")]


@pytest.mark.parametrize("both", first_of_each(TOGETHER, lambda p: p[0], 1), ids=" and ".join)
def test_first_remedies_lead_out_at_a_notebook(both: tuple[str, str], world: World) -> None:
    """Of two troubles at a notebook's kernel one is found after the other, and each first remedy is a step."""
    lab = world.venv("lab", pip=True)
    world.activate(lab)
    planted(world, lab)
    kernel(world, "lab", python_of(lab))
    notebook(world.project / "nb" / "a.ipynb", "lab")
    for name in both:
        TROUBLES[name](world, lab)
    _follow_first_remedies(world, "nb/a.ipynb")


def _follow_first_remedies(world: World, seat: str) -> None:
    document = world.answer("mend", "seedling", "--at", seat, "--choose", "a", "--yes", "--rounds", "6")
    assert document["result"]["outcome"] in ("mended", "well"), document["result"]


@pytest.mark.parametrize(("shell", "words"), [
    ("/bin/bash", "unset PYTHONPATH"), ("/usr/bin/fish", "set -e PYTHONPATH"),
    ("/bin/tcsh", "unsetenv PYTHONPATH"), ("", "unset PYTHONPATH")])
def test_variable_of_the_shell(shell: str, words: str, world: World) -> None:
    """What only a person can change is said in the words of the shell, with the line that sets it for good."""
    lab = world.venv("lab")
    world.activate(lab)
    planted(world, lab)
    stash = old_copy(world.root / "stash")
    write(world.home / ".profile", f"umask 022\nexport PYTHONPATH={stash}\n# PYTHONPATH=/nothing\n")
    write(world.home / ".config/environment.d/50-python.conf", f"PYTHONPATH={stash}\nMYPYTHONPATH=x\n")
    for more, expected in (("", words), (f":{world.home}", str(world.home))):
        env = {"SHELL": shell, "PYTHONPATH": stash + more}
        first = world.answer("why", "seedling", env=env)["result"]["imports"][0]["causes"][0]
        assert (first["cause"], first["remedies"][0]["kind"]) == ("hidden-by-path", "manual")
        said = first["remedies"][0]["do"]
        assert expected in first["remedies"][0]["typed"]
        assert "/.profile, line 2" in said and "50-python.conf, line 1" in said, said
        assert said.count(", line ") == 2
    if shell in ("/bin/bash", ""):  # typed as it stands, it brings the import back
        rows = world.kalyx("why", "seedling", env=env).stdout.splitlines()
        line = next(row.strip()[2:] for row in rows if row.strip().startswith(("$ export ", "$ unset ")))
        done = run(["bash", "-c", f"{line}\npython -c 'import seedling; print(seedling.__file__)'"],
                   env={**world.env, **env})
        assert done.stdout.startswith(f"{lab}/"), (line, done.stderr)


@pytest.mark.parametrize(("entry", "says"), [
    ("~/lib", "with a ~ in it"), ("$HOME/lib", "with a variable in it"), ("{lib} ", "blanks"), ("'{lib}'",
    "quotes"),
    ("/nowhere;{lib}", "':' has to part"), ("{lib}s", "which is not there"), ("{lib}/beds.py",
    "the file itself"),
    ("{lib}/rows", "the package itself"), ("/one:~/lib:/two", "with a ~ in it"), ("\"~/lib\"",
    "quotes or blanks"),
])
def test_entries_are_taken_to_the_letter(entry: str, says: str, world: World) -> None:
    """What PYTHONPATH was meant to name is found; the line as it has to be mends it, or the kernel.json."""
    world.activate(world.venv("lab"))
    lib = world.home / "lib"
    write(lib / "beds.py", "")
    write(lib / "rows" / "__init__.py", "")
    env = {"PYTHONPATH": entry.format(lib=lib), "SHELL": "/bin/bash"}
    name = "rows" if "rows" in entry else "beds"
    first = world.answer("why", name, env=env)["result"]["imports"][0]["causes"][0]
    assert first["cause"] == "own-code-unreachable" and says in first["because"], first
    line = first["remedies"][0]["typed"]
    done = run(["bash", "-c", f"{line}\npython -c 'import {name}; print({name}.__file__)'"],
               env={**world.env, **env})
    assert done.stdout.startswith(str(lib)), (line, done.stderr)
    kernelspec(world.home, "lab", ["python", "-m", "ipykernel_launcher", "-f", "{connection_file}"],
               env={"PYTHONPATH": env["PYTHONPATH"].replace("$HOME", "~")})
    first = world.answer("why", name, "--at", "kernel:lab")["result"]["imports"][0]["causes"][0]
    assert first["cause"] == "own-code-unreachable"
    carry_out(first["remedies"][0], "edit", world)
    assert world.answer("why", name, "--at", "kernel:lab")["exit"] == 0


@pytest.mark.parametrize(("entry", "says"), [
    ("~/lib", "with a ~ in it"), ("{lib}s", "which is not there"), ("{lib}/beds.py", "the file itself"),
    ("{lib}/beds", "the package itself"), ("{lib} ", "quotes or blanks"),
])
def test_lines_are_taken_to_the_letter(entry: str, says: str, world: World) -> None:
    """The same in a line of code that adds a folder, and in a .pth file; the edit mends it."""
    lab = world.venv("lab")
    world.activate(lab)
    lib = world.home / "lib"
    write(lib / "beds" / "__init__.py" if entry.endswith("beds") else lib / "beds.py", "")
    line = entry.format(lib=lib)
    script = write(world.project / "plan.py", f"import sys\nsys.path.insert(0, {line!r})\nimport beds\n")
    assert run(["python", script], env=world.env).returncode == 1
    first = next(r for r in world.answer("why", "plan.py")["result"]["imports"] if r["causes"])["causes"][0]
    assert first["cause"] == "own-code-unreachable" and says in first["because"], first
    carry_out(first["remedies"][0], "edit", world)
    assert run(["python", script], env=world.env).returncode == 0
    if entry.endswith(" "):
        return  # the site module strips it
    write(site_of(lab) / "mine.pth", line + "\n")
    first = world.answer("why", "beds")["result"]["imports"][0]["causes"][0]
    assert first["cause"] == "link-broken" and says in first["because"], first
    carry_out(first["remedies"][0], "edit", world)
    assert run(["python", "-c", "import beds"], env=world.env).returncode == 0


@pytest.mark.skipif("3.12" not in other_pythons() or SHORT == "3.12", reason="needs another Python")
def test_activation_can_be_typed_as_it_stands(world: World) -> None:
    """The line that makes a shell use the other environment is whole, and does it, spaces or not."""
    world.activate(world.venv("lab"))
    other = world.venv("a long name with spaces in it, as folders of a shared disk have it " + "x" * 60)
    world.wheels.install(world.wheels.add("seedling"), site_of(other))
    said = world.kalyx("why", "seedling").stdout
    line = next(row for row in said.splitlines() if row.strip().startswith("$ . "))
    done = run(["bash", "-c", f"{line.strip()[2:]}\npython -c 'import seedling; print(seedling.__file__)'"],
               env=world.env)
    assert done.stdout.startswith(f"{other}/"), (said, done.stderr)
    for shell, typed in (("fish", "$ source "), ("tcsh", "$ source ")):
        rows = world.kalyx("why", "seedling", env={"SHELL": f"/bin/{shell}"}).stdout.splitlines()
        assert any(r.strip().startswith(typed) and r.endswith((".fish'", ".csh'")) for r in rows), rows


def test_environment_of_another_version(world: World) -> None:
    """Packages under another version's folder: one is put there again, or the old Python brings all back."""
    lab = world.venv("lab")
    planted(world, lab)
    for program in (lab / "bin").glob("python*"):
        program.unlink()
    assert run([other_pythons()["3.12"], "-m", "venv", "--upgrade", "--without-pip", lab]).returncode == 0
    first = world.answer("why", "seedling", "--at", "env:lab")["result"]["imports"][0]["causes"][0]
    assert first["cause"] == "env-version-skew"
    world.venv("other")  # through it, the base of the old version is known
    first = world.answer("why", "seedling", "--at", "env:lab")["result"]["imports"][0]["causes"][0]
    remedy = first["remedies"][1]
    assert remedy["do"].startswith("Or have all of its packages again.")
    carry_out(remedy, "command", world)
    assert world.answer("why", "seedling", "--at", "env:lab")["exit"] == 0


@pytest.mark.parametrize(("variable", "value", "code"), [
    ("SEED_MODE", "tropical", "import os\nraise ValueError(f'{os.environ[\"SEED_MODE\"]!r} is not a mode')\n"),
    ("SEED_ROWS", "0", "raise RuntimeError('SEED_ROWS must be more than nothing')\n"),
    ("PYTHONWARNINGS", "error::FutureWarning", "import warnings\nwarnings.warn('it changes', FutureWarning)\n"),
])
def test_variable_behind_a_failure(variable: str, value: str, code: str, world: World) -> None:
    """Where an exception speaks of a variable, that is evidence, and the first thing to change."""
    lab = world.venv("lab")
    world.activate(lab)
    write(site_of(lab) / "germkit.py", code)
    first = world.answer("why", "germkit", env={variable: value})["result"]["imports"][0]["causes"][0]
    assert first["cause"] == "raises" and first["remedies"][0]["do"].startswith(f"Unset {variable}")
    shown = "set" if variable == "SEED_ROWS" else repr(value)  # it may be a secret
    assert f"the variable {variable} is {shown}" in [e["says"] for e in first["evidence"]]
    assert world.answer("why", "germkit", env={variable: "once" if value[:1] == "e" else ""})["exit"] == int(
        value[:1] != "e")


@pytest.mark.parametrize("name", first_of_each([*HEALTHY, *MORE_HEALTHY],
                                               lambda n: {**HEALTHY, **MORE_HEALTHY}[n][1], 8))
def test_healthy_import_has_no_findings(name: str, world: World, validate) -> None:
    """A working import says where it comes from, and nothing is invented."""
    ask, layer, build = {**HEALTHY, **MORE_HEALTHY}[name]
    lab = world.venv()
    world.activate(lab)
    build(world, lab)
    document = world.answer("why", ask)
    validate(document)
    report = document["result"]["imports"][0]
    assert (report["outcome"], report["causes"], report["layer"]) == ("imports", [], layer)
    read = world.answer("why", ask, "--no-run")["result"]["imports"][0]
    assert (read["outcome"], read["causes"]) == ("unknown", [])
    assert document["exit"] == 0
    python, module = python_of(lab), ask.partition(":")[0]
    answer = world.root / "answer"
    run([python, "-c", f"import importlib.util as u; s = u.find_spec({module!r}).origin\n"
         f"import {module} as m; f = getattr(m, '__file__', None)\n"
         f"import io; io.FileIO({str(answer)!r}, 'w').write(repr([f, s, 'built-in']).encode())"],
        cwd=world.project, env=world.env)
    assert repr(report["origin"]) in answer.read_text()
    if ask in ("germkit", "hooked", "bank.core", "opt") or (ask, layer) == ("humidlog", "env"):
        assert report["distribution"]["name"].replace("-", ".") == ask


MODULES = """\
import pkgutil, sys
names = {m[1] for m in pkgutil.iter_modules() if not m[1].startswith('__editable')}
names |= set(sys.builtin_module_names)
print('\\n'.join(sorted(n for n in names if n not in ('__main__', 'antigravity', 'this', 'idlelib', 'turtle'))))
"""


@pytest.mark.parametrize("version", some_pythons(EVERY))
def test_every_module_of_every_interpreter(version: str, world: World) -> None:
    """What the interpreter imports has no findings; what is said to fail does fail there."""
    python = other_pythons()[version]
    done = run([python, "-c", MODULES], cwd="/", env=world.env)
    modules = done.stdout.split()
    assert len(modules) > 150, done.stderr
    versions = sorted(other_pythons())
    if version not in ("2.7", SHORT, versions[-1]):  # of those between, each has a third of them, another than the last
        modules = modules[versions.index(version) % 3::3]
    script = write(world.project / "all.py", "".join(f"import {m}\n" for m in modules if m.isidentifier()))
    result = world.answer("why", str(script), "--at", f"python:{python}", "--timeout", "200")["result"]
    assert len(result["imports"]) >= len(modules) * 0.9 > 40
    fails = {}
    for report in result["imports"]:
        if report["outcome"] == "imports":
            assert not [f for f in report["causes"] if f["severity"] != "note"], report
            continue
        assert report["causes"], report
        alone = run([python, "-c", f"import {report['module']}"], cwd=world.project, env=world.env)
        assert alone.returncode != 0, report
        fails[report["module"]] = report["causes"][0]["cause"]
    names = {m for m in modules if m.isidentifier()}
    own = {m for m in names if m in sys.stdlib_module_names or m[0] == "_"}
    modules = [*own, *sorted(names - own)[::4]]  # those of others take long
    read = world.answer("why", *modules, "--no-run", "--at", f"python:{python}")
    said = {r["module"]: r["causes"][0] for r in read["result"]["imports"] if r["causes"]}
    assert set(said) <= set(fails), [said[m] for m in set(said) - set(fails)]


@pytest.mark.parametrize("version", sorted(other_pythons()))
def test_examined_interpreters(version: str, world: World, validate) -> None:
    """Every Python of the machine can be examined: what is said of it is what it says itself."""
    python = other_pythons()[version]
    write(world.project / "json.py", "1/0\n")
    document = world.answer("why", "zorkmid", "json", "email", "email.nix", "--at", f"python:{python}")
    validate(document)
    nix, own, email, part = document["result"]["imports"]
    assert [r["causes"][0]["cause"] if r["causes"] else None for r in (nix, own, email, part)] == [
        "not-installed", "hidden-by-file", None, "submodule-absent"]
    said = run([python, "-c", "import sys, email; print(sys.prefix); print(email.__file__)"],
               cwd="/", env=world.env).stdout.split()
    assert [email["interpreter"]["prefix"], email["origin"]] == [
        said[0], said[1].replace(".pyc", ".py")]


def test_too_old_a_python(world: World) -> None:
    """Syntax that only a newer Python knows: proven by reading, with the version that accepts it."""
    old = next((p for v, p in sorted(other_pythons().items()) if v in ("3.6", "3.7", "3.8", "3.9")), None)
    if old is None:
        pytest.skip("no older Python on this machine")
    write(world.project / "fresh.py", "match 1:\n    case 1:\n        pass\n")
    first = world.answer("why", "fresh", "--at", f"python:{old}")["result"]["imports"][0]["causes"][0]
    assert first["cause"] == "python-too-old" and first["confidence"] == "certain"


def test_requirement_is_carried_out_where_the_start_folder_breaks_pip(world: World) -> None:
    """A file that hides the standard library must not break the remedy too."""
    lab = world.venv(pip=True)
    world.activate(lab)
    world.wheels.add("traygrid")
    write(world.project / "types.py", "1/0\n")
    report = world.answer("why", "traygrid")["result"]["imports"][0]
    carry_out(report["causes"][0]["remedies"][0], "command", world)
    assert world.answer("why", "traygrid")["exit"] == 0


def test_no_pip_of_its_own(world: World) -> None:
    """An environment without pip is filled by another one's."""
    lab = world.venv()
    world.venv("with-pip", pip=True)
    world.activate(lab)
    world.wheels.add("traygrid")
    report = world.answer("why", "traygrid")["result"]["imports"][0]
    carry_out(report["causes"][0]["remedies"][0], "command", world)
    assert world.answer("why", "traygrid")["exit"] == 0


def test_local_project_elsewhere_is_installed_from_its_folder(world: World) -> None:
    """What another environment has from a local folder, no index can give."""
    lab, old = world.venv(pip=True), world.venv("lab-old")
    world.activate(lab)
    wheel = world.wheels.add("localkit", "1", {"localkit.py": ""})
    moved = world.home / "localkit-1-py3-none-any.whl"
    os.rename(wheel, moved)
    world.wheels.install(str(moved), site_of(old))
    info = next(site_of(old).glob("localkit*.dist-info"))
    write(info / "direct_url.json", json.dumps({"url": moved.as_uri(), "archive_info": {}}))
    report = world.answer("why", "localkit")["result"]["imports"][0]
    assert report["elsewhere"][0]["environment"]["path"] == str(old)
    carry_out(report["causes"][0]["remedies"][0], "command", world)
    assert world.answer("why", "localkit")["exit"] == 0 and moved.is_file()


def test_child_is_ended_with_all_it_started(world: World) -> None:
    """A hanging import leaves no process behind, also one in a session of its own."""
    world.activate(world.venv())
    write(world.project / "spawns.py", (
        "import subprocess, sys, time\n"
        "subprocess.Popen([sys.executable, '-c', 'import time; time.sleep(4321)'],"
        " start_new_session=True)\ntime.sleep(4321)\n"))
    assert world.answer("why", "spawns", "--timeout", "3")["exit"] == 1
    assert "4321" not in run(["ps", "-eo", "args"]).stdout


BAD_INPUT = {
    "no such seat": (("why", "json", "--at", "nix"), 3),
    "no such environment": (("why", "json", "--at", "env:nix"), 3),
    "no such kernel": (("why", "json", "--at", "kernel:nix"), 3),
    "no such notebook": (("why", "json", "--at", "notebook:nix.ipynb"), 3),
    "no such script": (("why", "json", "--at", "script:nix.py"), 3),
    "ambiguous name": (("why", "json", "--at", "twin"), 2),
    "no module name": (("why", "a b"), 2),
    "no such file": (("why", "main.py"), 3),
    "files and modules": (("why", "json", "main.py"), 2),
    "no module": (("why",), 2),
    "unknown option": (("why", "json", "--frobnicate"), 2),
    "bad limit": (("why", "json", "--timeout", "soon"), 2),
    "no such folder": (("here", "/nonexistent"), 3),
    "no such command": (("frobnicate",), 2),
}


@pytest.mark.parametrize("name", BAD_INPUT)
def test_bad_input_gets_a_sentence(name: str, world: World, validate) -> None:
    """Wrong usage and missing things: one sentence, the documented exit status, a document."""
    for folder in ("a", "b"):
        make_venv(world.home / "envs" / folder / "twin") if name == "ambiguous name" else None
    write(world.home / "envs" / "a" / "x", "")
    env = {"WORKON_HOME": str(world.home / "envs" / "a")}
    args, status = BAD_INPUT[name]
    if name == "ambiguous name":
        kernelspec(world.home, "twin", [sys.executable, "-m", "x"])
    text = world.kalyx(*args, env=env)
    assert (text.returncode, text.stdout) == (status, "")
    assert text.stderr.startswith("kalyx: ") and len(text.stderr.splitlines()) <= 2
    document = world.answer(*args, env=env)
    assert document["exit"] == status and document["result"]["message"]
    assert document["status"] == {2: "error", 3: "unknown"}[status]
    if document["command"]:
        validate(document)


def test_hostile_surroundings(world: World) -> None:
    """Kalyx's own modules come from its own installation, whatever lies around."""
    for name in ("random.py", "json.py", "rich.py", "argparse.py", "packaging.py"):
        write(world.project / name, "raise SystemExit('fooled')\n")
    path = os.pathsep.join(filter(None, [str(world.project), world.env.get("PYTHONPATH")]))
    for cwd in (world.project, world.home):
        done = world.kalyx("here", "--json", cwd=cwd, env={"PYTHONPATH": path})
        assert done.returncode in (0, 1) and "fooled" not in done.stdout + done.stderr


def test_other_ways_in(world: World) -> None:
    """Help, version, no arguments, a closed pipe."""
    assert "kalyx why pandas" in world.kalyx().stdout
    assert world.kalyx("--version").stdout.startswith("kalyx 0.")
    assert "--at" in world.kalyx("why", "--help").stdout
    assert world.kalyx("why", "json", "--quiet").stdout.count("\n") == 1
    piped = subprocess.run(f"{sys.executable} -m kalyx why json --json | head -c 1", shell=True,
                           env=world.env, capture_output=True, text=True, check=False)
    assert piped.stderr == ""
    ascii_only = world.kalyx("why", "nix", env={"PYTHONIOENCODING": "ascii"})
    assert ascii_only.stdout.startswith("[!] ") and ascii_only.stdout.isascii()
    colored = world.kalyx("why", "json", "--color", "always").stdout
    assert "\x1b[" in colored and SHORT
