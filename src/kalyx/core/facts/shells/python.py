"""Which Python the command line of this shell starts: by an alias, or by PATH."""

from __future__ import annotations

from kalyx.core.facts.interpreters.path_lookup import find_on_path
from kalyx.core.facts.shells import commands
from kalyx.core.model import TrailStep

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

    from kalyx.core.facts.interpreters.examiner import Examined, Examiner
    from kalyx.core.machine.interface import Machine

__all__ = ["python_of_shell"]


def python_of_shell(machine: Machine, examiner: Examiner, folder: str,
                    names: Sequence[commands.ShellName]) -> tuple[str, Examined, TrailStep] | None:
    """Return the shell's Python: command name, what it is, the PATH step; None where it has none."""
    alias = _aliased_python(machine, examiner, folder, names)
    if alias is not None:
        return alias
    found = commands.find_python(machine)
    if found is None:
        return None
    name, place = found
    return name, examiner.examine(place.path, folder), commands.path_step(name, place)


def _aliased_python(machine: Machine, examiner: Examiner, folder: str,
                    names: Sequence[commands.ShellName]) -> tuple[str, Examined, TrailStep] | None:
    """Return what an alias of the interactive shell makes of python, when it was asked."""
    for known in names:
        if known.kind != "alias" or known.name not in commands.PYTHON_NAMES[:2]:
            continue
        word = known.text.split()[0] if known.text.split() else ""
        path = machine.absolute(word)
        if "/" not in word:
            found = find_on_path(machine, word, first_only=True)
            if not found:
                continue
            path = found[0].path
        step = TrailStep(0, f"your interactive shell has the alias {known.name}={known.text!r}",
                         None, None, path)
        return known.name, examiner.examine(path, folder), step
    return None
