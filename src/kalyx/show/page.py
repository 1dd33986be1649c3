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
LINES_OF_EVIDENCE = 2  # of each finding where there are several
REMARK = "· "
BLOCK = 18  # columns before the text of a block: its number, and the name of the part
NARROW = 80 - BLOCK - 2


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
    """Text with an indent. ``role`` names its style; ``lead`` stands before it; without ``wrap`` it is not broken.

    ``tail`` is a path that stands behind the text where there is room for all of it, and else in a line of its own.
    """

    text: str
    role: str = "plain"
    indent: int = 0
    lead: str = ""
    lead_role: str = "plain"
    wrap: bool = True
    tail: str = ""


class Page:
    """Collects lines. ``home`` is shortened to ``~``."""

    def __init__(self, home: str = "", windows: bool = False,
                 own_command: tuple[str, ...] = (), shell: str = "") -> None:
        self.home = home
        self.windows = windows
        self.shell = shell or ("cmd" if windows else "sh")
        self.own_command = own_command
        self.elsewhere = False  # what is shown is of another machine: nothing of it can be carried out here
        self.in_cell = False  # it is shown in a notebook: a command is a line of a cell
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
        """Add a sentence, wrapped; a remark (``·``) follows the one before it closely."""
        if lead == REMARK and len(self.lines) > 1 and not self.lines[-1].text and self.lines[-2].lead == REMARK:
            self.lines.pop()
        self.lines.append(Line(self.short(text), role, indent, lead, "lead"))

    def whole(self, text: str, role: str = "path", indent: int = 7, lead: str = "") -> None:
        """Add a line that must not be broken."""
        self.lines.append(Line(self.short(text), role, indent, lead, "lead", False))

    def literal(self, text: str, indent: int = 4, role: str = "plain") -> None:
        """Add a line that somebody else wrote, to the letter."""
        self.lines.append(Line(clean(text), role, indent, wrap=False))

    def table(self, rows: Sequence[Sequence[str]], indent: int = 2, roles: Sequence[str] = ()) -> None:
        """Add a line for each row: its columns as wide as what is in them, and the last one, a path, whole.

        `roles` are the styles of the rows, where they are not plain.
        """
        short = [[self.short(cell) for cell in row] for row in rows]
        widths = [max((len(row[n]) for row in short if n < len(row)), default=0)
                  for n in range(max(map(len, short), default=0))]
        for number, row in enumerate(short):
            text = "  ".join(f"{cell:<{widths[n]}}" for n, cell in enumerate(row[:-1]))
            role = roles[number] if number < len(roles) else "plain"
            self.lines.append(Line(text if row[-1] else text.rstrip(), role, indent, wrap=False, tail=row[-1]))

    def command(self, argv: Sequence[str], cwd: str | None = None, indent: int = 7) -> None:
        """Add a command line, ready to copy."""
        line = self.quote(argv)
        if self.in_cell and not set(line) & set("{}$"):  # these a notebook fills in itself
            self.lines.append(Line(f"!{line}", "command", indent, wrap=False))
        else:
            self.lines.append(Line(line, "command", indent, "$ ", "lead", False))
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

    def typed(self, line: str, indent: int = 7) -> None:
        """Add a line that is quoted already, for the person's own shell; lines of Python are for a cell."""
        if self.in_cell and line.startswith("import "):
            self.lines += [Line(clean(row), "command", indent, wrap=False) for row in line.split("\n")]
            return
        for row in line.split("\n"):
            if not self.windows and len(self.home) > 1:
                row = row.replace(f" {self.home}/", " ~/")
                row = f"~{row[len(self.home):]}" if row.startswith(self.home + "/") else row
            self.lines.append(Line(clean(row), "command", indent, "$ ", "lead", False))

    # -- the parts of a finding -------------------------------------------------------------
    def finding(self, finding: Finding, *, because: bool = True) -> None:
        """Add the three parts of a finding."""
        if because:
            self.part("because")
            self.say(finding.because)
        self.evidence(finding.evidence)
        self.remedies(finding.remedies)

    def findings(self, findings: Sequence[Finding], *, verbose: bool) -> None:
        """Add a block for each of several findings: its sentence, its evidence, its remedy.

        Without `verbose`, the evidence is what decides, and of remedies that a finding before it had, the letter.
        """
        known: dict[tuple[object, ...], str] = {}
        for number, finding in enumerate(findings, 1):
            self.blank()
            self._labelled(f"{number:<3}", "because", finding.because)
            shown = finding.evidence if verbose else self.decisive(finding.evidence)
            for place, item in enumerate(shown):
                self._labelled("", "" if place else "how we know", item.says, self._place(item))
            for place, (letter, remedy) in enumerate(zip("abcdefghijklmnopqrstuvwxyz", finding.remedies, strict=False)):
                key = (remedy.do, remedy.argv, remedy.edits, remedy.moves, remedy.typed)
                label = "" if place else "to do there" if self.elsewhere else "what to do"
                if key in known:
                    self._labelled("", label, f"the same as {known[key]}", letter=f"{letter}  ")
                    continue
                known[key] = f"{letter} of {number}"
                self._labelled("", label, remedy.do, letter=f"{letter}  ")
                self._carried_out(remedy, BLOCK + 3, brief=not verbose)
        if not verbose and any(len(f.evidence) > len(self.decisive(f.evidence)) for f in findings):
            self.blank()
            self.say("--verbose shows all the evidence.", "quiet", 2, REMARK)

    def decisive(self, evidence: Sequence[Evidence]) -> list[Evidence]:
        """Return as much evidence as two lines of a narrow terminal hold: first what names a file and its line."""
        found: list[Evidence] = []
        height = 0
        for item in sorted(evidence, key=lambda e: not (e.path and e.line)):
            height += 1 + (len(self.short(item.says)) + len(self._place(item)) > NARROW)
            if found and height > LINES_OF_EVIDENCE:
                break
            found.append(item)
        return found

    def _labelled(self, number: str, label: str, text: str, tail: str = "", letter: str = "") -> None:
        """Add a line of a block, the name of its part in front of it."""
        lead = f"{number:<3}{label:<{BLOCK - 5}}{letter}"
        self.lines.append(Line(self.short(text), "plain", 2, lead, "part", tail=tail))

    def _place(self, item: Evidence) -> str:
        """Return the file and line of a piece of evidence, where its sentence does not name them."""
        if not item.path or (not item.line and item.path in item.says):
            return ""
        return self.short(f"{item.path}:{item.line}" if item.line else item.path)

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
        self.part("what to do there" if self.elsewhere else "what to do")
        for letter, remedy in zip("abcdefghijklmnopqrstuvwxyz", remedies, strict=False):
            self._remedy(remedy, f"{letter}  ")

    def remedy(self, remedy: Remedy, *, brief: bool = False) -> None:
        """Add one remedy by itself, without a letter; if `brief`, without what it changes."""
        self._remedy(remedy, "-> ", brief=brief)

    def _remedy(self, remedy: Remedy, lead: str, *, brief: bool = False) -> None:
        self.say(remedy.do, lead=lead)
        self._carried_out(remedy, 7, brief=brief)

    def _carried_out(self, remedy: Remedy, indent: int, *, brief: bool = False) -> None:
        """Add what a remedy consists of: lines to type, commands, edits; and, unless `brief`, what it changes."""
        if remedy.typed:  # only the person's own shell can do that
            self.typed(remedy.typed, indent)
        if remedy.argv:
            self.command(remedy.argv, remedy.cwd, indent)
        for move in remedy.moves:  # as the person's own shell does it
            self.command(("move" if self.windows else "mv", move.path, move.to), None, indent)
        self.edit(remedy, indent)
        if remedy.changes and remedy.kind == "command" and not brief:
            self.say(f"changes: {remedy.changes}", "quiet", indent)

    def edit(self, remedy: Remedy, indent: int = 7) -> None:
        """Add what a remedy changes in files: their lines before and after."""
        for edit in remedy.edits:
            self.whole(edit.path, indent=indent)
            for sign, text in (("- ", edit.before), ("+ ", edit.after)):
                for row in (text or "").splitlines():
                    self.lines.append(Line(clean(row), "before" if sign == "- " else "after",
                                           indent, sign, "lead", False))  # to the letter: no ~
