"""What files say of how an interpreter starts, held against the start: variables, copies, wrappers, pyvenv.cfg."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
from pathlib import Path

import pytest

from tests.support.build import (
    BASE_PYTHON,
    SHORT,
    World,
    kernelspec,
    notebook,
    other_pythons,
    python_of,
    run,
    write,
)
from tests.support.forked import Forked

CODE = ("import json, os, sys; print(json.dumps(['.'.join(map(str, sys.version_info[:3])), "
        "*map(os.path.abspath, [sys.executable, sys.prefix, sys.base_prefix]), list(map(os.path.abspath, sys.path))]))")
LIBRARY = f"lib/python{SHORT}"


def home_elsewhere(world: World) -> str:
    """Make a prefix that has a standard library of this version."""
    (world.home / "moved" / "lib").mkdir(parents=True)
    (world.home / "moved" / LIBRARY).symlink_to(os.path.dirname(json.__path__[0]))
    return str(world.home / "moved")


def two_homes(world: World) -> str:
    """Make another one beside it for what is compiled."""
    (world.home / "two" / LIBRARY).mkdir(parents=True)
    (world.home / "two" / LIBRARY / "lib-dynload").symlink_to(os.path.dirname(json.__path__[0]) + "/lib-dynload")
    return f"{home_elsewhere(world)}:{world.home / 'two'}"


def lab(world: World, *options: str, name: str = "lab", python: str = BASE_PYTHON) -> Path:
    """Make an environment and activate it."""
    made = world.venv(name, python, options=options)
    world.activate(made)
    return made


def wrapped(world: World, text: str, env: Path | None = None) -> None:
    """Put a wrapper first on PATH that starts the environment's PYTHON."""
    env = env or lab(world)
    program = env / "bin" / "python.real"
    (env / "bin" / "python").rename(program)
    filled = text.replace("PYTHON ", f"'{program}' ").replace("PROGRAM", program.name).replace("ENV", str(env))
    write(env / "bin" / "python", filled, 0o755)


def with_config(world: World, change: dict[str, str], *options: str) -> None:
    """Change an environment's pyvenv.cfg."""
    config = lab(world, *options) / "pyvenv.cfg"
    text = config.read_text()
    for old, new in change.items():
        text = text.replace(old, new)
    config.write_text(text)


def copied(world: World, python: str) -> None:
    """Put a copy of a program first on PATH, far from its library."""
    (world.home / "bin").mkdir()
    shutil.copy(os.path.realpath(python), world.home / "bin" / "python")
    world.env["PATH"] = f"{world.home / 'bin'}:{world.env['PATH']}"


def linked_copy(world: World) -> None:
    """Start an environment's copy of a program through a link from outside."""
    made = world.venv("lab", options=["--copies"])
    (world.home / "bin").mkdir()
    (world.home / "bin" / "python").symlink_to(python_of(made))
    world.env["PATH"] = f"{world.home / 'bin'}:{world.env['PATH']}"


# What conda's own start file has a shell do, in short
CONDA = """conda() {
  [ "$1" = activate ] || return 0
  case "$2" in */*) CONDA_PREFIX=$2;; "") CONDA_PREFIX=ROOT;; *) CONDA_PREFIX=ROOT/envs/$2;; esac
  export CONDA_PREFIX; export PATH="$CONDA_PREFIX/bin:$PATH"
}
"""
COMMAND = """#!/bin/sh
case "$1" in
  info) echo ROOT;;
  run) PATH="ROOT/envs/$3/bin:$PATH"; shift 3; exec "$@";;
  *) cat ROOT/etc/profile.d/conda.sh;;
esac
"""


def with_conda(world: World, text: str) -> None:
    """Put a wrapper first on PATH that enters one of conda's environments."""
    root = world.home / "conda"
    for prefix in (root, root / "envs" / "trial"):
        (prefix / "conda-meta").mkdir(parents=True)
        shutil.copytree(world.venv(prefix.name), prefix, symlinks=True, dirs_exist_ok=True)
    write(root / "etc" / "profile.d" / "conda.sh", CONDA.replace("ROOT", str(root)))
    write(root / "bin" / "conda", COMMAND.replace("ROOT", str(root)), 0o755)
    write(root / "bin" / "activate", CONDA.replace("ROOT", str(root)) + 'conda activate "$@"\n')
    write(world.home / "bin" / "python", text.replace("ROOT", str(root)), 0o755)
    world.env["PATH"] = f"{world.home / 'bin'}:{world.env['PATH']}"


def variables(world: World, **values: str) -> None:
    """Set variables in a shell that has entered an environment open to its base, and a user site."""
    lab(world, "--system-site-packages")
    (world.home / ".local" / LIBRARY / "site-packages").mkdir(parents=True)
    world.env.update(values)


STARTS = {
    "PYTHONHOME": lambda w: variables(w, PYTHONHOME=home_elsewhere(w)),
    "PYTHONHOME, two": lambda w: variables(w, PYTHONHOME=two_homes(w)),
    "PYTHONHOME, relative": lambda w: variables(w, PYTHONHOME=os.path.relpath(home_elsewhere(w), w.project)),
    "PYTHONHOME, nowhere": lambda w: variables(w, PYTHONHOME="/nowhere"),
    "PYTHONHOME, its environment": lambda w: variables(w, PYTHONHOME=str(w.home / "envs" / "lab")),
    "PYTHONPLATLIBDIR": lambda w: variables(w, PYTHONPLATLIBDIR="lib9"),
    "PYTHONNOUSERSITE, 0": lambda w: variables(w, PYTHONNOUSERSITE="0"),
    "PYTHONNOUSERSITE, 1": lambda w: variables(w, PYTHONNOUSERSITE="1"),
    "PYTHONSAFEPATH, 0": lambda w: variables(w, PYTHONSAFEPATH="0"),
    "two homes": lambda w: with_config(w, {"version": "home = /nowhere\nversion"}),
    "copy, no home": lambda w: with_config(w, {"home": "house"}, "--copies"),
    "copy, home gone": lambda w: with_config(w, {"home = ": "home = /nowhere"}, "--copies"),
    "copy, home of another": lambda w: with_config(
        w, {"home = ": f"home = {os.path.dirname(other_pythons()['3.9'])}\nhome = "}, "--copies"),
    "copy": lambda w: copied(w, BASE_PYTHON), "copy of another": lambda w: copied(w, other_pythons()["3.9"]),
    "link to a copy": linked_copy,
    "wrapper": lambda w: wrapped(w, '#!/bin/sh\nexec PYTHON "$@"\n'),
    "wrapper, PYTHONPATH": lambda w: wrapped(
        w, '#!/bin/sh\nexport PYTHONPATH="$HOME/more:$PYTHONPATH"\nexec PYTHON "$@"\n'),
    "wrapper, not exported": lambda w: wrapped(w, '#!/bin/sh\nPYTHONUSERBASE=/more\nexec PYTHON "$@"\n'),
    "wrapper, flags": lambda w: (w.env.update(PYTHONHOME="/nowhere", PYTHONPATH="/more"),
                                 wrapped(w, '#!/bin/sh\nOPTS="-E -s"\nexec PYTHON $OPTS -X utf8 "$@"\n')),
    "wrapper, env -i": lambda w: (w.env.update(PYTHONPATH="/more"),
                                  wrapped(w, '#!/bin/sh\nexec env -i HOME="$HOME" PYTHON ${1+"$@"}\n')),
    "wrapper, unset": lambda w: (w.env.update(PYTHONHOME="/nowhere"),
                                 wrapped(w, '#!/bin/sh\nunset PYTHONHOME\nexec PYTHON "$@"\n')),
    "wrapper, folder": lambda w: wrapped(w, '#!/bin/sh\ncd "$HOME" || exit 1\nexec PYTHON "$@"\n'),
    "wrapper, beside it": lambda w: wrapped(
        w, '#!/bin/bash\nhere="$( cd "$( dirname "${BASH_SOURCE[0]}" )" && pwd )"\nexec "$here/PROGRAM" "$@"\n'),
    "wrapper, where it leads": lambda w: wrapped(
        w, '#!/bin/sh\nme=$(readlink -f "$0")\n[ -x "${me%/*}/PROGRAM" ] || exit 3\nexec "${me%/*}/PROGRAM" "$@"\n'),
    "wrapper, default": lambda w: wrapped(
        w, '#!/bin/sh\n: "${CHOSEN:=ENV/bin/PROGRAM}"\nmkdir -p "$HOME/log" >/dev/null 2>&1\nexec "$CHOSEN" "$@"\n'),
    "wrapper, if": lambda w: wrapped(
        w, '#!/bin/sh\nif [ -d /nowhere ]; then\n  exec /nowhere/python "$@"\nelif [ -f ENV/pyvenv.cfg ]\nthen\n'
           '  PATH="ENV/bin:$PATH"\n  set -- -s "$@"\nelse\n  exit 2\nfi\nexec PYTHON "$@"\n'),
    "wrapper, entered": lambda w: (w.venv("other"), wrapped(
        w, '#!/bin/bash\nsource "$HOME/envs/other/bin/activate"\nexport A=b\nexec python "$@"\n')),
    "wrapper, given": lambda w: (write(w.home / "settings.sh", "export PYTHONPATH=$HOME/more\n"), wrapped(
        w, '#!/bin/sh\n. "$HOME/settings.sh"\nexec PYTHON "$@"\n')),
    "wrapper, choice": lambda w: wrapped(
        w, '#!/bin/bash\ncase "$1" in\n  --help|-h) echo help; exit 0;;\nesac\ncase "$(uname)" in\n'
           '  Linux) suffix=real ;;\n  Dar*) suffix=mac ;;\n  *) exit 4\nesac\nexec "ENV/bin/python.$suffix" "$@"\n'),
    "wrapper, functions": lambda w: wrapped(
        w, '#!/bin/sh\ndie() { echo "$1" >&2; exit 3; }\nsay ()\n{\n  echo "$@" >&2\n}\n'
           '[ -f ENV/pyvenv.cfg ] || die no\nsay "starting"\n[ -z "$QUIET" ] && say more\nexec PYTHON "$@"\n'),
    "conda, run": lambda w: with_conda(w, '#!/bin/sh\nexec ROOT/bin/conda run -n trial python "$@"\n'),
    "conda, told": lambda w: with_conda(
        w, '#!/bin/bash\nsource "$(ROOT/bin/conda info --base)/etc/profile.d/conda.sh"\nconda activate trial\n'
           'exec python "$@"\n'),
    "conda, its file": lambda w: with_conda(
        w, '#!/bin/bash\n. ROOT/etc/profile.d/conda.sh\nconda activate trial\nexec python "$@"\n'),
    "conda, its hook": lambda w: with_conda(
        w, '#!/bin/bash\neval "$(ROOT/bin/conda shell.bash hook)"\nconda activate ROOT/envs/trial && python "$@"\n'),
    "conda, as it was": lambda w: with_conda(w, '#!/bin/bash\nsource ROOT/bin/activate trial\nexec python "$@"\n'),
    "conda, itself": lambda w: with_conda(
        w, '#!/bin/bash\n. ROOT/etc/profile.d/conda.sh\nconda activate\nexec python "$@"\n'),
    "first line gone": lambda w: (lab(w), wrapped(w, "#!/nowhere/sh\nexec PYTHON \"$@\"\n", w.venv("two")),
                                  w.activate(w.home / "envs" / "two")),
}


@pytest.mark.skipif("3.9" not in other_pythons() or SHORT == "3.9", reason="needs another Python")
def test_starts(tmp_path: Path, forked: Forked, validate) -> None:
    """The interpreter, its prefixes and its search path are those of the start; what cannot start is said to."""
    for number, (name, make) in enumerate(STARTS.items()):
        world = World(tmp_path / str(number), forked)
        world.env.pop("PYTHONPATH", None)
        make(world)
        document = world.answer("packages")
        validate(document)
        ran = run(["/bin/bash", "-c", 'exec python -c "$0"', CODE], env=world.env, cwd=world.project)
        seat, layers = document["result"]["seat"], document["result"]["layers"]
        if ran.returncode:
            assert [f["cause"] for f in seat["findings"] if f["severity"] == "error"] == ["interpreter-broken"], name
            continue
        version, program, prefix, base, path = json.loads(ran.stdout)
        one = seat["interpreter"]
        assert [one[k] for k in ("path", "version", "prefix", "base_prefix")] == [program, version, prefix, base], name
        assert [x["path"] for x in layers] == list(dict.fromkeys(path)), name


def test_what_misleads_is_taken_out(world: World) -> None:
    """By the first remedy the shell starts again; an environment is entered whatever misleads the shell now."""
    variables(world, PYTHONHOME="/nowhere")
    finding = world.answer("here")["result"]["seats"][0]["findings"][0]
    assert finding["cause"] == "interpreter-broken" and "/nowhere" in finding["because"]
    typed = finding["remedies"][0]["typed"]
    done = run(["bash", "-c", f"{typed}; python -c 'print(7)'"], env=world.env)
    assert done.stdout == "7\n", (typed, done.stderr)
    assert world.kalyx("enter", str(world.home / "envs" / "lab")).returncode == 0


@pytest.mark.parametrize("text", ['exec python "$@"', 'exec "$HOME/two/python" "$@"'])
def test_wrappers_in_a_circle(text: str, world: World) -> None:
    """Wrappers that start themselves, or each other, are said to, and all the rest of the answer is there."""
    notebook(world.project / "a.ipynb", "lab")
    kernelspec(world.home, "lab", [str(python_of(world.venv("lab")))])
    write(world.home / "one" / "python", f"#!/bin/sh\n{text}\n", 0o755)
    write(world.home / "two" / "python", '#!/bin/sh\nexec "$HOME/one/python" "$@"\n', 0o755)
    world.env["PATH"] = f"{world.home / 'one'}:{world.env['PATH']}"
    shell, other = world.answer("here")["result"]["seats"]
    finding = shell["findings"][0]
    assert finding["cause"] == "interpreter-broken" and "again" in finding["because"], finding
    assert other["environment"]["name"] == "lab"


PROCESSES = {
    "-c": ["-c", "RUN"], "isolated": ["-I", "-c", "RUN"], "script": ["sub folder/told.py", "a"],
    "script by a link, flags": ["-Es", "-X", "utf8", "link.py"], "module": ["-s", "-m", "told"],
    "safe": ["-P", "-c", "RUN"], "in one word": ["-X", "utf8", "-EscRUN"], "folder": ["-E", "sub folder"],
}


@pytest.mark.parametrize("name", [n for n in PROCESSES if SHORT not in ("3.9", "3.10") or "safe" not in n])
def test_process(name: str, world: World) -> None:
    """What a live process can import, by its options, its script, its variables and its folder, is what it says."""
    made = lab(world, "--system-site-packages")
    told = f"{CODE}\nsys.stdout.flush()\nsys.stdin.read()\n"
    for file in ("sub folder/told.py", "sub folder/__main__.py", "told.py"):
        write(world.project / file, told)
    (world.project / "link.py").symlink_to("sub folder/told.py")
    (world.home / "more").mkdir()
    env = {**world.env, "PYTHONPATH": str(world.home / "more")}
    words = [w.replace("RUN", told) for w in PROCESSES[name]]
    with subprocess.Popen([python_of(made), *words], env=env, cwd=world.project, stdin=subprocess.PIPE,
                          stdout=subprocess.PIPE, text=True) as process:
        assert process.stdout is not None and process.stdin is not None
        line = process.stdout.readline()
        result = world.answer("packages", "--at", f"process:{process.pid}")["result"]
        tried = world.answer("why", "json", "--at", f"process:{process.pid}")["result"]["imports"][0]
        process.stdin.close()
    assert result["seat"]["interpreter"]["prefix"] == str(made) and tried["outcome"] == "imports"
    assert [x["path"] for x in result["layers"]] == list(dict.fromkeys(json.loads(line)[4]))
