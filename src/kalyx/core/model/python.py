"""Interpreters and environments."""

from __future__ import annotations

from kalyx.core.lean.record import field, record

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Collection, Mapping

    from kalyx.core.model.finding import Finding
    from kalyx.core.model.kinds import EnvironmentKind, KnownBy

__all__ = ["Environment", "Interpreter", "RunningPython", "python_version", "version_pair"]


def python_version(text: str) -> str | None:
    """Return the version of a Python at the beginning of a text: ``3.11.7``, ``3.14.0rc2``; None where there is none.

    What files say is taken for a version only where it is one: nobody counts to a thousand digits.
    """
    import re

    match = re.match(r"[0-9]{1,2}\.[0-9]{1,4}(?:\.[0-9]{1,4})?(?:(?:a|b|rc)[0-9]{1,4})?(?![0-9])", text)
    return match.group(0) if match else None


def version_pair(text: str | None) -> tuple[int, int]:
    """Return the first two numbers of a version, ``(3, 11)`` of 3.11.7 and of 3.11; (0, 0) where there are no two."""
    import re

    match = re.match(r"(\d{1,4})\.(\d{1,4})", text or "")
    return (int(match[1]), int(match[2])) if match else (0, 0)


@record
class Interpreter:
    """A Python executable. ``version`` is PEP 440; unknown things are None.

    ``known_by`` says how: ``asked`` (its program answered), ``read`` (from files,
    not run), ``gone`` (nothing there), ``broken`` (it did not answer; see
    ``trouble``), ``unknown`` (a wrapper that decides when it runs) or ``other``
    (a program that is not shown to be a Python).
    """

    path: str
    real_path: str
    version: str | None = None
    implementation: str | None = None
    prefix: str | None = None
    base_prefix: str | None = None
    known_by: KnownBy = "read"
    trouble: str = ""

    @property
    def works(self) -> bool:
        """Whether it is there and was not seen to fail."""
        return self.known_by in ("asked", "read")

    @property
    def may_start(self) -> bool:
        """Whether it is shown to be a Python, or to start one, and was not seen to fail."""
        return self.works or self.known_by == "unknown"

    @property
    def short_version(self) -> str:
        """``3.11`` of 3.11.7; ``?`` when unknown."""
        return ".".join(self.version.split(".")[:2]) if self.version else "?"

    @property
    def named(self) -> str:
        """``Python 3.11.7``, or that its version is not known."""
        return f"Python {self.version}" if self.version else "a Python of unknown version"

    @property
    def version_pair(self) -> tuple[int, int] | None:
        """``(3, 11)``, or None when unknown."""
        return version_pair(self.version) if self.version else None


@record
class RunningPython:
    """What an interpreter says of itself as it runs, or what files or a text tell of that.

    Each default stands for "not known". ``path`` is sys.path before the import, its empty entry as it
    is; ``front`` and ``back`` are folders that the file's own code adds there. ``stdlib`` lists the
    top-level modules of its library, where it has such a list (3.10); ``flags`` are those of sys.flags.
    ``knows_version``: a text may not tell the version, and ``version`` is made up then.
    """

    version: str = ""
    implementation: str = "cpython"
    executable: str = ""
    prefix: str = ""
    base_prefix: str = ""
    path: tuple[str, ...] = ()
    cwd: str = ""
    cache_tag: str | None = None
    cache_prefix: str | None = None
    platform: str = ""
    suffixes: tuple[str, ...] = ()
    builtin: Collection[str] = ()
    stdlib: Collection[str] = ()
    user_site: str | None = None
    flags: Mapping[str, int] = field(default_factory=dict)
    front: tuple[str, ...] = ()
    back: tuple[str, ...] = ()
    knows_version: bool = True

    @property
    def version_pair(self) -> tuple[int, int]:
        """Major and minor version, (0, 0) when it never said."""
        return version_pair(self.version)

    @property
    def short_version(self) -> str:
        """``3.11`` of 3.11.7; ``0.0`` when it never said."""
        return ".".join(map(str, self.version_pair))

    @property
    def name(self) -> str:
        """How to name the Python in a sentence."""
        return f"Python {self.version}" if self.knows_version else "the Python of the text"

    @property
    def this_is(self) -> str:
        """The clause that says which Python it is."""
        return f"this is {self.name}" if self.knows_version else "the text does not tell which Python it was"

    @property
    def search_path(self) -> list[str]:
        """sys.path as it was before the import, the empty entry as the working folder.

        Folders that the file's own code adds stand where that puts them.
        """
        return [*self.front, *(entry or self.cwd for entry in self.path), *self.back]


@record
class Environment:
    """A prefix with its own packages. ``kind`` is venv, conda or base."""

    path: str
    name: str
    kind: EnvironmentKind
    base: str | None = None
    python_version: str | None = None
    findings: tuple[Finding, ...] = ()
    interpreter: Interpreter | None = None
