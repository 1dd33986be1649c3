"""Group A: what is asked for is not in this seat, nor under another name."""

from __future__ import annotations

import re

from kalyx.core.facts.search_path.modules import top_level
from kalyx.core.lean.record import replace
from kalyx.core.model import Evidence, Finding, Remedy
from kalyx.core.model.names import normal_name, requirement_name
from kalyx.core.tables import import_names
from kalyx.core.verdicts.catalogue import also, cause
from kalyx.core.verdicts.causes.absent.dropped_modules import lacking_version
from kalyx.core.verdicts.causes.absent.standard_library import has_module, versions_of
from kalyx.core.verdicts.reading.absence import (
    asked_by_person,
    asked_near_home,
    asked_whole,
    asker_evidence,
    is_absent,
    known_distribution,
    searched,
    unread,
)
from kalyx.core.verdicts.reading.asked_part import asked_part, part_evidence
from kalyx.core.verdicts.reading.own_files import own_files
from kalyx.core.verdicts.remedies import pip, seats, which_pip
from kalyx.core.verdicts.remedies.only_elsewhere import language_model
from kalyx.core.verdicts.remedies.project import install_for_project, project_requirement, requirement_evidence
from kalyx.core.verdicts.remedies.shell_lines import command_line
from kalyx.core.verdicts.remedies.source_edits import leave_out, or_written

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

    from kalyx.core.facts.imports.case import Case
    from kalyx.core.facts.packaging.project import Declared
    from kalyx.core.model import Distribution, Elsewhere
    from kalyx.core.verdicts.reading.failure import Failure

__all__ = ["requirement_for"]



@cause("installed-elsewhere", "absent here, present in another environment or interpreter",
       asks="absence", after=("base-site-off",),
       not_beside=("pip-absent", "metadata-only", "files-missing", "mixed-install", "file-unreadable"),
       why_here="what is here and damaged is mended here, and every environment has a pip")
def installed_elsewhere(case: Case, failure: Failure | None) -> Finding | None:
    """Look for the module in the other environments of the machine.

    Looks like: `No module named ...` for something that you have installed, perhaps a minute ago.
    Why: It went into another environment: another `pip`, another kernel, another terminal.
    How Kalyx knows: No layer of this seat holds it, and another environment on this machine does; the
        seats that use that one are named, and the `pip` that installs there.
    What to do: Put it here too, or move the seat to the environment that has it.
    """
    if not is_absent(case, failure) or failure is None or not asked_by_person(case, failure):
        return None
    others = case.elsewhere.having(failure.top)
    if not others:
        return None
    name = others[0].name or failure.top
    declared = project_requirement(case, failure)
    todo = [*(install_for_project(case, name, declared) if declared else
              _install_as_there(case, others, name, failure.top))]
    part = asked_part(case, name)
    for other in [o for o in others if part is None or not part.lacks(o.version)][:2]:
        named = seats.as_it_is_called(case, other)  # what the kernel says that it runs is what was meant
        first = named is not None or bool(todo and todo[0].kind == "manual")
        moved = named or seats.move_seat(case, other, failure.top, first=first)
        if moved is not None:
            todo.insert(0 if first else len(todo), moved)
    todo += or_written(case, failure, name)
    places = f"in {others[0].environment.name}"
    if len(others) > 1:
        places += f" and {len(others) - 1} other" + ("s" if len(others) > 2 else "")
    closed = unread(case)
    return Finding.error(
        "installed-elsewhere", "likely" if closed else "certain",
        f"{failure.top} is not in {case.environment_name}; it is installed {places}.",
        (*closed, *requirement_evidence(declared), *part_evidence(case, name),
         *[_elsewhere_evidence(o, failure.top) for o in others[:8]],
         *_pip_evidence(case, others), *searched(case)), tuple(todo))


def _pip_evidence(case: Case, others: Sequence[Elsewhere]) -> list[Evidence]:
    """Say when this shell's own pip is the one that installs into the other environment."""
    found = []
    for script in case.seat.scripts:
        prefix = script.interpreter.prefix if script.interpreter else None
        if prefix and any(case.files.same(prefix, o.environment.path) for o in others):
            found.append(Evidence(f"{script.name} in this shell installs into {prefix}",
                                  script.path))
    return found[:1]


def _install_as_there(case: Case, others: Sequence[Elsewhere], name: str, module: str) -> tuple[Remedy, ...]:
    """Return how to install it: from a local project, and linked, where another environment has it so."""
    local = next((o for o in others if o.source), None)
    if local is not None and local.source is not None:
        return pip.install(case, local.source, linked=local.editable)
    from kalyx.core.verdicts.remedies.versions import usable

    here, wanted = case.distributions.named(name), pip.that_brings(case, module, name)
    there = next(iter(usable(case, others, name)), None) if here is not None and wanted == name else None
    if here is not None and there is not None and here.version != there.version:
        why = f", the version that {there.environment.name} has: {here.version}, which is here, lacks {module}"
        return pip.install(case, f"{name}=={there.version}", why=why)
    return pip.install(case, wanted)


def _elsewhere_evidence(other: Elsewhere, module: str) -> Evidence:
    what = f"{other.name} {other.version}" if other.name else module
    return Evidence(f"{other.environment.path} (Python "
                    f"{other.environment.python_version or 'of unknown version'}) has {what}",
                    other.environment.path)


@cause("not-installed",
       "no layer of this seat has the module, no known environment has it, and the name is plausible as it stands",
       asks="absence", after=("name-misspelt",),
       not_beside=("pip-absent", "name-differs", "stdlib-removed", "stdlib-not-yet", "stdlib-not-built",
                   "own-code-unreachable", "metadata-only", "user-site-off", "base-site-off", "link-broken",
                   "site-off", "env-version-skew", "mixed-install", "file-unreadable", "installed-elsewhere"),
       why_here="it is true only where it is nowhere")
def not_installed(case: Case, failure: Failure | None) -> Finding | None:
    """Conclude that it is nowhere.

    Looks like: `No module named ...`.
    Why: It is not installed, neither here nor in any environment that Kalyx knows of.
    How Kalyx knows: Every folder of the search path and every known environment was searched; what the
        project says that it needs was read.
    What to do: Put the distribution that provides it into the environment of this seat, in the version
        that the project asks for.
    """
    if not is_absent(case, failure) or failure is None or not asked_by_person(case, failure):
        return None
    name = failure.top
    if case.elsewhere.having(name):
        return None
    known = known_distribution(case, failure) or name
    here = case.distributions.named(known)
    if here is not None and any(m != name and m.lower() == name.lower() for m in here.modules):
        return None  # it is installed: its module is only written otherwise
    if case.distributions.bringing(name):
        return None  # it is: what is wrong with it is for others to say, where that is known
    host = import_names.host_of(asked_whole(case, failure))
    if host is not None:
        return _hosted(case, failure, host)
    count = len(case.elsewhere.known.prefixes)
    declared = project_requirement(case, failure)
    says = f"{name} is not installed in {case.environment_name}, nor in any other environment that Kalyx knows of."
    if not case.elsewhere.known.are_looked_for:
        says = f"{name} is not installed in {case.environment_name}; other environments there were not looked at."
    if case.text_of:  # no environment was looked at
        says = f"{name} is not there for the Python of {case.text_of}."
    closed = unread(case)
    if closed:
        says = f"{name} was found nowhere; but not all that {case.environment_name} looks at could be read."
    return Finding.error(
        "not-installed", "likely" if closed else "certain", says,
        (*closed, *requirement_evidence(declared), *part_evidence(case, known), *searched(case),
         *([Evidence(f"none of the {count} known environments has it", kind="searched")]
           if case.elsewhere.known.are_looked_for or case.text_of else [])),
        (*_put_it(case, failure, known, declared), *or_written(case, failure, known)))


def _hosted(case: Case, failure: Failure, host: str) -> Finding:
    whole = asked_whole(case, failure)
    return Finding.error(
        "not-installed", "certain",
        f"{whole} is there in {host} alone, and this Python runs elsewhere.",
        (Evidence(f"{whole} is of {host}, by the table of well-known names that Kalyx ships"),
         *asker_evidence(case, failure), *searched(case)),
        (leave_out(whole),))


def _put_it(case: Case, failure: Failure, known: str, declared: Declared | None) -> tuple[Remedy, ...]:
    """Return how to install what has a module, where its name or the project tells what that is."""
    name = failure.top
    if known != name or declared is not None:
        return install_for_project(case, pip.that_brings(case, name, known), declared)
    if import_names.is_shared(name):
        return _shared_name(name)
    if language_model(name):
        says = "It is a language model of spaCy, which is on no index; spaCy itself fetches it."
        return (Remedy(says, "manual", changes=f"adds {name} to {case.python.prefix}",
                       typed=command_line(case.files, (case.python.executable, "-m", "spacy", "download", name))),)
    if not import_names.is_everyday(name):
        return install_for_project(case, pip.that_brings(case, name, name), None, pip.GUESSED)
    folder = case.start or case.launch.start or case.launch.cwd
    own = Remedy(f"If {name} is your own module, have Python look into the folder that holds {name}.py: it was "
                 f"found neither in {folder} nor in the folders around it. What an index has under so common a "
                 "name is somebody else's.", "manual", changes="where imports are looked for")
    return (own, *pip.install(case, name, why=", if a distribution of that name is meant"))


def _shared_name(name: str) -> tuple[Remedy, ...]:
    """Return what to do where a name stands for no distribution, but for parts of many."""
    return (Remedy(f"Ask for the part that you need: many distributions lay their modules under {name}, and "
                   f"none of them is called so. kalyx why {name}.PART says which it is.", "manual",
                   changes="nothing"),)


@also("pip-absent",
      asks="absence", after=("own-code-unreachable",),
      why_here="pip is like no other module: Python brings it along")
def no_pip(case: Case, failure: Failure | None) -> Finding | None:
    """Say how an interpreter without pip gets one: Python brings it along, where its packager left that in."""
    if failure is None or failure.top != "pip" or not is_absent(case, failure):
        return None
    m, own = case.files, case.modules.file_of("ensurepip")
    marker = which_pip.managed_marker(case)
    if own is not None and marker is None:
        todo = Remedy(f"Give {case.environment_name} a pip of its own.", "command",
                      argv=(case.python.executable, *which_pip.pip_flags(case), "-m", "ensurepip", "--upgrade"),
                      changes=f"adds pip to {case.python.prefix}")
    elif m.exists("/usr/bin/apt-get") and case.python.base_prefix == "/usr":
        package = "python3-pip" if case.python.prefix == "/usr" else "python3-venv"
        todo = Remedy(f"Install the system's package {package}.", "command",
                      argv=("apt-get", "install", "-y", package),
                      changes=f"adds {package} to the system (needs root)")
    else:
        todo = Remedy(f"Install pip for {case.python.executable}: this Python does not bring ensurepip along.",
                      "manual", changes=f"adds pip to {case.python.prefix}")
    return Finding.error(
        "pip-absent", "certain", f"{case.environment_name} has no pip.",
        (*([Evidence("ensurepip, by which Python brings pip along, is here", own)] if own else []),
         *searched(case)), (todo,))


@cause("dependency-absent", "the asked module is here; something that it needs is not",
       asks="absence", after=("stdlib-removed", "stdlib-not-yet"),
       not_beside=("hiding", "unfit", "damage", "extra-absent", "site-off"),
       why_here="it is needed because of what is wrong with the asker, or is there and out of reach, in those cases")
def dependency_absent(case: Case, failure: Failure | None) -> Finding | None:
    """Name what an installed module needs and does not find, and who asked for it.

    Looks like: `No module named 'b'`, though you imported `a`, which is installed.
    Why: A package is here and something that it needs is not: it was installed without its
        dependencies, or they were removed since.
    How Kalyx knows: The frame that asked lies in the package's files, no layer holds the module, and
        the package's metadata declares it.
    What to do: Put the declared requirement, with its version bounds, into the same environment.
    """
    if not is_absent(case, failure) or failure is None or asked_by_person(case, failure):
        return None
    if failure.asker is not None and case.modules.layer_of_file(failure.asker.file) == "stdlib":
        return None
    if _is_beside(case, failure):
        return None
    name = failure.top
    history = versions_of(name)
    if history is not None and not has_module(history, case.python.version_pair):
        return None  # that says more: it was never a matter of installing
    owner = case.distributions.of(failure.asker.file) if failure.asker else None
    host = import_names.host_of(asked_whole(case, failure))
    if host is not None:
        return replace(_hosted(case, failure, host), cause="dependency-absent")
    requirement = requirement_for(case, owner, name)
    others = case.elsewhere.having(name)
    wanted = requirement or (others[0].source or others[0].name if others else None) or known_distribution(
        case, failure)
    guess = "" if wanted else pip.GUESSED
    wanted = wanted or name
    who = f"{owner.name} {owner.version}" if owner else (
        failure.asker.file if failure.asker else case.obs.module)
    asked = top_level(case.obs.module)
    also = _named_too(case, failure, owner, name)
    what = " and ".join([asked_whole(case, failure), *also])
    because = (f"{f'{asked} is here, but ' if asked != name else ''}{who} needs {what}, "
               f"which {'are' if also else 'is'} not in {case.environment_name}.")
    evidence = [*asker_evidence(case, failure)]
    if requirement and owner:
        evidence.append(Evidence(f"{owner.name} {owner.version} declares: {requirement}",
                                 owner.metadata))
    evidence += [*_versions_evidence(case, failure, wanted), *(_elsewhere_evidence(o, name) for o in others[:4])]
    if requirement:
        from kalyx.core.verdicts.remedies.versions import pinned

        wanted = pinned(case, requirement)
    wanted = wanted if "<" in wanted else pip.that_brings(case, name, wanted)
    beside = pip.unmet(case, owner, wanted) if requirement else ()
    closed = unread(case)
    return Finding.error("dependency-absent", "certain" if failure.direct and not closed else "likely",
                   because, (*evidence, *closed), pip.install(case, wanted, why=guess, beside=beside))


def _versions_evidence(case: Case, failure: Failure, wanted: str) -> list[Evidence]:
    """Say what version is here that does not bring it, and which ones do, where that is known."""
    lacking = lacking_version(case, failure)
    said = [Evidence(f"{lacking.name} {lacking.version}, which is installed, does not bring {failure.top}",
                     lacking.metadata)] if lacking is not None else []
    return [*said, *part_evidence(case, requirement_name(wanted))]


def _named_too(case: Case, failure: Failure, owner: Distribution | None, name: str) -> list[str]:
    """Return what else a message says is missing, of that which its distribution requires and has not."""
    words = {normal_name(w.strip(".")) for w in re.findall(r"[A-Za-z][\w.-]+", failure.error.message)}
    lines = [requirement_name(r) for r in (owner.requires if owner is not None and not failure.direct else ())]
    return [n for n in dict.fromkeys(lines) if normal_name(n) in words and normal_name(n) != normal_name(name)
            and case.distributions.named(n) is None]


def _is_beside(case: Case, failure: Failure) -> bool:
    """Whether it is a file beside the one that asks: the person's own code, or a neighbour as Python 2 found it."""
    if failure.asker is None:
        return False
    folder = case.files.path.dirname(failure.asker.file)
    beside = case.modules.finder.find_in(folder, failure.top)
    return (beside is not None and beside.kind != "namespace") or (
        asked_near_home(case, failure) and next(own_files(case, failure), None) is not None)


@cause("extra-absent", "the missing module is one that the metadata lists under an extra",
       asks="absence", after=("stdlib-removed", "stdlib-not-yet"),
       why_here="the standard library's names are no distribution's")
def extra_absent(case: Case, failure: Failure | None) -> Finding | None:
    """Find the extra under which a package declares what it now asks for.

    Looks like: `No module named 'b'` from a package that otherwise works, often only when a certain
        feature or file type is used.
    Why: The package declares that module under an extra, and extras are installed only when they are
        asked for.
    How Kalyx knows: The metadata lists the requirement with an `extra == ...` marker, and no plain
        requirement names it; or the package imports without it, and asked for it in a call.
    What to do: Install the package again with the extra in brackets; where it declares none, what it
        asked for.
    """
    if failure is None or not is_absent(case, failure) or asked_by_person(case, failure):
        return None
    from kalyx.core.facts.packaging.requirements import applies

    owner = case.distributions.of(failure.asker.file) if failure.asker else None
    if owner is None or any(_names(case, failure.top, r) for r in owner.requires
                            if applies(r, case.distributions.markers)):
        return None
    for extra in owner.extras:
        for line in owner.requires:
            if _names(case, failure.top, line) and applies(line, case.distributions.markers, (extra,)):
                return Finding.error(
                    "extra-absent", "certain" if failure.direct else "likely",
                    f"{owner.name} {owner.version} needs {failure.top} only with its extra {extra}, "
                    f"which was not installed in {case.environment_name}.",
                    (*asker_evidence(case, failure),
                     Evidence(f"{owner.name} {owner.version} declares: {line}", owner.metadata)),
                    pip.install(case, f"{owner.name}[{extra}]=={owner.version}"))
    return _for_a_feature(case, failure, owner) if case.obs.later else None


def _for_a_feature(case: Case, failure: Failure, owner: Distribution) -> Finding:
    """Say that a package which imports asked for something in a call, and declares it nowhere."""
    name = failure.top
    wanted = known_distribution(case, failure) or name
    return Finding.error(
        "extra-absent", "likely",
        f"{owner.name} {owner.version} imports without {name}, and asks for it only when this feature is used; "
        f"it is not in {case.environment_name}.",
        (*asker_evidence(case, failure),
         Evidence(f"the metadata of {owner.name} does not ask for it", owner.metadata)),
        pip.install(case, pip.that_brings(case, name, wanted)))


def _names(case: Case, module: str, requirement: str) -> bool:
    """Whether a requirement is for the distribution that brings a module."""
    name = normal_name(requirement_name(requirement))
    known = import_names.distribution_for(module)
    return name in {normal_name(module), normal_name(known or module)} or any(
        o.name and normal_name(o.name) == name for o in case.elsewhere.having(module))


def requirement_for(case: Case, owner: Distribution | None, module: str) -> str | None:
    """Return the requirement line, without its marker, by which `owner` asks for a module."""
    if owner is None:
        return None
    from kalyx.core.facts.packaging.requirements import applies

    names = {normal_name(module)}
    known = import_names.distribution_for(module)
    names |= {normal_name(known)} if known else set()
    names |= {normal_name(o.name) for o in case.elsewhere.having(module) if o.name}
    lines = [r for r in owner.requires if applies(r, case.distributions.markers)]
    for line in lines:
        if normal_name(requirement_name(line)) in names:
            return line.split(";")[0].strip()
    unmet = [r for r in lines if case.distributions.named(requirement_name(r)) is None]
    return unmet[0].split(";")[0].strip() if len(unmet) == 1 else None
