"""Whose files a failed import may have broken at."""

from __future__ import annotations

import re

from kalyx.core.facts.search_path.modules import top_level
from kalyx.core.model import Evidence
from kalyx.core.verdicts.reading.absence import imported_at
from kalyx.core.verdicts.reading.failure import own_frames

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.model import Distribution
    from kalyx.core.verdicts.reading.failure import Failure

__all__ = ["BROKEN_SOURCE", "file_is_unknown", "owners", "suspects", "what_broke"]

BROKEN_SOURCE = ("SyntaxError", "IndentationError", "TabError", "UnicodeDecodeError", "ValueError",
                  "EOFError")
_FILE_FIRST = re.compile(r"(?<![^\s:'\"(])(/[^:\n]+\.so[\w.]{0,40}): ")


def suspects(case: Case, failure: Failure | None) -> list[str]:
    """Return the files that the failure happened in or was about, the nearest first."""
    files: list[str | None] = []
    for error in case.obs.chain:
        files.append(error.path)
        named = _FILE_FIRST.match(error.message)  # a library that lies beside it
        files += [str(case.files.path.normpath(named.group(1)))] if named else []
        files += [f.file for f in reversed(own_frames(error.frames)[-3:])]
    files += [f.file for f in reversed(own_frames(case.obs.stack)[-3:])]
    if failure is not None:
        files.append(case.modules.file_of(failure.module))
    if file_is_unknown(case):
        files += [f for e in case.obs.chain for x in own_frames(e.frames)[-1:] for f in imported_at(case, x)]
    files += [case.modules.source_of(case.obs.origin), case.modules.file_of(top_level(case.obs.module))]
    return list(dict.fromkeys(f for f in files if f))


def owners(case: Case, failure: Failure | None) -> list[Distribution]:
    """Return the distributions that the failing files belong to, editable ones left out."""
    found = [case.distributions.of(f) for f in suspects(case, failure)]
    unique = {d.metadata: d for d in found if d is not None and not d.editable}
    return list(unique.values())


def file_is_unknown(case: Case) -> bool:
    """Whether the exception does not say in which file it is: NUL bytes, a crash in native code."""
    error = case.obs.error
    return case.obs.outcome == "crash" or (error is not None and error.type in BROKEN_SOURCE
                                           and error.lineno is None)


def what_broke(case: Case) -> list[Evidence]:
    error = case.obs.error
    if error is None:
        return [Evidence(f"the interpreter ended with status {case.obs.status}", case.python.executable)]
    last = error.frames[-1] if error.frames else None
    return [Evidence(f"{error.type}: {error.message.splitlines()[0] if error.message else ''}",
                     last.file if last else None, last.line if last else None)]
