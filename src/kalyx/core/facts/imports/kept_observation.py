"""An observation as JSON has it, and back: it may come from another machine, and from anybody."""

from __future__ import annotations

from kalyx.core.lean.record import names_of
from kalyx.core.model import ChangedModule, Frame, LivePython, Observation, ObservedError, RunningPython

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Mapping
    from typing import Any

__all__ = ["as_data", "live_python_of", "observation_of", "running_python_of"]

OUTCOMES = ("imports", "fails", "crash", "hang", "no-start")


def as_data(value: Any) -> Any:
    """Return a record, and what it holds, as JSON has it: an object of its fields."""
    if names := names_of(value):
        return {name: as_data(getattr(value, name)) for name in names}
    if isinstance(value, dict):
        return {str(key): as_data(item) for key, item in value.items()}
    return [as_data(item) for item in value] if isinstance(value, (tuple, list, set, frozenset)) else value


def observation_of(data: Any) -> Observation:
    """Return the observation that `as_data` wrote down.

    Raises:
        ValueError: it is none.
    """
    fields = _object(data)
    _text(fields.get("module"))
    if fields.get("outcome") not in OUTCOMES:
        raise ValueError(f"{fields.get('outcome')!r} is no outcome of an import")
    said, plain = fields.get("python"), _plain(fields, Observation("", None, "fails"), {"name", "origin", "loader"})
    status = fields.get("status")
    return Observation(**{
        **plain, "outcome": fields["outcome"], "python": None if said is None else running_python_of(said),
        "chain": tuple(_error(e) for e in _list(fields.get("chain", []))),
        "search": _texts(fields.get("search", [])), "stack": _frames(fields.get("stack", [])),
        "status": status if isinstance(status, int) else None,
        "loaded": {k: _loaded(v) for k, v in _object(fields.get("loaded", {})).items()}})


def running_python_of(data: Any) -> RunningPython:
    """Return what an interpreter said of itself.

    Raises:
        ValueError: it is not that.
    """
    fields = _object(data)
    plain = _plain(fields, RunningPython(), {"cache_tag", "cache_prefix", "user_site"})
    lists = {name: _texts(fields.get(name, [])) for name in ("path", "suffixes", "builtin", "stdlib", "front", "back")}
    flags = {k: int(v) for k, v in _object(fields.get("flags", {})).items() if isinstance(v, (int, bool))}
    return RunningPython(**{**plain, **lists, "flags": flags})


def live_python_of(data: Any) -> LivePython:
    """Return what a running Python told of itself.

    Raises:
        ValueError: it is not that.
    """
    fields = _object(data)
    changed = [_plain(_object(one), ChangedModule("", "", ""), set()) for one in _list(fields.get("changed", []))]
    for one in changed:
        for name in ("name", "file", "how"):
            _text(one.get(name))
    loaded = {k: _list(v) for k, v in _object(fields.get("loaded", {})).items()}
    return LivePython(
        _number(fields.get("pid")), running_python_of(fields.get("python")), _texts(fields.get("path_then", [])),
        tuple(ChangedModule(**one) for one in changed),
        {k: (None if v[0] is None else _text(v[0]), _text(v[1])) for k, v in loaded.items() if len(v) == 2})


def _plain(fields: Mapping[str, Any], like: Any, may_be_none: set[str]) -> dict[str, Any]:
    """Return those fields that are texts, numbers or truth values in a record like this one, of the same type."""
    found: dict[str, Any] = {}
    for name in names_of(like):
        default = getattr(like, name)
        if name not in fields or not (name in may_be_none or isinstance(default, (str, bool, float))):
            continue
        value = fields[name]
        if value is None and name in may_be_none:
            found[name] = None
        elif isinstance(default, float) and isinstance(value, (int, float)) and not isinstance(value, bool):
            found[name] = float(value)
        elif isinstance(value, bool if isinstance(default, bool) else str):
            found[name] = value
        else:
            raise ValueError(f"{name} is {type(value).__name__}")
    return found


def _error(data: Any) -> ObservedError:
    fields = _object(data)
    for name in ("type", "message"):
        _text(fields.get(name))
    line = fields.get("lineno")
    return ObservedError(**{**_plain(fields, ObservedError("", ""), {"name", "path"}),
                            "frames": _frames(fields.get("frames", [])),
                            "lineno": line if isinstance(line, int) else None})


def _frames(data: Any) -> tuple[Frame, ...]:
    return tuple(Frame(_text(f.get("file")), _number(f.get("line")), _text(f.get("function")))
                 for f in map(_object, _list(data)))


def _loaded(data: Any) -> tuple[str | None, tuple[str, ...]]:
    file, folders = _list(data)
    return None if file is None else _text(file), _texts(folders)


def _checked(kind: type, what: str) -> Callable[[Any], Any]:
    def check(value: Any) -> Any:
        if not isinstance(value, kind) or isinstance(value, bool):
            raise ValueError(f"{type(value).__name__} stands where {what} should")
        return value

    return check


_object = _checked(dict, "an object")
_list = _checked(list, "a list")
_text = _checked(str, "a text")
_number = _checked(int, "a number")


def _texts(data: Any) -> tuple[str, ...]:
    return tuple(_text(item) for item in _list(data))
