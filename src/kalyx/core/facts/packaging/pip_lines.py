"""The command lines of pip: which pip serves which Python, and how what is asked of it is written.

pip's own pages on ``pip install`` and ``pip uninstall`` say what each option means; ``--python`` is
there since 22.3.
"""

from __future__ import annotations

import re

from kalyx.core.facts.packaging.module_runs import run_module
from kalyx.core.lean.record import record
from kalyx.core.model import version_pair

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable
    from typing import Literal

    Over = Literal["", "replaced", "left"]

__all__ = ["Over", "Pip", "can_serve", "isolated_pip", "lent_pip", "own_pip"]

OLDEST_LENT = (22, 3)  # the version from which one pip serves other interpreters
OLDEST_FOR_312 = (23, 1, 2)  # those before it import what Python 3.12 took out


@record
class Pip:
    """pip as it serves one interpreter: ``start`` is its command line up to the command."""

    start: tuple[str, ...]

    def install(self, *what: str, upgrade: bool = False, over: Over = "", alone: bool = False,
                from_source: str = "", file: str = "", linked: bool = False, into: str = "") -> tuple[str, ...]:
        """Return the line that installs requirements, a folder, or what a file lists.

        What is there already stays where it fits; it is `over` ``replaced``, or ``left`` in its place
        where its files are not known. `alone`: without what it requires. `from_source` names what is
        built, no wheel taken. `linked`: editable (PEP 660). `into` is a folder by itself, what is there replaced.
        """
        options = [*(["--target", into, "--upgrade"] if into else ["--upgrade"] if upgrade else ()),
                   *({"replaced": ["--force-reinstall"], "left": ["--ignore-installed"]}.get(over, ())),
                   *(["--no-deps"] if alone else ()), *(["--no-binary", from_source] if from_source else ()),
                   *(["-r", file] if file else ()), *(["-e"] if linked else ())]
        return (*self.start, "install", *options, *what)

    def plan(self, what: Iterable[str]) -> tuple[str, ...]:
        """Return the line that reports as JSON what would be installed, and installs nothing (since 22.2)."""
        return (*self.start, "install", "--dry-run", "--quiet", "--report", "-", *what)

    def uninstall(self, *names: str) -> tuple[str, ...]:
        """Return the line that takes out distributions, without asking."""
        return (*self.start, "uninstall", "-y", *names)


def own_pip(python: str, flags: Iterable[str] = ()) -> Pip:
    """Return an interpreter's own pip, as a person runs it."""
    return Pip((python, *flags, "-m", "pip"))


def isolated_pip(python: str) -> Pip:
    """Return an interpreter's own pip, as Kalyx runs it: nothing of the working folder is run."""
    return Pip(run_module(python, "pip"))


def lent_pip(lender: Pip, python: str) -> Pip:
    """Return another interpreter's pip that installs for `python`."""
    return Pip((*lender.start, "--python", python))


def can_serve(version: str, requires_python: str, python: str) -> bool:
    """Whether a pip of that version, which says for which Pythons it is, serves an interpreter of version `python`.

    It is run by that interpreter, so that it has to be for its version too.
    """
    from kalyx.core.facts.packaging.requirements import suits

    match = re.match(r"(\d{1,4})\.(\d{1,4})(?:\.(\d{1,4}))?", version)
    numbers = tuple(int(n or 0) for n in match.groups()) if match else (0,)
    oldest = OLDEST_FOR_312 if version_pair(python) >= (3, 12) else OLDEST_LENT
    return numbers >= oldest and version_pair(python) > (0, 0) and suits(requires_python, python)
