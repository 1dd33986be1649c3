"""Opens a snapshot: a context on the machine that it was taken of, whose answers were recorded."""

from __future__ import annotations

import json

from kalyx.core.carried.recorded_data import machine_of
from kalyx.core.errors import NothingToJudge
from kalyx.core.facts.seats.context import SeatContext
from kalyx.core.lean.record import record

TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import Any

__all__ = ["FORMAT", "Snapshot", "is_snapshot", "open_snapshot"]

FORMAT = 1  # grows when what is in a document means something else


@record
class Snapshot:
    """A snapshot that was read: where and when it was taken, its seat, and its machine."""

    host: str
    taken: str
    ref: str
    context: SeatContext
    asked: tuple[str, ...] = ()  # the imports that were tried


def is_snapshot(text: str) -> bool:
    """Whether a text is meant as a document, and is not a text with blocks in it."""
    return text.lstrip("\ufeff \t\r\n")[:1] == "{" and '"snapshot"' in text and "[kalyx beacon" not in text[:1_000_000]


def open_snapshot(text: str, name: str, probe_folder: str) -> Snapshot:
    """Read a snapshot's document, as it was written or in the envelope of ``--json``.

    Raises:
        NothingToJudge: it is none, or not whole, or of a later form; the message says what is wrong.
    """
    try:
        data: Any = json.loads(text)
        if isinstance(data, dict) and data.get("command") == "snapshot":
            data = data.get("result")
        if not isinstance(data, dict) or "snapshot" not in data:
            raise ValueError("it has no key 'snapshot'")
        form = data["snapshot"]
        if not isinstance(form, int) or isinstance(form, bool):
            raise ValueError("its form is no number")
        if form > FORMAT:
            raise NothingToJudge(f"{name} was written by a newer Kalyx (form {form}; this one reads up to {FORMAT}).",
                                 "Update Kalyx here, or take it again with the version that you have.")
        said = [data.get(key) for key in ("host", "taken", "ref", "folder")]
        if not all(isinstance(word, str) for word in said):
            raise ValueError("host, taken, ref or folder is missing")
        machine = machine_of(data.get("recorded"), probe_folder)
    except RecursionError:
        raise _none(name, "it is nested too deeply") from None
    except ValueError as error:
        raise _none(name, str(error)) from None
    host, taken, ref, folder = map(str, said)
    return Snapshot(host, taken, ref, SeatContext(machine, folder, probe_folder), _asked(data.get("imports")))


def _asked(imports: Any) -> tuple[str, ...]:
    """Return what was imported, as it is typed."""
    rows = [row for row in imports if isinstance(row, dict)] if isinstance(imports, list) else []
    return tuple(":".join(filter(None, (row["module"], row.get("name")))) for row in rows
                 if isinstance(row.get("module"), str) and isinstance(row.get("name"), (str, type(None))))


def _none(name: str, reason: str) -> NothingToJudge:
    return NothingToJudge(f"{name} is no snapshot that can be read: {reason}.", "kalyx snapshot --to FILE writes one.")
