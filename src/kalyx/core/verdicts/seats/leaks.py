"""What shines into a seat's environment from outside: packages of other layers, seen or in front of its own."""

from __future__ import annotations

from kalyx.core.facts.interpreters.environment import is_environment, prefix_of
from kalyx.core.facts.interpreters.path_lookup import version_in_name
from kalyx.core.facts.seats.search_path import path_of_seat
from kalyx.core.lean.record import record, replace
from kalyx.core.model import Evidence, Finding
from kalyx.core.model.names import normal_name
from kalyx.core.verdicts.catalogue import cause

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

    from kalyx.core.facts.environments.neighbours import Neighbours
    from kalyx.core.facts.files import Files
    from kalyx.core.facts.search_path.layers import Layer
    from kalyx.core.facts.search_path.predicted import SearchPath
    from kalyx.core.facts.search_path.pth_files import LinkLine
    from kalyx.core.facts.seats.context import SeatFacts
    from kalyx.core.model import Distribution, Environment

__all__ = ["judge_leaks", "layer_leak"]

_FROM = {"pythonpath": "the PYTHONPATH entry", "user": "the user site", "base": "the base installation's",
         "link": "another environment's folder"}
# What every environment has of its own, so that a second copy is no sign of anything
_EVERYWHERE = {"pip", "setuptools", "wheel", "pkg_resources", "_distutils_hack", "distutils-precedence"}


@record
class Leak:
    """A folder from outside on the path: what is installed in it, and which of the environment's own names it hides.

    ``line`` is the line of a .pth file that brings it in, None where none does.
    """

    layer: Layer
    distributions: tuple[Distribution, ...]
    hides: tuple[str, ...]
    line: LinkLine | None


def judge_leaks(facts: SeatFacts, files: Files, neighbours: Neighbours) -> list[Finding]:
    """Return a finding for each folder from which packages shine into a seat's environment; nothing of it is run."""
    seat, examined = facts.seat, facts.examined
    if seat.interpreter is None or seat.launch is None or examined is None or seat.environment is None \
            or not seat.interpreter.works or not seat.interpreter.prefix:
        return []
    config, path = examined.config, path_of_seat(files, facts, start=None)
    is_open = config is not None and config.open_to_base
    found = [layer_leak(leak, facts, files) for leak in _leaks(path, seat.environment, files, neighbours)
             if leak.hides or not _is_meant(leak, seat.environment, is_open)]
    return [f for f in found if f is not None]


def _is_meant(leak: Leak, environment: Environment, is_open: bool) -> bool:
    """Whether a layer is seen by design: a base sees its user site, and what was opened to its base sees that."""
    if leak.line is not None or leak.layer.layer in ("pythonpath", "link"):
        return False
    return is_open or environment.kind == "base"


def _leaks(path: SearchPath, environment: Environment, files: Files, neighbours: Neighbours) -> list[Leak]:
    """Return the folders from outside that hold something, in the order of the path."""
    own = [x.path for x in path.layers if x.layer == "env"]
    found = []
    for number, layer in enumerate(path.layers):
        if not _is_outside(layer, environment, files):
            continue
        before = any(x.layer == "env" for x in path.layers[number:])
        line = next((x for x in path.links if x.target and files.same(x.target, layer.path)), None)
        here = tuple(replace(d, layer=layer.layer) for d in neighbours.metadata_in(layer.path).distributions())
        hides = _hidden(files, layer.path, own) if before else ()
        if here or hides:
            found.append(Leak(layer, here, hides, line))
    return found


def _is_outside(layer: Layer, environment: Environment, files: Files) -> bool:
    """Whether a folder is none of the environment's own: another layer's, or another environment's site folder."""
    if layer.layer in ("pythonpath", "user", "base"):
        return True
    if layer.layer != "link" or files.path.basename(layer.path) not in ("site-packages", "dist-packages"):
        return False
    other = prefix_of(files, files.path.dirname(layer.path))
    return not files.same(other, environment.path) and is_environment(files, str(other))


def _hidden(files: Files, folder: str, own: Sequence[str]) -> tuple[str, ...]:
    """Return the modules that a folder holds and the environment's own folders too."""
    mine = set().union(*(_modules(files, f) for f in own)) if own else set()
    return tuple(sorted((_modules(files, folder) & mine) - _EVERYWHERE))


def _modules(files: Files, folder: str) -> set[str]:
    """Return the top-level modules that lie in a folder: files of code, and packages with a start file."""
    found = set()
    for name in files.entries(folder):
        stem, dot, ending = name.partition(".")
        if not stem.isidentifier():
            continue
        if (not dot and files.exists(files.path.join(folder, name, "__init__.py"))) or \
                ending in ("py", "so", "pyd") or ending.endswith((".so", ".pyd")):
            found.add(stem)
    return found


@cause("layer-leak", "packages from the user site, PYTHONPATH, another environment or the base are visible in an "
       "environment that is meant to be closed, or hide its own", group="G",
       brief="packages from outside shine into the environment")
def layer_leak(leak: Leak, facts: SeatFacts, files: Files) -> Finding | None:
    """Find packages of an outer layer that are seen, and those that hide the environment's own.

    A base installation sees its user site by design, and an environment that
    was opened to its base sees that: then only hiding is worth a warning.

    Looks like: An environment can import things that were never installed in it.
    Why: Packages of the user site, of PYTHONPATH, of another environment or of the base are visible in it, or
        hide its own.
    How Kalyx knows: The layers in search order, what lies in them, and the line or variable that lets them in.
    What to do: Take out what lets the layer in: a line, a key, a variable.
    """
    from kalyx.core.facts.shells.loaded_modules import brought_by
    from kalyx.core.verdicts.remedies.leaks import close

    environment = facts.seat.environment
    if environment is None:
        return None
    shown = [d for d in leak.distributions if not leak.hides or set(d.modules) & set(leak.hides)]
    names = [f"{d.name} {d.version}" for d in shown] if shown and not leak.hides else \
        [_versioned(n, leak.distributions) for n in leak.hides]
    if not names:
        return None
    listed = ", ".join(names[:4]) + (f" and {len(names) - 4} more" if len(names) > 4 else "")
    other = _other_version(leak, facts, files)
    what = _FROM[leak.layer.layer] + (" packages in" if leak.layer.layer == "base" else "")
    does = f"hides packages of {environment.path}" if leak.hides else f"is visible in {environment.path}"
    brought = brought_by(files, facts.seat.launch.env, "PYTHONPATH", leak.layer.path) \
        if facts.seat.launch and leak.layer.layer == "pythonpath" else None
    by = f", which the loaded module {brought.module} brings," if brought is not None else ""
    evidence = [Evidence(f"{leak.line.text} in {leak.line.file} lets it in", leak.line.file, leak.line.line)] \
        if leak.line else []
    evidence += [brought.evidence] if brought is not None else []
    evidence += [Evidence(f"{d.name} {d.version} lies in {d.location}", d.metadata) for d in shown[:6]]
    evidence += [Evidence(f"{n} is in {leak.layer.path}, and in the environment's own folder behind it",
                          leak.layer.path)
                 for n in leak.hides[:6]]
    because = f"{what[0].upper()}{what[1:]} {leak.layer.path}{by} {does}: {listed}."
    because += f" They are packages of Python {other}." if other else ""
    return Finding("layer-leak", "warning" if leak.hides or other else "note", "certain", because,
                   tuple(evidence), close(files, facts, leak.layer, leak.line))


def _other_version(leak: Leak, facts: SeatFacts, files: Files) -> str:
    """Return of which other Python the folder's packages are, by its name; empty where of none."""
    folder = files.path.basename(files.path.dirname(leak.layer.path))
    version, interpreter = version_in_name(folder), facts.seat.interpreter
    mine = interpreter.short_version if interpreter is not None else ""
    return version if version and "." in version and mine not in ("?", version) else ""


def _versioned(module: str, distributions: Sequence[Distribution]) -> str:
    """Return a module with the version of the distribution that has it, where one does."""
    owner = next((d for d in distributions if module in d.modules or normal_name(d.name) == normal_name(module)), None)
    return f"{owner.name} {owner.version}" if owner else module
