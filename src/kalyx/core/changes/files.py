"""Writes that a kill at any instant leaves either undone or done."""

from __future__ import annotations

import errno
import os
import re
import stat

from kalyx.core.errors import Refused

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.machine.interface import Machine

__all__ = ["forget_bytecode", "make_folder_with", "missing_folders", "place_to_write", "read_regular",
           "remove_temporary", "temporary_beside", "temporary_near", "write_file"]


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


def place_to_write(machine: Machine, name: str) -> str:
    """Return the whole path of a name that somebody gave, where something is to be written.

    Raises:
        Refused: it is a relative one, and the working folder is gone.
    """
    try:
        os.getcwd()
    except OSError:
        if not machine.path.isabs(os.path.expanduser(name)):
            raise Refused(f"Where {name} is to be cannot be told: the folder that you are in was deleted.",
                          "Go to another folder, or name it by its whole path.") from None
    return machine.absolute(name)


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


def temporary_beside(path: str) -> str:
    """Return a name beside a path that nothing else has, for what is written before it takes that path's place."""
    return os.path.join(os.path.dirname(path), f".kalyx-{os.urandom(8).hex()}")


def remove_temporary(path: str) -> None:
    """Remove what a kill left of a write, a file or a folder with files; nothing where nothing was left.

    What does not bear the name of such a thing is left, whatever an entry of the journal says.
    """
    if re.fullmatch(r"\.kalyx-[0-9a-f]{16}", os.path.basename(path)) is None:
        return
    try:
        if os.path.isdir(path) and not os.path.islink(path):
            for name in os.listdir(path):
                os.unlink(os.path.join(path, name))
            os.rmdir(path)
        else:
            os.unlink(path)
    except OSError:  # there is none
        pass


def missing_folders(folder: str) -> list[str]:
    """Return a folder and those above it that are not there, the outermost first."""
    found: list[str] = []
    while folder and not os.path.lexists(folder):
        found.insert(0, folder)
        folder = os.path.dirname(folder)
    return found


def write_file(path: str, data: bytes, mode: int | None = None, temporary: str = "") -> None:
    """Replace a file's content at once: temporary file, fsync, rename.

    Its permissions and owner stay, or are `mode`; a link stays, and what it leads to is written. `temporary` is where
    it is written first, for who has noted it; else a name is made up.

    Raises:
        Refused: the folder cannot be written.
    """
    path = os.path.realpath(path) if os.path.islink(path) else path
    if os.path.islink(path):
        raise Refused(f"{path} cannot be written: it is a link that leads to itself.", "Take it away first.")
    folder, temporary = os.path.dirname(path), temporary or temporary_beside(path)
    try:
        os.makedirs(folder, exist_ok=True)
        handle = os.open(temporary, os.O_WRONLY | os.O_CREAT | os.O_EXCL | getattr(os, "O_BINARY", 0), 0o600)
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
    forget_bytecode(path)
    _sync_folder(folder)


def forget_bytecode(path: str) -> None:
    """Remove what Python compiled of a source file that was replaced; nothing of what is none.

    Python takes it for that of any file of the same size whose time of change is in the same second.
    """
    folder, name = os.path.split(path)
    stem, ending = os.path.splitext(name)
    cache = os.path.join(folder, "__pycache__")
    if ending != ".py" or os.path.islink(cache):
        return
    try:
        for entry in os.listdir(cache):
            if entry.startswith(f"{stem}.") and entry.endswith(".pyc"):
                os.unlink(os.path.join(cache, entry))
    except OSError:  # there is none, or it is another user's
        pass


def _as_before(path: str, temporary: str, mode: int | None) -> None:
    """Give a new file the permissions and owner of the one whose place it takes, or those of any new file."""
    try:
        info = os.stat(path)
    except OSError:
        mask = os.umask(0)
        os.umask(mask)
        os.chmod(temporary, 0o666 & ~mask if mode is None else mode)
        return
    if hasattr(os, "chown") and os.geteuid() == 0:  # first, as it takes some permissions away
        os.chown(temporary, info.st_uid, info.st_gid)
    os.chmod(temporary, stat.S_IMODE(info.st_mode) if mode is None else mode)


def temporary_near(folder: str) -> str:
    """Return where a new folder is built before it takes its place: near it, on the same device.

    Not in the same folder where that can be helped: who lists that one would
    take what a kill leaves behind for one of its own.
    """
    parent = os.path.dirname(folder)
    above = os.path.dirname(parent)
    there = missing_folders(parent)
    if there:  # all of it is on one device
        return temporary_beside(there[0])
    try:
        apart = os.access(above, os.W_OK) and os.stat(above).st_dev == os.stat(parent).st_dev
    except OSError:
        apart = False
    return temporary_beside(parent if apart else folder)


def make_folder_with(folder: str, files: dict[str, bytes], temporary: str) -> None:
    """Create a folder with files in it, at once: built at a temporary place, then renamed.

    Raises:
        Refused: it exists already, or its parent cannot be written.
    """
    parent = os.path.dirname(folder)
    try:
        os.makedirs(parent, exist_ok=True)
        os.mkdir(temporary, 0o700)
        try:
            os.chmod(temporary, 0o755)
            for name, data in files.items():
                _write_new(os.path.join(temporary, name), data)
            os.rename(temporary, folder)
        except BaseException:
            remove_temporary(temporary)
            raise
    except OSError as error:
        raise Refused(f"{folder} cannot be made: {error.strerror}.",
                      "See to it that its parent folder is yours to write.") from None
    _sync_folder(parent)
