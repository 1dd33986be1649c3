"""Files of two versions or two installers on top of each other."""

from __future__ import annotations

from kalyx.core.facts.packaging.requirements import applies
from kalyx.core.facts.search_path.modules import EXTENSION
from kalyx.core.model import Evidence, Finding
from kalyx.core.model.names import normal_name, requirement_name
from kalyx.core.tables import import_names
from kalyx.core.verdicts.catalogue import also, cause
from kalyx.core.verdicts.causes.damaged.suspects import owners, suspects, what_broke
from kalyx.core.verdicts.causes.damaged.two_projects import two_projects
from kalyx.core.verdicts.reading.absence import is_absent
from kalyx.core.verdicts.remedies import files, pip

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.model import Distribution
    from kalyx.core.verdicts.reading.failure import Failure

__all__ = ["mixed_install", "two_installs"]


@cause("mixed-install", "files of two versions or two installers lie on top of each other",
       asks="traces", family="damage", not_beside=("files-missing", "metadata-only", "file-corrupt", "unfit"),
       why_here="left-overs explain a failure only where the distribution itself is whole")
def mixed_install(case: Case, failure: Failure | None) -> Finding | None:
    """Find two metadata folders of one distribution, left-overs, and files of another version.

    Looks like: A package fails in itself: names missing between its own files.
    Why: Files of two versions lie on top of each other: two installers, a copy by hand, an installation
        that was interrupted.
    How Kalyx knows: Two metadata folders of one distribution, left-overs with a `~`, or files that
        differ from RECORD.
    What to do: Install the package again, so that its files are of one version.
    """
    if case.obs.outcome not in ("fails", "crash"):
        return None
    if failure is not None and is_absent(case, failure):
        return _asked_by_changed(case, failure)
    error = case.obs.error
    if error is not None and error.type.endswith("Warning"):
        return None  # made an exception by a setting: the code is as it was
    clash = two_projects(case, failure)
    if clash is not None:
        return clash
    left = _left_over_binary(case, failure)
    if left is not None:
        return left
    for owner in owners(case, failure):
        stray = _stray_package(case, owner)
        if stray is not None:
            return stray
        if len(_twins(case, owner)) > 1:
            continue  # what of each is there is not compared: see `two_installs`
        rows = [r for r in map(case.distributions.record(owner).row_of, suspects(case, failure)) if r is not None]
        found = _written_over(case, owner, rows)
        if found is not None:
            return found
    return None


@also("mixed-install",
      asks="traces", family="damage",
      not_beside=("files-missing", "file-corrupt", "unfit", "mixed-install:mixed_install",
                  "version-conflict"),
      why_here="two versions are there on purpose of nobody, but a requirement that is not met says more")
def two_installs(case: Case, failure: Failure | None) -> Finding | None:
    """Find two metadata folders of a distribution that the failure speaks of."""
    error = case.obs.error
    if case.obs.outcome not in ("fails", "crash") or (failure is not None and is_absent(case, failure)) or (
            error is not None and error.type.endswith("Warning")):
        return None
    for owner in owners(case, failure):
        twins = _twins(case, owner)
        if len(twins) > 1:
            newest = max(twins, key=lambda d: _version_key(d.version))
            named = " and ".join(f"{d.name} {d.version}" for d in twins)
            return Finding.error(
                "mixed-install", "likely",
                f"{owner.location} holds the metadata of {named}: one was installed over the other.",
                (*[Evidence(f"{d.name} {d.version}", d.metadata) for d in twins], *what_broke(case)),
                pip.reinstall(case, newest.name, newest.version, "so that its files are of one version"))
    return None


def _written_over(case: Case, owner: Distribution, rows: list[str]) -> Finding | None:
    """Find files among `rows` that are not those that their distribution installed."""
    record = case.distributions.record(owner)
    changed = [(r, how) for r in rows if (how := record.difference(r))]
    if not changed:
        return None
    return Finding.error(
        "mixed-install", "likely",
        f"{record.absolute(changed[0][0])} is not the file that {owner.name} {owner.version} "
        "installed: another version, installer or hand wrote over it.",
        (*[Evidence(how, record.absolute(r)) for r, how in changed[:4]],
         Evidence("what was installed", record.path), *what_broke(case)),
        pip.reinstall(case, owner.name, owner.version, "to have files of one version"))


def _asked_by_changed(case: Case, failure: Failure) -> Finding | None:
    """Find that what asks for an absent module is a changed file, and that nothing declares the module."""
    owner = case.distributions.of(failure.asker.file) if failure.asker else None
    row = case.distributions.record(owner).row_of(failure.asker.file) if owner and failure.asker else None
    names = {normal_name(failure.top), normal_name(import_names.distribution_for(failure.top) or failure.top),
             *[normal_name(e.name) for e in case.elsewhere.having(failure.top) if e.name]}
    if owner is None or owner.editable or row is None or failure.top in case.modules.stdlib_names:
        return None
    wanted = (r for r in owner.requires if applies(r, case.distributions.markers))
    if any(normal_name(requirement_name(r)) in names for r in wanted):
        return None
    return _written_over(case, owner, [row])


def _left_over_binary(case: Case, failure: Failure | None) -> Finding | None:
    """Find a compiled file that no RECORD lists, and that comes before the source which one lists for that module."""
    m = case.files
    for file in suspects(case, failure):
        match = EXTENSION.match(m.path.basename(file))
        owner = case.distributions.of(file) if match else None
        if match is None or owner is None or case.distributions.record(owner).row_of(file):
            continue
        record, source = case.distributions.record(owner), m.path.join(m.path.dirname(file), f"{match['module']}.py")
        if record.row_of(source) and m.is_file(source):
            return Finding.error(
                "mixed-install", "certain",
                f"{file} is no file of {owner.name} {owner.version}, and is imported in place of {source}, which is.",
                (Evidence("a compiled file comes before a source of the same name", file),
                 Evidence(f"RECORD lists {record.row_of(source)}, and not this file", record.path), *what_broke(case)),
                (files.set_aside(m, file),))
    return None


def _stray_package(case: Case, owner: Distribution) -> Finding | None:
    """Find a folder that hides a distribution's module of one file, in the same site folder."""
    record, m = case.distributions.record(owner), case.files
    for name in owner.modules:
        folder = m.path.join(owner.location, name)
        if f"{name}.py" not in record.rows or any(r.startswith(f"{name}/") for r in record.rows):
            continue
        found = case.modules.finder.find_in(owner.location, name)
        if found is not None and found.kind == "package":
            return Finding.error(
                "mixed-install", "certain",
                f"The package {folder} hides {record.absolute(name + '.py')}, the module that {owner.name} "
                f"{owner.version} installed, and belongs to no distribution.",
                (Evidence("a folder comes before a file of the same name", found.path),
                 Evidence(f"RECORD lists {name}.py, and nothing in {name}", record.path), *what_broke(case)),
                (files.set_aside(m, folder),))
    return None


def _twins(case: Case, owner: Distribution) -> list[Distribution]:
    """Return all distributions of one name in one folder."""
    layer = next((x for x in case.modules.layers if x.path == owner.location), None)
    if layer is None:
        return [owner]
    wanted = normal_name(owner.name)
    entries = [e for e in case.distributions.metadata_in(layer).metadata_folders()
               if normal_name(e.rsplit(".", 1)[0].split("-")[0]) == wanted]
    return [d for d in map(case.distributions.metadata_in(layer).read, entries) if d is not None and _says_anything(
        case, d)]


def _says_anything(case: Case, distribution: Distribution) -> bool:
    """Whether a metadata entry says what is installed: an installer may leave its folder with less than that."""
    m = case.files
    return not m.is_folder(distribution.metadata) or any(
        m.is_file(m.path.join(distribution.metadata, n)) for n in ("METADATA", "PKG-INFO", "RECORD"))


def _version_key(text: str) -> tuple[int, object]:
    from packaging.version import InvalidVersion, Version

    try:
        return 1, Version(text)
    except InvalidVersion:
        return 0, text
