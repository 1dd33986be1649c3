"""One change at a time: a lock in the journal's folder, held from before the first change until after the last."""

from __future__ import annotations

import os
import time

from kalyx.core.errors import Refused

TYPE_CHECKING = False
if TYPE_CHECKING:
    from types import TracebackType

__all__ = ["Lock"]

PATIENCE = 5.0  # seconds that another Kalyx is waited for


class Lock:
    """A context in which no other Kalyx of this user changes anything; the system ends it with the process.

    Raises:
        Refused: another one still holds it after a moment, or the folder cannot be written.
    """

    def __init__(self, folder: str, what: str) -> None:
        self._path = os.path.join(folder, "lock")
        self._folder = folder
        self._what = what
        self._handle: int | None = None

    def __enter__(self) -> Lock:
        try:
            os.makedirs(self._folder, mode=0o700, exist_ok=True)
            handle = os.open(self._path, os.O_RDWR | os.O_CREAT | getattr(os, "O_NOFOLLOW", 0), 0o600)
        except OSError as error:
            raise Refused(f"The journal {self._folder} cannot be written: {error.strerror}.",
                          "Without it nothing is changed, as nothing could be taken back.") from None
        deadline = time.monotonic() + PATIENCE
        while not _taken(handle):
            if time.monotonic() > deadline:
                holder = os.pread(handle, 200, 0).decode("utf-8", "replace") if hasattr(os, "pread") else ""
                os.close(handle)
                raise Refused(f"Another Kalyx is changing something{': ' * bool(holder)}{holder.strip()}.",
                              "Wait until it is done.")
            time.sleep(0.1)
        self._handle = handle
        try:
            os.ftruncate(handle, 0)
            os.write(handle, f"process {os.getpid()}, {self._what}"[:150].encode("utf-8", "replace"))
        except OSError:  # a full disk: who holds it is not said, and it is held all the same
            pass
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None,
                 where: TracebackType | None) -> None:
        if self._handle is not None:
            os.ftruncate(self._handle, 0)
            os.close(self._handle)
            self._handle = None


def _taken(handle: int) -> bool:
    """Take the lock on an open file where it is free."""
    try:
        if os.name == "nt":
            import msvcrt

            os.lseek(handle, 4096, os.SEEK_SET)  # beyond what is written in it
            msvcrt.locking(handle, msvcrt.LK_NBLCK, 1)  # type: ignore[attr-defined,unused-ignore]
        else:
            import fcntl

            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        return False
    return True
