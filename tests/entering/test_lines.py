"""The lines that enter and leave an environment, carried out as each shell's rules say, also where it is not here."""

from __future__ import annotations

import ast
import json
import re
import shlex
from collections.abc import Callable, Mapping

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from kalyx.core.entering.lines import lines_to_enter, lines_to_leave, variables_of
from kalyx.core.entering.new_shell import new_shell
from kalyx.core.entering.shells import SHELLS, family_of, plain_name
from kalyx.core.entering.variables import KEPT, Kept, read_kept, write_kept
from kalyx.core.errors import NothingToJudge, Refused
from kalyx.core.model import Environment
from tests.support.made_up import MadeUpMachine

Variables = dict[str, str]


# -- what each shell does with its line ------------------------------------------------------------
def powershell(line: str, env: Variables) -> None:
    """Carry out a line of PowerShell: texts in single quotes, in which a quote stands twice."""
    text = r"'((?:[^'\u2018\u2019\u201a\u201b]|''|\u2018\u2018|\u2019\u2019|\u201a\u201a|\u201b\u201b)*)'"
    rule = re.compile(rf"\$env:(\w+) = {text}|Remove-Item Env:(\w+) -ErrorAction SilentlyContinue|& {text}|"
                      r"if \(Test-Path Function:deactivate\) \{ deactivate \}", re.DOTALL)
    for match in statements(rule, line, "; "):
        if match[1]:
            env[match[1]] = re.sub(r"(['\u2018\u2019\u201a\u201b])\1", r"\1", match[2])
        elif match[3]:
            env.pop(match[3], None)
        elif match[4]:
            env["VIRTUAL_ENV"] = "by " + match[4].replace("''", "'")


def cmd(line: str, env: Variables) -> None:
    """Carry out a line of cmd: what stands in quotes is taken as it is, but for what is between percent signs."""
    for match in statements(re.compile(r'set "(\w+)=([^"%]*)"|call ("?)([^"]+?)\3(?= & |$)'), line, " & "):
        if match[4]:
            env["VIRTUAL_ENV"] = "by " + match[4]
        elif match[2]:
            env[match[1]] = match[2]
        else:
            env.pop(match[1], None)


def nushell(line: str, env: Variables) -> None:
    """Carry out a line of nushell: texts in double quotes, with the escapes of JSON."""
    for match in statements(re.compile(r'\$env\.(\w+) = ("(?:[^"\\]|\\.)*")|hide-env -i (\w+)', re.DOTALL), line, "; "):
        if match[3]:
            env.pop(match[3], None)
        else:
            env[match[1]] = json.loads(match[2], strict=False)


def xonsh(line: str, env: Variables) -> None:
    """Carry out a line of xonsh, whose language has that of Python in it."""
    exec(line.replace("${...}", "env"), {"env": env})


def csh(line: str, env: Variables) -> None:
    """Carry out a line of csh: single quotes, in which an exclamation mark and the end of a line need a backslash."""
    words = shlex.split(line.replace("'\\!'", "!").replace("\\\n", "\n").replace("; ", " ; "), posix=True)
    while words:
        end = words.index(";") if ";" in words else len(words)
        one, words = words[:end], words[end + 1:]
        if one[0] == "setenv":
            env[one[1]] = one[2]
        elif one[0] == "unsetenv":
            env.pop(one[1], None)
        else:
            assert one == ["rehash"], one


def statements(rule: re.Pattern[str], line: str, between: str) -> list[re.Match[str]]:
    """Return the statements of a line, each of which follows a rule to the letter."""
    found, at = [], 0
    while at < len(line):
        match = rule.match(line, at)
        assert match is not None, line[at:]
        found.append(match)
        at = match.end()
        if at < len(line):
            assert line.startswith(between, at), line[at:]
            at += len(between)
    return found


RUNS: Mapping[str, Callable[[str, Variables], None]] = {
    "powershell": powershell, "cmd": cmd, "nu": nushell, "xonsh": xonsh, "csh": csh}


def machine_with(platform: str, prefix: str, *files: str) -> MadeUpMachine:
    """Return a machine with an environment and some files in it, without its activation scripts' texts."""
    sep = "\\" if platform == "win32" else "/"
    return MadeUpMachine(platform, {f"{prefix}{sep}pyvenv.cfg": "", **{f"{prefix}{sep}{f}": prefix for f in files}})


VALUES = st.text(st.characters(exclude_categories=("Cs", "Cc")), min_size=1, max_size=12)
BEFORE = st.dictionaries(st.sampled_from(("PYTHONHOME", "VIRTUAL_ENV_PROMPT", "PS1", "OTHER", "CONDA_SHLVL")), VALUES,
                         max_size=4)


@pytest.mark.parametrize("name", RUNS)
@settings(max_examples=60, deadline=None, derandomize=True)
@given(before=BEFORE, folder=VALUES.map(lambda v: v.replace("/", "_").replace("\\", "_").strip(". ") or "x"),
       kind=st.sampled_from(("venv", "conda", "base")), windows=st.booleans())
def test_entered_and_left(name: str, before: Variables, folder: str, kind: str, windows: bool) -> None:
    """By a line of a shell its variables are those that entering means; by the other they are what they were.

    Also one inside another, whatever is in the names; what the shell has no way to write is refused, and nothing done.
    """
    shell, platform = SHELLS[name], "win32" if windows and name not in ("csh", "xonsh") else "linux"
    top = "C:\\envs\\" if platform == "win32" else "/envs/"
    before = {**before, "PATH": f"{top}tools"}
    if name == "cmd":  # its percent signs and quotes have no other way to be written: no value there has them
        before = {k: re.sub('[%"]', "_", v) for k, v in before.items()}
    now = dict(before)
    steps: list[tuple[str, Variables]] = []
    for prefix in (f"{top}{folder}", f"{top}inner"):
        machine, environment = machine_with(platform, prefix), Environment(prefix, prefix[len(top):], kind)
        try:
            lines = lines_to_enter(machine, environment, shell, now)
        except Refused:
            assert any(c in folder for c in ':;%"$\n')
            return
        was, wanted = dict(now), variables_of(machine, environment, now, lines.script)
        RUNS[name](lines.line, now)
        assert {k: now.get(k) for k in wanted} == wanted
        assert {k: v for k, v in now.items() if k not in wanted} == {k: v for k, v in was.items() if k not in wanted}
        assert lines.leave == lines_to_leave(shell, now)
        steps.append((lines.leave, was))
    for leave, was in reversed(steps):
        RUNS[name](leave, now)
        assert now == was


@pytest.mark.parametrize(("name", "script", "folder"), [
    ("powershell", "Scripts\\Activate.ps1", "C:\\my lab"), ("cmd", "Scripts\\activate.bat", "C:\\my lab"),
    ("bash", "bin/activate", "/my lab"), ("fish", "bin/activate.fish", "/lab"), ("csh", "", "/lab"),
    ("nu", "", "/lab"), ("xonsh", "", "/lab"), ("sh", "", "/lab")])
def test_whose_script_is_read(name: str, script: str, folder: str) -> None:
    """An environment's own script is read where it is for this place and nothing is active; else variables are set."""
    platform = "win32" if folder[1] == ":" else "linux"
    path = f"{folder}{chr(92) if platform == 'win32' else '/'}{script}" if script else None
    here, shell = Environment(folder, "lab", "venv"), SHELLS[name]
    machine = machine_with(platform, folder, *([script] if script else []))
    assert lines_to_enter(machine, here, shell, {"PATH": "p"}).script == path
    for active in ("VIRTUAL_ENV", "CONDA_PREFIX", KEPT):
        assert lines_to_enter(machine, here, shell, {"PATH": "p", active: "x"}).script is None
    assert lines_to_enter(machine, Environment(folder, "lab", "conda"), shell, {}).script is None
    if script and name != "powershell":  # its script finds out where it lies
        moved = MadeUpMachine(platform, {str(path): "VIRTUAL_ENV=/was/elsewhere"})
        assert lines_to_enter(moved, here, shell, {}).script is None
    if name in ("powershell", "cmd"):
        now: Variables = {"PATH": "p"}
        RUNS[name](lines_to_enter(machine, here, shell, now).line, now)
        assert now["VIRTUAL_ENV"] == f"by {path}"


@pytest.mark.parametrize(("said", "means"), [
    ("bash", "bash"), ("/bin/zsh", "bash"), ("-zsh", "bash"), ("ksh", "bash"), ("/usr/bin/dash", "sh"),
    ("busybox", "sh"), ("C:\\Windows\\System32\\cmd.exe", "cmd"), ("pwsh.exe", "powershell"),
    ("PowerShell.EXE", "powershell"), ("tcsh", "csh"), ("nushell", "nu"), ("xonsh", "xonsh"), ("ed", None), ("", None)])
def test_names_of_shells(said: str, means: str | None) -> None:
    """A shell is known by its name and by the path of its program, in the spelling of each system."""
    found = family_of(said)
    assert (found.name if found else None) == means


NOT_KEPT = ["", "not that", "e30=", "\u00e9", write_kept(Kept({"A": "1"}, 0, False, "/x"))[:-9],
            write_kept(Kept({"A B": "1"}, 0, False, "/x")), write_kept(Kept({"A": 5}, 0, False, "/x")),  # type: ignore
            write_kept(Kept({"A": "1"}, "x", False, "/x")), write_kept(Kept({}, 0, False, 7))]  # type: ignore[arg-type]


@pytest.mark.parametrize("text", NOT_KEPT)
def test_what_was_there_before_is_not_guessed(text: str) -> None:
    """A variable that does not say what was there is no reason to set anything."""
    assert read_kept(text) is None
    with pytest.raises(NothingToJudge):
        lines_to_leave(SHELLS["bash"], {KEPT: text})


@settings(deadline=None, derandomize=True)
@given(variables=st.dictionaries(st.sampled_from(("A", "PATH", "_x9")), st.none() | st.text()), depth=st.integers(0, 9),
       script=st.booleans(), folder=st.text())
def test_what_was_there_before_is_kept(variables: dict[str, str | None], depth: int, script: bool, folder: str) -> None:
    """Any values come back, and what holds them is the same word in every shell."""
    text = write_kept(Kept(variables, depth, script, folder))
    assert read_kept(text) == Kept(variables, depth, script, folder)
    assert re.fullmatch(r"[\w=-]+", text, re.ASCII)


CHECK = ("/opt/it's kalyx", "enter", "/lab", "--found")
STARTS = {
    "/bin/bash": (["--rcfile", "DIR/bashrc", "-i"], {"bashrc": ". ~/.bashrc"}, {}),
    "/bin/zsh": (["-i"], {".zshenv": "$HOME/.zshenv", ".zshrc": "unset ZDOTDIR"}, {"ZDOTDIR": "DIR"}),
    "/bin/dash": (["-i"], {"shrc": "PATH='/lab/bin':$PATH"}, {"ENV": "DIR/shrc"}),
    "/bin/ksh": (["-i"], {"shrc": "PATH='/lab/bin':$PATH"}, {"ENV": "DIR/shrc"}),
    "/bin/tcsh": (["-i"], {".tcshrc": "setenv PATH /lab/bin", ".cshrc": "rehash"}, {"HOME": "DIR"}),
    "/bin/fish": (["-i", "-C"], {}, {}),
    "/bin/xonsh": (["-i", "--rc", "own", "DIR/rc.xsh"], {"rc.xsh": "$PATH.insert(0, '/lab/bin')"}, {}),
    "/bin/nu": (["-e"], {}, {}),
    "pwsh": (["-NoExit", "-Command"], {}, {}),
    "C:\\Windows\\cmd.exe": (["/k", "DIR\\start.bat"], {"start.bat": 'set "PATH=%KALYX_FIRST%;%PATH%"'},
                             {"KALYX_FIRST": "/lab/bin"}),
    "/bin/other": ([], {}, {}),
}


@pytest.mark.parametrize("program", STARTS)
def test_how_a_new_shell_is_started(program: str) -> None:
    """Its start-up files are read, then the environment's programs come first, and it is said what did before."""
    arguments, files, env = STARTS[program]
    started = new_shell(program, "DIR", "/lab/bin", "lab", CHECK, {"HOME": "/home/ada", "ENV": "~/.shrc"}, ["own"])
    assert started.argv[0] == program and list(started.argv[1:1 + len(arguments)]) == arguments
    assert all(text in started.files[name] for name, text in files.items()) and set(files) == set(started.files)
    assert env.items() <= started.env.items()
    said = "\n".join([*started.argv, *started.files.values(), *started.env.values()])
    assert ("enter" in said and "--found" in said and "/lab/bin" in said) == (program != "/bin/other")
    if plain_name(program) in ("bash", "zsh", "dash", "ksh"):
        line = next(row for row in said.split("\n") if "--found" in row)
        assert "/opt/it's kalyx" in shlex.split(line.replace(";", " ; ")), "the check is called by its whole path"
    if program == "/bin/xonsh":
        body = next(row for row in said.split("\n") if row.startswith("_r.run("))
        assert ast.literal_eval(body[len("_r.run("):].rpartition(", str(")[0] + "]") == list(CHECK)
    if program.endswith("cmd.exe"):
        assert said.count("%KALYX_FOUND%") == 1 and started.files["start.bat"].isascii()
        assert all(row[:1] == "@" for row in started.files["start.bat"].split("\r\n") if row)


def test_own_files_are_read_where_they_are_named() -> None:
    """What ENV and ZDOTDIR name is read as before, also with blanks in it."""
    assert ". '/my files/rc'" in new_shell("/bin/dash", "D", "/b", "l", CHECK, {"ENV": "/my files/rc"}).files["shrc"]
    files = new_shell("/bin/zsh", "D", "/b", "l", CHECK, {"ZDOTDIR": "/z z"}).files
    assert '. "/z z/.zshenv"' in files[".zshenv"] and 'export ZDOTDIR="/z z"' in files[".zshrc"]
