"""The closed lists of words that records hold; to a type checker each is a type of its own."""

from __future__ import annotations

__all__ = ["Answered", "Confidence", "EnvironmentKind", "KnownBy", "LayerName", "Outcome", "RemedyKind", "SeatKind",
           "Severity", "SideKind"]

TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import Literal

    Severity = Literal["error", "warning", "note"]
    Confidence = Literal["certain", "likely", "possible"]
    RemedyKind = Literal["command", "edit", "manual"]
    Outcome = Literal["imports", "fails", "crash", "hang", "no-start"]  # of an import that was tried
    Answered = Literal["imports", "fails", "unknown"]  # what is said of an import
    KnownBy = Literal["asked", "read", "gone", "broken", "unknown", "other", "text"]
    SeatKind = Literal["shell", "editor", "kernel", "notebook", "script", "process", "python", "env", "beacon"]
    SideKind = Literal["seat", "snapshot", "beacon", "requirements", "packages"]
    EnvironmentKind = Literal["venv", "conda", "base"]
    LayerName = Literal["start", "pythonpath", "stdlib", "env", "base", "user", "link", "other"]
