"""Group C: modules that an importer of the old kind would have found, which Python 3.12 asks no more (PEP 302, 451)."""

from __future__ import annotations

import re

from kalyx.core.errors import Unreadable
from kalyx.core.model import Evidence, Finding, Remedy
from kalyx.core.verdicts.catalogue import also
from kalyx.core.verdicts.reading.absence import asker_evidence
from kalyx.core.verdicts.remedies.pip import upgrade

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.verdicts.reading.failure import Failure

__all__ = ["legacy_importer"]

LAST = (3, 11)  # the last Python that asks such importers
_FINDS = re.compile(r"^[ \t]{1,40}def find_module\b.{0,200}", re.MULTILINE)


@also("python-too-new",
      asks="anything", after=("python-too-new:python_too_new",),
      why_here="what the file of a package does to be found says more than what its folder holds")
def legacy_importer(case: Case, failure: Failure | None) -> Finding | None:
    """Find that a module's parent lends its parts by an importer with ``find_module`` alone."""
    if failure is None or failure.name is not None or "." not in failure.module or case.python.version_pair <= LAST:
        return None
    parent = failure.module.rpartition(".")[0]
    file = case.modules.file_of(parent)
    try:
        text = case.files.read_text(file) if file is not None and file.endswith(".py") else ""
    except Unreadable:
        return None
    found = _FINDS.search(text)
    if found is None or file is None or "meta_path" not in text or "def find_spec" in text:
        return None
    owner = case.distributions.of(file)
    who = f"{owner.name} {owner.version}" if owner else parent
    line = text.count("\n", 0, found.start()) + 1
    older = Remedy("Use an environment with Python 3.11 or older.", "manual", changes="which Python is used")
    own = Remedy(f"Give the importer in {file} a find_spec.", "manual", changes=file)
    return Finding.error(
        "python-too-new", "certain",
        f"{who} has {failure.module} found by an importer of the old kind, with find_module, which Python 3.12 asks "
        f"no more; {case.python.this_is}.",
        (Evidence(found.group().strip(), file, line), Evidence(f"{file} defines no find_spec", file),
         *asker_evidence(case, failure)),
        (*(upgrade(case, owner) if owner else (own,)), older))
