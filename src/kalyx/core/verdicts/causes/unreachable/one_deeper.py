"""Group B: the person's own package lies one folder deeper than Python looks, in a folder of the same name."""

from __future__ import annotations

from kalyx.core.facts.search_path.modules import top_level
from kalyx.core.model import Evidence, Finding, Remedy
from kalyx.core.verdicts.catalogue import also
from kalyx.core.verdicts.remedies import which_pip
from kalyx.core.verdicts.remedies.search_path import reach

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.verdicts.reading.failure import Failure

__all__ = ["one_deeper"]


@also("own-code-unreachable", asks="traces", family="hiding", also_when_it_imports="without a file",
      why_here="the folder around it is taken for the package, and lacks all that is in it")
def one_deeper(case: Case, failure: Failure | None) -> Finding | None:
    """Find a checkout in a folder of the package's own name: ``seed/seed/__init__.py``, or ``seed/src/seed``."""
    m, name = case.files, failure.top if failure is not None else top_level(case.obs.module)
    found = [c for layer, c in case.modules.candidates(name) if layer in ("start", "pythonpath", "link", "other")]
    if not found or any(c.kind != "namespace" for _, c in case.modules.candidates(name)):
        return None
    for folder in (c.path for c in found):
        place = next((p for p in (folder, m.path.join(folder, "src"))
                      if m.is_file(m.path.join(p, name, "__init__.py"))), None)
        if place is None:
            continue
        inner = m.path.join(place, name, "__init__.py")
        return Finding(
            "own-code-unreachable", "warning" if case.obs.outcome == "imports" else "error", "certain",
            f"{name} is your own code in {inner}; Python takes the folder around it, {folder}, for the package, and "
            "that has no code of its own.",
            (Evidence(f"{inner} is there", inner),
             Evidence(f"{folder} has no __init__.py, and is what the import finds (PEP 420)", folder)),
            (*_installed(case, folder), *reach(case, place, name)))
    return None


def _installed(case: Case, folder: str) -> list[Remedy]:
    """Return how to install the project in a folder as editable, where it can be."""
    m, served = case.files, which_pip.allowed(case)
    built = next((f for f in ("pyproject.toml", "setup.py") if m.is_file(m.path.join(folder, f))), None)
    if built is None or served is None or case.distributions.wheelhouse.is_closed:
        return []
    return [Remedy(f"Install the project itself, so that it can be imported from anywhere ({built} is there).",
                   "command", argv=served.install(folder, linked=True),
                   changes=f"links {folder} into {case.python.prefix}")]
