"""The files that a shell reads when it starts, and the line of them that has another Python found first."""

from __future__ import annotations

import re

from kalyx.core.errors import Unreadable
from kalyx.core.model import Evidence

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.files import Files

__all__ = ["START_FILES", "read_at_start", "who_puts_first"]

# in the order in which they are read; $ZDOTDIR is the home folder where it is not set
START_FILES: dict[str, tuple[str, ...]] = {
    "bash": ("/etc/bash.bashrc", "/etc/bashrc", "~/.bashrc", "~/.bash_aliases"),
    "zsh": ("/etc/zsh/zshenv", "/etc/zshenv", "$ZDOTDIR/.zshenv", "/etc/zsh/zshrc", "/etc/zshrc", "$ZDOTDIR/.zshrc"),
    "fish": ("/etc/fish/config.fish", "~/.config/fish/conf.d/*.fish", "~/.config/fish/config.fish"),
    "tcsh": ("/etc/csh.cshrc", "~/.tcshrc", "~/.cshrc"), "csh": ("/etc/csh.cshrc", "~/.cshrc"),
    "xonsh": ("~/.config/xonsh/rc.xsh", "~/.xonshrc"), "sh": ("$ENV",), "dash": ("$ENV",),
    "nu": ("~/.config/nushell/env.nu", "~/.config/nushell/config.nu"),
}
_ALIAS = re.compile(r"\b(?:alias|function)\s+(?:python|pip)\b")


def read_at_start(files: Files, shell: str) -> list[str]:
    """Return the files that a shell reads when somebody types into it, whether they are there or not."""
    m, found = files, []
    for name in START_FILES.get(shell, ()):
        path = name.replace("$ZDOTDIR", m.env.get("ZDOTDIR") or "~").replace("$ENV", m.env.get("ENV", ""))
        folder, last = m.path.split(m.absolute(path)) if path else ("", "")
        if "*" in last:
            found += [m.path.join(folder, n) for n in m.names_in(folder) if n.endswith(last[1:])]
        elif last:
            found.append(m.path.join(folder, last))
    return found


def who_puts_first(files: Files, shell: str, found: str) -> Evidence | None:
    """Return the last line of a shell's start-up files that makes `found` what ``python`` means; None if none does.

    `found` is a program, or what the shell says of an alias or a function of that name.
    """
    m = files
    folder = m.path.dirname(found) if found.startswith("/") else ""
    names = {folder, folder.replace(m.home, "~", 1), folder.replace(m.home, "$HOME", 1),
             folder.replace(m.home, "${HOME}", 1)}
    below = folder[len(m.home):] if folder.startswith(m.home + "/") else ""
    prefix = m.path.dirname(folder) if folder.count("/") > 2 else ""
    best: Evidence | None = None
    for file in read_at_start(m, shell):
        try:
            lines = m.read_text(file, 1024 * 1024).split("\n")
        except Unreadable:
            continue
        for number, line in enumerate(lines, 1):
            row = line.strip()[:4096]
            if row.startswith("#") or not row:
                continue
            named = any(re.search(rf"(?<![\w.-]){re.escape(n)}(?![\w.-])", row) for n in names) or (
                below and below in row and "HOME" in row) or (prefix and "activate" in row and any(
                    p in row for p in (prefix + "/", prefix.replace(m.home, "~", 1) + "/")))
            if named if folder else _ALIAS.search(row):
                best = Evidence(row, file, number)
    return best
