"""``weigh``: what takes the disk space of an environment, distribution by distribution, and what would go with what."""

from __future__ import annotations

from kalyx.core.errors import NothingToJudge
from kalyx.core.facts.environments.neighbours import Neighbours
from kalyx.core.facts.packaging.conda_packages import is_of_conda, read_conda_packages, with_conda_packages
from kalyx.core.facts.packaging.distributions import SiteMetadata, open_shelf
from kalyx.core.facts.packaging.pip_lines import own_pip
from kalyx.core.facts.packaging.requirements import marker_values
from kalyx.core.facts.search_path.predicted import forbids_pip
from kalyx.core.facts.seats.finder import find_seat
from kalyx.core.lean.record import record
from kalyx.core.model import Note, Remedy, WeighedEnvironment, WeighedShared
from kalyx.core.model.names import normal_name
from kalyx.core.verdicts.seats.judge_seat import judge_seat
from kalyx.core.verdicts.weigh.dependents import could_go, with_dependents
from kalyx.core.verdicts.weigh.weights import Owners

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from kalyx.core.facts.packaging.conda_packages import CondaPackage
    from kalyx.core.facts.seats.context import SeatContext
    from kalyx.core.machine.interface import Machine
    from kalyx.core.model import Distribution, Environment, Unowned, WeighedDistribution

__all__ = ["WeighAnswer", "WeighEnvsAnswer", "answer_weigh", "answer_weigh_envs"]

MOST_OUTSIDE = 5  # rows that lead outside, named
# Where much more lies than a Python: of these only what belongs to Python is weighed
_SYSTEMS = ("/", "/usr", "/usr/local", "/opt/homebrew", "/opt/local")


@record
class WeighAnswer:
    """What one environment takes, and its parts, the biggest first."""

    environment: Environment
    total: int
    distributions: tuple[WeighedDistribution, ...]
    unowned: Unowned
    shared: int
    could_go: tuple[str, ...]
    remedies: tuple[Remedy, ...]
    notes: tuple[Note, ...] = ()
    plot: str | None = None
    most: int = 20
    status: str = "ok"


@record
class WeighEnvsAnswer:
    """What all environments take, the biggest first, and what is the same in several."""

    environments: tuple[WeighedEnvironment, ...]
    shared: tuple[WeighedShared, ...]
    notes: tuple[Note, ...] = ()
    most: int = 20
    status: str = "ok"


def answer_weigh(context: SeatContext, at: str, *, most: int = 20, progress: Callable[[str], object] = bool
                 ) -> WeighAnswer:
    """Weigh the environment that a seat uses. Nothing of it is run.

    Raises:
        NothingToJudge: there is no such seat, or it has no environment.
    """
    m, looking = context.machine, context.beside(at).but(asks_when_read=False)
    facts = find_seat(looking, at)
    neighbours = Neighbours(m, looking)
    seat = judge_seat(facts, m, neighbours)
    environment = seat.environment
    if environment is None:
        found = next((f.because for f in seat.findings if f.is_problem), "it has no environment.")
        raise NothingToJudge(f"{seat.ref} has nothing to weigh: {found.rstrip('.')}.", "Name another seat with --at.")
    progress(f"weighing {environment.path} …")
    roots = _roots(m, environment, neighbours)
    distributions, conda = _put_there(m, neighbours, environment)
    owners = Owners(m, distributions, environment.path, conda=conda)
    weights = owners.weigh(m.read_disk(roots, owners.part), set())
    interpreter = seat.interpreter
    markers = marker_values((interpreter.version if interpreter else None) or environment.python_version or "3",
                            (interpreter.implementation if interpreter else None) or "cpython", m.platform)
    weighed = [one for one in with_dependents(weights.distributions, distributions, markers, conda)
               if one.bytes or not one.by_conda]  # some of conda's have no files: they only ask for others
    idle = could_go(weighed, distributions, markers)
    notes = [*context.notes, *_outside(owners)]
    if roots != [environment.path]:
        notes.append(Note("weighed-in-part", f"{environment.path} holds more than Python: only {', '.join(roots)} "
                          "was weighed.", environment.path))
    may = interpreter is not None and interpreter.works and not forbids_pip(m, interpreter)
    remedies = _take_out(idle, interpreter.path, environment) if idle and interpreter and may else ()
    return WeighAnswer(environment, weights.total, tuple(weighed), weights.unowned, weights.shared, tuple(idle),
                       tuple(remedies), tuple(notes), most=most)


def _roots(m: Machine, environment: Environment, neighbours: Neighbours) -> list[str]:
    """Return the folders that are weighed: all of an environment; of a system's own only what is Python's."""
    if environment.path not in _SYSTEMS:
        return [environment.path]
    libraries = [m.path.join(environment.path, "lib", n) for n in m.names_in(m.path.join(environment.path, "lib"))
                 if n.startswith("python") and (environment.python_version or "").startswith(n[6:].rstrip("t") or "-")]
    sites = [s for s in neighbours.sites(environment) if not any(m.is_within(s, x) for x in libraries)]
    return [p for p in dict.fromkeys((*libraries, *sites)) if m.is_folder(p)]


def _distributions(m: Machine, neighbours: Neighbours, environment: Environment) -> list[Distribution]:
    found: dict[str, Distribution] = {}
    for site in neighbours.sites(environment):
        for one in SiteMetadata(m, site, "env").distributions(modules=False):
            found.setdefault(normal_name(one.name), one)
        for egg in (m.path.join(site, name) for name in m.names_in(site) if name.endswith(".egg")):
            for one in open_shelf(m, egg, "env").distributions():
                found.setdefault(normal_name(one.name), one)
    return list(found.values())


def _put_there(m: Machine, neighbours: Neighbours, environment: Environment
               ) -> tuple[list[Distribution], dict[int, CondaPackage]]:
    """Return the distributions of an environment and packages of conda's, and by number what conda says of them."""
    return with_conda_packages(m, _distributions(m, neighbours, environment),
                               read_conda_packages(m, environment.path), environment.path)


def _outside(owners: Owners) -> list[Note]:
    """Say which rows of a RECORD lead out of the environment, and were not counted."""
    rows = owners.outside
    if not rows:
        return []
    more = f", and {len(rows) - MOST_OUTSIDE} more" if len(rows) > MOST_OUTSIDE else ""
    named = ", ".join(f"{path} of {one.name}" for one, path in rows[:MOST_OUTSIDE])
    return [Note("outside", f"RECORD names files outside of the environment, which were not counted: {named}{more}.",
                 rows[0][1])]


def _take_out(names: Sequence[str], python: str, environment: Environment) -> list[Remedy]:
    return [Remedy(f"Take out what nobody asked for and nobody needs: {', '.join(names)}.", "command",
                   argv=own_pip(python).uninstall(*names), changes=f"removes {len(names)} from {environment.path}")]


# -- all of them -----------------------------------------------------------------------------------
def answer_weigh_envs(context: SeatContext, *, most: int = 20, progress: Callable[[str], object] = bool
                      ) -> WeighEnvsAnswer:
    """Weigh every environment of the machine; what is linked into several is counted once."""
    from kalyx.core.answers.envs import answer_envs

    m = context.machine
    listed = answer_envs(context)
    neighbours = Neighbours(m, context)
    counted: set[tuple[int, int]] = set()
    weighed: list[WeighedEnvironment] = []
    progress(f"weighing {len(listed.environments)} environments …")
    copies: dict[tuple[str, str, str], list[tuple[str, int]]] = {}
    for item in listed.environments:
        environment = item.environment
        inside = [w.environment.path for w in listed.environments if w.environment.path != environment.path
                  and m.is_within(w.environment.path, environment.path)]
        distributions, conda = _put_there(m, neighbours, environment)
        owners = Owners(m, distributions, environment.path, inside, conda)
        weights = owners.weigh(m.read_disk(_roots(m, environment, neighbours), owners.part), counted)
        on_it = (f"env:{w.environment.path}" for w in listed.environments if w.environment.path != environment.path
                 and w.environment.base and m.same(w.environment.base, environment.path))
        weighed.append(WeighedEnvironment(environment, weights.total, _last_used(weights.newest),
                                          (*item.used_by, *on_it)))
        for number, (one, weight) in enumerate(zip(distributions, weights.distributions, strict=True)):
            key = (normal_name(one.name), one.version, _record_of(m, one, conda.get(number)))
            copies.setdefault(key, []).append((environment.path, weight.bytes))
    shared = [WeighedShared(name, version or None, tuple(p for p, _ in places), sum(b for _, b in places))
              for (name, version, _), places in copies.items() if len(places) > 1]
    return WeighEnvsAnswer(tuple(sorted(weighed, key=lambda w: -w.total)),
                           tuple(sorted(shared, key=lambda s: -s.bytes)), (*context.notes, *listed.notes), most)


def _record_of(m: Machine, one: Distribution, conda: CondaPackage | None) -> str:
    """Return what tells whether two copies are the same: their lists of files."""
    from hashlib import sha256

    from kalyx.core.facts.packaging.record_file import Record

    listed = conda.files if conda and is_of_conda(one) else Record(m, one).names
    rows = (n for n in listed if not n.endswith((".pyc", "RECORD", "INSTALLER", "REQUESTED")))
    return sha256("\n".join(sorted(rows)).encode("utf-8", "surrogateescape")).hexdigest()


def _last_used(newest: float | None) -> str | None:
    """Guess when it was last used: when its newest bytecode was written."""
    from datetime import datetime, timezone

    return datetime.fromtimestamp(newest, timezone.utc).isoformat(timespec="seconds") if newest else None
