"""Group C: code that is written in Python 2."""

from __future__ import annotations

import re

from kalyx.core.facts.source_code.newer_syntax import is_python2
from kalyx.core.model import Evidence, Finding, Remedy
from kalyx.core.verdicts.catalogue import cause
from kalyx.core.verdicts.reading.syntax_errors import broken_source, whose
from kalyx.core.verdicts.remedies.pip import upgrade

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.verdicts.reading.failure import Failure

__all__ = ["python2_source"]

_PYTHON2 = re.compile(r"Missing parentheses in call to '(?:print|exec)'|"
                      r"multiple exception types must be parenthesized|"
                      r"invalid (?:token|decimal literal)|leading zeros in decimal|"
                      r"inconsistent use of tabs")
_PYTHON2_NAME = re.compile(
    r"^name '(unicode|xrange|basestring|raw_input|unichr|execfile)' "
    r"is not defined|"
    r"^'dict' object has no attribute '(has_key|iteritems|iterkeys|itervalues|viewitems|viewkeys|viewvalues)'")


@cause("python2-source", "the file is Python 2 code",
       asks="anything", after=("not-installed",), not_beside=("file-corrupt",),
       why_here="a file that was changed since it was installed says nothing about the language it was written in")
def python2_source(case: Case, failure: Failure | None) -> Finding | None:
    """Recognise Python 2 by the line that Python 3 stumbles over.

    Looks like: `Missing parentheses in call to 'print'` and other syntax errors at plain statements.
    Why: The file is written in Python 2.
    How Kalyx knows: The line that cannot be parsed has a form that only Python 2 knows, or uses a name
        that only Python 2 has built in.
    What to do: Install a version for Python 3, or convert the code.
    """
    broken, error = broken_source(case) or _print_to_a_file(case), case.obs.error
    if broken is None and case.python.version_pair >= (3, 0):
        return _python2_name(case)
    if broken is None or error is None or case.python.version_pair[0] < 3:
        return None
    file, line, text = broken
    if not is_python2(text):
        return None
    owner = case.distributions.of(file)
    return Finding.error(
        "python2-source", "certain" if _PYTHON2.search(error.message) else "likely",
        f"{whose(case, owner, file)} is written in Python 2: {text}",
        (Evidence(text, file, line), Evidence(f"{case.python.this_is}: "
                                              f"{error.message}", case.python.executable)),
        (*upgrade(case, owner), Remedy("Change the code to Python 3, or run it with a Python 2.",
                                        "manual", changes=file)))


def _python2_name(case: Case) -> Finding | None:
    """Find a name that Python 2 alone has built in, or a method of its dictionaries."""
    error = case.obs.error
    if error is None or error.type not in ("NameError", "AttributeError"):
        return None
    match = _PYTHON2_NAME.search(error.message)
    if match is None or not error.frames:
        return None
    frame, word = error.frames[-1], match.group(1) or match.group(2)
    line = case.modules.code_line(frame.file, frame.line)
    if word not in line or case.modules.layer_of_file(frame.file) == "stdlib":
        return None
    owner = case.distributions.of(frame.file)
    return Finding.error(
        "python2-source", "certain",
        f"{whose(case, owner, frame.file)} is written in Python 2: {word} is there no more in Python 3.",
        (Evidence(line, frame.file, frame.line),
         Evidence(f"{case.python.this_is}: {error.message}", case.python.executable)),
        (*upgrade(case, owner), Remedy("Change the code to Python 3, or run it with a Python 2.",
                                        "manual", changes=frame.file)))


def _print_to_a_file(case: Case) -> tuple[str, int, str] | None:
    """Find ``print >>file, ...``, which Python 3 can parse and not carry out."""
    error = case.obs.error
    if error is None or error.type != "TypeError" or ">>" not in error.message or not error.frames:
        return None
    frame = error.frames[-1]
    text = case.modules.code_line(frame.file, frame.line)
    return (frame.file, frame.line, text) if re.match(r"print\s*>>", text) else None
