"""What IPython makes of a notebook's cell, as plain Python: its magics, shell lines and pasted prompts, line for line.

In the place of what only IPython understands stands a line that imports what that imports; mostly one that does
nothing. Behind it is said what was written there.
"""

from __future__ import annotations

import re

from kalyx.core.facts.source_code.cell_statements import statements_in
from kalyx.core.facts.source_code.syntax import parse

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

__all__ = ["as_written", "files_run", "module_written", "put_in", "python_of"]

LONGEST_MAGIC = 8192  # characters of a magic that are read
WRITTEN = "# written to "
_MARK = "  #\x1f "  # before what was written: in no cell that people typed
# Magics that run a statement, or as the first line of a cell the rest of it: the options that have a value
_RUNS_CODE = {"time": "", "timeit": "nrpv", "prun": "DlsT", "capture": "", "memit": "rti", "mprun": "fT",
              "lprun": "fmDTu", "snakeviz": "f", "debug": "b"}
_ONLY_CELLS = frozenset({"capture"})
# Extensions that IPython has itself; any other is a module, which is imported
_OWN_EXTENSIONS = frozenset({"autoreload", "deduperreload", "storemagic"})
# What a cell of one line may begin with in place of a magic's sign
_AUTOMAGIC = re.compile(
    "alias|autocall|autoreload|cat|cd|clear|colors|conda|config|cp|debug|dhist|doctest_mode|edit|env|gui|here|hist|"
    "history|kalyx|killbgscripts|ldir|less|load|load_ext|ll|ls|lsmagic|lx|macro|magic|mamba|man|matplotlib|micromamba|"
    "mkdir|more|mv|notebook|packages|page|pastebin|pdb|pdef|pdoc|pfile|pinfo|pip|popd|precision|prun|psearch|psource|"
    "pushd|pwd|pylab|quickref|recall|rehashx|reload_ext|rep|rerun|reset|rm|rmdir|run|save|sc|set_env|store|sx|system|"
    "tb|time|timeit|unalias|unload_ext|who|who_ls|whos|why|xdel|xmode")
_MODULE = re.compile(r"[^\W\d]\w{0,200}(?:\.[^\W\d]\w{0,200}){0,50}")
_PROMPT = re.compile(r"^[ \t]*(?:>>>|\.\.\.)(?:[ ]|$)", re.MULTILINE)
_NUMBERED_PROMPT = re.compile(r"^(?:(?:\[(?:nav|ins)\])?[ ])?In[ ]\[\d+\]:[ ]|^[ \t]*\.{3,}:[ ]?", re.MULTILINE)
_MAY_HAVE_MAGICS = re.compile(r"[%!?]|^[ \t]*[,;/]|>>>|\.\.\.:|^In \[|\A[ \t]", re.MULTILINE)
_OPTION = re.compile(r"--?([A-Za-z])(\S*)[ \t]+")
_VARIABLE = re.compile(r"[A-Za-z_]\w{0,200}=")
_PIP = re.compile(r"pip[\d.]{0,9}(?:\.exe)?")
# The first line of a cell that is written to a file of code
_WRITES = re.compile(
    r"^%%(?:writefile|file)[ \t]+(?:(?:-a|--append)[ \t]+)?(['\"]?)([^'\"{}$\n]{1,400}\.py)\1[ \t]*$")
_RUN_OPTIONS = "nidtN:b:pD:l:rs:T:em:G"
# Options of pip's that have a value of their own behind them
_WITH_VALUE = frozenset({
    "-c", "-e", "-f", "-i", "-t", "--cache-dir", "--constraint", "--editable", "--extra-index-url", "--find-links",
    "--index-url", "--platform", "--prefix", "--python-version", "--root", "--target", "--timeout", "--trusted-host"})


def python_of(cell: str) -> str:
    """Return the Python that a cell is, each line in its place; empty for a cell of another language."""
    lines = cell.replace("\r\n", "\n").split("\n")
    number = 0
    while True:
        number = next((n for n in range(number, len(lines)) if lines[n].strip()), len(lines))
        head = lines[number].strip() if number < len(lines) else ""
        if not head.startswith("%%") or re.match(r"%%\w+\?", head):
            break
        writes = _WRITES.match(head)
        if writes is not None:
            return "\n".join([*[""] * number, WRITTEN + writes[2], *lines[number + 1:]])
        name, _, rest = head[2:].partition(" ")
        if name not in _RUNS_CODE:
            return ""
        lines[number] = _statement(name, rest) if name == "timeit" else ""  # there it goes before the others
        number += 1
    if number < len(lines):
        lines[number:] = [_without_magics("\n".join(lines[number:]))]
    return "\n".join(lines)


def _without_magics(text: str) -> str:
    """Return a text without cell magics as Python, line for line."""
    if "\n" not in text.removesuffix("\n") and _AUTOMAGIC.fullmatch(text.split(" ")[0]) and not _can_be_parsed(text):
        return _meant(f"%{text.strip()}", text.strip())
    if not _MAY_HAVE_MAGICS.search(text):
        return text
    text = _without_prompts(_without_indent(text))
    lines = text.split("\n")
    for statement in statements_in(text):
        if statement.magic:
            first = lines[statement.first]
            blanks = first[:len(first) - len(first.lstrip(" \t\f"))]
            rest = [""] * (statement.after - statement.first - 1)
            lines[statement.first:statement.after] = [blanks + _meant(statement.magic[:LONGEST_MAGIC]), *rest]
    return "\n".join(lines)


def _without_indent(text: str) -> str:
    """Take away what the first line is indented by."""
    blanks = text[:len(text) - len(text.lstrip(" \t"))]
    return re.sub(f"^{blanks}", "", text, flags=re.MULTILINE) if blanks else text


def _without_prompts(text: str) -> str:
    """Take away the prompts of what was typed elsewhere and pasted."""
    if ">>>" in text:
        lines = text.split("\n")
        if any(lines[s.first].lstrip(" \t").startswith(">>>") for s in statements_in(text)):
            return _PROMPT.sub("", text)
    beginning = "\n".join(text.split("\n", 2)[:2])
    return _NUMBERED_PROMPT.sub("", text) if _NUMBERED_PROMPT.search(beginning) else text


def _can_be_parsed(text: str) -> bool:
    try:
        parse(text)
    except (SyntaxError, ValueError, RecursionError, MemoryError):
        return False
    return True


# -- what a magic does ------------------------------------------------------------------------------
def _meant(magic: str, written: str = "") -> str:
    """Return a line of Python that imports what a magic or a shell line does, with what was written."""
    written = written or " ".join(magic.split("\n"))
    doing = magic
    while doing.startswith("%"):  # one may run another
        name, _, rest = doing[1:].partition(" ")
        if name not in _RUNS_CODE or name in _ONLY_CELLS:
            break
        doing = _after_options(rest, _RUNS_CODE[name])
        if not doing.startswith(("%", "!")):
            return f"{_statement('', doing) or 'pass'}{_MARK}{written}"
    modules = _modules_of(doing)
    return f"{'import ' + ', '.join(modules) if modules else 'pass'}{_MARK}{written if doing == magic else doing}"


def _statement(name: str, rest: str) -> str:
    """Return the statement that a magic runs; nothing where it is none that Python can parse."""
    code = _after_options(rest, _RUNS_CODE.get(name, ""))
    return code if code and "\n" not in code and _can_be_parsed(code) else ""


def _after_options(rest: str, valued: str) -> str:
    """Return what stands behind a magic's options; `valued` are the letters of those that have a value."""
    rest = rest.strip()
    while True:
        option = _OPTION.match(rest)
        if option is None:
            return rest
        rest = rest[option.end():]
        if option[1] in valued and not option[2] and not option.group().startswith("--"):
            rest = rest.partition(" ")[2].lstrip()


def _modules_of(magic: str) -> list[str]:
    """Return the modules that a magic imports."""
    name, _, rest = magic[1:].partition(" ") if magic.startswith("%") else ("", "", "")
    rest = rest.strip()
    if name in ("load_ext", "reload_ext"):
        return [rest] if rest not in _OWN_EXTENSIONS and _MODULE.fullmatch(rest) else []
    if name == "run":
        module = _run_of(rest)[0]
        return [module] if _MODULE.fullmatch(module) else []
    if name == "aimport":
        parts = [part.strip() for part in rest.split(",")]
        return [part for part in parts if _MODULE.fullmatch(part)]
    if name == "pylab":
        return ["numpy", "matplotlib"]
    if name == "matplotlib":
        widget = ["ipympl"] if rest in ("widget", "ipympl") else []
        return [] if rest in ("-l", "--list") else ["matplotlib", *widget]
    return []


def _run_of(rest: str) -> tuple[str, str]:
    """Return the module and the file that a magic runs as a script; empty for what it does not."""
    import getopt

    try:
        options, words = getopt.getopt(_commands(rest, escape="")[0], _RUN_OPTIONS)
    except getopt.GetoptError:
        return "", ""
    module = dict(options).get("-m", "")
    return module, (words[0] if words and not module and not re.search(r"[{}$]", words[0]) else "")


def _magics_in(text: str) -> Iterator[tuple[int, str]]:
    """Yield the magics and shell lines of a cell's text, each with its line, and with the sign that it begins with."""
    if _MARK in text:
        for line, row in enumerate(text.split("\n"), 1):
            magic = row.partition(_MARK)[2]
            if magic:
                yield line, magic if magic[0] in "%!" else f"%{magic}"


def as_written(line: str) -> str:
    """Return a line of a cell as it is written there."""
    return line.partition(_MARK)[2] or line


def files_run(text: str) -> list[str]:
    """Return the files that magics of a cell run, as they are written there."""
    ran = (_run_of(magic[len("%run "):])[1] for _, magic in _magics_in(text) if magic.startswith("%run "))
    return [file for file in ran if file]


def put_in(text: str) -> list[tuple[str, int]]:
    """Return what the lines of a cell have pip install, each with its line; a list of pip's as ``-r FILE``."""
    found = []
    for line, magic in _magics_in(text):
        for command in _commands(magic.lstrip("%!")) if "pip" in magic else ():
            words = _to_install(command)
            for number, word in enumerate(words):
                before = words[number - 1] if number else ""
                if before in ("-r", "--requirement"):
                    found.append((f"-r {word}", line))
                elif not word.startswith("-") and before not in _WITH_VALUE and not re.search(r"[{$]", word):
                    found.append((word, line))
    return found


def _to_install(words: Sequence[str]) -> Sequence[str]:
    """Return what stands behind ``pip install``; nothing where that is not what a command runs."""
    rest = list(words)
    while rest and (rest[0] == "sudo" or _VARIABLE.match(rest[0])):
        del rest[0]
    if "-m" in rest[1:] and all(word.startswith("-") for word in rest[1:rest.index("-m")]):
        del rest[:rest.index("-m") + 1]
    if not rest or not _PIP.fullmatch(re.split(r"[\\/]", rest.pop(0))[-1]):
        return ()
    while rest and rest[0].startswith("-"):
        del rest[0]
    return rest[1:] if rest[:1] == ["install"] else ()


def _commands(line: str, escape: str = "\\") -> list[list[str]]:
    """Return the words of each command in a shell's line."""
    import shlex

    lexer = shlex.shlex(line, posix=True, punctuation_chars=";&|")
    lexer.whitespace_split, lexer.commenters, lexer.escape = True, "", escape
    found: list[list[str]] = [[]]
    try:
        for word in lexer:
            if word.startswith("#"):
                break
            if word.strip(";&|"):
                found[-1].append(word)
            else:
                found.append([])
    except ValueError:  # a quote without its end
        pass
    return found


def module_written(text: str) -> str:
    """Return the file that a cell is written to, so that others can import it; empty where it is run."""
    mark = re.search(rf"\A\s*{WRITTEN}(.+)", text) if WRITTEN in text else None
    return mark[1] if mark else ""
