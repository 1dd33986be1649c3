"""A page of text: lines with roles, put together without knowing where they are printed.

Sentences are wrapped; commands and paths are never broken, so that they can
be copied whole. The home folder is written ``~``.
"""

from __future__ import annotations

from kalyx.core.lean.record import record
from kalyx.core.masks import masked
from kalyx.core.quoting import join_words, quote_word

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

    from kalyx.core.model import Evidence, Finding, Remedy

__all__ = ["ASCII_MARKS", "Line", "Page", "clean"]

MARKS = {"problem": "◆", "ok": "◇", "unknown": "◈", "note": "·"}
ASCII_MARKS = {"◆": "[!]", "◇": "[ok]", "◈": "[?]", "·": "-", "…": "...", "→": "->", "│": "|"}
EVIDENCE_OF_SEVERAL = 3  # pieces shown of each finding where there are several


def clean(text: str) -> str:
    """Make visible what is not seen, or would steer the terminal, and hide what is secret.

    What is not seen is all of Unicode's control, format, surrogate and private
    characters and its separators but the blank.
    """
    text = masked(text)
    return text if text.isprintable() else "".join(c if c.isprintable() else _shown(c) for c in text)


def _shown(char: str) -> str:
    code = ord(char)
    if char in "\n\t\r":
        return {"\n": "\\n", "\t": "\\t", "\r": "\\r"}[char]
    return f"\\x{code:02x}" if code < 256 else f"\\u{code:04x}" if code < 0x10000 else f"\\U{code:08x}"


def _with_tilde(text: str, home: str) -> str:
    """Write the home folder as ``~`` where it stands as a whole path or begins one."""
    before, *rest = text.split(home)
    found = before
    for after in rest:
        is_begun = before[-1:].isalnum() or before[-1:] in tuple("_./\\-")
        goes_on = after and not after[0].isspace() and after[0] not in "/\\,;:.'\")"
        found += (home if is_begun or goes_on else "~") + after
        before = after or home
    return found


@record
class Line:
    """Text with an indent. ``role`` names its style; ``lead`` stands before it; ``hang`` wraps."""

    text: str
    role: str = "plain"
    indent: int = 0
    lead: str = ""
    lead_role: str = "plain"
    wrap: bool = True


class Page:
    """Collects lines. ``home`` is shortened to ``~``."""

    def __init__(self, home: str = "", windows: bool = False,
                 own_command: tuple[str, ...] = (), shell: str = "") -> None:
        self.home = home
        self.windows = windows
        self.shell = shell or ("cmd" if windows else "sh")
        self.own_command = own_command
        self.lines: list[Line] = []

    def short(self, text: str) -> str:
        """Write the home folder as ``~`` wherever it begins a path."""
        if len(self.home) > 1 and self.home in text:
            text = _with_tilde(text, self.home)
        return clean(text)

    def blank(self) -> None:
        """Leave a line free, never two."""
        if self.lines and self.lines[-1].text:
            self.lines.append(Line(""))

    def title(self, status: str, text: str) -> None:
        """State the answer."""
        self.lines.append(Line(self.short(text), f"title-{status}", 0, MARKS[status] + " ",
                               f"mark-{status}"))

    def part(self, name: str) -> None:
        """Open one of the parts of an answer."""
        self.blank()
        self.lines.append(Line(name, "part", 2))

    def say(self, text: str, role: str = "plain", indent: int = 4, lead: str = "") -> None:
        """Add a sentence, wrapped."""
        self.lines.append(Line(self.short(text), role, indent, lead, "lead"))

    def whole(self, text: str, role: str = "path", indent: int = 7, lead: str = "") -> None:
        """Add a line that must not be broken."""
        self.lines.append(Line(self.short(text), role, indent, lead, "lead", False))

    def literal(self, text: str, indent: int = 4, role: str = "plain") -> None:
        """Add a line that somebody else wrote, to the letter."""
        self.lines.append(Line(clean(text), role, indent, wrap=False))

    def command(self, argv: Sequence[str], cwd: str | None = None, indent: int = 7) -> None:
        """Add a command line, ready to copy."""
        self.lines.append(Line(self.quote(argv), "command", indent, "$ ", "lead", False))
        if cwd:
            self.whole(f"in {cwd}", "quiet", indent + 2)

    def quote(self, argv: Sequence[str]) -> str:
        """Write a command line for the shell, the home folder as ``~``, Kalyx by its name."""
        if tuple(argv[:2]) == ("sh", "-c") and len(argv) == 3 and "{" not in argv[2]:
            import shlex

            return " && ".join(self.quote(shlex.split(part)) for part in argv[2].split(" && "))
        if self.own_command and tuple(argv[:len(self.own_command)]) == self.own_command:
            argv = ("kalyx", *argv[len(self.own_command):])
        if self.windows or (argv and argv[0][:1].isalpha() and argv[0][1:3] == ":\\"):
            return clean(join_words(argv, self.shell if self.shell == "powershell" else "cmd"))
        words = []
        for word in argv:
            quoted = quote_word(word, self.shell)
            inside = len(self.home) > 1 and word.startswith(self.home + "/")
            if inside and quoted == word:
                quoted = "~" + word[len(self.home):]
            elif inside and word.isprintable():
                quoted = "~/" + quote_word(word[len(self.home) + 1:], self.shell)
            words.append(quoted)
        return clean(" ".join(words))

    def typed(self, line: str) -> None:
        """Add a line that is quoted already, for the person's own shell."""
        for row in line.split("\n"):
            if not self.windows and len(self.home) > 1:
                row = row.replace(f" {self.home}/", " ~/")
                row = f"~{row[len(self.home):]}" if row.startswith(self.home + "/") else row
            self.lines.append(Line(clean(row), "command", 7, "$ ", "lead", False))

    # -- the parts of a finding -------------------------------------------------------------
    def finding(self, finding: Finding, *, because: bool = True) -> None:
        """Add the three parts of a finding."""
        if because:
            self.part("because")
            self.say(finding.because)
        self.evidence(finding.evidence)
        self.remedies(finding.remedies)

    def findings(self, findings: Sequence[Finding], *, verbose: bool) -> None:
        """Add the three parts once for several findings, which are numbered."""
        self.part("because")
        for number, finding in enumerate(findings, 1):
            self.say(finding.because, lead=f"{number}  ")
        self.part("how we know")
        for number, finding in enumerate(findings, 1):
            shown = finding.evidence if verbose else finding.evidence[:EVIDENCE_OF_SEVERAL]
            for place, item in enumerate(shown):
                self._evidence(item, "   " if place else f"{number}  ")
        if any(f.remedies for f in findings):
            self.part("what to do")
        serves: dict[tuple[object, ...], list[int]] = {}
        for number, finding in enumerate(findings, 1):
            for remedy in finding.remedies:
                serves.setdefault((remedy.do, remedy.argv, remedy.edits), []).append(number)
        shown_already: set[tuple[object, ...]] = set()
        letters = iter("abcdefghijklmnopqrstuvwxyz")
        for finding in findings:
            for remedy in finding.remedies:
                key = (remedy.do, remedy.argv, remedy.edits)
                if key not in shown_already:
                    shown_already.add(key)
                    numbers = " and ".join(str(n) for n in serves[key])
                    self._remedy(remedy, f"{next(letters, '-')}  ", f"for {numbers}: ")

    def evidence(self, evidence: Sequence[Evidence], most: int = 12) -> None:
        """Number the evidence, each with its file and line."""
        if not evidence:
            return
        self.part("how we know")
        for number, item in enumerate(evidence[:most], 1):
            self._evidence(item, f"{number:<3}")
        if len(evidence) > most:
            self.say(f"and {len(evidence) - most} more (--verbose shows all)", "quiet", 7)

    def _evidence(self, item: Evidence, lead: str) -> None:
        self.say(item.says, lead=lead)
        place = item.path or ""
        if place and item.line:
            self.whole(f"{place}:{item.line}")
        elif place and place not in item.says:
            self.whole(place)

    def remedies(self, remedies: Sequence[Remedy]) -> None:
        """Letter the remedies, each ready to copy."""
        if not remedies:
            return
        self.part("what to do")
        for letter, remedy in zip("abcdefghijklmnopqrstuvwxyz", remedies, strict=False):
            self._remedy(remedy, f"{letter}  ")

    def remedy(self, remedy: Remedy) -> None:
        """Add one remedy by itself, without a letter."""
        self._remedy(remedy, "-> ")

    def _remedy(self, remedy: Remedy, lead: str, before: str = "") -> None:
        self.say(before + remedy.do, lead=lead)
        if remedy.typed:  # only the person's own shell can do that
            self.typed(remedy.typed)
        if remedy.argv:
            self.command(remedy.argv, remedy.cwd)
        for move in remedy.moves:  # as the person's own shell does it
            self.command(("move" if self.windows else "mv", move.path, move.to), None)
        self.edit(remedy)
        if remedy.changes and remedy.kind == "command":
            self.say(f"changes: {remedy.changes}", "quiet", 7)

    def edit(self, remedy: Remedy) -> None:
        """Add what a remedy changes in files: their lines before and after."""
        for edit in remedy.edits:
            self.whole(edit.path)
            for sign, text in (("- ", edit.before), ("+ ", edit.after)):
                for row in (text or "").splitlines():
                    self.lines.append(Line(clean(row), "before" if sign == "- " else "after",
                                           7, sign, "lead", False))  # to the letter: no ~
