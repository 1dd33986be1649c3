"""Group F: what stands in the person's own file by mistake, where Python only says that its syntax is wrong.

Each rule looks at the line that cannot be parsed, or at the whole file, and says what that really is and
how to mend it. Without a rule, Python's own message is what is said.
"""

from __future__ import annotations

import ast
import re

from kalyx.core.errors import Unreadable
from kalyx.core.lean.record import record
from kalyx.core.model import Place, Remedy
from kalyx.core.verdicts.remedies import files, pip, which_pip
from kalyx.core.verdicts.remedies.source_edits import change_line

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable

    from kalyx.core.facts.imports.case import Case
    from kalyx.core.model import ObservedError
    Rule = Callable[["_Broken"], "Slip | None"]

__all__ = ["Slip", "slip_in"]

SYNTAX_ERRORS = ("SyntaxError", "IndentationError", "TabError", "UnicodeDecodeError", "ValueError")
# How a command rewrites a file: from an encoding, by a function of its text
_REWRITE = "import pathlib, re, sys; p = pathlib.Path(sys.argv[1]); t = p.read_bytes().decode({encoding!r}); " \
           "p.write_bytes({text}.encode('utf-8'))"
_MERGE = re.compile(r"^(?:<{7}|={7}|>{7})(?: .*)?$", re.MULTILINE)
_PROMPT = re.compile(r"^(?:>>> |\.\.\. |>>>$|In \[\d+\]: )", re.MULTILINE)
_MAGIC = re.compile(r"^[%!]\s*\S")
_TERMINAL = re.compile(r"^\$?\s*(?:sudo\s+)?(?:python3?\s+-m\s+)?"
                    r"(pip3?|conda|mamba|uv|apt|apt-get|brew|cd|source|python3?|py)\s+(?:(install)\s+)?([\w.~/-].*)$")
# What text programs, web pages and other alphabets put in place of plain characters
_TYPED = {**dict.fromkeys("\u201c\u201d\u201e\u00ab\u00bb", '"'), **dict.fromkeys("\u2018\u2019", "'"),
          **dict.fromkeys("\u2013\u2014\u2212", "-"), **dict.fromkeys("\u200b\ufeff", ""), "\u00a0": " ",
          "\u2026": "...", "\uff08": "(", "\uff09": ")", "\uff1a": ":", "\uff0c": ","}


@record
class Slip:
    """What a file holds by mistake, as the end of a sentence about it, and what to do."""

    says: str
    remedies: tuple[Remedy, ...]


@record
class _Broken:
    """A file of the person's own that Python cannot parse."""

    case: Case
    file: str
    line: int
    code: str  # the line, stripped
    text: str
    message: str

    def rewrite(self, does: str, encoding: str, text: str) -> Remedy:
        """Return the command that writes the file anew by a function of its text."""
        code = _REWRITE.format(encoding=encoding, text=text)
        argv = (self.case.python.executable, *which_pip.pip_flags(self.case), "-c", code, self.file)
        return Remedy(does, "command", argv=argv, changes=self.file)

    def change(self, does: str, changed: str, line: int = 0) -> Remedy | None:
        """Return the edit that writes a line anew."""
        line = line or self.line
        old = self.case.modules.code_line(self.file, line)
        edit = change_line(self.case, Place(self.file, line, text=old), changed)
        return Remedy(does, "edit", edits=(edit,), changes=f"line {line} of {self.file}") if edit else None

    def by_hand(self, does: str) -> Remedy:
        """Return what only the person can do."""
        return Remedy(does, "manual", changes=self.file)


def slip_in(case: Case, error: ObservedError) -> tuple[str, int, Slip] | None:
    """Return the file, the line, and what stands there by mistake; None where no rule knows it."""
    if error.type not in SYNTAX_ERRORS and error.type != "NameError":
        return None
    file = _file_of(case, error)
    if file is None or not case.files.is_file(file) or case.distributions.of(file) is not None \
            or case.modules.layer_of_file(file) in ("stdlib", "env", "base", "user"):
        return None
    try:
        data = case.files.read_bytes(file, 4 * 1024 * 1024)
    except Unreadable:
        return None
    line = error.lineno or (error.frames[-1].line if error.frames and error.frames[-1].file == file else 1)
    text = data.decode("utf-8", "replace")
    broken = _Broken(case, file, line, case.modules.code_line(file, line), text, error.message)
    rules = _OF_NAMES if error.type == "NameError" else _OF_SYNTAX
    slip = _encoding(broken, data) or next((s for rule in rules if (s := rule(broken)) is not None), None)
    return (file, line, slip) if slip is not None else None


def _file_of(case: Case, error: ObservedError) -> str | None:
    """Return the file that cannot be parsed; of one with zeros in it Python names only who imported it."""
    if "null bytes" in error.message and error.frames:
        frame = error.frames[-1]
        words = re.match(r"(?:import|from)\s+([\w.]+)", case.modules.code_line(frame.file, frame.line))
        return case.modules.file_of(words[1]) if words else None
    asked = next((p.path for p in case.asked if p.guard == "file"), None)
    return error.frames[-1].file if error.frames else asked or case.modules.file_of(case.obs.module)


def _encoding(broken: _Broken, data: bytes) -> Slip | None:
    """The file is in another encoding than UTF-8, and does not say so (PEP 263)."""
    if data[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return Slip("is saved as UTF-16, which Python does not read",
                    (broken.rewrite("Save it as UTF-8.", "utf-16", "t"),))
    if "\ufffd" not in broken.text or b"coding" in b"".join(data.split(b"\n")[:2]) or b"\0" in data:
        return None
    try:
        data.decode("cp1252")
        encoding = "cp1252"
    except UnicodeDecodeError:
        encoding = "latin-1"
    return Slip(f"is not saved as UTF-8, but most likely as {encoding}, and does not say so",
                (broken.rewrite("Save it as UTF-8.", encoding, "t"),
                 broken.by_hand(f"Or write # -*- coding: {encoding} -*- as its first line.")))


def _merge(broken: _Broken) -> Slip | None:
    marks = [broken.text.count("\n", 0, m.start()) + 1 for m in _MERGE.finditer(broken.text)]
    if len(marks) < 3 or not _MERGE.match(broken.code):
        return None
    a, b, c = marks[:3]
    return Slip("is in the middle of a merge that was not finished", (broken.by_hand(
        f"Keep what stands between lines {a} and {b}, or what stands between {b} and {c}; delete the rest of "
        "it, and these three lines."),))


def _prompt(broken: _Broken) -> Slip | None:
    if not _PROMPT.match(broken.code):
        return None
    form = r"re.sub(r'(?m)^(>>>|\.\.\.|In \[\d+\]:)( |$)', '', t)"
    return Slip("was copied from a session together with Python's prompts",
                (broken.rewrite("Take the prompts away.", "utf-8", form),))


def _magic(broken: _Broken) -> Slip | None:
    if not _MAGIC.match(broken.code):
        return None
    todo = broken.change("Make a comment of it.", f"# {broken.code}")
    return Slip("is a line that only notebooks understand", (todo,) if todo else ())


def _terminal(broken: _Broken) -> Slip | None:
    match = _TERMINAL.match(broken.code)
    if match is None or (match[1] not in ("pip", "pip3", "conda", "mamba") and "=" in broken.code):
        return None
    todo = [broken.change("Make a comment of it.", f"# {broken.code}")]
    if match[1].startswith("pip") and match[2] and re.fullmatch(r"[A-Za-z][\w.-]*", match[3]):
        todo += pip.install(broken.case, match[3])
    return Slip("is a command for the terminal, and not Python", tuple(r for r in todo if r is not None))


def _typography(broken: _Broken) -> Slip | None:
    wrong = [c for c in broken.code if c in _TYPED]
    if not wrong or "invalid" not in broken.message:
        return None
    todo = broken.change("Write it with plain characters.", "".join(_TYPED.get(c, c) for c in broken.code))
    shown = " and ".join(f"{c} (U+{ord(c):04X})" if c.isprintable() else f"U+{ord(c):04X}"
                         for c in dict.fromkeys(wrong))
    return Slip(f"holds {shown}, as text programs and web pages write it", (todo,) if todo else ())


def _number_first(broken: _Broken) -> Slip | None:
    match = re.match(r"(?:import|from)\s+(\d+[_-]*)(\w*)", broken.code)
    if match is None:
        return None
    new = f"{match[2] or 'file'}_{match[1].rstrip('_-')}"
    return Slip("names a module that begins with a digit, which no name can",
                (broken.by_hand(f"Call the file {new}.py, and write {new} here."),))


def _tabs(broken: _Broken) -> Slip | None:
    if "\t" not in broken.text or not re.search("tabs and spaces|unindent", broken.message):
        return None
    for width in (8, 4, 2):
        try:
            ast.parse(broken.text.expandtabs(width))
        except (SyntaxError, ValueError):
            continue
        return Slip("is indented with tabs here and with blanks there", (broken.rewrite(
            f"Write {width} blanks for each tab.", "utf-8", f"t.expandtabs({width})"),))
    return None


def _web_page(broken: _Broken) -> Slip | None:
    if not re.match(r"(?<!\s)\s*<(?:!doctype html|html|\?xml)\b", broken.text, re.IGNORECASE):
        return None
    return Slip("belongs to a web page that was saved under this name", (broken.by_hand(
        "Download the file itself, in its raw form, and not the page that shows it."),))


def _notebook(broken: _Broken) -> Slip | None:
    if not broken.text.lstrip().startswith("{") or '"cells"' not in broken.text:
        return None
    new = broken.file.removesuffix(".py") + ".ipynb"
    return Slip("is that of a notebook, which was saved under this name",
                (files.rename(broken.case.files, broken.file, new),))


_OF_SYNTAX: tuple[Rule, ...] = (_web_page, _notebook, _merge, _prompt, _magic, _number_first, _typography,
                                _terminal, _tabs)
_OF_NAMES: tuple[Rule, ...] = (_notebook,)
