"""Runs a module of an interpreter's own, such as pip, without the working folder on its path."""

from __future__ import annotations

__all__ = ["run_module"]

# What `-m` does, but for the folder that it puts first: a venv.py or pip.py there would run instead.
# `sys` is compiled in; `runpy` is looked for when the empty entry is gone.
_RUN = ("import sys; sys.path[:] = [p for p in sys.path if p]; import runpy; "
        "runpy.run_module({module!r}, run_name='__main__', alter_sys=True)")


def run_module(python: str, module: str) -> tuple[str, ...]:
    """Return the beginning of a command that runs a module of an interpreter; its arguments follow."""
    return (python, "-c", _RUN.format(module=module))
