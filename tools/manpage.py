"""Writes docs/kalyx.1, the manual page, from the parser: run it after a change of an option or an example."""

from __future__ import annotations

import os
import re
import sys
from pathlib import Path

PAGE = Path(__file__).resolve().parent.parent / "docs" / "kalyx.1"


def page() -> str:
    """Return the manual page (man(7)) of all commands."""
    os.environ["COLUMNS"] = "100"
    from argparse_manpage.manpage import Manpage

    from kalyx.cli.commands import COMMANDS, EXAMPLES
    from kalyx.cli.main import build_parser

    parser = build_parser()
    for command in parser.commands.values():
        command.load(everywhere=False)
    text = str(Manpage(parser, format="single-commands-section"))
    # without a date: it is the same text every day
    text = re.sub(r'(?m)^\.TH .*$', '.TH KALYX "1" "" "kalyx" "User commands"', text)
    text = text.replace("\nPOSITIONAL ARGUMENTS\n", "\nCOMMANDS\n", 1).replace(
        ".SH NAME\nkalyx\n", ".SH NAME\nkalyx \\- which Python is really used here, and why an import fails in it\n", 1)
    rows = [row for name in COMMANDS for line, what in EXAMPLES[name]
            for row in (".TP", f"\\fB{escaped(line)}\\fR", escaped(what))]
    return "\n".join([text.rstrip(), ".SH EXAMPLES", "In the folder that", "\\fBkalyx demo \\-\\-keep FOLDER\\fR",
                      "makes:", *rows]) + "\n"


def escaped(text: str) -> str:
    """Return a text as man(7) takes it."""
    return text.replace("\\", "\\e").replace("-", "\\-").replace("'", "\\(aq")


if __name__ == "__main__":
    if sys.argv[1:] == ["--check"]:
        sys.exit(page() != PAGE.read_text(encoding="utf-8"))
    PAGE.write_text(page(), encoding="utf-8")
