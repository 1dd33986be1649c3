"""How code comes to run in an environment that fits, or one comes to fit."""

from __future__ import annotations

from kalyx.core.facts.kernels.kernelspecs import prefix_of_kernel
from kalyx.core.facts.packaging.requirements import marker_values, suits
from kalyx.core.lean.record import record
from kalyx.core.model import Remedy
from kalyx.core.model.names import normal_name, requirement_name
from kalyx.core.tables.import_names import is_everyday
from kalyx.core.verdicts.fit.asked_lines import needs_at
from kalyx.core.verdicts.fit.elsewhere import why_only_elsewhere
from kalyx.core.verdicts.fit.standard_modules import lacks_by_version
from kalyx.core.verdicts.remedies.kernels import switch_kernel, well_kernels

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from kalyx.core.facts.environments.neighbours import Neighbours
    from kalyx.core.facts.files import Files
    from kalyx.core.model import FitOfEnvironment, Interpreter, Kernel, Lack, Need, PythonWanted

__all__ = ["remedies_of"]


def remedies_of(files: Files, neighbours: Neighbours, kernels: Sequence[Kernel], found: Sequence[FitOfEnvironment],
                needs: Sequence[Need], python: PythonWanted | None, notebooks: Sequence[str], home: str
                ) -> list[Remedy]:
    """Return what to do: have notebooks use the best, put what lacks into the nearest, make one with all of it."""
    best = next((f for f in found if f.fits), None)
    if best is not None:
        return [r for book in notebooks if f"notebook:{book}" not in best.used_here and not _is_used(best, book, files)
                for r in _have_it_used(files, neighbours, kernels, best, book)]
    if any(lack.module and lack.found and not lack.distribution for one in found for lack in one.lacks):
        return []  # a part that a version does not have, and nothing tells which one does
    if any(one.breaks and not one.lacks for one in found):
        return []  # it has all of it, and yet breaks: a new one may break in the same way
    away = [why.remedy for n in (found[0].needs if found else needs) if not n.optional and not n.only_where
            and _is_lacked(n, found) and (why := why_only_elsewhere(n, files.platform)) is not None]
    asked = _asked_for(neighbours, found[0].needs if found else needs)
    return away or [*_fill_nearest(files, found, needs, asked), *_make(files, neighbours, needs, python, home, asked)]


@record
class _AskedFor:
    """What is known of what a project asks for by name: what it requires, and whether some of it may bring anything."""

    required: frozenset[str] = frozenset()
    may_bring_any: bool = False


def _asked_for(neighbours: Neighbours, needs: Sequence[Need]) -> _AskedFor:
    """Look at what the project asks for, where a module's distribution is only guessed.

    What no code imports may be what brings that module under another name, unless it is known which modules it has.
    """
    if not any(n.is_guessed for n in needs):
        return _AskedFor()
    required, may_bring_any = set(), False
    for need in (n for n in needs if n.distribution and not n.is_guessed):
        here = [d for _, d in neighbours.providing_name(need.distribution or "")]
        required |= {normal_name(requirement_name(r)) for d in here for r in d.requires}
        is_unknown = need.module is None and not need.optional and not need.by_conda
        may_bring_any = may_bring_any or (is_unknown and not any(d.modules for d in here))
    return _AskedFor(frozenset(required), may_bring_any)


def _is_lacked(need: Need, found: Sequence[FitOfEnvironment]) -> bool:
    """Whether every environment lacks a module: a stand-in for it may be in one."""
    return all(any(lack.module == need.module for lack in one.lacks) for one in found)


def _is_used(best: FitOfEnvironment, notebook: str, files: Files) -> bool:
    return any(ref.startswith("notebook:") and files.same(files.absolute(ref.partition(":")[2]), notebook)
               for ref in best.used_here)


def _have_it_used(files: Files, neighbours: Neighbours, kernels: Sequence[Kernel], best: FitOfEnvironment,
                  notebook: str) -> list[Remedy]:
    """Return how a notebook comes to run in an environment: by its kernel, or by one that it is given first."""
    path = best.environment.path
    mine = [k for k in kernels if k.argv and not k.trouble
            and any(files.same(p, path) for p in prefix_of_kernel(files, k))]
    well = well_kernels(mine, files, neighbours)
    if well:
        return [switch_kernel(notebook, well[0][0], files, why=f", which runs {path}")]
    has_package = neighbours.any_holds(neighbours.sites(best.environment), "ipykernel")
    more = () if has_package else ("--with-kernel-package",)
    return [Remedy(f"Make {path} a notebook kernel first; then this gives the line that has the notebook use it.",
                   "command", argv=(*files.own_command, "enrol", path, *more), undoable=True,
                   changes="registers a kernel" + ("" if has_package else f", and adds the kernel package to {path}"))]


def _fill_nearest(files: Files, found: Sequence[FitOfEnvironment], needs: Sequence[Need], asked: _AskedFor
                  ) -> list[Remedy]:
    """Return the command that puts what lacks into the environment that lacks least."""
    for one in found:
        works = one.interpreter is not None and one.interpreter.works
        if one.environment.kind == "base" or not one.python_fits or not one.lacks or not works or one.breaks:
            continue
        if any(n.is_at_odds and not n.optional for n in one.needs):
            continue  # no version of that is what both the code and its project want
        if any(lack.distribution is None or is_everyday(lack.module or "") for lack in one.lacks):
            continue
        of_conda = {n.distribution for n in needs if n.by_conda}
        if any(lack.module is None and lack.distribution in of_conda for lack in one.lacks):
            continue  # no index of Python's has these
        guessed = {n.module for n in needs if n.is_guessed}
        if asked.may_bring_any and any(x.module in guessed for x in one.lacks):
            continue  # what brings it may be what the project asks for, under another name
        by_name = {normal_name(n.distribution): n for n in one.needs if n.distribution and (n.extras or n.url)}
        wanted = list(dict.fromkeys(_wanted(lack, by_name) for lack in one.lacks))
        says = f"Put what it lacks into {one.environment.path}, which lacks least{_guessed(needs, wanted, asked)}."
        return [Remedy(says, "command",
                       argv=(*files.own_command, "put", *wanted, "--at", f"env:{one.environment.path}"), undoable=True,
                       changes=f"adds {', '.join(wanted)} to {one.environment.path}")]
    return []


def _wanted(lack: Lack, asked_with: Mapping[str, Need]) -> str:
    """Return the requirement that closes a lack, with the extras that the project asks for, from where it wants it."""
    need = asked_with.get(normal_name(lack.distribution or ""))
    return need.requirement if need is not None and need.specifier == lack.wanted else \
        f"{lack.distribution}{lack.wanted}"


def _make(files: Files, neighbours: Neighbours, needs: Sequence[Need], python: PythonWanted | None,
          home: str, asked: _AskedFor) -> list[Remedy]:
    """Return the command that makes an environment with all that is needed."""
    bases = [b for b in neighbours.bases if b.works and b.version and (
        python is None or suits(python.specifier, b.version)) and _has_all(b, needs)]
    plain = [b for b in bases if not files.is_folder(files.path.join(b.prefix or "", "conda-meta"))]
    bases = plain or bases  # an environment of conda's is no good base for others
    wanted = _requirements(_needs_of_base(files, needs, bases[-1]), bases[-1].version or "", asked) if bases else None
    if wanted is None:
        return []
    place = next(p for n in range(100) if not files.exists(p := files.path.join(home, f".venv{f'-{n}' if n else ''}")))
    put = [word for w in wanted for word in ("--put", w)]
    says = f"Make an environment with all of it, by Python {bases[-1].version}{_guessed(needs, wanted, asked)}."
    python_path = bases[-1].real_path or bases[-1].path
    return [Remedy(says, "command",
                   argv=(*files.own_command, "make", place, "--python", python_path, *put), undoable=True,
                   changes=f"makes {place}")]


def _guessed(needs: Sequence[Need], wanted: Sequence[str], asked: _AskedFor) -> str:
    """Say which of the names are only those of the modules: what an index has under them may be somebody else's."""
    names = [n.distribution for n in needs if n.is_guessed and n.distribution and n.distribution in wanted
             and normal_name(n.distribution) not in asked.required]
    return f"; nothing here tells that {', '.join(names)} is what brings the module of that name" if names else ""


def _has_all(base: Interpreter, needs: Sequence[Need]) -> bool:
    """Whether a Python's version has the modules of the standard library that are needed."""
    return not any(lacks_by_version(base.version or "", need.module) for need in needs
                   if need.is_standard and not need.optional and not need.only_where and need.module)


def _needs_of_base(files: Files, needs: Sequence[Need], base: Interpreter) -> list[Need]:
    return needs_at(needs, marker_values(base.version or "", base.implementation or "cpython", files.platform))


def _requirements(needs: Sequence[Need], version: str, asked: _AskedFor) -> list[str] | None:
    """Return what is to be installed into a Python; None where nothing tells what brings something that is needed."""
    found: dict[str, str] = {}
    standard = {n.module for n in needs if n.is_standard}
    for need in (n for n in needs if not (n.optional or n.is_standard or n.by_conda)
                 and not (n.is_guessed and asked.may_bring_any)):
        if need.is_spared(lambda a: a.module in standard and suits(a.python, version)
                          and not lacks_by_version(version, a.module)):
            continue  # this Python has what it stands in for
        if need.distribution is None or need.is_at_odds or (is_everyday(need.module or "") and not need.specifier):
            return None
        found.setdefault(normal_name(need.distribution), need.requirement)
    return list(found.values())
