"""Where a kernel puts the folder that it starts from on its search path: first, or behind the standard library.

The kernel package takes the folder off the path, and the shell inside it puts it back before the site folders. Both
came with some version; whether they are of such versions is read from their files.
"""

from __future__ import annotations

from kalyx.core.errors import NotRecorded, Unreadable
from kalyx.core.facts.interpreters.flags import has_flag
from kalyx.core.facts.search_path.predicted import read_search_path

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

    from kalyx.core.facts.files import Files
    from kalyx.core.facts.interpreters.examiner import Examined
    from kalyx.core.model import Launch

__all__ = ["starts_behind"]

LAUNCHER = "ipykernel_launcher"
_SHELL = ("IPython", "core", "shellapp.py")
# What each of the two files holds where it does that
_DOES = ((("ipykernel_launcher.py",), b"cwd()"), (_SHELL, b"dist-packages"))


def starts_behind(files: Files, argv: Sequence[str], launch: Launch, examined: Examined) -> bool:
    """Whether a kernel's own folder stands behind the standard library; False where that is not shown."""
    if LAUNCHER not in argv or not examined.interpreter.works or examined.interpreter.prefix is None:
        return False
    try:
        path = read_search_path(files, examined.interpreter, examined.stdlib, examined.config, launch.env, start=None,
                                cwd=launch.cwd, flags=launch.argv[1:])
        folders = [layer.path for layer in path.layers if layer.layer != "stdlib"]
        if _is_safe(launch) and _holds(files, folders, _SHELL, b"safe_path"):
            return False
        return all(_holds(files, folders, parts, sign) for parts, sign in _DOES)
    except NotRecorded:
        return False


def _is_safe(launch: Launch) -> bool:
    """Whether Python is told to leave the folder off the path; newer shells obey that, too."""
    return bool(launch.env.get("PYTHONSAFEPATH")) or has_flag(launch.argv[1:], "IP")


def _holds(files: Files, folders: Sequence[str], parts: Sequence[str], sign: bytes) -> bool:
    """Whether the first file of a name holds some text."""
    for folder in folders:
        file = files.path.join(folder, *parts)
        if files.is_file(file):
            try:
                return sign in files.read_bytes(file, 65536)
            except Unreadable:
                return False
    return False
