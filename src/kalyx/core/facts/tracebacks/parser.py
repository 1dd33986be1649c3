"""Pasted tracebacks: plain, chained, in groups, in colour, of notebooks, from Windows or elsewhere."""

from __future__ import annotations

import ast
import re

from kalyx.core.lean.record import field, record, replace
from kalyx.core.model import Frame, ObservedError

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

__all__ = ["TEXT_LIMIT", "Place", "Traceback", "parse_clash", "parse_fatal", "parse_refusal", "parse_traceback",
           "place_of"]

_ESCAPES = re.compile(r"\x1b\[[0-9;?]*[ -/]*[@-~]|\x1b\][^\x07\x1b]*(?:\x07|\x1b\\)|\x1b[@-Z\\-_]")
_MARGIN = re.compile(r"^(?:\s*(?:\| ?)+|E {2,}|> (?=File ))")
_RULER = re.compile(r"^(?=[|+ \t]*?[-+]{3})[-+|\t \d.]+$|^=[= \w]*=$")
# What ``python -m`` says of a module that is not there; it is no traceback
_REFUSAL = re.compile(r"^(?P<python>(?:[A-Za-z]:)?[^:\n]*?(?:python|pypy)[\w.]*): (?:"
                   r"No module named '?(?P<module>[\w.]+)'?$|"
                   r"Error while finding module specification for '[\w.]+' \((?P<said>.*)\)$)", re.MULTILINE)
_FRAME = (
    re.compile(r'^\s*File "(?P<file>.+?)", line (?P<line>\d{1,9})(?:, in (?P<name>.+?))?\s*$'),
    re.compile(r"^\s*File (?P<file>\S.*?):(?P<line>\d{1,9})(?:, in (?P<name>[^(]+?)(?:\(.*\))?)?\s*$"),
    re.compile(r"^\s*(?:Cell|Input) In ?\[(?P<cell>\d{1,9})\],? (?:line (?P<line>\d{1,9})|in .*)\s*$"),
    re.compile(r"^\s*(?P<file><ipython-input-\d+-\w+>) in (?P<name><module>|\w+)(?:\(.*\))?\s*$"),
    re.compile(r"^\s*(?P<file>(?:[A-Za-z]:\\|~?/)\S.*?\.pyx?) in (?P<name><module>|\w+)(?:\(.*\))?\s*$"),
    re.compile(r"^(?P<file>[^\s:<>\"']+\.py):(?P<line>\d{1,9}): in (?P<name><module>|\w+)\s*$"),
)
_ARROW = re.compile(r"^\s*-{2,}>\s*(?P<line>\d{1,9})\s(?P<code>.*)$")
_ERROR = re.compile(r"^(?P<type>(?:[A-Za-z_]\w*\.)*[A-Z]\w*(?:Error|Exception|Exit|Interrupt|Group|Conflict|"
                    r"NotFound|Warning|Iteration))(?:: (?P<message>.*))?$")
# What stands at the margin after a frame is the exception too, whatever its class is called
_ANY_ERROR = re.compile(r"^(?P<type>(?:[A-Za-z_]\w*\.)+[A-Za-z_]\w*|[A-Z]\w*)(?:: (?P<message>.*))?$")
_HEADER = re.compile(r"^\S+\s{2,}Traceback \(most recent call last\)")
_LINKS = {"The above exception was the direct cause": "cause",
          "During handling of the above exception": "context"}
_SITE = re.compile(r"^(?P<prefix>.*?)/lib(?:64)?/(?P<kind>python|pypy)(?P<version>\d(?:\.\d+)?)t?/"
                   r"(?P<site>site-packages|dist-packages)/")
_LIBRARY = re.compile(r"^(?P<prefix>.*?)/lib(?:64)?/(?P<kind>python|pypy)(?P<version>\d\.\d+)t?/")
_WINDOWS_SITE = re.compile(r"^(?P<prefix>[A-Za-z]:\\.*?)\\lib\\site-packages\\", re.IGNORECASE)
_WINDOWS_LIBRARY = re.compile(r"^(?P<prefix>[A-Za-z]:\\.*?)\\lib\\(?!site-packages)", re.IGNORECASE)
_FATAL = re.compile(r"^(?:Fatal Python error|Windows fatal exception): (?P<said>.+)$", re.MULTILINE)
TEXT_LIMIT = 4 * 1024 * 1024
MESSAGE_LIMIT = 16_384  # characters of an exception's message
MOST_FRAMES = 400


@record
class Place:
    """Where a file of a traceback lies: the prefix, and ``site``, ``stdlib``, ``user`` or ``own``."""

    kind: str
    prefix: str = ""
    version: str = ""
    folder: str = ""  # the site folder, or that of the standard library


@record
class Traceback:
    """A traceback as it was read. ``chain`` has the final exception first; ``code`` what lines held."""

    chain: tuple[ObservedError, ...]
    program: str = ""  # the interpreter, where the text names it
    code: dict[tuple[str, int], str] = field(default_factory=dict)

    @property
    def frames(self) -> list[Frame]:
        """All frames, those of the first exception first."""
        return [f for e in reversed(self.chain) for f in e.frames]

    @property
    def windows(self) -> bool:
        """Whether its paths are of Windows."""
        return any(re.match(r"[A-Za-z]:\\", p) for p in (self.program, *(f.file for f in self.frames)))

    def request(self) -> tuple[str, str | None, Frame] | None:
        """Return the first import that a frame was carrying out: module, name, and the frame.

        Of several on its line it is the one that the exception names, or that the next frame is in.
        """
        for error in reversed(self.chain):
            for number, frame in enumerate(error.frames):
                found = imports_on(self.code.get((frame.file, frame.line), ""))
                if found:
                    return (*self._meant(found, error, error.frames[number + 1:]), frame)
        return None

    def _meant(self, found: Sequence[tuple[str, str | None]], error: ObservedError,
               after: Sequence[Frame]) -> tuple[str, str | None]:
        """Return which of the imports on a line was carried out; the module that lacks, where it is none of them."""
        missing = error.name if error.type == "ModuleNotFoundError" else None
        for one in found if missing else ():
            if one[0] == missing or one[0].startswith(f"{missing}."):
                return one
        after = [f for f in after if not _is_machinery(f.file)]
        if missing and not after:
            return missing, None
        for one in found[1:]:
            top = re.escape(one[0].partition(".")[0])
            if after and re.search(rf"[/\\]{top}(?:[/\\]|\.\w+$)", after[0].file):
                return one
        return found[0]


def parse_traceback(text: str) -> Traceback | None:
    """Read a traceback out of a text; None when there is none in it.

    Of an exception group the part that an import failed in counts.
    """
    read = _Reading()
    for raw in _ESCAPES.sub("", text[-TEXT_LIMIT:]).replace("\r\n", "\n").split("\n"):
        read.take(*_classified(raw))
    return read.traceback()


def _classified(raw: str) -> tuple[str, str, re.Match[str] | Frame | str | None]:
    """Return what kind a line of a text is, the line without the margin, and what was read of it.

    Kinds are ruler, begin (of a traceback), link, frame, arrow, error, empty, and text for all else: it may
    be code, a message that goes on, or an exception of an unusual name.
    """
    line = _MARGIN.sub("", raw) if _MARGIN.match(raw) else raw
    if _HEADER.match(line):
        return "begin", line, None
    if _RULER.match(raw):
        return "ruler", line, None
    if line.lstrip("+ |").startswith(("Traceback (most recent call last)", "Exception Group Traceback")):
        return "begin", line, None
    link = next((kind for start, kind in _LINKS.items() if line.strip().startswith(start)), "")
    if link:
        return "link", line, link
    frame = _frame(line)
    if frame is not None:
        return "frame", line, frame
    arrow = _ARROW.match(line)
    if arrow:
        return "arrow", line, arrow
    error = _ERROR.match(line.strip() if raw != line else line.rstrip())
    if error:
        return "error", line, error
    if not line.strip():
        return "empty", line, None
    return ("text" if raw == line else "inner text"), line, None


class _Reading:
    """The lines of a text, put together to exceptions."""

    def __init__(self) -> None:
        self.blocks: list[ObservedError] = []
        self.links: list[str] = []
        self.code: dict[tuple[str, int], str] = {}
        self.frames: list[Frame] = []
        self.link = ""
        self.message_goes_on = False

    def take(self, kind: str, line: str, read: re.Match[str] | Frame | str | None) -> None:
        """Take up the next line."""
        if kind == "arrow" and self.frames and isinstance(read, re.Match):
            number = int(read["line"])
            self.frames[-1] = replace(self.frames[-1], line=number)
            self.code[self.frames[-1].file, number] = read["code"].strip()
            return None
        if kind == "error" and isinstance(read, re.Match):
            return self._error(read)
        if kind in ("text", "inner text", "arrow"):
            return self._text(line, at_margin=kind != "inner text")
        self.message_goes_on = False
        if kind == "begin":
            self.frames = []
        elif kind == "link" and isinstance(read, str):
            self.link = read
        elif isinstance(read, Frame):
            self.frames.append(read)
            if len(self.frames) > MOST_FRAMES:  # endless recursion: its beginning and its end say all
                del self.frames[MOST_FRAMES // 2]
        return None

    def _error(self, match: re.Match[str]) -> None:
        self.blocks.append(_observed(match["type"].split(".")[-1], match["message"] or "", self.frames))
        self.links.append(self.link)
        self.frames, self.link, self.message_goes_on = [], "", True

    def _text(self, line: str, *, at_margin: bool) -> None:
        """Take a line for the code of the last frame, an exception's name, or more of its message."""
        place = (self.frames[-1].file, self.frames[-1].line) if self.frames else None
        unusual = _ANY_ERROR.match(line.rstrip()) if at_margin and place in self.code else None
        if unusual is not None:
            self._error(unusual)
        elif place is not None and place not in self.code and not set(line.strip()) <= set("^~ "):
            self.code[place] = line.strip()
        elif self.message_goes_on and len(self.blocks[-1].message) < MESSAGE_LIMIT:
            last = self.blocks[-1]
            self.blocks[-1] = replace(last, message=f"{last.message}\n{line.rstrip()}".strip())

    def traceback(self) -> Traceback | None:
        """Return what was read; None where there was no exception."""
        return Traceback(_chain(self.blocks, self.links), code=self.code) if self.blocks else None


def parse_refusal(text: str) -> Traceback | None:
    """Read what an interpreter says that was to run a module by ``-m`` and has it not."""
    match = _REFUSAL.search(_ESCAPES.sub("", text[-TEXT_LIMIT:]).replace("\r\n", "\n"))
    if match is None:
        return None
    said = match["said"] or f"No module named {match['module']!r}"
    error = _observed("ModuleNotFoundError", said.removeprefix("ModuleNotFoundError: "), [])
    return Traceback((error,), match["python"]) if error.name else None


def parse_fatal(text: str) -> tuple[str, Traceback] | None:
    """Read what Python says when it dies (``faulthandler``): why, and the stack at that moment."""
    plain = _ESCAPES.sub("", text[-TEXT_LIMIT:]).replace("\r\n", "\n")
    match = _FATAL.search(plain)
    if match is None:
        return None
    current = plain[match.end():].partition("Current thread")[2].partition("\nThread ")[0]
    frames = [Frame(f, int(n), w) for f, n, w in re.findall(
        r'^[ \t]+File "(.+)", line (\d{1,9}) in (.+?)[ \t]*$', current, re.MULTILINE)]
    died = ObservedError("Crash", match["said"], frames=tuple(frames[::-1]))
    return match["said"].strip(), Traceback((died,))


def _frame(line: str) -> Frame | None:
    for form in _FRAME:
        match = form.match(line)
        if match:
            found = match.groupdict()
            file = found.get("file") or f"<cell {found['cell']}>"
            return Frame(file, int(found.get("line") or 0), (found.get("name") or "<module>").strip())
    return None


def _observed(name: str, message: str, frames: list[Frame]) -> ObservedError:
    missing = re.search(r"No module named '?([\w.]+)'?", message)
    library = re.match(r"(?<![^\s(])(/\S+?\.so[\w.]{0,40}|[A-Za-z]:\\\S+?\.pyd): ", message)
    error = ObservedError(name, message, missing.group(1) if missing else None,
                          library.group(1) if library else None, tuple(frames))
    return replace(error, lineno=frames[-1].line) if error.is_syntax and frames else error


def _chain(blocks: Sequence[ObservedError], links: Sequence[str]) -> tuple[ObservedError, ...]:
    """Put the final exception first. The parts of a group come after it in the text, without a link."""
    order = list(range(len(blocks)))
    groups = [n for n in order if blocks[n].type.endswith("Group")]
    if groups:
        inner = [n for n in order if n > groups[0]]
        failed = [n for n in inner if blocks[n].type in ("ImportError", "ModuleNotFoundError")]
        chosen = (failed or inner or groups)[0]
        return (replace(blocks[chosen], frames=(*blocks[groups[0]].frames, *blocks[chosen].frames)),)
    last = len(blocks) - 1
    chain = [blocks[last]]
    while last > 0 and links[last]:
        chain.append(replace(blocks[last - 1], link=links[last]))
        last -= 1
    return tuple(chain)


def _is_machinery(file: str) -> bool:
    """Whether a frame is Python's own way of importing: `importlib.import_module` is nobody who asks."""
    return "importlib" in file.replace("\\", "/").split("/")[-2:-1] or file.startswith("<frozen importlib")


def imports_on(code: str) -> list[tuple[str, str | None]]:
    """Return the modules, and the name of each, that a line of code imports, in their order."""
    try:
        tree = ast.parse(code.strip())
    except (SyntaxError, ValueError):
        match = re.match(r"(?:from\s+([\w.]+)\s+import\b|import\s+([\w.]+))", code.strip())
        module = (match.group(1) or match.group(2)) if match else None
        return [(module, None)] if module and not module.startswith(".") else []
    found: list[tuple[str, str | None]] = []
    for node in ast.walk(tree):
        if isinstance(node, ast.Import):
            found += [(alias.name, None) for alias in node.names]
        elif isinstance(node, ast.ImportFrom) and node.module and not node.level:
            only = node.names[0].name if len(node.names) == 1 and node.names[0].name != "*" else None
            found.append((node.module, only))
    return found


def place_of(file: str) -> Place:
    """Tell by a file's path to which installation it belongs."""
    path = file.replace("\\", "/") if not re.match(r"[A-Za-z]:\\", file) else file
    site = _SITE.match(path)
    if site:
        user = site["prefix"].endswith("/.local") or "/Library/Python/" in site["prefix"]
        return Place("user" if user else "site", site["prefix"], site["version"], site.group().rstrip("/"))
    library = _LIBRARY.match(path)
    if library:
        return Place("stdlib", library["prefix"], library["version"], library.group().rstrip("/"))
    windows = _WINDOWS_SITE.match(file)
    if windows:
        version = re.search(r"Python(\d)(\d+)(?:-32)?$", windows["prefix"], re.IGNORECASE)
        return Place("site", windows["prefix"], f"{version[1]}.{version[2]}" if version else "",
                     windows.group().rstrip("\\"))
    roaming = re.match(r"^[A-Za-z]:\\.*\\Python\\Python(\d)(\d+)\\site-packages\\", file, re.IGNORECASE)
    if roaming:
        return Place("user", "", f"{roaming[1]}.{roaming[2]}", roaming.group().rstrip("\\"))
    inside = _WINDOWS_LIBRARY.match(file)
    if inside:
        version = re.search(r"Python(\d)(\d+)(?:-32)?$", inside["prefix"], re.IGNORECASE)
        return Place("stdlib", inside["prefix"], f"{version[1]}.{version[2]}" if version else "",
                     inside.group().rstrip("\\"))
    return Place("own")


_CLASH = re.compile(r"import file mismatch:\s{0,9}\n.{0,9}imported module '([\w.]+)' has this __file__ attribute:"
                    r"\s{0,9}\n\W{0,9}([/A-Z][^\n]{1,1000})\n[^\n]{0,200}\n\W{0,9}([/A-Z][^\n]{1,1000})\n")


def parse_clash(text: str) -> tuple[str, str, str] | None:
    """Read what a test runner says of two test files of one name: the module, the file it has, the one it wanted."""
    found = _CLASH.search(_ESCAPES.sub("", text[-TEXT_LIMIT:]).replace("\r\n", "\n"))
    return (found[1], found[2].strip(), found[3].strip()) if found else None
