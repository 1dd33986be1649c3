"""The way in: ``kalyx`` and ``python -m kalyx``.

Kalyx looks into folders where a ``random.py`` or a broken package may lie, so
before anything else is imported, sys.path is brought back to Kalyx's own
installation and its interpreter's standard library.
"""

import gc
import os
import sys


def secure_import_path() -> None:
    """Take the start folder and the PYTHONPATH entries off sys.path.

    The folder that holds Kalyx itself stays, at the end when it was one of
    those: its own modules come from its own installation.
    """
    own = os.path.dirname(os.path.dirname(os.path.realpath(__file__)))
    foreign = {_place(p) for p in os.environ.get("PYTHONPATH", "").split(os.pathsep) if p}
    if sys.path and not (sys.flags.isolated or getattr(sys.flags, "safe_path", False)):
        foreign.add(_place(sys.path[0]))
    places = {p: _place(p) for p in sys.path if p}
    sys.path[:] = [p for p in sys.path if p and places[p] not in foreign]
    if _place(own) not in map(places.get, sys.path):
        sys.path.append(own)


def _place(path: str) -> object:
    """Return what is equal for all spellings of a folder; the spelling itself where nothing is there."""
    try:
        info = os.stat(path or os.curdir)
    except (OSError, ValueError):
        return path
    return (info.st_dev, info.st_ino) if info.st_ino else os.path.realpath(path)  # some shares number nothing


def main() -> None:
    """Run the command line and end the process with its exit status."""
    gc.disable()  # a command lives for a moment: collecting costs more than it frees
    sys.setswitchinterval(0.0005)  # who waits for a child is not to wait for who reads meanwhile
    secure_import_path()
    if sys.argv[1:] == ["--version"]:  # answered before argparse is loaded
        from kalyx import __version__

        print("kalyx", __version__)
        status = 0
    else:
        from kalyx.cli import run

        status = run(sys.argv[1:])
    try:
        sys.stdout.flush()
        sys.stderr.flush()
    except (OSError, ValueError):  # whoever read it has gone
        pass
    os._exit(status)  # nothing is left to tidy up, and tidying memory takes a while


if __name__ == "__main__":
    main()
