"""Help, its examples, misspelt words, the manual page, completion in real shells."""

from __future__ import annotations

import os
import shlex
import subprocess
import sys
from pathlib import Path

import pytest

from kalyx.cli.commands import COMMANDS, EXAMPLES, GROUPS
from kalyx.demo import scenario
from tests.answers.test_enter import shell_program, typed
from tests.support.build import KALYX, World, run
from tests.support.thorough import first_of_each

ROOT = Path(__file__).parents[2]
# what other tests run, as it takes long or needs a terminal
ELSEWHERE = ("kalyx weigh --envs",
             "kalyx make trials --put germkit --put sprigkernel --enrol", "kalyx enter lab --start")


def test_help_lists_all_in_their_groups(world: World) -> None:
    """Each command stands in one group; the help loads none of them; each command's own ends with its examples."""
    assert sorted(name for names in GROUPS.values() for name in names) == sorted(COMMANDS) == sorted(EXAMPLES)
    shown = world.kalyx("--help", env={"COLUMNS": "80"})
    assert shown.returncode == 0 and max(map(len, shown.stdout.splitlines())) <= 80
    places = [shown.stdout.index(f"\n{group}:") for group in GROUPS]
    assert places == sorted(places) and all(f"\n  {name} " in shown.stdout for name in COMMANDS)
    loaded = run([sys.executable, "-X", "importtime", "-m", "kalyx", "--help"], env=world.env).stderr
    assert "kalyx.cli.main" in loaded and "kalyx.cli.why" not in loaded and "kalyx.core.answers" not in loaded
    for name in COMMANDS:
        text = world.kalyx(name, "--help", env={"COLUMNS": "100"}).stdout
        assert all(f"  {line}" in text.partition("\nexamples:\n")[2] for line, _ in EXAMPLES[name]), name
        assert 2 <= len(EXAMPLES[name]) <= 4


@pytest.mark.thorough
def test_examples_run_on_the_demo(tmp_path: Path) -> None:
    """Each example does what it says there: no usage error, nothing that could not be found out."""
    made = scenario.build(str(tmp_path / "demo"))
    env = {**made.env, "PATH": f"{made.env['PATH']}:{os.path.dirname(KALYX)}"}
    for name in COMMANDS:
        for line, _ in EXAMPLES[name]:
            if name == "demo" or line in ELSEWHERE:
                continue
            done = subprocess.run(["sh", "-c", line], cwd=made.project, env=env, capture_output=True, text=True,
                                  stdin=subprocess.DEVNULL, timeout=120, check=False)
            assert done.returncode in (0, 1), (line, done)
            assert done.stdout and "mistake" not in done.stderr, line


@pytest.mark.quick
@pytest.mark.parametrize(("line", "says", "hint"), [
    ("wyh pandas", "no command 'wyh'", "Did you mean kalyx why?"),
    ("pack", "no command", "Did you mean kalyx packages?"),
    ("frobnicate", "no command", "kalyx --help"),
    ("why --tiemout=3 x", "no option --tiemout", "Did you mean --timeout?"),
    ("--jsno here", "no option --jsno", "Did you mean --json?"),
    ("point lab --flie x", "--flie", "Did you mean --file?"),
    ("here a b", "no further word: b", "kalyx here --help"),
    ("enrol lab --for mee", "'mee' is none of", "Did you mean me?"),
    ("--color sometimes here", "'sometimes' is none of", "--help"),
    ("why --zzzz x", "no option --zzzz", "kalyx why --help"),
])
def test_misspelt(line: str, says: str, hint: str, world: World) -> None:
    """What is near is named, for commands, options and their words; the document says the same."""
    done = world.kalyx(*shlex.split(line))
    assert (done.returncode, done.stdout) == (2, "") and says in done.stderr and hint in done.stderr, done.stderr
    document = world.answer(*shlex.split(line), "--json")
    assert (document["status"], document["exit"]) == ("error", 2) and says in document["result"]["message"]


def test_manual_page_is_the_parsers() -> None:
    """docs/kalyx.1 is what tools/manpage.py writes, and groff has nothing to say against it."""
    done = run([sys.executable, ROOT / "tools" / "manpage.py", "--check"])
    assert done.returncode == 0, f"run tools/manpage.py: {done.stderr}"
    text = (ROOT / "docs" / "kalyx.1").read_text()
    assert all(f"kalyx {name}" in text for name in COMMANDS)


def completed(shell: str, line: str, env: dict[str, str], folder: str) -> list[str]:
    """Return what a shell offers for a line."""
    program = shell_program(shell)
    if shell == "fish":
        done = run([program, "--no-config", "-c", f"kalyx --completion fish | source; complete -C {shlex.quote(line)}"],
                   env=env, cwd=folder)
        return [row.split("\t")[0] for row in done.stdout.splitlines()]
    if shell == "bash":
        script = (f'eval "$(kalyx --completion bash)"; COMP_LINE={shlex.quote(line)}; COMP_POINT=${{#COMP_LINE}}; '
                  'read -ra COMP_WORDS <<< "$COMP_LINE"; [ "${COMP_LINE: -1}" = " " ] && COMP_WORDS+=(""); '
                  'COMP_CWORD=$((${#COMP_WORDS[@]}-1)); COMP_TYPE=9; '
                  '_python_argcomplete kalyx "${COMP_WORDS[-1]}" "${COMP_WORDS[-2]}"; printf "%s\\n" "${COMPREPLY[@]}"')
        return [row.strip() for row in run([program, "-c", script], env=env, cwd=folder).stdout.splitlines()]
    start = Path(env["HOME"]) / ".zshrc"
    start.write_text('autoload -Uz compinit; compinit -u\n'
                     f'eval "$(kalyx --completion zsh)"\ncd {shlex.quote(folder)}\n')
    shown = typed([program, "-i"], {**env, "TERM": "dumb"}, [f"{line}\t\x01print -l typed-: ", "exit"])
    return shown.rpartition("typed-:\r\n")[2].split()


@pytest.mark.parametrize("shell", first_of_each(["bash", "zsh", "fish"], lambda s: None, 2))
def test_completion_in_real_shells(shell: str, tmp_path: Path) -> None:
    """Commands, options, kernels, environments, causes, notebooks and modules, as this machine has them."""
    made = scenario.build(str(tmp_path / "demo"))
    env = {**made.env, "PATH": f"{made.env['PATH']}:{os.path.dirname(KALYX)}"}
    for line, wanted in (("kalyx enro", "enrol"), ("kalyx why --no", "--no-run"), ("kalyx retire gre", "greenhouse"),
                         ("kalyx point lab-", "lab-old"), ("kalyx why --explain hidden-by-p", "hidden-by-path"),
                         ("kalyx fit germi", "germination.ipynb"), ("kalyx why sporeco", "sporecount")):
        found = completed(shell, line, env, str(made.project))
        assert any(word.startswith(wanted) for word in found), (line, found)
    if shell == "bash":
        assert {"env:lab", "env:lab-old"} <= {w if ":" in w else f"env:{w}" for w in completed(
            shell, "kalyx weigh --at env:la", env, str(made.project))}
