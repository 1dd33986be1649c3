"""Group C: code that asks for its neighbours by their plain names, as Python 2 found them."""

from __future__ import annotations

from kalyx.core.model import Evidence, Finding, Remedy
from kalyx.core.verdicts.catalogue import also
from kalyx.core.verdicts.reading.absence import is_absent
from kalyx.core.verdicts.remedies.pip import upgrade

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.verdicts.reading.failure import Failure

__all__ = ["neighbour_by_plain_name"]


@also("python2-source", asks="absence",
      why_here="a neighbour that is there under its whole name is nothing that lacks")
def neighbour_by_plain_name(case: Case, failure: Failure | None) -> Finding | None:
    """Find that an installed package asks for its own part by its plain name, as Python 2 found it."""
    if failure is None or failure.asker is None or not is_absent(case, failure) or case.python.version_pair < (3, 0):
        return None
    m, file = case.files, failure.asker.file
    beside = case.modules.finder.find_in(m.path.dirname(file), failure.top)
    owner = case.distributions.of(file)
    if owner is None or beside is None or beside.kind == "namespace" or not m.is_file(
            m.path.join(m.path.dirname(file), "__init__.py")):
        return None
    line = case.modules.code_line(file, failure.asker.line)
    return Finding.error(
        "python2-source", "likely",
        f"{owner.name} {owner.version} asks for its own part {failure.top} by its plain name, which Python 2 alone "
        "finds beside it.",
        (Evidence(line, file, failure.asker.line), Evidence(f"{beside.path} is what it means", beside.path)),
        (*upgrade(case, owner), Remedy("Change the code to Python 3, or run it with a Python 2.", "manual",
                                       changes=file)))
