"""What to do about a part that an installed version of a package has not: one rule for each way."""

from __future__ import annotations

import re

from kalyx.core.facts.packaging.requirements import applies, is_met
from kalyx.core.lean.record import record
from kalyx.core.model import Remedy
from kalyx.core.model.names import normal_name, requirement_name
from kalyx.core.tables import import_names
from kalyx.core.verdicts.causes.absent.moved_parts import find_moved
from kalyx.core.verdicts.reading.absence import asked_near_home
from kalyx.core.verdicts.reading.generated_code import generated_for
from kalyx.core.verdicts.reading.spelling import near_names
from kalyx.core.verdicts.remedies import pip, which_pip
from kalyx.core.verdicts.remedies.conflicts import bring_together, outgrew
from kalyx.core.verdicts.remedies.source_edits import asking_place, change_line, write_import
from kalyx.core.verdicts.remedies.versions import usable

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable, Sequence

    from kalyx.core.facts.imports.case import Case
    from kalyx.core.model import Distribution, Elsewhere, Evidence
    from kalyx.core.verdicts.causes.absent.moved_parts import Moved
    from kalyx.core.verdicts.reading.failure import Failure

__all__ = ["Lack", "alike", "has_part", "lack_of", "own_advice", "remedies_for"]

# What a module adds to the plain sentence; what Python itself adds is no advice of the module's
_ADVICE = re.compile(r"(?s)has no attribute '\w+'[.:;\s]+(?!Did you mean|\(most likely due)(\S.{20,})")



@record
class Lack:
    """A module or name that is not in its parent: whose parent that is, its file, and names in it that are near."""

    case: Case
    failure: Failure
    owner: Distribution | None
    file: str | None
    near: Sequence[str]
    moved: Moved | None
    generated: tuple[str, Evidence] | None  # the requirement that generated code has which asks for it

    @property
    def evidence(self) -> list[Evidence]:
        """Where it went, by the table, and what the head of generated code says; nothing where neither is known."""
        return [*([self.moved.evidence()] if self.moved else []), *([self.generated[1]] if self.generated else [])]

    @property
    def is_module(self) -> bool:
        """Whether it is a module, and no name in one."""
        return self.failure.name is None


def lack_of(case: Case, failure: Failure, owner: Distribution | None, file: str | None, near: Sequence[str]) -> Lack:
    """Return a lack, with where its part went looked up."""
    return Lack(case, failure, owner, file, near, find_moved(case, failure, owner),
                generated_for(case, failure.asker.file) if failure.asker else None)


def remedies_for(lack: Lack) -> tuple[Remedy, ...]:
    """Return the ways out of a lack, the most certain first; a person is told to look it up where nothing is known."""
    said: dict[str, list[Remedy]] = {}
    found: list[Remedy] = []
    for name, rule, unless in RULES:
        said[name] = [] if any(said[other] for other in unless) else rule(lack)
        found += [r for r in said[name] if r not in found]
    return tuple(found)


# -- the rules ------------------------------------------------------------------------------------
def _misread(lack: Lack) -> list[Remedy]:
    """Return how to write what is no module at all."""
    return _no_module_at_all(lack.case, lack.failure, lack.file or "") if lack.is_module else []


def _moved(lack: Lack) -> list[Remedy]:
    """Return what the table of moved parts says of where it went."""
    return list(lack.moved.remedies(lack.case, lack.failure)) if lack.moved else []


def _advised_near_home(lack: Lack) -> list[Remedy]:
    """Return the module's own advice, first where the person's own code asks."""
    return own_advice(lack.failure) if asked_near_home(lack.case, lack.failure) else []


def _known_version(lack: Lack) -> list[Remedy]:
    """Return the installation of a version of which it is known that it has the part."""
    asked = lack.case, lack.owner, lack.failure
    return _version_that_has(*asked) or _wheel_that_has(*asked)


def _generated(lack: Lack) -> list[Remedy]:
    """Return the installation of the runtime that generated code, which asks for the part, was written for."""
    if lack.generated is None:
        return []
    return list(pip.install(lack.case, lack.generated[0], why=", for which the code that asks was generated"))


def _near_name(lack: Lack) -> list[Remedy]:
    """Return how to write the nearest name."""
    failure = lack.failure
    if lack.is_module:
        parent = failure.module.rpartition(".")[0]
        return [write_import(lack.case, failure, failure.module, f"{parent}.{n}") for n in lack.near[:1]]
    return [write_import(lack.case, failure, failure.name or "", n, whole=f"from {failure.module} import {n}")
            for n in lack.near[:1]]


def _likely_version(lack: Lack) -> list[Remedy]:
    """Return the changes of version that should bring together what a package asks and what another has."""
    return _likely_versions(lack.case, lack.owner, lack.failure, lack.moved)


def _whole(lack: Lack) -> list[Remedy]:
    """Return the installation of a package that lacks a part of its own, with nothing written down of it."""
    return _whole_again(lack.case, lack.owner, lack.file, lack.failure)


def _advised(lack: Lack) -> list[Remedy]:
    """Return the module's own advice, where another package's code asks."""
    return own_advice(lack.failure)


def _look_up(lack: Lack) -> list[Remedy]:
    """Return what is left to a person."""
    if lack.is_module:
        return [_by_hand(lack.case, lack.failure, lack.file or "", lack.owner)]
    return [Remedy(f"Look up which version of {lack.failure.module} has {lack.failure.name}, or where it went.",
                   "manual", changes="the import, or the version")]


# Each way out, and beside which others it is not said
RULES = (
    ("misread", _misread, ()),
    ("moved", _moved, ()),
    ("advised near home", _advised_near_home, ()),
    ("generated", _generated, ()),
    ("known version", _known_version, ("generated",)),
    ("near name", _near_name, ("misread", "moved", "generated")),
    ("likely version", _likely_version, ("known version", "generated")),
    ("whole again", _whole, ("known version", "likely version", "generated")),
    ("advised", _advised, ()),
    ("look up", _look_up, ("misread", "moved")),
)


def own_advice(failure: Failure) -> list[Remedy]:
    """Return what a module itself says is to be done about a name that it dropped."""
    said = _ADVICE.search(failure.error.message)
    text = " ".join(said.group(1).split())[:400] if said else ""
    return [Remedy(f"Do as {failure.module} itself says: {text}", "manual", changes="your code")][:bool(text)]


def alike(name: str, names: Iterable[str]) -> list[str]:
    """Return the nearest names of those that a module has: a few, so that more than one letter may differ."""
    from difflib import get_close_matches

    near = near_names(name, names) if len(name) > 3 else []
    alike = [n for n in names if n != name and n[:1] == name[:1] and abs(len(n) - len(name)) < 2]
    return near or (get_close_matches(name, alike, 1, 0.8) if len(name) > 6 else [])


def _no_module_at_all(case: Case, failure: Failure, file: str) -> list[Remedy]:
    """Return how to write what is no module: a file's ending, or a name that its parent defines."""
    from kalyx.core.facts.source_code.definitions import defined_names

    parent, _, name = failure.module.rpartition(".")
    if name == "py":
        return [write_import(case, failure, failure.module, parent)]
    if not file.endswith(".py") or name not in defined_names(case.files, file, perhaps=True):
        return []
    place, plain = asking_place(case, failure), f"from {parent} import {name}"
    form = rf"import\s+{re.escape(failure.module)}(\s+as\s+\w+)?"
    match = re.fullmatch(form, place.text) if place else None
    edit = change_line(case, place, plain + (match[1] or "")) if place and match else None
    says = f"Write: {plain}: {name} is no module, but something that {parent} defines."
    if edit is None:
        return [Remedy(says, "manual", changes="the import in your code")]
    return [Remedy(says, "edit", edits=(edit,), changes=edit.path)]


def _likely_versions(case: Case, owner: Distribution | None, failure: Failure,
                     moved: Moved | None) -> list[Remedy]:
    """Return the changes of version that should bring together what a package asks and what another has.

    Which of the two is older is to be judged: a package that declares a lower bound found there what it
    asks for, so that versions above it must have dropped it.
    """
    asker = case.distributions.of(failure.asker.file) if failure.asker else None
    served = which_pip.allowed(case)
    if owner is None or asker is None or asker.name == owner.name or owner.editable \
            or served is None:
        return []
    says = (f"{asker.name} {asker.version} counts on {failure.name or failure.module}, which "
            f"{owner.name} {owner.version} has not")
    if moved is not None and not moved.came_later:
        return bring_together(case, asker, owner, f"{says} any more", moved.versions)
    if asker.editable or not outgrew(case, owner, asker):
        return [Remedy(f"Install the newest {owner.name}: {says}.", "command",
                       argv=served.install(pip.newest(case, owner.name), upgrade=True),
                       changes=f"replaces {owner.name} {owner.version} in {case.python.prefix}")]
    return bring_together(case, asker, owner, f"{says} any more")


def _whole_again(case: Case, owner: Distribution | None, file: str | None, failure: Failure) -> list[Remedy]:
    """Return the installation of a package that lacks a part of its own, with nothing written down of it."""
    asker, top = failure.asker, failure.top
    itself = asker is not None and case.modules.file_of(top) is not None and case.files.is_within(
        asker.file, case.files.path.dirname(case.modules.file_of(top) or ""))
    if owner is not None or not itself or case.modules.layer_of_file(file) not in ("env", "user"):
        return []
    return list(pip.install(case, import_names.distribution_for(top) or top,
                            why=", whole: it lacks a part of its own", over="replaced"))


def _wheel_that_has(case: Case, owner: Distribution | None, failure: Failure) -> list[Remedy]:
    """Return the installation of a version of which a wheel on this machine has the part."""
    if owner is None or owner.editable or not case.python.knows_version:
        return []
    requirements = _requirements_of_asker(case, owner, failure)
    for wheel in case.distributions.wheels_of(owner.name):
        if str(wheel.version) != owner.version and all(is_met(w, str(wheel.version)) for w in requirements) \
                and case.distributions.wheelhouse.has(wheel, failure.module, failure.name, case.python.version):
            return list(pip.install(case, f"{owner.name}=={wheel.version}",
                                         why=f", a version that has it, as its wheel {wheel.path} shows"))
    return []


def _requirements_of_asker(case: Case, owner: Distribution, failure: Failure) -> list[str]:
    """Return what the package that asked requires of the one that lacks the part."""
    asker = case.distributions.of(failure.asker.file) if failure.asker else None
    return [r for r in (asker.requires if asker else ()) if applies(r, case.distributions.markers)
            and normal_name(requirement_name(r)) == normal_name(owner.name)]


def _version_that_has(case: Case, owner: Distribution | None, failure: Failure) -> list[Remedy]:
    """Return the installation of a version that another environment has, where that one has the part."""
    if owner is None or not owner.modules:
        return []
    requirements = _requirements_of_asker(case, owner, failure)
    for other in usable(case, case.elsewhere.having(owner.modules[0]), owner.name):
        if other.version and other.version != owner.version \
                and all(is_met(w, other.version) for w in requirements) and has_part(case, other, failure):
            return list(pip.install(
                case, f"{owner.name}=={other.version}",
                why=f", the version that {other.environment.name} has; there it is"))
    return []


def has_part(case: Case, other: Elsewhere, failure: Failure) -> bool:
    """Whether another environment's copy holds the missing submodule or name: its files are read."""
    from kalyx.core.facts.source_code.definitions import defined_names

    m = case.files
    for site in case.elsewhere.known.sites(other.environment):
        base = m.path.join(site, *failure.module.split("."))
        if failure.name is None:
            if m.is_file(base + ".py") or m.is_folder(base):
                return True
            continue
        for source in (m.path.join(base, "__init__.py"), base + ".py"):
            if failure.name in defined_names(case.files, source):
                return True
        if m.is_file(m.path.join(base, failure.name + ".py")) or m.is_folder(m.path.join(base, failure.name)):
            return True
    return False


def _by_hand(case: Case, failure: Failure, file: str, owner: Distribution | None) -> Remedy:
    """Return what a person may do about a part that is not there: of a package, or of their own code."""
    parent, _, name = failure.module.rpartition(".")
    if owner is not None or case.modules.layer_of_file(file) in ("env", "base", "user", "stdlib"):
        return Remedy(f"Look up which version of {parent} has {name}, or where it went.", "manual",
                      changes="the import, or the version")
    m = case.files
    place = m.path.dirname(file)
    around = [m.path.dirname(place), *(m.path.join(place, n) for n in m.scan(place)[1])]
    there = next((p for folder in around for p in (m.path.join(folder, f"{name}.py"),
                                                   m.path.join(folder, name, "__init__.py")) if m.exists(p)),
                                                   None)
    says = f"Take out the import of {failure.module}, or write {m.path.join(place, name)}.py: {parent} is " \
        "your own code"
    return Remedy(says + (f". There is {there}: perhaps that is meant." if there else "."), "manual",
                  changes="your code")
