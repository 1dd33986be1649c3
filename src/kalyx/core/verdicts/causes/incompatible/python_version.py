"""Group C, the source side: the code is for another version of Python."""

from __future__ import annotations

import re

from kalyx.core.model import Evidence, Finding, Remedy, version_pair
from kalyx.core.tables import standard_library
from kalyx.core.verdicts.catalogue import cause
from kalyx.core.verdicts.reading.syntax_errors import broken_source, whose
from kalyx.core.verdicts.remedies.pip import upgrade

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.model import Distribution
    from kalyx.core.verdicts.reading.failure import Failure

__all__ = ["python_too_new", "python_too_old"]

_ASYNC_NAME = re.compile(r"(?<![\w.])(async|await)\s*(?==[^=]|,|\)|\.|:\s*$)|[.,(]\s*(async|await)\s*[=,).(]|"
                         r"\bdef\s+(async|await)\b|\bimport\s+(async|await)\b|\bas\s+(async|await)\b")


@cause("python-too-old", "the code or its Requires-Python needs a newer Python than this one",
       asks="anything", not_beside=("python2-source", "file-corrupt"),
       why_here="code of Python 2 is no code of a newer Python either")
def python_too_old(case: Case, failure: Failure | None) -> Finding | None:
    """Find syntax that a newer Python accepts, and the version that the metadata asks for.

    Looks like: `SyntaxError` in a package that others use, a name that the standard library lacks, or a
        `TypeError` at `int | None`, `list[int]` or a keyword that others can give.
    Why: The code is written for a newer Python than this one.
    How Kalyx knows: A newer Python reads the same file without an error; a table, made from the real
        interpreters, has the version that brought the name, member or parameter; or Requires-Python
        says so.
    What to do: Install a version for this Python, or use an environment with a newer one.
    """
    broken = broken_source(case)
    if broken is None:
        return (_library_change(case, failure, newer=True) or _in_other_versions(case, failure, newer=True)
                or _outside_its_bounds(case, newer=True))
    from kalyx.core.facts.source_code.newer_syntax import newer_syntax

    file, line, text = broken
    owner = case.distributions.of(file)
    asks = owner.requires_python if owner else ""
    newer = case.obs.parsed_by
    form = newer_syntax(case.python.version_pair, text, case.obs.error.message if case.obs.error else "")
    if not newer and form is None and not (asks and _is_outside(asks, case)):
        return None
    evidence = [Evidence(text, file, line)]
    if newer:
        evidence.append(Evidence(f"Python {newer} reads the same file without an error", file))
    if form:
        evidence.append(Evidence(f"Python {form[0]} brought {form[1]}"))
    if asks and owner:
        evidence.append(Evidence(f"{owner.name} {owner.version} declares Requires-Python: {asks}",
                                 owner.metadata))
    return Finding.error(
        "python-too-old", "certain" if newer else "likely",
        f"{whose(case, owner, file)} uses syntax that {case.python.name} does not "
        f"know yet{f': {form[1]} came with {form[0]}' if form else ''}.", tuple(evidence),
        _for_newer(case, owner, asks, form[0] if form else None))


def _for_newer(case: Case, owner: Distribution | None, asks: str | None,
               since: str | None) -> tuple[Remedy, ...]:
    """Return what helps code that needs a newer Python: that, or a version of the package for this one.

    Only what declares which Pythons it is for lets pip find such a version.
    """
    wanted = f" ({asks})" if asks else f", {since} or later" if since else ""
    move = Remedy(f"Use an environment with a newer Python{wanted}{_such_as(case, since)}.", "manual",
                  changes="which Python is used")
    fitting = upgrade(case, owner)
    return (*fitting, move) if asks and _is_outside(asks, case) else (move, *fitting)


def _such_as(case: Case, since: str | None) -> str:
    """Name a Python of this machine that is new enough."""
    major, minor = case.python.version_pair
    wanted = version_pair(since) if since else (major, minor + 1)
    for environment in case.elsewhere.known.environments:
        version = version_pair(environment.python_version)
        if environment.kind == "base" and version >= wanted and environment.interpreter is not None:
            return f", such as {environment.interpreter.path} ({environment.python_version})"
    return ""


def _library_change(case: Case, failure: Failure | None, *, newer: bool) -> Finding | None:
    """Find in the table of Python's own changes what the failing line asks for."""
    error = case.obs.error if failure is None else failure.error
    if error is None or (failure is not None and failure.name is None) or error.type not in (
            "AttributeError", "TypeError", "ValueError", "ImportError"):
        return None
    from kalyx.core.verdicts.reading.library_changes import find_change

    change = find_change(case, failure)
    if change is None or change.newer != newer:
        return None
    frame = change.frame
    owner = case.distributions.of(frame.file) if frame else None
    who = whose(case, owner, frame.file) if frame else "The import"
    evidence = [Evidence(case.modules.code_line(frame.file, frame.line), frame.file, frame.line)] if frame else []
    if newer:
        evidence.append(Evidence(f"Python {change.version} brought {change.what}"))
        because = f"{who} uses {change.what}, which came with Python {change.version}; {case.python.this_is}."
        todo = _for_newer(case, owner, owner.requires_python if owner else "", change.version)
    else:
        evidence.append(Evidence(f"Python {change.version} took {change.what} out"))
        because = f"{who} uses {change.what}, which Python {change.version} took out; {case.python.this_is}."
        todo = (*upgrade(case, owner), Remedy(
            f"Change the code to do without {change.what}, or use a Python before {change.version}.", "manual",
            changes=frame.file if frame else "which Python is used"))
    return Finding("python-too-old" if newer else "python-too-new", "error",
                   "certain" if change.sure else "likely", because, tuple(evidence), todo)


def _outside_its_bounds(case: Case, *, newer: bool) -> Finding | None:
    """Find a package that fails in its own code and declares that it is for newer (or older) Pythons."""
    error = case.obs.error
    if error is None or not error.frames:
        return None
    owner = case.distributions.of(error.frames[-1].file)
    asks = owner.requires_python if owner else ""
    if owner is None or not asks or not _is_outside(asks, case) or newer not in _sides(asks, case):
        return None
    last = error.frames[-1]
    return Finding(
        "python-too-old" if newer else "python-too-new", "error", "likely",
        f"{owner.name} {owner.version} is for Python {asks}, and {case.python.this_is}.",
        (Evidence(f"it declares Requires-Python: {asks}", owner.metadata),
         Evidence(f"{error.type}: {error.message.split(chr(10))[0]}", last.file, last.line)),
        (*upgrade(case, owner),
         Remedy(f"Or use an environment whose Python is {asks}.", "manual", changes="which Python is used")))


def _sides(asks: str, case: Case) -> set[bool]:
    """Return on which sides a specifier leaves this Python out: True where it wants a newer one."""
    from packaging.specifiers import SpecifierSet

    sides = set()
    for part in SpecifierSet(asks):
        if part.contains(case.python.version, prereleases=True):
            continue
        if part.operator in ("==", "~=", "==="):
            numbers = [int(n) for n in re.findall(r"\d+", part.version)[:2]]
            sides.add(numbers > list(case.python.version_pair))
        else:
            sides.add(part.operator in (">", ">="))
    return sides


def _is_outside(asks: str, case: Case) -> bool:
    from packaging.specifiers import InvalidSpecifier, SpecifierSet

    try:
        return not SpecifierSet(asks).contains(case.python.version,
                                               prereleases=True)
    except InvalidSpecifier:
        return False


@cause("python-too-new", "the code uses what this Python no longer has",
       asks="anything", after=("python-too-old",),
       why_here="syntax that is too new is plainer than what was dropped")
def python_too_new(case: Case, failure: Failure | None) -> Finding | None:
    """Find names that the standard library has dropped, new keywords, and bounds in the metadata.

    Looks like: `cannot import name ...` from the standard library, or a syntax error at `async`, after
        Python was upgraded.
    Why: The code uses something that this version of Python no longer has.
    How Kalyx knows: Tables of the names, members and parameters that were taken out, and when; the
        standard library of an older Python on this machine; or the upper bound of Requires-Python.
    What to do: Install a newer version of the package, change the code, or use an older Python.
    """
    return (_removed_name(case, failure) or _keyword_as_name(case)
            or _library_change(case, failure, newer=False)
            or _in_other_versions(case, failure, newer=False) or _outside_its_bounds(case, newer=False))


def _keyword_as_name(case: Case) -> Finding | None:
    broken = broken_source(case)
    match = _ASYNC_NAME.search(broken[2]) if broken and case.python.version_pair >= (3, 7) else None
    if broken is None or match is None:
        return None
    file, line, text = broken
    word = next(g for g in match.groups() if g)
    owner = case.distributions.of(file)
    return Finding.error(
        "python-too-new", "certain",
        f"{whose(case, owner, file)} uses {word} as a name, and since Python 3.7 it is a keyword; "
        f"{case.python.this_is}.",
        (Evidence(text, file, line), Evidence(f"Python 3.6 was the last in which {word} could be a name")),
        (*upgrade(case, owner), Remedy(f"Give {word} another name in the code.", "manual", changes=file)))


def _in_other_versions(case: Case, failure: Failure | None, *, newer: bool) -> Finding | None:
    """Find a name of the standard library that the one of another Python on this machine defines."""
    if failure is None or failure.name is None or failure.error.type not in (
            "ImportError", "AttributeError") or "partially" in failure.error.message:
        return None
    from kalyx.core.facts.source_code.definitions import defined_names

    m, file = case.files, case.modules.file_of(failure.module)
    if file is None or not file.endswith(".py") or case.modules.layer_of_file(file) != "stdlib" \
            or failure.name in defined_names(case.files, file):
        return None
    library = max((x.path for x in case.modules.layers if m.is_within(file, x.path)), key=len)
    bases = [(version_pair(e.python_version), e) for e in case.elsewhere.known.environments if e.kind == "base"]
    bases.sort(key=lambda found: found[0], reverse=not newer)  # the nearest version first
    for pair, environment in bases:
        version = environment.python_version or ""
        if pair == (0, 0) or pair == case.python.version_pair or (pair > case.python.version_pair) != newer:
            continue
        other = m.path.join(environment.path, "lib", f"python{pair[0]}.{pair[1]}",
                            m.path.relpath(file, library))
        line = defined_names(case.files, other).get(failure.name)
        if line is not None:
            return _other_version(case, failure, version, other, line, newer=newer)
    return None


def _other_version(case: Case, failure: Failure, version: str, other: str, line: int, *,
                   newer: bool) -> Finding:
    asker = failure.asker
    owner = case.distributions.of(asker.file) if asker else None
    who = whose(case, owner, asker.file) if asker else "The import"
    name = f"{failure.module}.{failure.name}"
    evidence = [Evidence(f"the standard library of Python {version} defines {failure.name}", other, line),
                Evidence(f"that of {case.python.name} does not",
                         case.modules.file_of(failure.module))]
    if asker:
        evidence.append(Evidence(case.modules.code_line(asker.file, asker.line), asker.file, asker.line))
    return Finding(
        "python-too-old" if newer else "python-too-new", "error", "certain",
        f"{who} uses {name}, which {case.python.name} does not have "
        f"{'yet' if newer else 'any more'}; Python {version} has it.", tuple(evidence),
        (*upgrade(case, owner),
         Remedy(f"Use an environment with {'a newer' if newer else 'an older'} Python, such as {version}, or "
                f"change the code to do without {name}.", "manual", changes="which Python is used")))


def _removed_name(case: Case, failure: Failure | None) -> Finding | None:
    if failure is None or failure.name is None:
        return None
    known = standard_library.stdlib_history()["names"].get(f"{failure.module}.{failure.name}")
    if known is None:
        return None
    gone, instead = known
    if case.python.version_pair < version_pair(gone):
        return None
    if case.modules.layer_of_file(case.modules.file_of(failure.module)) not in (None, "stdlib"):
        return None  # something else of that name
    asker = failure.asker
    owner = case.distributions.of(asker.file) if asker else None
    who = whose(case, owner, asker.file) if asker else "The code"
    evidence = [Evidence(f"{failure.module}.{failure.name} was taken out in Python {gone}")]
    if asker:
        evidence.insert(0, Evidence(case.modules.code_line(asker.file, asker.line), asker.file, asker.line))
    return Finding.error(
        "python-too-new", "certain",
        f"{who} uses {failure.module}.{failure.name}, which Python {gone} took out; {case.python.this_is}.",
        tuple(evidence),
        (*upgrade(case, owner), _write_instead(case, failure, owner, instead)))


def _write_instead(case: Case, failure: Failure, owner: Distribution | None, instead: str) -> Remedy:
    """Return the remedy that writes what took a name's place: an edit in the person's own code."""
    from kalyx.core.model import Edit

    asker = failure.asker
    plain = Remedy(f"Change the code to use {instead}.", "manual", changes=asker.file if asker else "the code")
    if asker is None or owner is not None:
        return plain
    line = case.modules.code_line(asker.file, asker.line)
    changed = _with_successor(line, failure.module, failure.name or "", instead)
    if changed is None or case.files.read_text(asker.file).count(line) != 1:
        return plain
    return Remedy(f"Write: {changed}", "edit", edits=(Edit(asker.file, line, changed),),
                  changes=f"line {asker.line} of {asker.file}")


def _with_successor(line: str, module: str, name: str, instead: str) -> str | None:
    """Return a line of code with what took a name's place in it; None where that is more than a change of words."""
    place, _, new = instead.rpartition(".")
    if not place or not instead.replace(".", "").isidentifier():
        return None
    if re.fullmatch(rf"from {re.escape(module)} import {re.escape(name)}(\s+as \w+)?", line):
        rest = line.partition(f" import {name}")[2] or ("" if new == name else f" as {name}")
        return f"from {place} import {new}{rest}"
    return line.replace(f"{module}.{name}", instead) if f"{module}.{name}" in line and place == module else None
