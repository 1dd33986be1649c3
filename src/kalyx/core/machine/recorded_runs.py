"""Runs as they are written down: what a run is known by, and how it ended."""

from __future__ import annotations

import json

from kalyx.core.machine.results import RunResult

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence
    from typing import Any

__all__ = ["question_of_run", "run_as_data", "run_of_data"]


def question_of_run(argv: Sequence[str], own_folder: str) -> str:
    """Return what a run is known by: its words, with Kalyx's own folder left open."""
    return json.dumps([w.replace(own_folder, "{kalyx}").replace("\\", "/") if own_folder in w else w for w in argv])


def run_as_data(result: RunResult) -> dict[str, Any]:
    """Return how a run ended as JSON has it."""
    return {"status": result.status, "out": result.text(), "err": result.err.decode("utf-8", "replace"),
            "timed_out": result.timed_out, "seconds": result.seconds, "why_not": result.why_not,
            "folder_closed": result.folder_closed}


def run_of_data(row: Mapping[str, Any]) -> RunResult:
    """Return the run that `run_as_data` wrote down."""
    return RunResult(row["status"], row["out"].encode("utf-8", "replace"), row["err"].encode("utf-8", "replace"),
                     row["timed_out"], row["seconds"], row["why_not"], row["folder_closed"])
