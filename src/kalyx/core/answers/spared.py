"""A mistake in reading or judging one thing costs that thing alone, and is said."""

from __future__ import annotations

from kalyx.core.errors import KalyxError

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable
    from typing import TypeVar

    from kalyx.core.machine.interface import Machine

    R = TypeVar("R")

__all__ = ["spared"]


def spared(machine: Machine, what: str, job: Callable[[], R]) -> R | None:
    """Do a job; where it goes wrong in a way that nobody thought of, write that down and return None.

    What was refused on purpose (`KalyxError`) is the caller's. With
    KALYX_DEBUG set nothing is spared, so that the mistake is seen whole.
    """
    try:
        return job()
    except KalyxError:
        raise
    except Exception as error:
        if machine.env.get("KALYX_DEBUG"):
            raise
        machine.report(what, f"Kalyx made a mistake with it ({type(error).__name__}: {error}); please report that")
        return None
