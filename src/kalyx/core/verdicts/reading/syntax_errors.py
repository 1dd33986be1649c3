"""What the checks of source code share: the line that cannot be parsed, whose it is, its next version."""

from __future__ import annotations

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.model import Distribution

__all__ = ["broken_source", "whose"]


def broken_source(case: Case) -> tuple[str, int, str] | None:
    """Return file, line and text of the syntax error that the import ended with."""
    error = case.obs.error
    if error is None or not error.is_syntax or error.lineno is None or not error.frames:
        return None
    file = error.frames[-1].file
    if file == "<fstring>":
        return _broken_fstring(case)
    return file, error.lineno, case.modules.code_line(file, error.lineno)


def _broken_fstring(case: Case) -> tuple[str, int, str] | None:
    """Find the f-string that Python before 3.8 could not parse: it does not say in which file or line."""
    from kalyx.core.facts.source_code.newer_syntax import newer_syntax

    file = case.modules.file_of(case.obs.module)
    if file is None or not file.endswith(".py"):
        return None
    for number, line in enumerate(case.files.read_text(file).splitlines(), 1):
        form = newer_syntax(case.python.version_pair, line, "")
        if form is not None and "f-string" in form[1]:
            return file, number, line.strip()
    return None


def whose(case: Case, owner: Distribution | None, file: str) -> str:
    return f"{owner.name} {owner.version}" if owner else file
