"""Every error that Kalyx raises on purpose.

    KalyxError
    ├── WrongUsage          the request itself is wrong          (exit status 2)
    │   └── AmbiguousName   a word that means several seats
    ├── NothingToJudge      the thing named is not there         (exit status 3)
    ├── Unreadable          a file or folder cannot be read      (exit status 3)
    ├── NotRecorded         what was recorded does not hold it   (exit status 3)
    └── Refused             a change that must not be made       (exit status 1)

The exit status is chosen in ``cli/``; the core only raises.
"""

from __future__ import annotations

__all__ = ["NOT_RECORDED", "ONLY_IN_PART", "AmbiguousName", "KalyxError", "NotRecorded", "NothingToJudge",
           "Refused", "Unreadable", "WrongUsage"]

NOT_RECORDED = "it was not recorded"  # the reason by which such a trouble is told from others
ONLY_IN_PART = "only in part: "  # what reasons begin with where the rest was read, so that the answer may speak of it


class KalyxError(Exception):
    """What went wrong, in a sentence, and what to do about it."""

    def __init__(self, message: str, hint: str = "") -> None:
        super().__init__(message)
        self.message = message
        self.hint = hint


class WrongUsage(KalyxError):
    """The request cannot be carried out as it was typed."""


class AmbiguousName(WrongUsage):
    """A bare word means several seats; ``candidates`` are their references."""

    def __init__(self, word: str, candidates: list[str]) -> None:
        super().__init__(
            f"{word!r} can mean {len(candidates)} seats: {', '.join(candidates)}.",
            "Name one of them in full.",
        )
        self.candidates = candidates


class NothingToJudge(KalyxError):
    """What was named does not exist, or holds nothing to look at."""


class Unreadable(KalyxError):
    """A file or folder that cannot be read; ``path`` says which, ``reason`` why."""

    def __init__(self, path: str, reason: str) -> None:
        super().__init__(f"{path} cannot be read: {reason}.")
        self.path = path
        self.reason = reason


class NotRecorded(KalyxError):
    """A question about another machine that nobody asked when its answers were recorded: it cannot be found out."""

    def __init__(self, question: str) -> None:
        super().__init__(f"{question} was not recorded.", "Record it again where it is.")
        self.question = question


class Refused(KalyxError):
    """A change that would overwrite something or could not work."""
