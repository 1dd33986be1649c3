"""What is concluded, why, and what to do about it."""

from __future__ import annotations

from kalyx.core.lean.record import field, record

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping

    from kalyx.core.model.kinds import Confidence, RemedyKind, Severity

__all__ = ["Edit", "Evidence", "Finding", "Move", "Note", "Remedy", "TrailStep"]


@record
class TrailStep:
    """One step from a seat to its interpreter: what was seen, where, and where it leads."""

    step: int
    says: str
    where: str | None = None
    line: int | None = None
    leads_to: str | None = None


@record
class Evidence:
    """Something that anybody can check: a sentence, with file and line where there is one.

    ``kind`` is for code that has to tell it from other evidence: ``searched`` where it says where nothing was found.
    """

    says: str
    path: str | None = None
    line: int | None = None
    kind: str = ""


@record
class Edit:
    """Text to replace in a file. ``before`` None creates the file, ``after`` None removes it."""

    path: str
    before: str | None
    after: str | None


@record
class Move:
    """A file or folder that gets another name; nothing may have that yet."""

    path: str
    to: str


@record
class Remedy:
    """What to do. ``kind`` is command, edit or manual; a command's ``argv`` needs no shell.

    An edit's ``moves`` are carried out before its ``edits``.

    ``typed`` is a line for the person's own shell, quoted as that shell wants
    it: no program can do it for them.
    """

    do: str
    kind: RemedyKind
    argv: tuple[str, ...] = ()
    cwd: str | None = None
    env: Mapping[str, str] = field(default_factory=dict)
    edits: tuple[Edit, ...] = ()
    moves: tuple[Move, ...] = ()
    changes: str = ""
    undoable: bool = False
    typed: str = ""
    is_trial: bool = False  # a command that shows the way, and changes nothing by itself


@record
class Finding:
    """A cause from the catalogue, with its evidence and its remedies.

    ``severity`` is that of the worst that it may do; it is ``certain`` only where its evidence excludes all else.
    """

    cause: str
    severity: Severity
    confidence: Confidence
    because: str
    evidence: tuple[Evidence, ...] = ()
    remedies: tuple[Remedy, ...] = ()

    @staticmethod
    def error(cause: str, confidence: Confidence, because: str, evidence: tuple[Evidence, ...] = (),
              remedies: tuple[Remedy, ...] = ()) -> Finding:
        """Return a finding about what fails."""
        return Finding(cause, "error", confidence, because, evidence, remedies)

    @staticmethod
    def warning(cause: str, confidence: Confidence, because: str, evidence: tuple[Evidence, ...] = (),
                remedies: tuple[Remedy, ...] = ()) -> Finding:
        """Return a finding about what works and is not as it should be."""
        return Finding(cause, "warning", confidence, because, evidence, remedies)

    @staticmethod
    def note(cause: str, confidence: Confidence, because: str, evidence: tuple[Evidence, ...] = (),
             remedies: tuple[Remedy, ...] = ()) -> Finding:
        """Return a finding that is good to know, and no problem."""
        return Finding(cause, "note", confidence, because, evidence, remedies)

    @property
    def is_problem(self) -> bool:
        """Whether this makes the answer a problem; a note does not."""
        return self.severity != "note"


@record
class Note:
    """Something said beside the answer: a file that could not be read, a list that was cut."""

    note: str
    message: str
    path: str | None = None
