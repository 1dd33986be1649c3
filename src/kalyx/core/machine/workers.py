"""Shares work out among processes: each reads its part of the files, and all that it found comes back as plain data."""

from __future__ import annotations

import json
import os
import sys

from kalyx.core.errors import Unreadable
from kalyx.core.machine.copies import can_copy_itself, shared_out

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Iterator, Sequence
    from typing import Any

    from kalyx.core.machine.interface import Machine

__all__ = ["share_out"]

MOST_PROCESSES = 4
LIMIT = 300.0  # seconds for a part
_START = ("import sys; sys.path.insert(0, sys.argv[2])\n"
          "from kalyx.core.machine.one_worker import work\nwork(sys.argv[1])\n")


def share_out(machine: Machine, function: Callable[..., Any], parts: Sequence[Sequence[Any]],
              meanwhile: Callable[[], object] = bool) -> Iterator[Any]:
    """Yield what a function of a module makes of each part, in their order; this process takes a share as well.

    Before that it does what else there is to do `meanwhile`.

    The function is called with a machine and what is in a part; both that and what it returns can be written as
    JSON. What a child did not do, as it was ended or could not start, is done here.
    """
    count = max(1, min(os.cpu_count() or 1, MOST_PROCESSES, len(parts)))
    done: dict[int, Any] = {}
    if can_copy_itself():
        def work(part: Sequence[Any]) -> tuple[Any, dict[str, str]]:
            return function(machine, *part), dict(machine.troubles)

        for number, (result, troubles) in shared_out(work, parts, count, meanwhile).items():
            done[number] = result
            for path, reason in troubles.items():
                machine.report(path, reason)
    else:
        done = _by_children(machine, function, parts, count, meanwhile)
    for number, part in enumerate(parts):
        yield done[number] if number in done else function(machine, *part)


def _by_children(machine: Machine, function: Callable[..., Any], parts: Sequence[Sequence[Any]], count: int,
                 meanwhile: Callable[[], object]) -> dict[int, Any]:
    """Return what was made of the parts by children that were given an equal share each, and by this process."""
    shares = [list(range(n, len(parts), count)) for n in range(count)]
    begun = [_begin(machine, function, [parts[n] for n in share]) for share in shares[1:]]
    meanwhile()
    done = {n: function(machine, *parts[n]) for n in shares[0]}
    for share, child in zip(shares[1:], begun, strict=True):
        for number, result in zip(share, _result_of(machine, child), strict=False):
            done[number] = result
    return done


def _begin(machine: Machine, function: Callable[..., Any], parts: list[Sequence[Any]]) -> tuple[str, Any] | None:
    """Start a child with its share of the parts; None where it cannot be given to it."""
    try:
        folder = machine.make_folder()
    except Unreadable:
        return None
    asked = {"module": function.__module__, "function": function.__name__, "parts": parts, "cwd": machine.cwd}
    with open(os.path.join(folder, "asked.json"), "w", encoding="utf-8", errors="surrogateescape") as file:
        json.dump(asked, file)
    root = os.path.dirname(os.path.dirname(os.path.dirname(os.path.dirname(os.path.abspath(__file__)))))
    return folder, machine.begin([sys.executable, "-I", "-c", _START, folder, root], limit=LIMIT)


def _result_of(machine: Machine, begun: tuple[str, Any] | None) -> list[Any]:
    """Return what a child made of its parts, and take over what it could not read; nothing where it failed."""
    if begun is None:
        return []
    folder, child = begun
    child.result()
    try:
        with open(os.path.join(folder, "done.json"), encoding="utf-8") as file:
            done = json.load(file)
        for path, reason in done["troubles"].items():
            machine.report(path, reason)
        return list(done["results"])
    except (OSError, ValueError, KeyError, TypeError):
        return []
    finally:
        machine.remove_folder(folder)
