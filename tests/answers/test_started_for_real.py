"""What really starts, asked of the programs themselves: scripts by running them, kernels by a real server."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import time
import urllib.request
from pathlib import Path

import pytest

from tests.answers.test_kernels import SERVE, _url_of
from tests.support.build import (
    SHORT,
    World,
    kernelspec,
    notebook,
    other_pythons,
    python_of,
    run,
    write,
)

SAYS = "\nimport sys\nprint(sys.prefix)\n"
# LAB is the active environment, PLAIN and OTHER are more of them, BIN a folder on PATH; what follows is SAYS
FIRST_LINES: dict[str, str] = {
    "path": "#!PLAIN/bin/python", "blanks around": "#!  PLAIN/bin/python  ", "tab": "#!\tPLAIN/bin/python\t-I",
    "an option": "#!PLAIN/bin/python -I", "two options": "#!PLAIN/bin/python -I -u",
    "blank in it": "#!OTHER/bin/python",
    "carriage return": "#!PLAIN/bin/python\r", "gone": "#!/nowhere/python", "link": "#!BIN/snek",
    "env": "#!/usr/bin/env python", "env, 3": "#!/usr/bin/env python3", "env, wrapper": "#!/usr/bin/env shim",
    "env, link": "#!/usr/bin/env snek", "env, two words": "#!/usr/bin/env python -u",
    "env, none": "#!/usr/bin/env nosuch",
    "env -S": "#!/usr/bin/env -S python -u", "env -S, quotes": "#!/usr/bin/env -S 'OTHER/bin/python' -I",
    "env -S, variable": "#!/usr/bin/env -S ${HOME}/envs/plain/bin/python",
    "env -iS": "#!/usr/bin/env -iS PATH=PLAIN/bin python3",
    "env --split-string": "#!/usr/bin/env --split-string=python -s", "env -vS": "#!/usr/bin/env -vS python -s",
    "env -S, assignments": "#!/usr/bin/env -S A=b PATH=PLAIN/bin:${PATH} python3 -s",
    "env -i": "#!/usr/bin/env -i python",
    "env -S -u": "#!/usr/bin/env -S -u PYTHONPATH python", "nice": "#!/usr/bin/nice PLAIN/bin/python",
    "sh, exec in quotes": '#!/bin/sh\n"exec" "python" "$0" "$@"',
    "sh, text": "#!/bin/sh\n''':'\nexec python -s \"$0\" \"$@\"\n'''",
    "sh, long path": "#!/bin/sh\n'''exec' \"OTHER/bin/python\" \"$0\" \"$@\"\n' '''",
    "sh, home": '#!/bin/sh\n""":"\nexec "$HOME/bin/snek" "$0" "$@"\n"""',
    "bash, true": "#!/bin/bash\n\"true\" '''\\'\nexec python \"$0\" \"$@\"\n'''",
    "sh, comment": "#!/bin/sh\n''''exec python -s -- \"$0\" ${1+\"$@\"} # '''",
    "sh, own folder": "#!/bin/sh\n''''exec \"$(dirname \"$0\")/../envs/plain/bin/python\" \"$0\" # '''",
    "sh through env": '#!/usr/bin/env sh\n"exec" "python" "$0" "$@"', "bash -e": '#!/bin/bash -e\n"exec" "python" "$0"',
    "condition": "#!/bin/sh\n''':'\nif true; then exec python \"$0\"; fi\n'''",
    "loop": "#!/bin/sh\n''':'\nfor x in 1; do exec python \"$0\"; done\n'''",
}
UNTOLD = {"loop", "sh, loop"}  # what runs it is worked out by a shell


def surroundings(world: World) -> dict[str, str]:
    """Make the environments and programs that the tables name; return what stands for their folders."""
    lab, plain, other = (world.venv(n) for n in ("lab", "plain", "my other"))
    world.activate(lab)
    programs = world.home / "bin"
    programs.mkdir()
    (programs / "snek").symlink_to(python_of(plain))
    write(programs / "shim", f'#!/bin/sh\nexec "{python_of(other)}" "$@"\n', 0o755)
    world.env["PATH"] = f"{programs}:{world.env['PATH']}"
    return {"LAB": str(lab), "PLAIN": str(plain), "OTHER": str(other), "BIN": str(programs)}


def filled(text: str, places: dict[str, str]) -> str:
    """Return a text with the folders in it."""
    for name, path in places.items():
        text = text.replace(name, path)
    return text


@pytest.mark.parametrize("ending", ["", ".py"])
def test_scripts(ending: str, world: World, validate) -> None:
    """Each form of a first line: the prefix is that of the run, or nothing is claimed and what cannot start is said."""
    places = surroundings(world)
    for number, text in enumerate(FIRST_LINES.values()):
        folder = world.project / str(number // 12)
        write(folder / f"s{number}{ending}", filled(text, places) + SAYS, 0o755)
        write(folder / ".git" / "HEAD", "")
    for part in range(0, len(FIRST_LINES), 12):
        document = world.answer("here", str(world.project / str(part // 12)))
        validate(document)
        seats = {os.path.basename(s["ref"]): s for s in document["result"]["seats"]}
        for number, name in list(enumerate(FIRST_LINES))[part:part + 12]:
            file = world.project / str(part // 12) / f"s{number}{ending}"
            try:
                ran = run([file], cwd=world.project, env=world.env)
                real = ran.stdout.strip() if ran.returncode == 0 else None
            except OSError:
                real = None
            seat = seats.get(file.name)
            if seat is None:
                assert not ending and (real is None or name in UNTOLD), name
                seat = world.answer("packages", "--at", f"script:{file}")["result"].get("seat")
                continue
            causes = {f["cause"] for f in seat["findings"]}
            told = seat["interpreter"] if "interpreter-gone" not in causes else None
            assert ("site-off" in causes) == ("link" in name or "home" in name), name  # it runs as the base
            assert (told and told["prefix"]) == (None if name in UNTOLD else real), name
            assert (real is None) == ("interpreter-gone" in causes), name


# the command of a kernel; WHO is a script that says where it runs, NINE a Python of another version on PATH
KERNELS: dict[str, list[str]] = {
    "path": ["PLAIN/bin/python", "WHO"], "python": ["python", "WHO"], "python3": ["python3", "WHO"],
    "own version": [f"python{SHORT}", "WHO"], "other version": ["python3.9", "WHO"], "none": ["python3.4", "WHO"],
    "python2": ["python2.7", "WHO"], "other name": ["snek", "WHO"], "wrapper": ["shim", "WHO"],
    "below": ["envs/near/bin/python", "WHO"], "below, with a dot": ["./envs/near/bin/python", "WHO"],
    "tilde": ["~/envs/plain/bin/python", "WHO"], "env": ["env", "python", "WHO"],
    "env by path": ["/usr/bin/env", "python3", "WHO"],
    "env -i": ["env", "-i", "PATH=PLAIN/bin", "NAMED", "python", "WHO"],
    "env -u": ["env", "-u", "PATH", "PLAIN/bin/python", "WHO"],
    "env -C": ["env", "-C", "envs/near/bin", "./python", "WHO"],
    "env -S": ["env", "-S", "PATH=PLAIN/bin:${PATH} python -s", "WHO"], "env --": ["env", "--", "python3.9", "WHO"],
    "env, assignment": ["env", "PATH=PLAIN/bin", "python", "WHO"],
    "env, unknown option": ["env", "-q", "python", "WHO"],
    "nice": ["nice", "-n", "3", "PLAIN/bin/python", "WHO"], "nice, bare": ["nice", "python", "WHO"],
    "timeout": ["timeout", "-k", "1", "60", "PLAIN/bin/python", "WHO"],
    "setsid": ["setsid", "-w", "PLAIN/bin/python", "WHO"],
    "nohup env": ["nohup", "env", "A=b", "python", "WHO"], "stdbuf": ["stdbuf", "-oL", "PLAIN/bin/python", "WHO"],
    "sh": ["sh", "-c", "exec PLAIN/bin/python WHO"],
    "sh, arguments": ["sh", "-c", 'exec "$0" "$@"', "PLAIN/bin/python", "WHO"],
    "sh, PATH": ["sh", "-c", "PATH=PLAIN/bin:$PATH; exec python WHO"],
    "sh, no exec": ["sh", "-c", "PLAIN/bin/python WHO"],
    "bash, activated": ["bash", "-c", ". PLAIN/bin/activate && exec PLAIN/bin/python WHO"],
    "sh, condition": ["sh", "-c", "if true; then exec python WHO; fi"],
    "sh, loop": ["sh", "-c", "for x in 1; do exec python WHO; done"],
    "bash, entered": ["bash", "-c", "source 'OTHER/bin/activate' && exec python \"$0\"", "WHO"],
    "sh, entered": ["sh", "-c", "export A=b; . PLAIN/bin/activate; python WHO"],
    "resource": ["{resource_dir}/python", "WHO"],
    "options": ["PLAIN/bin/python", "-s", "-E", "WHO"], "ionice": ["ionice", "-c", "3", "PLAIN/bin/python", "WHO"],
    "env, twice": ["env", "env", "-u", "A", "python", "WHO"], "env, nice": ["env", "nice", "python", "WHO"],
    "prefix": ["{prefix}/bin/python", "WHO"], "dash": ["dash", "-c", 'A=b exec PLAIN/bin/python "$1"', "dash", "WHO"],
    "nohup": ["nohup", "PLAIN/bin/python", "WHO"], "env, none": ["env", "nosuch", "WHO"],
    "script": ["BIN/kernel-start", "x"], "script of sh": ["BIN/start-kernel", "WHO"],
    "script that enters": ["BIN/enter-kernel", "WHO"],
}

# As they stand on clusters
ENTERS = """#!/bin/bash
set -euo pipefail
log() { echo "$(date) $1" >> "$HOME/kernel.log"; }
log "starting"
if [ -d /nowhere/scratch ]; then
  export TMPDIR=/nowhere/scratch
fi
source "OTHER/bin/activate"
export PYTHONPATH=$HOME/shared${PYTHONPATH:+:$PYTHONPATH}
cd "$HOME" && exec python -u "$@"
"""


@pytest.mark.thorough
@pytest.mark.real
@pytest.mark.skipif("3.9" not in other_pythons() or SHORT == "3.9", reason="needs another Python")
def test_kernels_of_a_real_server(world: World) -> None:
    """Each command is started by a server from a notebook's folder: the prefix is what `here` says of the notebook."""
    places = surroundings(world)
    folder = world.project
    near = world.venv("near")
    parts = [str(n // 20) for n in range(len(KERNELS))]  # `here` looks at so many notebooks of a folder
    for part in set(parts):
        shutil.copytree(near, folder / part / "envs" / "near", symlinks=True)
    out = world.root / "out"
    out.mkdir()
    who = write(world.home / "who.py", "import os, sys, time\n"
                f"name = os.environ['KERNEL_NAMED']\nwith open({str(out)!r} + '/.' + name, 'w') as file:\n"
                f"    file.write(sys.prefix)\nos.rename({str(out)!r} + '/.' + name, {str(out)!r} + '/' + name)\n"
                "time.sleep(70)\n")
    (world.home / "bin" / "python3.9").symlink_to(other_pythons()["3.9"])
    places |= {"WHO": str(who)}
    write(world.home / "bin" / "kernel-start", f"#!{places['PLAIN']}/bin/python\n" + who.read_text(), 0o755)
    write(world.home / "bin" / "start-kernel", f'#!/bin/sh\nexec {places["PLAIN"]}/bin/python "$@"\n', 0o755)
    write(world.home / "bin" / "enter-kernel", ENTERS.replace("OTHER", places["OTHER"]), 0o755)
    write(world.home / "bin" / "jupyter-server", f"#!{sys.executable}\n", 0o755)
    for number, (name, words) in enumerate(KERNELS.items()):
        spec = kernelspec(world.home, f"k{number}",
                          [filled(w, {**places, "NAMED": f"KERNEL_NAMED=k{number}"}) for w in words],
                          env={"KERNEL_NAMED": f"k{number}"})
        if name == "resource":
            (spec.parent / "python").symlink_to(python_of(Path(places["PLAIN"])))
        notebook(folder / parts[number] / f"k{number}.ipynb", f"k{number}")
    server = subprocess.Popen([sys.executable, "-W", "ignore", "-c", SERVE, str(folder)], env={
        **world.env, "JUPYTER_RUNTIME_DIR": str(world.root / "runtime")}, cwd=world.root,
        stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    started = {}
    try:
        url = _url_of(world.root / "runtime", server)
        for number in range(len(KERNELS)):
            body = json.dumps({"name": f"k{number}", "path": f"{parts[number]}/k{number}.ipynb"}).encode()
            request = urllib.request.Request(f"{url}api/kernels?token=seed", method="POST", data=body)
            try:
                with urllib.request.urlopen(request, timeout=30) as reply:
                    started[number] = json.load(reply)["id"]
            except OSError:
                started[number] = None
        seats = {os.path.basename(s["ref"]): s for part in sorted(set(parts))
                 for s in world.answer("here", str(folder / part), cwd=folder / part)["result"]["seats"]}
        deadline = time.monotonic() + 60
        expected = {f"k{n}" for n, k in enumerate(KERNELS) if seats[f"k{n}.ipynb"]["interpreter"] or k in UNTOLD}
        while time.monotonic() < deadline and not expected <= set(os.listdir(out)):
            time.sleep(0.1)
        for number, name in enumerate(KERNELS):
            file, seat = out / f"k{number}", seats[f"k{number}.ipynb"]
            real = file.read_text() if file.exists() else None
            gone = any(f["cause"] == "kernel-interpreter-gone" for f in seat["findings"])
            told = seat["interpreter"]["prefix"] if seat["interpreter"] and not gone else None
            assert told == (None if name in UNTOLD else real), name
            assert gone == (real is None), name
    finally:
        server.kill()  # asked to end, it would wait for each kernel, which answers nothing
        server.wait(30)


# the pip that PATH finds first, as a script or as what it links to (->): PLAIN has a pip, BARE has none
PIP = "import re, sys\nfrom pip._internal.cli.main import main\nsys.exit(main())\n"
PIPS: dict[str, str] = {
    "its own": "#!PLAIN/bin/python\n" + PIP,
    "long path": "#!/bin/sh\n'''exec' \"OTHER/bin/python\" \"$0\" \"$@\"\n' '''\n" + PIP,
    "link": "->PLAIN/bin/pip", "env": "#!/usr/bin/env python\n" + PIP,
    "wrapper": '#!/bin/sh\nexec PLAIN/bin/python -m pip "$@"\n', "no exec": '#!/bin/sh\nPLAIN/bin/python -m pip "$@"\n',
    "another pip": '#!/bin/bash\nexec PLAIN/bin/pip "$@"\n',
    "home": '#!/bin/sh\nexec "$HOME/envs/plain/bin/python" -m pip "$@"\n',
    "bare word": '#!/bin/sh\nset -e\nexec python -m pip "$@"\n',
    "variable": '#!/bin/sh\nenv=PLAIN\n"$env/bin/python" -m pip "$@"\n',
    "through env": '#!/bin/sh\nexec env A=b PLAIN/bin/python -m pip "$@"\n', "module gone": "#!BARE/bin/python\n" + PIP,
    "wrapper, module gone": '#!/bin/sh\nexec BARE/bin/python -m pip "$@"\n', "gone": "#!/nowhere/python\n" + PIP,
    "gone, by env": "#!/usr/bin/env nosuch\n" + PIP,
    "condition": '#!/bin/sh\nif [ -x PLAIN/bin/python ]; then exec PLAIN/bin/python -m pip "$@"; fi\nexit 1\n',
    "loop": '#!/bin/sh\nfor x in 1; do exec python -m pip "$@"; done\n',
}


def test_pip(world: World, validate) -> None:
    """The pip that PATH finds: its environment is what its own --version says; what cannot start is said."""
    lab, plain, other = (world.venv(n, pip=True) for n in ("lab", "plain", "my other"))
    bare = world.venv("bare")
    world.activate(lab)
    write(plain / "bin" / "pip", f"#!{python_of(plain)}\n{PIP}", 0o755)
    places = {"PLAIN": str(plain), "OTHER": str(other), "BARE": str(bare)}
    first = world.home / "first"
    first.mkdir()
    world.env["PATH"] = f"{first}:{world.env['PATH']}"
    for name, text in PIPS.items():
        text = filled(text, places)
        (first / "pip").unlink(missing_ok=True)
        if text.startswith("->"):
            (first / "pip").symlink_to(text[2:])
        else:
            write(first / "pip", text, 0o755)
        ran = subprocess.run([first / "pip", "--version"], env=world.env, capture_output=True, text=True, check=False) \
            if not text.startswith("#!/nowhere") else None
        real = ran.stdout.split(" from ")[-1].split("/lib/python")[0] if ran and ran.returncode == 0 else None
        document = world.answer("here")
        validate(document)
        shell = document["result"]["seats"][0]
        pip = next(s for s in shell["scripts"] if s["name"] == "pip")
        found = {f["cause"] for f in shell["findings"] if f["because"].startswith("pip ")}
        healthy = real == str(lab) or name == "loop"
        expected = {"pip-absent"} if real is None else set() if healthy else {"pip-elsewhere"}
        assert found == expected, name
        if real is not None and name != "loop":
            assert pip["interpreter"]["prefix"] == real, name
        said = world.kalyx("here").stdout.splitlines()[0]
        assert ("pip belongs to it" in said) == (real == str(lab) and name != "loop"), (name, said)


def test_shell_without_pip(world: World) -> None:
    """No pip anywhere is no warning, and none is claimed; tools of another environment are noted, not warned of."""
    lab, other = world.venv("lab"), world.venv("other")
    world.activate(lab)
    world.env["PATH"] = f"{lab / 'bin'}:{other / 'bin'}:/nowhere"
    write(other / "bin" / "jupyter", f"#!{python_of(other)}\n", 0o755)
    document = world.answer("here")
    shell = document["result"]["seats"][0]
    assert (document["exit"], [(f["cause"], f["severity"]) for f in shell["findings"]]) == (0,
                                                                                            [("pip-elsewhere", "note")])
    assert "pip" not in world.kalyx("here").stdout.splitlines()[0]
