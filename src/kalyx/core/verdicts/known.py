"""A judgement on a machine of which not everything is known: what was not recorded costs that judgement alone."""

from __future__ import annotations

from kalyx.core.errors import NOT_RECORDED, NotRecorded

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable
    from typing import TypeVar

    from kalyx.core.facts.files import Files

    R = TypeVar("R")
    S = TypeVar("S")

__all__ = ["as_known", "report_unknown"]


def as_known(files: Files, judge: Callable[[], R], otherwise: S) -> R | S:
    """Return what a judgement comes to, or `otherwise` where something that it asks was not recorded.

    That is written down, to be said beside the answer.
    """
    try:
        return judge()
    except NotRecorded as error:
        report_unknown(files, error)
        return otherwise


def report_unknown(files: Files, error: NotRecorded) -> None:
    """Write down what could not be found out."""
    files.report(error.question, NOT_RECORDED)
