"""The command line: parse, call the core, hand the answer to show."""

from kalyx.cli.main import run

__all__ = ["run"]
