"""Several questions asked at once, and values that are made once. `threading` is loaded where it is used."""

from __future__ import annotations

from _thread import allocate_lock

TYPE_CHECKING = False
if TYPE_CHECKING:
    from _thread import LockType
    from collections.abc import Callable, Iterable
    from threading import Thread
    from typing import Any, TypeVar

    T = TypeVar("T")
    R = TypeVar("R")

__all__ = ["Once", "ask_all", "begin"]

MOST = 8  # threads for one list of questions


def begin(job: Callable[[], object]) -> Thread:
    """Run a job beside what else is done, and return its thread; the process does not wait for it at its end.

    What it raises is lost: who needs its result asks for it again and meets it.
    """
    import threading

    def run() -> None:
        try:
            job()
        except BaseException:
            pass

    thread = threading.Thread(target=run, daemon=True)
    thread.start()
    return thread


class Once:
    """Keeps what was made for each key; a thread that asks while it is being made waits for it."""

    def __init__(self) -> None:
        self._made: dict[object, object] = {}
        self._turns: dict[object, LockType] = {}

    def known(self, key: object) -> Any:
        """Return the value of a key where it has been made, else None."""
        return self._made.get(key)

    def in_turn(self, turn: object, key: object, make: Callable[[], R]) -> R:
        """Return the value of a key as `get` does, where those of one `turn` are made one after the other."""
        if key not in self._made:
            with self._turns.setdefault(("turn", turn), allocate_lock()):
                return self.get(key, make)
        return self._made[key]  # type: ignore[return-value]  # what `make` of this key returned

    def get(self, key: object, make: Callable[[], R]) -> R:
        """Return the value of a key, made by the first who asks; what `make` raises is raised to each."""
        if key not in self._made:
            with self._turns.setdefault(key, allocate_lock()):
                if key not in self._made:
                    self._made[key] = make()
        return self._made[key]  # type: ignore[return-value]  # what `make` of this key returned


def ask_all(ask: Callable[[T], R], items: Iterable[T], most: int = MOST) -> list[R]:
    """Return ``[ask(item) for item in items]``, several asked at once, at most so many.

    The first exception is raised when all have ended.
    """
    wanted = list(items)
    answers: dict[int, R] = {}
    errors: list[BaseException] = []
    numbers = iter(range(len(wanted)))
    turn = allocate_lock()

    def work() -> None:
        while True:
            with turn:
                number = next(numbers, -1)
            if number < 0:
                return
            try:
                answers[number] = ask(wanted[number])
            except BaseException as error:
                errors.append(error)

    if len(wanted) < 2:
        return [ask(item) for item in wanted]
    for thread in [begin(work) for _ in range(min(most, len(wanted)))]:
        thread.join()
    if errors:
        raise errors[0]
    return [answers[number] for number in range(len(wanted))]
