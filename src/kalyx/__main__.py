"""The way in: ``kalyx`` and ``python -m kalyx``.

Kalyx looks into folders where a ``random.py`` or a broken package may lie, so
before anything else is imported, sys.path is brought back to Kalyx's own
installation and its interpreter's standard library.
"""

import gc
import os
import sys

__all__ = ["finish", "main"]


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


class Ended(KeyboardInterrupt):
    """A signal asked us to end, as Ctrl-C does."""

    def __init__(self, number: int) -> None:
        super().__init__(f"signal {number}")
        self.number = number


def end_by_signals() -> None:
    """Have SIGTERM, and SIGHUP where it is not ignored, end us as Ctrl-C does: with all that we started."""
    import _signal  # `signal` loads `enum`, which takes as long as all else

    def end(number: int, _: object) -> None:
        children = sys.modules.get("kalyx.core.machine.children")
        if children is None or not children.holds_back(number):
            raise Ended(number)

    for name, usual in (("SIGTERM", _signal.SIG_DFL), ("SIGHUP", _signal.SIG_DFL),
                        ("SIGINT", _signal.default_int_handler)):
        number = getattr(_signal, name, None)
        if number is not None and _signal.getsignal(number) == usual:
            _signal.signal(number, end)
    sys.unraisablehook = _told_again


def _told_again(ignored: "sys.UnraisableHookArgs") -> None:
    """Send a signal once more that came where Python ignores what is raised, as in the end of an object."""
    import _thread
    import time

    from kalyx.core.machine.children import send_to_us

    def send(number: int) -> None:
        time.sleep(0.01)  # until that place has been left
        send_to_us(number)

    if isinstance(ignored.exc_value, KeyboardInterrupt):
        _thread.start_new_thread(send, (getattr(ignored.exc_value, "number", 2),))
    else:
        sys.__unraisablehook__(ignored)


def obey_encoding() -> None:
    """Print as PYTHONIOENCODING says, which Python itself leaves out when it is started isolated."""
    named = os.environ.get("PYTHONIOENCODING", "") if sys.flags.isolated else ""
    encoding, _, errors = named.partition(":")
    for stream in (sys.stdout, sys.stderr) if named else ():
        try:
            stream.reconfigure(encoding=encoding or None, errors=errors or None)  # type: ignore[union-attr]
        except (LookupError, AttributeError, ValueError):  # no such encoding, or no such stream
            pass


def main() -> None:
    """Run the command line and end the process with its exit status."""
    gc.disable()  # a command lives for a moment: collecting costs more than it frees
    secure_import_path()
    end_by_signals()
    obey_encoding()
    from kalyx.cli import run

    status = run(sys.argv[1:])
    os._exit(finish(status))  # nothing is left to tidy up, and tidying memory takes a while


def finish(status: int) -> int:
    """End what is left of what we started, and hand over what was printed; return the exit status."""
    children = sys.modules.get("kalyx.core.machine.children")
    for _ in range(3):  # a second signal is not to leave half of it
        try:
            if children is not None:
                children.end_all_runs()
                sys.modules["kalyx.core.machine.scratch"].remove_all()
            break
        except KeyboardInterrupt:
            continue
    try:
        for stream in (sys.stdout, sys.stderr):
            if stream is not None:
                stream.flush()
    except BrokenPipeError:  # whoever read it has gone
        pass
    except (OSError, ValueError) as error:
        return cannot_print(error)
    return status


def cannot_print(error: Exception) -> int:
    """Say on standard error that the answer could not be written; return the status for that."""
    reason = getattr(error, "strerror", None) or str(error)
    try:
        os.write(2, f"kalyx: The answer could not be written: {reason}.\n".encode())
    except OSError:
        pass
    return 3


if __name__ == "__main__":
    main()
