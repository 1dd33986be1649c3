"""What to do: remedies that can be carried out as they stand."""

from __future__ import annotations

import re

from kalyx.core.facts.interpreters.environment import python_in
from kalyx.core.facts.packaging.pip_lines import own_pip
from kalyx.core.facts.search_path.modules import top_level
from kalyx.core.model import Remedy
from kalyx.core.model.names import normal_name, requirement_name
from kalyx.core.tables import import_names
from kalyx.core.verdicts.reading.asked_part import asked_part
from kalyx.core.verdicts.reading.definitions import installed_as
from kalyx.core.verdicts.remedies.shell_lines import command_line
from kalyx.core.verdicts.remedies.which_pip import allowed, managed_marker, pip_flags, serving, serving_new

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

    from kalyx.core.facts.imports.case import Case
    from kalyx.core.facts.packaging.pip_lines import Over
    from kalyx.core.model import Distribution

__all__ = ["GUESSED", "build_again", "install", "install_again", "install_module", "newest", "reinstall", "take_turns",
           "that_brings", "unmet", "upgrade"]

# What pip itself imports of an environment where it is there, and stumbles over where that is damaged
BREAK_PIP = {"attrs": ("attr", "attrs")}


GUESSED = " (the distribution is taken to have the module's name)"


def unmet(case: Case, owner: Distribution | None, first: str) -> tuple[str, ...]:
    """Return what else a distribution requires and has not, so that one fix does not uncover the next failure.

    Where pip is told to look into local folders alone, what they do not have is left out.
    """
    from kalyx.core.facts.packaging.requirements import applies, is_met
    from kalyx.core.verdicts.remedies.versions import pinned

    found, closed = {}, case.distributions.wheelhouse.is_closed
    for line in owner.requires if owner is not None else ():
        name = normal_name(requirement_name(line))
        if name == normal_name(requirement_name(first)) or not applies(line, case.distributions.markers):
            continue
        here = case.distributions.named(name)
        wanted = pinned(case, line)
        if (here is None or is_met(wanted, here.version) is False) and (not closed or any(
                is_met(wanted, str(w.version)) for w in case.distributions.wheels_of(name))):
            found[name] = wanted
    return tuple(found.values())


def install(case: Case, requirement: str, *, why: str = "", over: Over = "", upgrade: bool = False,
            linked: bool = False, beside: Sequence[str] = ()) -> tuple[Remedy, ...]:
    """Return the remedies that put a requirement, and others beside it, into the seat's environment.

    `over`, `upgrade` and `linked` are those of `Pip.install`; what is replaced is replaced alone.
    """
    marker, served = managed_marker(case), serving(case)
    name = _named(requirement)
    why = why or _for_the_part(case, requirement)
    if marker is not None:
        return _install_in_managed(case, requirement, marker)
    if served is None:
        return (_with_own_pip(case, name, requirement, beside),)
    advice = "" if over or upgrade or linked else _better_by_conda(case)
    is_plain = not (over or upgrade or linked or beside or "[" in requirement)
    if is_plain and _is_satisfied(case, requirement):
        over = "replaced"
    is_alone = over == "replaced"
    if not _can_be_replaced(case, name) and (is_alone or not (upgrade or linked)):
        over = "left"
    argv = served.install(requirement, *beside, upgrade=upgrade, over=over, alone=is_alone, linked=linked)
    removed = _obstacles(case, name)
    if removed:
        argv = _after_removal(case, removed, argv)
    said = f"Put {name} into {case.environment_name}{why}{_required_too(beside)}."
    return (Remedy(said + advice, "command", argv=argv,
                   changes=_changes(case, name, requirement, beside, removed)),)


def install_module(case: Case, module: str, owner: Distribution | None, why: str = "") -> tuple[Remedy, ...]:
    """Return the remedies that put what brings a module into the seat's environment.

    `owner` is the distribution that brings it elsewhere; where there is none and no table has one, the name is a
    guess, and the sentence says so.
    """
    known = owner.name if owner is not None else import_names.distribution_for(module)
    return install(case, that_brings(case, module, known or module), why=why + ("" if known else GUESSED))


def that_brings(case: Case, module: str, name: str) -> str:
    """Return the requirement by which a distribution brings a module: bounded, where not all versions have the part."""
    if requirement_name(name) != name:
        return name
    part = asked_part(case, name)
    return part.versions if part is not None else name + import_names.bound_for(module)


def _for_the_part(case: Case, requirement: str) -> str:
    """Say of a version that is asked for, because of a part that others lack, which part that is."""
    part = asked_part(case, requirement_name(requirement))
    if part is None or part.versions != requirement:
        return ""
    perhaps = f", if there is one for Python {case.python.short_version}" if part.went and part.now else ""
    return f", in a version that has {part.shown}{perhaps}"


def newest(case: Case, name: str) -> str:
    """Return the requirement of the newest version of a distribution that has what is asked of it."""
    part = asked_part(case, name)
    return part.versions if part is not None and part.went else name


def _named(requirement: str) -> str:
    """Return what a sentence calls a requirement: its name with the extras; what has no name as it stands."""
    name = requirement_name(requirement)
    return re.split(r"[\s<>=!~;]", requirement)[0] if name and name != requirement else requirement


def _with_own_pip(case: Case, name: str, requirement: str, beside: Sequence[str]) -> Remedy:
    """Return how an environment without pip gets a requirement, where no other's pip serves it.

    Python brings a pip along, where its packager left that in: it is made first, and installs.
    """
    from kalyx.core.verdicts.remedies.environments import get_pip

    if case.modules.file_of("ensurepip") is None:
        if case.seat.interpreter is not None:
            return get_pip(case.files, case.seat.interpreter)
        return Remedy(f"Give {case.environment_name} a pip: its Python was packaged without ensurepip.", "manual",
                      changes=f"adds pip to {case.python.prefix}")
    python, flags = case.python.executable, pip_flags(case)
    return Remedy(f"Give {case.environment_name} a pip of its own, and put {name} into it{_required_too(beside)}.",
                  "command", argv=_one_after_another(case, (python, *flags, "-m", "ensurepip", "--upgrade"),
                                                     own_pip(python, flags).install(requirement, *beside)),
                  changes=f"adds pip, {name}, and what it requires, to {case.python.prefix}")


def _required_too(beside: Sequence[str]) -> str:
    """Say which other requirements are installed at once; empty where there are none."""
    return f"; with it {', '.join(map(requirement_name, beside))}, required too and not met" if beside else ""


def _better_by_conda(case: Case) -> str:
    """Say that conda is the better way, in a conda environment; empty in another."""
    if case.seat.environment is None or case.seat.environment.kind != "conda":
        return ""
    return (" It is a conda environment: where conda has the package too, conda is the better way, as pip may "
            "change packages that conda counts on.")


def _changes(case: Case, name: str, requirement: str, beside: Sequence[str], removed: Sequence[str]) -> str:
    """Say what an installation changes."""
    all_names = ", ".join([name, *map(requirement_name, beside)])
    affected = "".join(dict.fromkeys(_others_affected(case, r) for r in (requirement, *beside)))
    gone = f", removes {', '.join(removed)}" if removed else ""
    return (f"adds {all_names}, and what {'they require' if beside else 'it requires'}, "
            f"to {case.python.prefix}{gone}{affected}{_shown_first(case, requirement, beside)}")


def _shown_first(case: Case, requirement: str, beside: Sequence[str]) -> str:
    """Say which command shows first what pip would upgrade or break, and does the same; empty for a folder."""
    if not requirement_name(requirement) or case.text_of or case.seat.kind == "beacon":
        return ""
    at = () if case.seat.kind == "shell" else ("--at", case.seat.ref)
    line = command_line(case.files, ("kalyx", "put", requirement, *beside, *at))
    return f"; {line} shows first what else would change"


def _obstacles(case: Case, name: str) -> tuple[str, ...]:
    """Return over what pip would stumble: metadata without METADATA, what is no folder in a package's place."""
    m, plain = case.files, requirement_name(name)
    site = next((x.path for x in case.modules.layers if x.layer == "env"), None)
    if site is None or not plain or not name.startswith(plain):
        return ()  # a folder or file of the person's own is to be installed: that is no obstacle
    modules = {import_names.module_for(plain) or plain, plain.replace("-", "_")}
    places = [m.path.join(site, n) for n in sorted(modules) if n.isidentifier()]
    return (*_unreadable_metadata(case, name), *[
        p for p in places if m.is_file(p) or (m.read_link(p) is not None and not m.exists(p))])


def _unreadable_metadata(case: Case, name: str) -> tuple[str, ...]:
    """Return the metadata folder over which pip would stumble: it has no METADATA any more."""
    here = case.distributions.named(requirement_name(name) or name)
    if here is None or here.layer not in ("env", "user") or not here.metadata.endswith(".dist-info"):
        return ()
    whole = case.files.is_file(case.files.path.join(here.metadata, "METADATA"))
    return () if whole else (here.metadata,)


def _is_satisfied(case: Case, requirement: str) -> bool:
    """Whether pip would find a requirement met, and do nothing."""
    here = case.distributions.named(requirement_name(requirement)) if requirement_name(requirement) else None
    if here is None:
        return False
    from kalyx.core.facts.packaging.requirements import is_met

    return is_met(requirement, here.version) is not False


def _can_be_replaced(case: Case, name: str) -> bool:
    """Whether pip knows which files of a distribution to remove first: RECORD tells, or an egg-info that is a folder.

    An egg-info of one file, as distutils wrote it, lists nothing, and pip refuses.
    """
    here = case.distributions.named(requirement_name(name) or name)
    if here is None:
        return True
    if not here.metadata.endswith(".dist-info"):
        return case.files.is_folder(here.metadata)
    return case.files.is_file(case.files.path.join(here.metadata, "RECORD"))


def _others_affected(case: Case, requirement: str) -> str:
    """Say what else an installation changes: nothing, where any version will do, as what is there stays."""
    if not any(sign in requirement for sign in "<>=!~"):
        return ""
    from kalyx.core.verdicts.remedies.versions import others_affected

    return others_affected(case, requirement)


def _install_in_managed(case: Case, requirement: str, marker: str) -> tuple[Remedy, ...]:
    """Return how to have it in an environment of one's own, where the system forbids pip to change its Python."""
    m = case.files
    folder = m.path.join(case.launch.cwd, ".venv")
    made = python_in(m, folder)
    lent = serving_new(case, made)
    options, pip = ((), own_pip(made)) if case.modules.file_of("ensurepip") else (("--without-pip",), lent)
    lines = [command_line(m, (case.python.executable, "-m", "venv", *options, folder))]
    lines += [command_line(m, pip.install(requirement))] if pip else []
    return (Remedy(f"This Python belongs to the system, and pip is told to leave it alone ({marker}). Make an "
                   f"environment of your own by the lines below, which put it there, and run with {made}.", "manual",
                   changes=f"makes {folder}; the system's Python stays as it is", typed="\n".join(lines)),)


def reinstall(case: Case, name: str, version: str, reason: str, sign: str = "==",
              obstacles: tuple[str, ...] = ()) -> tuple[Remedy, ...]:
    """Return the remedies that install a distribution afresh, without touching others.

    `sign` says which versions will do beside the one that is here: ``>=`` or ``<=``. What is
    `obstacles` is removed before.
    """
    served = allowed(case)
    wanted = f"{name}{sign}{version}"
    if sign != "==":
        from kalyx.core.verdicts.remedies.versions import pinned

        wanted = pinned(case, wanted)
    if served is None:
        return install(case, wanted)
    other = {">=": " or newer", "<=": " or older"}.get(sign, "")
    over: Over = "replaced" if _can_be_replaced(case, name) else "left"
    here = case.distributions.named(name)
    if here is not None and here.layer in ("pythonpath", "start", "other") and case.files.is_folder(here.location):
        return (Remedy(f"Install {name} {version}{other} again into {here.location}, where it is, {reason}.", "command",
                       argv=served.install(wanted, alone=True, into=here.location),
                       changes=f"replaces the files of {name} in {here.location}"),)
    argv, changes = served.install(wanted, over=over, alone=True), ""
    obstacles += _unreadable_metadata(case, name)
    if name in BREAK_PIP:
        obstacles += tuple(f for m in BREAK_PIP[name] if (f := _package_folder(case, name, m)))
    if obstacles:
        argv, changes = _after_removal(case, obstacles, argv), f", removes {', '.join(obstacles)}"
    return (Remedy(f"Install {name} {version}{other} again {reason}.", "command", argv=argv,
                   changes=f"replaces the files of {name} in {case.python.prefix}{changes}"),)


def take_turns(case: Case, wrong: Distribution, right: str, why: str) -> tuple[Remedy, ...]:
    """Return the remedy that takes one distribution out and then installs another, whose place it had taken.

    `right` is a requirement; what is here of it already is installed afresh. What another installed distribution
    requires stays.
    """
    served, name, user = allowed(case), _named(right), _user_of(case, wrong)
    if served is None or user is not None:
        return install(case, right, why=f"; {wrong.name} stays, as {user.name} requires it" if user else "")
    again = case.distributions.named(requirement_name(right)) is not None
    argv = _one_after_another(case, served.uninstall(wrong.name),
                              served.install(right, over="replaced" if again else "", alone=again))
    return (Remedy(f"Take {wrong.name} out, then install {name}, {why}.", "command", argv=argv,
                   changes=f"removes {wrong.name} {wrong.version} from {case.python.prefix}, adds {name}"),)


def _user_of(case: Case, distribution: Distribution) -> Distribution | None:
    """Return an installed distribution that requires another one; None where none does."""
    from kalyx.core.facts.packaging.requirements import applies

    wanted, markers = normal_name(distribution.name), case.distributions.markers
    return next((d for d in case.distributions.all() if any(
        normal_name(requirement_name(r)) == wanted and applies(r, markers) for r in d.requires)), None)


def _one_after_another(case: Case, first: tuple[str, ...], then: tuple[str, ...]) -> tuple[str, ...]:
    """Return one command line that runs two, the second where the first succeeded."""
    if case.files.platform == "win32":
        return ("cmd", "/c", *first, "&&", *then)
    import shlex

    return ("sh", "-c", f"{shlex.join(first)} && {shlex.join(then)}")


def _package_folder(case: Case, name: str, module: str) -> str | None:
    """Return the folder of a distribution's package, where it is there."""
    here = case.distributions.named(name)
    folder = case.files.path.join(here.location, module) if here else ""
    return folder if folder and case.files.is_folder(folder) else None


def _after_removal(case: Case, paths: Sequence[str], argv: tuple[str, ...]) -> tuple[str, ...]:
    """Return a command line that removes files and folders, then runs another."""
    if case.files.platform == "win32":
        remove = ("rmdir", "/s", "/q") if all(map(case.files.is_folder, paths)) else ("del",)
        return _one_after_another(case, (*remove, *paths), argv)
    return _one_after_another(case, ("rm", "-r", *paths), argv)


def build_again(case: Case, file: str) -> tuple[Remedy, ...]:
    """Return what to do about a compiled file that no distribution owns."""
    return (Remedy(f"Build or install {file} again with {case.python.executable}.", "manual",
                   changes="the compiled file"),)


def install_again(case: Case, owner: Distribution | None, file: str | None) -> tuple[Remedy, ...]:
    if owner is None:
        inside = file is not None and case.modules.layer_of_file(file) == "env"
        top = installed_as(case, file) if file and inside else top_level(case.obs.module)
        if case.modules.layer_of_file(case.modules.file_of(top)) == "env":  # installed, and nobody wrote down by what
            return install(case, import_names.distribution_for(top) or top, over="replaced")
        return build_again(case, file or "the compiled part")
    return reinstall(case, owner.name, owner.version, "for this machine")


def upgrade(case: Case, owner: Distribution | None) -> tuple[Remedy, ...]:
    served = allowed(case)
    if owner is None or served is None:
        return ()
    part = asked_part(case, owner.name)
    has = f" and has {part.shown}" if part is not None and part.went else ""
    return (Remedy(f"Install the version of {owner.name} that is for this Python{has}.", "command",
                   argv=served.install(newest(case, owner.name), upgrade=True, over="replaced"),
                   changes=f"replaces {owner.name}, and what it requires, in {case.python.prefix}"),)
