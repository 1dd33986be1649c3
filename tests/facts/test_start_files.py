"""What the start files of shells and their aliases make of ``python``: read as text, and asked of real shells."""

from __future__ import annotations

import shutil

import pytest

from kalyx.core.facts.shells.commands import ask_shell
from kalyx.core.facts.shells.start_files import read_at_start, who_puts_first
from kalyx.core.machine.local import RealMachine
from tests.support.build import World, python_of, write
from tests.support.made_up import MadeUpMachine

LAB = "/home/ada/envs/lab/bin"
# shell, its files, what was found as python, and the file and the line that have it found (None: no line does)
LINES = [
    ("bash", {"~/.bashrc": f"# {LAB}\n\nexport PATH={LAB}:$PATH\n"}, f"{LAB}/python", ("~/.bashrc", 3)),
    ("bash", {"~/.bashrc": "PATH=~/envs/lab/bin:$PATH\n"}, f"{LAB}/python", ("~/.bashrc", 1)),
    ("bash", {"~/.bashrc": 'PATH="$HOME/envs/lab/bin:$PATH"\n'}, f"{LAB}/python", ("~/.bashrc", 1)),
    ("bash", {"~/.bashrc": "PATH=${HOME}/envs/lab/bin:$PATH\n"}, f"{LAB}/python", ("~/.bashrc", 1)),
    ("bash", {"~/.bashrc": ". ~/envs/lab/bin/activate\n"}, f"{LAB}/python", ("~/.bashrc", 1)),
    ("bash", {"~/.bashrc": "x=1\n. /home/ada/envs/lab/activate_it\n"}, f"{LAB}/python", ("~/.bashrc", 2)),
    ("bash", {"~/.bashrc": f"PATH={LAB}-old:$PATH\n"}, f"{LAB}/python", None),
    ("bash", {"/etc/bash.bashrc": f"PATH={LAB}:$PATH\n", "~/.bashrc": f"PATH={LAB}:$PATH # again\n"},
     f"{LAB}/python", ("~/.bashrc", 1)),
    ("bash", {"~/.bash_aliases": "alias ls=x\nalias python=python3\n"}, "alias python=python3",
     ("~/.bash_aliases", 2)),
    ("bash", {"~/.bashrc": "alias pythonic=x\n"}, "alias python=python3", None),
    ("zsh", {"/z/.zshrc": f"path=({LAB} $path)\n"}, f"{LAB}/python", ("/z/.zshrc", 1)),
    ("zsh", {"~/.zshrc": f"path=({LAB} $path)\n"}, f"{LAB}/python", None),
    ("fish", {"~/.config/fish/conf.d/own.fish": f"fish_add_path {LAB}\n", "~/.config/fish/conf.d/own.txt": LAB},
     f"{LAB}/python", ("~/.config/fish/conf.d/own.fish", 1)),
    ("fish", {"~/.config/fish/config.fish": "function python\n"}, "a function", ("~/.config/fish/config.fish", 1)),
    ("tcsh", {"~/.tcshrc": f"setenv PATH {LAB}:$PATH\n"}, f"{LAB}/python", ("~/.tcshrc", 1)),
    ("sh", {"/env/file": f"PATH={LAB}:$PATH\n"}, f"{LAB}/python", ("/env/file", 1)),
    ("xonsh", {"~/.xonshrc": f"$PATH.insert(0, '{LAB}')\n"}, f"{LAB}/python", ("~/.xonshrc", 1)),
    ("nu", {"~/.config/nushell/config.nu": f"$env.PATH = [{LAB}]\n"}, f"{LAB}/python",
     ("~/.config/nushell/config.nu", 1)),
    ("elvish", {"~/.bashrc": f"PATH={LAB}:$PATH\n"}, f"{LAB}/python", None),
]


@pytest.mark.parametrize(("shell", "files", "found", "where"), LINES)
def test_line_that_comes_last(shell: str, files: dict[str, str], found: str, where: tuple[str, int] | None) -> None:
    """The last line that names the folder, or its activation, in any spelling; no comment, and no longer name."""
    whole = {path.replace("~", "/home/ada"): text for path, text in files.items()}
    machine = MadeUpMachine("linux", whole, env={"ENV": "/env/file", "ZDOTDIR": "/z"})
    evidence = who_puts_first(machine, shell, found)
    expected = None if where is None else (where[0].replace("~", "/home/ada"), where[1])
    assert (None if evidence is None else (evidence.path, evidence.line)) == expected


def test_files_that_no_variable_names() -> None:
    """Without ZDOTDIR it is the home folder; without ENV the shell reads nothing."""
    machine = MadeUpMachine("linux", {})
    assert "/home/ada/.zshrc" in read_at_start(machine, "zsh") and read_at_start(machine, "sh") == []


@pytest.mark.parametrize("shell", ["bash", "zsh"])
def test_asked_of_a_real_shell(shell: str, world: World) -> None:
    """Its aliases and functions are told, and the alias is what `here` follows; a shell that is none is named."""
    program = shutil.which(shell)
    if program is None:
        pytest.skip(f"{shell} is not installed here")
    lab = world.venv("lab")
    write(world.home / f".{shell}rc", f"alias python='{python_of(lab)} -u'\npip() {{ echo mine; }}\n")
    world.env |= {"SHELL": program, "ZDOTDIR": str(world.home)}
    names, trouble = ask_shell(RealMachine(world.env, str(world.project)), 20.0)
    assert trouble == "" and {(n.name, n.kind) for n in names} == {("python", "alias"), ("pip", "function")}
    seat = world.answer("here", "--ask-shell")["result"]["seats"][0]
    assert seat["interpreter"]["prefix"] == str(lab)
    for odd in ("/bin/false", f"{world.project}/sh"):
        names, trouble = ask_shell(RealMachine({**world.env, "SHELL": odd}, str(world.project)), 20.0)
        assert names == [] and trouble
