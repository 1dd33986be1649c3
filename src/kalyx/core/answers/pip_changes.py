"""Runs pip so that what it changes stands in the journal, with what is needed to take it back."""

from __future__ import annotations

from kalyx.core.facts.interpreters.environment import program_folder
from kalyx.core.facts.packaging.record_file import Record
from kalyx.core.facts.search_path.site_folders import site_folders, user_site, user_sites
from kalyx.core.model.names import normal_name

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Sequence

    from kalyx.core.changes.entry import Entry
    from kalyx.core.machine.interface import Machine
    from kalyx.core.machine.results import RunResult
    from kalyx.core.model import Distribution, Environment

__all__ = ["files_of", "run_watched"]

_ALONE = ("pyvenv.cfg", "lib64")  # what venv writes beside its folders
_DATA = ("share", "etc", "include", "man")  # where wheels put what is no code (PEP 427)


def run_watched(machine: Machine, entry: Entry, environment: Environment, replaced: Iterable[str] | None,
                run: Callable[[], RunResult], *, everything: bool = False, more: Sequence[str] = (),
                in_place: bool = False) -> tuple[RunResult, bool]:
    """Run something that changes an environment's packages; return how it ended, and whether it changed anything.

    `replaced` are the files that it is known to replace; None where that is not known: then all are kept.
    `everything`: it may change any file of the environment, as conda does. `more`: other folders that it changes.
    `in_place`: it may write into files that are there, as venv does.

    Raises:
        Refused: what it would replace cannot be kept.
    """
    m, prefix = machine, environment.path
    folders = [*site_folders(m, prefix, environment.kind, environment.python_version), program_folder(m, prefix),
               *(m.path.join(prefix, n) for n in _DATA)]
    if everything:
        folders = [prefix]
    folders += more
    if not m.is_file(m.path.join(prefix, "pyvenv.cfg")) and not everything:  # pip may turn to the user site
        version = environment.python_version
        folders += [*(s for s, _ in user_sites(m)), *([user_site(m, version)] if version else ()), _user_programs(m)]
    watched = entry.installing(prefix, folders, replaced, [m.path.join(prefix, n) for n in _ALONE], links=not in_place)
    try:
        ran = run()
    finally:
        changed = entry.was_installed(watched)
    return ran, changed


def _user_programs(machine: Machine) -> str:
    """Return where programs of the user site are (`site.USER_BASE`)."""
    m = machine
    if m.platform == "win32":
        return str(m.path.join(m.env.get("PYTHONUSERBASE") or m.path.join(m.env.get("APPDATA", m.home), "Python"),
                               "Scripts"))
    return str(m.path.join(m.env.get("PYTHONUSERBASE") or m.path.join(m.home, ".local"), "bin"))


def files_of(machine: Machine, distributions: Sequence[Distribution], names: Iterable[str]) -> list[str]:
    """Return the files of the distributions of some names, by what their installers wrote down, and their metadata."""
    wanted, found = {normal_name(n) for n in names}, []
    for one in (d for d in distributions if normal_name(d.name) in wanted and d.metadata):
        record = Record(machine, one)
        found += [record.absolute(row) for row in record.rows]
        if machine.is_folder(one.metadata):
            found += [machine.path.join(one.metadata, n) for n in machine.names_in(one.metadata)]
        else:
            found.append(one.metadata)
    return found
