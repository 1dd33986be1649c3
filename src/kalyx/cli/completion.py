"""Completion of commands, options, seats, environments, kernels, causes and modules, as this machine has them."""

from __future__ import annotations

import os
import sys

TYPE_CHECKING = False
if TYPE_CHECKING:
    import argparse
    from collections.abc import Callable, Iterable

    from kalyx.core.facts.seats.context import SeatContext

__all__ = ["SHELLS", "attach", "complete", "is_asked_for", "shell_code"]

SHELLS = ("bash", "zsh", "fish")
KINDS = ("shell", "editor:", "kernel:", "notebook:", "script:", "process:", "python:", "env:")


def is_asked_for() -> bool:
    """Whether a shell asks for completions, and runs nothing."""
    return "_ARGCOMPLETE" in os.environ


def shell_code(shell: str) -> str:
    """Return the lines that a shell reads to complete ``kalyx``."""
    from argcomplete.shell_integration import shellcode

    return str(shellcode(["kalyx"], shell=shell))


def complete(parser: argparse.ArgumentParser) -> None:
    """Answer the shell, and end the process."""
    import argcomplete

    argcomplete.autocomplete(parser, always_complete_options=False)


def attach(parser: argparse.ArgumentParser) -> None:
    """Say of each argument of a command what it can be, by the word that its help has for it."""
    for action in parser._actions:  # argparse has no other way to them
        known = _KNOWN.get(str(action.metavar or ""))
        if known is not None and not action.choices:
            action.completer = known  # type: ignore[attr-defined]


def _context() -> SeatContext:
    from kalyx.cli.common import PROBE_FOLDER
    from kalyx.core.facts.seats.context import SeatContext
    from kalyx.core.machine.local import RealMachine

    machine = RealMachine()
    return SeatContext(machine, machine.cwd, PROBE_FOLDER, 2.0, asks_when_read=False)


def _environments(prefix: str = "", **_: object) -> list[str]:
    context = _context()
    names = [e.name for e in context.environments()]
    known = [e.name if names.count(e.name) == 1 else e.path for e in context.environments()]
    return known + _files(prefix, folders=True)


def _kernels(**_: object) -> list[str]:
    return [k.name for k in _context().kernels()]


def _seats(prefix: str = "", **_: object) -> list[str]:
    kind, colon, rest = prefix.partition(":")
    if colon and kind in ("notebook", "script", "editor", "python"):
        ends = {"notebook": ".ipynb", "script": ".py"}.get(kind, "")
        return [f"{kind}:{name}" for name in _files(rest, ends)]
    if colon and kind in ("kernel", "env"):
        return [f"{kind}:{one}" for one in (_kernels() if kind == "kernel" else _environments(rest))]
    return [*KINDS, *_environments(prefix), *_files(prefix, ".ipynb"), *_files(prefix, ".py")]


def _causes(**_: object) -> list[str]:
    from kalyx.core.verdicts.index import BRIEFS

    return sorted(BRIEFS)


def _modules(prefix: str = "", **_: object) -> list[str]:
    """Return the modules that this shell's Python can import, as its folders say; and files of code."""
    from kalyx.core.facts.search_path.site_folders import visible_sites

    context = _context()
    python, found = context.shell_python(), set(sys.stdlib_module_names)
    for folder in visible_sites(context.machine, python[1].interpreter) if python is not None else ():
        for entry in context.machine.entries(folder):
            stem, _dot, ending = entry.partition(".")
            if stem.isidentifier() and (not ending or ending in ("py", "so", "pyd") or ending.endswith(".so")):
                found.add(stem)
    hidden = {n for n in found if n.startswith("_") and not prefix.startswith("_")}
    return sorted(found - hidden) + _files(prefix, ".py") + _files(prefix, ".ipynb")


def _files(prefix: str, ending: str = "", *, folders: bool = False) -> list[str]:
    """Return the files that begin as a word does, and the folders on the way to others."""
    folder, _, begun = prefix.rpartition("/")
    above = f"{folder}/" if folder or prefix.startswith("/") else ""
    found = []
    try:
        with os.scandir(os.path.expanduser(above or ".")) as entries:
            for entry in entries:
                if entry.name.startswith(begun) and (begun or not entry.name.startswith(".")):
                    if entry.is_dir():
                        found.append(f"{above}{entry.name}/")
                    elif not folders and entry.name.endswith(ending):
                        found.append(above + entry.name)
    except OSError:
        pass
    return sorted(found)


def _any_file(prefix: str = "", **_: object) -> list[str]:
    return _files(prefix)


def _folder(prefix: str = "", **_: object) -> list[str]:
    return _files(prefix, folders=True)


def _one_of(*words: str) -> Callable[..., Iterable[str]]:
    return lambda **_: words


_KNOWN: dict[str, Callable[..., Iterable[str]]] = {
    "SEAT": _seats, "ENV": _environments, "A": _seats, "B": _seats, "KERNEL": _kernels, "CAUSE": _causes,
    "MODULE": _modules, "WHAT": _modules, "FILE": _any_file, "PATH": _any_file, "FOLDER": _folder, "ENVDIR": _folder,
    "ENV|FILE": _environments, "VERSION|PATH": _any_file,
    "NAME": _one_of("bash", "zsh", "fish", "csh", "tcsh", "powershell", "cmd", "nu", "xonsh", "sh"),
}
