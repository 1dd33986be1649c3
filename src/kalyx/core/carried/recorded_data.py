"""What was recorded of a machine as JSON has it, and the machine that answers from it.

The format is that of docs/schema/snapshot.json. A document may come from anybody: what is read of it is
checked here, piece by piece, so that no later code stumbles over it.
"""

from __future__ import annotations

import zlib
from base64 import b85decode, b85encode

from kalyx.core.carried.harmless import harmless
from kalyx.core.carried.variables import deciding
from kalyx.core.machine.recorded import RecordedMachine
from kalyx.core.machine.recording import WHOLE_LIMIT
from kalyx.core.masks import masked_document

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Mapping
    from typing import Any

    from kalyx.core.machine.recording import RecordingMachine
    from kalyx.core.redaction import Redactor

__all__ = ["machine_of", "recorded_as_data"]

MOST_BYTES = 256 * 1024 * 1024  # of all contents, when they are unpacked
PLATFORMS = ("linux", "darwin", "win32")


def recorded_as_data(machine: RecordingMachine, redactor: Redactor | None = None) -> dict[str, Any]:
    """Return what was recorded, without what is private: see `harmless` and `deciding`."""
    contents = {}
    for path, (data, limit) in machine.contents.items():
        written = _written(path, data, None if len(data) < limit else limit, redactor)
        if written is not None:
            contents[path] = written
    processes = machine.answers.get("process", {})
    for row in filter(None, processes.values()):
        row["env"] = deciding(row["env"]) if row["env"] is not None else None
    said = {"platform": machine.platform, "cwd": machine.cwd, "home": machine.home, "user_id": machine.user_id,
            "own_command": list(machine.own_command), "env": deciding(machine.env)}
    found: dict[str, Any] = masked_document({"said": said, "answers": machine.answers})
    found["contents"] = contents
    return found if redactor is None else _redacted(found, machine, redactor)


def _redacted(found: dict[str, Any], machine: RecordingMachine, redactor: Redactor) -> dict[str, Any]:
    """Return it without the names of a person and a machine; of the homes beside the person's own nothing is told."""
    shown: dict[str, Any] = redactor.document(found)
    split = machine.path.split
    above, name = split(redactor.text(machine.home.rstrip(machine.path.sep)))
    for kind, rows in shown["answers"].items():
        for question in rows if kind in ("list", "scan", "rights") else ():
            if question.partition(":")[2] == above and kind == "scan":
                rows[question] = [[name], [name], False]
            elif question == above and isinstance(rows[question], list):
                rows[question] = [name] if kind == "list" else []
    return shown


def _written(path: str, data: bytes, limit: int | None, redactor: Redactor | None) -> dict[str, Any] | None:
    """Return a file's content as JSON has it, the first `limit` bytes or all of it.

    None where it is too large, or bytes that name what is not to be named.
    """
    if len(data) > WHOLE_LIMIT:
        return None
    shown = harmless(path, data)
    try:
        return {"text": shown.decode("utf-8"), "first": limit}
    except UnicodeDecodeError:
        if redactor is not None and redactor.text(shown.decode("latin-1")) != shown.decode("latin-1"):
            return None
        return {"bytes": b85encode(zlib.compress(shown)).decode("ascii"), "first": limit}


def machine_of(data: Any, own_folder: str) -> RecordedMachine:
    """Return the machine that gives the answers which were recorded.

    Raises:
        ValueError: the document is not of that form; the message says where.
    """
    recorded = _taken(data, dict, "recorded")
    said = _taken(recorded.get("said"), dict, "said")
    for name, kind in (("cwd", str), ("home", str), ("user_id", int), ("own_command", list), ("env", dict)):
        _taken(said.get(name), kind, f"said.{name}")
    if said.get("platform") not in PLATFORMS:
        raise ValueError(f"said.platform is {str(said.get('platform'))[:40]!r}")
    _all_texts(said["own_command"], "said.own_command")
    _all_texts(list(said["env"].values()), "said.env")
    answers: dict[str, dict[str, Any]] = {}
    for kind, rows in _taken(recorded.get("answers"), dict, "answers").items():
        check = _CHECKS.get(kind)
        if check is None:
            continue  # of a later version: what is asked by this one is of no such kind
        for question, answer in _taken(rows, dict, f"answers.{kind}").items():
            if not check(answer):
                raise ValueError(f"the answer to {kind} of {question[:200]!r} is none")
        answers[kind] = rows
    return RecordedMachine(said, answers, _contents(recorded.get("contents")), own_folder)


def _contents(data: Any) -> dict[str, tuple[bytes, int | None]]:
    found, left = {}, MOST_BYTES
    for path, one in _taken(data, dict, "contents").items():
        row = _taken(one, dict, f"contents of {path[:200]!r}")
        if isinstance(row.get("text"), str):
            content = row["text"].encode("utf-8", "surrogatepass")
        else:
            content = _unpacked(_taken(row.get("bytes"), str, f"contents of {path[:200]!r}"), left)
        left -= len(content)
        if left < 0:
            raise ValueError("it holds more than is unpacked")
        first = row.get("first")
        found[path] = (content, first if isinstance(first, int) else None)
    return found


def _unpacked(text: str, most: int) -> bytes:
    unpacker = zlib.decompressobj()
    try:
        data = unpacker.decompress(b85decode(text), max(most, 1))
    except (zlib.error, ValueError) as error:
        raise ValueError(f"what was packed cannot be unpacked: {error}") from None
    if unpacker.unconsumed_tail or not unpacker.eof:
        raise ValueError("what was packed is cut off, or larger than is unpacked")
    return data


def _taken(value: Any, kind: type, name: str) -> Any:
    if not isinstance(value, kind) or isinstance(value, bool):
        raise ValueError(f"{name} is missing, or not what it should be")
    return value


def _all_texts(values: list[Any], name: str) -> None:
    if not all(isinstance(v, str) for v in values):
        raise ValueError(f"{name} holds what is no text")


def _is_info(row: Any) -> bool:
    """Whether it is what `stat` says: kind, mode, owner, size, time, device, number, group."""
    return row is None or (isinstance(row, list) and len(row) == 8 and isinstance(row[0], str)
                           and all(isinstance(n, (int, float)) for n in row[1:]))


def _is_list(row: Any) -> bool:
    return isinstance(row, str) or _are_texts(row)


def _are_texts(row: Any) -> bool:
    return isinstance(row, list) and all(isinstance(n, str) for n in row)


def _is_scan(row: Any) -> bool:
    return isinstance(row, list) and len(row) == 3 and _are_texts(row[0]) and _are_texts(row[1])


def _are_rights(row: Any) -> bool:
    """Whether it is what `rights_in` says: rows of kind, mode, owner, group, and the names that have them."""
    return isinstance(row, list) and all(
        isinstance(r, list) and len(r) == 5 and isinstance(r[0], str) and all(isinstance(n, int) for n in r[1:4])
        and _are_texts(r[4]) for r in row)


def _are_surroundings(row: Any) -> bool:
    return isinstance(row, list) and all(_are_texts(p) and len(p) == 2 and _is_hex(p[0] + p[1]) for p in row)


def _is_hex(text: str) -> bool:
    return len(text) % 2 == 0 and set(text) <= set("0123456789abcdef")


def _is_run(row: Any) -> bool:
    """Whether it is how a child ended; see `run_as_data`."""
    return isinstance(row, dict) and all(isinstance(row.get(k), str) for k in ("out", "err", "why_not")) \
        and isinstance(row.get("seconds"), (int, float)) and all(
            isinstance(row.get(k), bool) for k in ("timed_out", "folder_closed")) \
        and (row.get("status") is None or isinstance(row["status"], int))


def _is_process(row: Any) -> bool:
    """Whether it is what the process table said of one; see `RawProcess`."""
    if row is None:
        return True
    kinds: dict[str, Any] = {"pid": int, "parent": (int, type(None)), "program": (str, type(None)),
                             "folder": (str, type(None)), "started": (int, float, type(None)),
                             "user": (str, type(None)), "owner": (int, type(None)), "closed": bool}
    env = row.get("env") if isinstance(row, dict) else 0
    return isinstance(row, dict) and set(row) == {*kinds, "argv", "env"} and _are_texts(row["argv"]) \
        and all(isinstance(row[k], kind) for k, kind in kinds.items()) \
        and (env is None or (isinstance(env, dict) and _are_texts(list(env.values()))))


def _is(*kinds: type) -> Callable[[Any], bool]:
    return lambda row: isinstance(row, kinds)


_CHECKS: Mapping[str, Callable[[Any], bool]] = {
    "stat": _is_info, "lstat": _is_info, "there": _is(bool), "link": _is(str, type(None)), "real": _is(str),
    "unread": _is(str), "around": _are_surroundings, "list": _is_list, "scan": _is_scan, "one folder": _is(bool),
    "rights": _are_rights, "may write": _is(bool), "may be there": _is(bool), "trouble": _is(str), "size": _is(int),
    "digest": _is(str), "private group": _is(bool), "registry": _are_texts, "processor": _is(str),
    "process": _is_process, "run": _is_run, "kept": _is(dict), "found": _is(dict, list, bool)}
