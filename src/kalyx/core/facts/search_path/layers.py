"""The layers of a search path: which part of sys.path each entry is."""

from __future__ import annotations

from kalyx.core.facts.interpreters.path_lookup import version_in_name
from kalyx.core.facts.search_path.pth_files import link_lines
from kalyx.core.lean.record import record

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from kalyx.core.facts.files import Files
    from kalyx.core.model.kinds import LayerName

__all__ = ["Layer", "PathFacts", "classify_path", "pythonpath_of"]


@record
class Layer:
    """An entry of the search path and the layer it is part of."""

    layer: LayerName
    path: str


@record
class PathFacts:
    """What is needed to name the layers of a path."""

    prefix: str
    base_prefix: str
    user_site: str | None
    pythonpath: Sequence[str]
    start: str | None
    start_behind: bool = False  # it is not the first entry, but stands behind the standard library


def classify_path(files: Files, path: Sequence[str], facts: PathFacts) -> list[Layer]:
    """Name the layer of each entry.

    Folders that a .pth line adds are layer ``link``: whatever is none of the
    others and stands in no variable came from there or from running code.
    """
    m = files
    pythonpath = {m.key(p) for p in facts.pythonpath}
    layers = []
    for number, entry in enumerate(path):
        if (number == 0 or facts.start_behind) and facts.start is not None and m.key(entry) == m.key(facts.start):
            layers.append(Layer("start", entry))
        elif m.key(entry) in pythonpath:
            layers.append(Layer("pythonpath", entry))
        else:
            layers.append(Layer(_layer_of(m, entry, facts), entry))
    if all(x.layer != "other" for x in layers):
        return layers
    links = {m.key(line.target) for layer in layers if layer.layer in ("env", "base", "user")
             for line in link_lines(m, layer.path) if line.target}
    return [Layer("link", x.path) if x.layer == "other" and m.key(x.path) in links else x
            for x in layers]


def _layer_of(m: Files, entry: str, facts: PathFacts) -> LayerName:
    if facts.user_site and m.key(entry) == m.key(facts.user_site):
        return "user"
    *_, above, name = ("", "", *entry.replace("\\", "/").lower().split("/"))
    if name in ("site-packages", "dist-packages"):
        if _is_under(m, entry, facts.prefix):
            return "env"
        if _is_under(m, entry, facts.base_prefix):
            return "base"
        # Debian keeps a base's own packages in /usr/local and /usr/lib beside /usr
        if facts.base_prefix == "/usr" and entry.startswith("/usr/local/"):
            return "env" if facts.prefix == facts.base_prefix else "base"
    elif (_is_library(name, above) and any(_is_under(m, entry, p) for p in (facts.prefix, facts.base_prefix))) or (
            m.is_file(m.path.join(entry, "os.py"))):  # last: of an archive elsewhere that is not known
        return "stdlib"
    return "other"


def _is_under(m: Files, entry: str, prefix: str) -> bool:
    return m.is_within(entry, prefix) or m.is_within(m.real_path(entry), m.real_path(prefix))


def _is_library(name: str, above: str) -> bool:
    """Whether a path's last two parts, in small letters, are those of a standard library."""
    if name.startswith(("lib-", "plat-")):
        name = above
    if name.startswith("python") and name.endswith(".zip"):
        return name[6:-4].removesuffix("t").isdigit()
    return name in ("lib", "dlls") or bool(version_in_name(name))


def pythonpath_of(files: Files, env: Mapping[str, str], cwd: str) -> list[str]:
    """Return the PYTHONPATH entries as folders."""
    return [files.located(entry, cwd) if entry else cwd
            for entry in env.get("PYTHONPATH", "").split(files.path_separator)
            if entry or env.get("PYTHONPATH", "")]
