"""A program that takes over the terminal: it has our input and output, and we wait for its end."""

from __future__ import annotations

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

__all__ = ["hand_over"]


def hand_over(argv: Sequence[str], env: Mapping[str, str]) -> int:
    """Run a program in our terminal until it ends; return its exit status. Ctrl-C is for it alone.

    Raises:
        OSError: it cannot be started.
    """
    import signal
    import subprocess

    # not ignored, which whatever is started from there would inherit: a handler of ours ends with our own program
    before = signal.signal(signal.SIGINT, lambda *_: None)
    try:
        child = subprocess.Popen(argv, env=dict(env))
        try:
            return child.wait()
        except BaseException:  # we are to end
            child.send_signal(getattr(signal, "SIGHUP", signal.SIGTERM))
            raise
    finally:
        signal.signal(signal.SIGINT, before)
