"""Group B: it is imported from outside the environment, by a line that lets another layer in."""

from __future__ import annotations

from kalyx.core.facts.interpreters.environment import is_environment, prefix_of
from kalyx.core.facts.interpreters.pyvenv import find_venv_config
from kalyx.core.facts.search_path.pth_files import link_lines
from kalyx.core.model import Evidence, Finding
from kalyx.core.verdicts.catalogue import also
from kalyx.core.verdicts.remedies.leaks import take_line_out

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.facts.search_path.layers import Layer
    from kalyx.core.verdicts.reading.failure import Failure

__all__ = ["came_by_line"]

_WHAT = {"user": "the user site", "base": "the base installation", "link": "another environment"}


@also("layer-leak",
      asks="traces", also_when_it_imports="always", after=("hidden-by-user-site",),
      why_here="it works: nothing that is wrong is hidden behind it")
def came_by_line(case: Case, failure: Failure | None) -> Finding | None:
    """Note that a module comes from another layer, which a line of a .pth file brings into a closed environment."""
    m, origin, layers = case.files, case.modules.source_of(case.obs.origin), case.modules.layers
    config = find_venv_config(m, case.python.executable)
    if case.obs.outcome != "imports" or not origin or config is None or config.open_to_base:
        return None
    around = [x for x in layers if m.is_within(origin, x.path)]
    layer = max(around, key=lambda x: len(x.path)) if around else None
    if layer is None or not _is_of_another(case, layer):
        return None
    line = next((x for s in layers if s.layer == "env" for x in link_lines(m, s.path)
                 if x.target and m.same(x.target, layer.path)), None)
    if line is None:
        return None
    return Finding.note(
        "layer-leak", "certain",
        f"{case.obs.module} comes from {layer.path}, {_WHAT[layer.layer]}, and not from {case.environment_name}: "
        f"{line.file} brings it in.",
        (Evidence(f"the line {line.text}", line.file, line.line), Evidence("it was imported from here", origin)),
        (take_line_out(m, line.file, line.text, line.line),))


def _is_of_another(case: Case, layer: Layer) -> bool:
    """Whether a folder is the user's, the base's or another environment's site folder."""
    if layer.layer in ("user", "base"):
        return True
    m = case.files
    if layer.layer != "link" or m.path.basename(layer.path) not in ("site-packages", "dist-packages"):
        return False
    return is_environment(m, prefix_of(m, m.path.dirname(layer.path)))
