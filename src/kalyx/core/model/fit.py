"""What code needs, and how far an environment has it."""

from __future__ import annotations

from kalyx.core.lean.record import record

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable

    from kalyx.core.model.imports import Place
    from kalyx.core.model.python import Environment, Interpreter

__all__ = ["Alternative", "AskedLine", "FitOfEnvironment", "Lack", "Need", "NeededPart", "PythonWanted", "Reached"]


@record
class NeededPart:
    """A part of a distribution that code imports (``flask.Markup``): the versions that have it (PEP 440), and where."""

    name: str
    specifier: str
    place: Place


@record
class Alternative:
    """What another import stands in for: a module, and what has the name that is wanted of it.

    ``python`` are the versions of Python that have it in their standard library, ``requirement`` those of its
    distribution (PEP 440); empty where all have it, as far as is known.
    """

    module: str
    python: str = ""
    requirement: str = ""


@record
class Reached:
    """What decides whether a line that imports something runs: whether all of some others are there, or a marker."""

    others: tuple[Alternative, ...] = ()
    when_there: bool = True  # False: it runs where one of them is not, as it stands in for them
    marker: str = ""  # of the Pythons and systems on which it does (PEP 508)


@record
class AskedLine:
    """What one line of a project asks for of a distribution; a marker says where alone that counts (PEP 508)."""

    place: Place
    specifier: str = ""
    extras: tuple[str, ...] = ()
    url: str = ""
    marker: str = ""
    is_optional: bool = False  # of an extra, or of a group: of such lines mostly one is chosen


@record
class Need:
    """A module that code imports, or a distribution that the project asks for.

    ``module`` is null for what is asked for and not imported, ``distribution`` for what the standard library brings
    or nothing tells. ``only_where`` is by what each line that needs it is reached, all of which have to hold; it is
    empty where a line is reached in any case.
    ``extras`` are what it is wanted with (PEP 508). ``lines`` are the project's that ask for it; which of them count,
    and so versions, extras and place, depends on the environment.
    """

    module: str | None
    distribution: str | None
    specifier: str = ""
    asked_by: tuple[Place, ...] = ()
    optional: bool = False
    only_where: tuple[tuple[Reached, ...], ...] = ()
    is_standard: bool = False
    is_guessed: bool = False  # its distribution is only thought to be called like the module
    extras: tuple[str, ...] = ()
    by_conda: bool = False  # a package of conda's that no code imports: it may be no Python at all
    url: str = ""  # where alone it is from: what an index has under its name may be somebody else's
    parts: tuple[NeededPart, ...] = ()  # of which it is known in which versions they are
    modules: tuple[tuple[str, Place], ...] = ()  # inside it that code imports (``a.b``), each with where
    is_at_odds: bool = False  # no version has all the parts, and is one that the project asks for, in all its lines
    lines: tuple[AskedLine, ...] = ()

    def is_spared(self, is_there: Callable[[Alternative], bool]) -> bool:
        """Whether no line that needs it is reached, given which of the others are there."""
        return bool(self.only_where) and all(any(
            one.others and all(map(is_there, one.others)) != one.when_there for one in line)
            for line in self.only_where)

    @property
    def requirement(self) -> str:
        """What is to be installed, without its marker; empty where nothing tells that."""
        with_extras = f"[{','.join(self.extras)}]" if self.extras else ""
        where = f" @ {self.url}" if self.url else self.specifier
        return f"{self.distribution}{with_extras}{where}" if self.distribution else ""


@record
class PythonWanted:
    """The versions of Python that can run it (PEP 440), and why."""

    specifier: str
    because: str


@record
class Lack:
    """A need that an environment does not meet: what is wanted, what is found there, and the reason."""

    module: str | None
    distribution: str | None
    wanted: str
    found: str | None
    because: str


@record
class FitOfEnvironment:
    """How far an environment has what is needed; ``proven`` is null where nothing was imported there."""

    environment: Environment
    interpreter: Interpreter | None
    kernels: tuple[str, ...]
    used_here: tuple[str, ...]
    python_fits: bool
    lacks: tuple[Lack, ...]
    proven: bool | None = None
    breaks: tuple[str, ...] = ()
    needs: tuple[Need, ...] = ()  # what counts there: markers hold in one environment, and not in another
    spared: tuple[str, ...] = ()  # modules of these that no line asks for there, as what they stand in for is there

    @property
    def fits(self) -> bool:
        """Whether the code can run there, as far as is known."""
        return self.python_fits and not self.lacks and self.proven is not False
