"""``enter``: its lines, read by the real shells; what they bring back; a new shell in a terminal of its own."""

from __future__ import annotations

import json
import os
import pty
import re
import select
import shutil
import sys
import time
from pathlib import Path

import pytest

from kalyx.core.entering.variables import KEPT, read_kept
from tests.situations.reach import conda_like
from tests.support.build import KALYX, SHORT, World, make_venv, run, write
from tests.support.thorough import first_of_each

# What each shell does: NOTE NAME writes its variables down, ENTER ENV and LEAVE are the product's lines, sourced
SCRIPTS = {
    "bash": ('eval "$({kalyx} enter "$1")"', 'eval "$({kalyx} enter --leave)"',
             '{note} {name}; type deactivate 2>/dev/null | grep function; set | grep -o "^KALYX_PS1[^=]*"'),
    "fish": ('{kalyx} enter $argv[1] | source', '{kalyx} enter --leave | source',
             '{note} {name}; functions -q deactivate; and echo deactivate; functions -a | grep kalyx'),
    "tcsh": ('{kalyx} enter $1:q > {lines}; source {lines}', 'eval "`{kalyx} enter --leave`"', "{note} {name}; alias"),
    "xonsh": ('execx($({kalyx} enter @($ARG1)))', 'execx($({kalyx} enter --leave))', "{note} {name}"),
}
SCRIPTS |= {"zsh": SCRIPTS["bash"], "dash": SCRIPTS["bash"]}
START = {"tcsh": ["-f"], "xonsh": ["--no-rc"], "fish": ["--no-config"], "zsh": ["-f"]}
NOTE = "import json, os, sys; json.dump(dict(os.environ), open(sys.argv[1], 'w'))"
# bash and xonsh set these themselves
OWN = ("_", "SHLVL", "PWD", "OLDPWD", "HOST", "LOGNAME", "GROUP", "OSTYPE", "HOSTTYPE", "MACHTYPE", "VENDOR")


def shell_program(name: str) -> str:
    """Return where a shell is; the test is left out where it is not installed."""
    beside = os.path.join(os.path.dirname(sys.executable), name)
    found = beside if os.path.exists(beside) else shutil.which(name)
    return found or pytest.skip(f"{name} is not installed here")


def tool(env: Path) -> Path:
    """Give an environment a console script, which says where it lies."""
    script = write(env / "bin" / "kxtool", '#!/bin/sh\necho "$0"\n')
    script.chmod(0o755)
    return env


def moved(world: World) -> Path:
    """Make an environment, and move it."""
    tool(world.venv("was here"))
    return (world.home / "envs/was here").rename(world.home / "envs/moved")


def without_scripts(world: World) -> Path:
    """Make an environment whose activation scripts are gone."""
    env = tool(world.venv("bare"))
    for file in (env / "bin").glob("[aA]ctivate*"):
        file.unlink()
    return env


def conda_layout(world: World) -> Path:
    """Make an environment as conda lays it out, with a variable that is kept for it and a script that is not run."""
    env = tool(conda_like(world, world.home))
    write(env / "conda-meta" / "state", json.dumps({"env_vars": {"TRAYS": "1 2", "bad name": "x"}}))
    write(env / "etc/conda/activate.d/hook.sh", "touch ran")
    return env


def base_installation(world: World) -> Path:
    """Make an installation of Python's own: nothing but its programs."""
    env = tool(conda_like(world, world.home))
    shutil.rmtree(env / "conda-meta")
    return env


ENVIRONMENTS = {
    "plain": lambda w: tool(w.venv("plain one")),
    "odd name": lambda w: tool(make_venv(w.home / "it's \"q\" $HOME `x`; !é")),
    "moved": moved, "without scripts": without_scripts, "conda": conda_layout,
    "base": base_installation,
}


@pytest.mark.parametrize("case", first_of_each(
    [(k, s) for k in ENVIRONMENTS for s in SCRIPTS],
    lambda c: c if c[0] == "plain" else "odd name" if c[0] == "odd name" else "more", 3), ids=" in ".join)
def test_lines_in_real_shells(case: tuple[str, str], world: World) -> None:
    """python, pip and console scripts are the environment's; another inside it, too; then all is as it was."""
    kind, shell = case
    program, env = shell_program(shell), ENVIRONMENTS[kind](world)
    if shell == "xonsh" and "$" in str(env):
        refused = world.kalyx("enter", str(env), "--shell", "xonsh")
        assert (refused.returncode, refused.stdout) == (1, "") and "xonsh" in refused.stderr
        return
    inner = tool(world.venv("inner"))
    enter, leave, note = SCRIPTS[shell]
    names = {"kalyx": KALYX, "lines": str(world.root / "lines"),
             "note": f"{sys.executable} -I {write(world.root / 'note.py', NOTE)}"}
    where = "which python" if shell == "tcsh" else "command -v python" if shell != "xonsh" else "which python"
    steps = [note.format(name=world.root / "0", **names), "echo @@", enter.format(**names), where, "kxtool",
             note.format(name=world.root / "1", **names), "echo @@"]
    steps += [enter.replace("$1", "$2").replace("argv[1]", "argv[2]").replace("ARG1", "ARG2").format(**names), where,
              leave.format(**names), where, "echo @@", leave.format(**names),
              note.format(name=world.root / "2", **names)]
    script = write(world.root / f"script.{shell}", "\n".join(steps) + "\n")
    done = run([program, *START.get(shell, []), script, env, inner], cwd=world.project,
               env={**world.env, "ARG1": str(env), "ARG2": str(inner),
                    **({"PYTHONHOME": "/nowhere"} if shell != "xonsh" else {}),
                    "XONSH_HISTORY_BACKEND": "dummy", "XDG_CONFIG_HOME": str(world.home)})
    before, first, second, last = done.stdout.split("@@\n")
    own = str(env / "bin")
    assert first.split("\n")[:2] == [f"{own}/python", f"{own}/kxtool"], done.stdout + done.stderr
    assert second.split("\n")[:2] == [f"{inner}/bin/python", f"{own}/python"], done.stderr
    noted = [json.loads((world.root / str(n)).read_text()) for n in range(3)]
    within = noted[1]
    assert (within.get("CONDA_PREFIX"), within.get("VIRTUAL_ENV")) == (
        (str(env), None) if kind == "conda" else (None, None if kind == "base" else str(env)))
    assert "PYTHONHOME" not in within and within["PATH"].startswith(own + ":")
    assert (within.get("TRAYS"), "bad name" in within) == ("1 2" if kind == "conda" else None, False)
    left = [{
        k: v for k, v in one.items() if k not in OWN and not k.startswith("XONSH")} for one in (noted[0], noted[2])]
    assert left[0] == left[1] and "kalyx_" not in last.lower()
    assert ("deactivate" in last) == ("deactivate" in before), "functions are as they were, too"
    assert not (world.project / "ran").exists()
    if kind == "conda":
        assert "hook.sh" in done.stderr and "not run" in done.stderr


def test_lines_of_other_shells(world: World, validate) -> None:
    """Lines of PowerShell and cmd, as they are to be; nushell's, where it is; the document; what is refused."""
    env = world.venv("lab")
    lines = {}
    for shell, mark in (("powershell", f"& '{env}/bin/Activate.ps1'"), ("pwsh", "Activate.ps1"),
                        ("csh", "setenv PATH "),
                        ("cmd", f'set "VIRTUAL_ENV={env}" & set "PATH={env}/bin'), ("nu", '$env.VIRTUAL_ENV = "')):
        document = world.answer("enter", "lab", "--shell", shell)
        validate(document)
        result = document["result"]
        assert (document["status"], result["shell"], len(result["lines"])) == ("ok", shell, 1)
        assert mark in result["lines"][0] and "\n" not in result["lines"][0] and result["leave"], result
        lines[shell] = result
    kept = read_kept(world.answer("enter", "lab", "--shell", "bash")["result"]["lines"][0].split("'")[1])
    assert kept and kept.variables["PATH"] == world.env["PATH"] and kept.variables[KEPT] is None
    nu = shutil.which("nu")
    if nu:
        script = write(world.root / "s.nu", f"{lines['nu']['lines'][0]}\nprint (which python | get 0.path)\n"
                       f"{lines['nu']['leave'][0]}\nprint $env.VIRTUAL_ENV?\n")
        done = run([nu, "-n", script], env={**world.env, "VIRTUAL_ENV": ""})
        assert done.stdout.split("\n")[0] == f"{env}/bin/python", done.stderr
    for words, status in ((("enter",), 2), (("enter", "lab", "--leave"), 2), (("enter", "nowhere"), 3),
                          (("enter", "lab", "--shell", "ed"), 2), (("enter", "--leave"), 3),
                          (("enter", str(make_venv(world.home / "a:b"))), 1)):
        done = world.kalyx(*words)
        assert (done.returncode, done.stdout) == (status, "") and done.stderr, (words, done)
    broken = world.venv("broken")
    (broken / "bin/python").unlink()
    (broken / "bin/python").symlink_to("/nowhere/python")
    done = world.kalyx("enter", "broken")
    assert (done.returncode, done.stdout) == (1, "") and "how we know" in done.stderr
    assert world.kalyx("enter", "--leave", env={KEPT: "not that"}).returncode == 3
    active = world.kalyx("enter", "--leave", "--shell", "bash", env={"VIRTUAL_ENV": str(env)})
    assert "deactivate" in active.stdout, "an environment that its own script has entered"


RC = {
    "bash": (".bashrc", 'export PATH="$HOME/other/bin:$PATH"\nMINE=yes\n'),
    "zsh": (".zshrc", 'export PATH="$HOME/other/bin:$PATH"\nMINE=yes\n'),
    "fish": (".config/fish/config.fish", "set -gx PATH $HOME/other/bin $PATH\nset MINE yes\n"),
    "tcsh": (".tcshrc", 'setenv PATH "${HOME}/other/bin:${PATH}"\nset MINE=yes\n'),
    "xonsh": (".xonshrc", "$PATH.insert(0, $HOME + '/other/bin')\n$MINE = 'yes'\n"),
}


def typed(argv: list[str], env: dict[str, str], lines: list[str], ready: bytes = b"") -> str:
    """Run a program in a terminal of its own, type lines when it is quiet, and return what it shows until its end.

    It is waited for what it shows when it is `ready`, twenty seconds at most: a busy machine starts it slowly.
    """
    pid, terminal = pty.fork()
    if pid == 0:
        os.chdir(env["HOME"])
        os.execve(argv[0], argv, env)
    shown, todo, quiet, end = b"", list(lines), time.monotonic(), time.monotonic() + 80
    while time.monotonic() < end:
        if select.select([terminal], [], [], 0.1)[0]:
            try:
                got = os.read(terminal, 65536)
            except OSError:
                break
            shown, quiet = shown + got, time.monotonic()
            if b"\x1b[6n" in got:
                os.write(terminal, b"\x1b[1;1R")
            if re.search(rb"\x1b\[0?c", got):
                os.write(terminal, b"\x1b[?1;2c")
        elif todo and time.monotonic() - quiet > 0.7 and (ready in shown or time.monotonic() > end - 60):
            os.write(terminal, todo.pop(0).encode() + b"\r")
            quiet = time.monotonic()
    os.waitpid(pid, 0)
    return shown.decode("utf-8", "replace")


@pytest.mark.parametrize("shell", first_of_each(RC, lambda s: None, 3))
def test_new_shell(shell: str, world: World) -> None:
    """It says where it is, and which line of a start-up file put another Python first; Ctrl-C is its own."""
    program, env = shell_program(shell), tool(world.venv("lab"))
    (world.home / "other/bin").mkdir(parents=True)
    (temporary := world.root / "temporary").mkdir()
    (world.home / "other/bin/python").symlink_to("/usr/bin/python3")
    write(world.home / RC[shell][0], RC[shell][1])
    (world.home / ".local/share/fish/generated_completions").mkdir(parents=True)  # else fish reads all manuals first
    shown = typed([KALYX, "enter", "lab", "--start"], {
        **world.env, "SHELL": program, "TMPDIR": str(temporary), "TERM": "xterm" if shell == "xonsh" else "dumb",
        "XONSH_HISTORY_BACKEND": "dummy", "XDG_CONFIG_HOME": str(world.home / ".config")},
        ["kxtool", "echo mine=$MINE.$HOME", "sleep 77", "\x03", "echo status-$HOME", "exit"],
        b"\x1b[6n" if shell == "xonsh" else b"brings you back")
    assert f"{RC[shell][0].split('/')[-1]}, line 1, puts another Python first, ~/other/bin/python" in shown, shown
    assert f"lab: Python {SHORT}" in shown and "~/envs/lab. exit brings you back." in shown
    assert f"{env}/bin/kxtool" in shown and f"mine=yes.{world.home}" in shown, shown
    assert f"status-{world.home}" in shown and "still at work" not in shown
    assert not list(temporary.glob("kalyx-*"))
