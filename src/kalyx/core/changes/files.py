"""Writes that a kill at any instant leaves either undone or done."""

from __future__ import annotations

import errno
import os
import stat
import tempfile

from kalyx.core.errors import Refused

__all__ = ["make_folder_with", "read_regular", "write_file"]


READ_LIMIT = 64 * 1024 * 1024  # bytes of a file that is kept for undo


def read_regular(path: str) -> bytes:
    """Read a regular file; a pipe or a device in its place is not waited for.

    Raises:
        OSError: it is not there, is no regular file, is larger than what is kept, or cannot be read.
    """
    handle = os.open(path, os.O_RDONLY | getattr(os, "O_NONBLOCK", 0) | getattr(os, "O_BINARY", 0))
    with open(handle, "rb") as file:
        info = os.fstat(handle)
        if not stat.S_ISREG(info.st_mode):
            raise OSError(errno.EINVAL, "it is not a regular file", path)
        if info.st_size > READ_LIMIT:
            raise OSError(errno.EFBIG, "it is larger than what is kept for undo", path)
        return file.read(READ_LIMIT)


def _sync_folder(folder: str) -> None:
    """Have the folder's own list of names written out, where the platform can."""
    try:
        handle = os.open(folder, os.O_RDONLY)
    except OSError:
        return
    try:
        os.fsync(handle)
    except OSError:
        pass
    finally:
        os.close(handle)


def _write_new(path: str, data: bytes) -> None:
    with open(path, "xb") as file:
        file.write(data)
        file.flush()
        os.fsync(file.fileno())


def write_file(path: str, data: bytes, mode: int | None = None) -> None:
    """Replace a file's content at once: temporary file, fsync, rename.

    Its permissions and owner stay, or are `mode`; a link stays, and what it leads to is written.

    Raises:
        Refused: the folder cannot be written.
    """
    path = os.path.realpath(path) if os.path.islink(path) else path
    folder = os.path.dirname(path)
    try:
        os.makedirs(folder, exist_ok=True)
        handle, temporary = tempfile.mkstemp(dir=folder, prefix=".kalyx-")
        try:
            with os.fdopen(handle, "wb") as file:
                file.write(data)
                file.flush()
                os.fsync(file.fileno())
            _as_before(path, temporary, mode)
            os.replace(temporary, path)
        except BaseException:
            os.unlink(temporary)
            raise
    except OSError as error:
        raise Refused(f"{path} cannot be written: {error.strerror}.",
                      "See to it that the folder is yours to write.") from None
    _sync_folder(folder)


def _as_before(path: str, temporary: str, mode: int | None) -> None:
    """Give a new file the permissions and owner of the one whose place it takes, or those of any new file."""
    try:
        info = os.stat(path)
    except OSError:
        mask = os.umask(0)
        os.umask(mask)
        os.chmod(temporary, 0o666 & ~mask if mode is None else mode)
        return
    os.chmod(temporary, stat.S_IMODE(info.st_mode) if mode is None else mode)
    if hasattr(os, "chown") and os.geteuid() == 0:
        os.chown(temporary, info.st_uid, info.st_gid)


def make_folder_with(folder: str, files: dict[str, bytes]) -> None:
    """Create a folder with files in it, at once: built near its place, then renamed.

    Not in the same folder where that can be helped: who lists that one would
    take what a kill leaves behind for one of its own.

    Raises:
        Refused: it exists already, or its parent cannot be written.
    """
    parent = os.path.dirname(folder)
    try:
        os.makedirs(parent, exist_ok=True)
        above = os.path.dirname(parent)
        apart = os.access(above, os.W_OK) and os.stat(above).st_dev == os.stat(parent).st_dev
        temporary = tempfile.mkdtemp(dir=above if apart else parent, prefix=".kalyx-")
        try:
            os.chmod(temporary, 0o755)
            for name, data in files.items():
                _write_new(os.path.join(temporary, name), data)
            os.rename(temporary, folder)
        except BaseException:
            for name in os.listdir(temporary):
                os.unlink(os.path.join(temporary, name))
            os.rmdir(temporary)
            raise
    except OSError as error:
        raise Refused(f"{folder} cannot be made: {error.strerror}.",
                      "See to it that its parent folder is yours to write.") from None
    _sync_folder(parent)
