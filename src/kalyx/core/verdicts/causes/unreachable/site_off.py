"""Group B: it is on this machine, and this seat does not look there."""

from __future__ import annotations

from kalyx.core.errors import Unreadable
from kalyx.core.facts.interpreters.environment import prefix_of, python_in
from kalyx.core.facts.interpreters.pyvenv import find_venv_config, program_behind
from kalyx.core.facts.search_path.site_folders import leaves_user_site_out, site_folders, user_site
from kalyx.core.lean.record import replace
from kalyx.core.model import Evidence, Finding, Remedy
from kalyx.core.tables import import_names
from kalyx.core.verdicts.catalogue import also, cause
from kalyx.core.verdicts.reading.absence import absent_name, searched
from kalyx.core.verdicts.reading.asked_part import asked_part
from kalyx.core.verdicts.remedies import files, pip
from kalyx.core.verdicts.remedies.own_program import name_own_program
from kalyx.core.verdicts.remedies.project import install_for_project, project_requirement, requirement_evidence
from kalyx.core.verdicts.remedies.shell_lines import command_line
from kalyx.core.verdicts.remedies.source_edits import or_written
from kalyx.core.verdicts.remedies.unique_edits import edit_line, switch_off

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.facts.interpreters.pyvenv import VenvConfig
    from kalyx.core.model import Distribution
    from kalyx.core.verdicts.reading.failure import Failure

__all__ = ["base_site_off", "site_off", "site_off_for", "user_site_off"]


def _what(distribution: Distribution | None, name: str) -> str:
    return f"{distribution.name} {distribution.version}" if distribution else name


@cause("site-off", "the environment's own site-packages is not on the path",
       asks="absence", after=("extra-absent",),
       why_here="all that is installed is out of reach then: to install it again would not help")
def site_off(case: Case, failure: Failure | None) -> Finding | None:
    """Find the module in the environment's own folder, or behind a .pth, that the path leaves out.

    Looks like: An environment looks empty: nothing that is installed in it can be imported.
    Why: The interpreter does not know that it belongs to an environment (pyvenv.cfg is gone or broken),
        or was told not to look (-S, PYTHONHOME), or may not read a .pth file; or code that it runs at
        every start takes folders off the path.
    How Kalyx knows: The environment's own site-packages holds the module and is not on the search path.
    What to do: Write pyvenv.cfg anew with the command given; or start Python without what switches the
        folder off.
    """
    name = absent_name(case, failure)
    return site_off_for(case, name) if name is not None else None


def site_off_for(case: Case, name: str) -> Finding | None:
    """Find a module, by its name, in a site folder of the environment's own that is not on the path."""
    m = case.files
    on_path = {m.key(x.path) for x in case.modules.layers}
    for prefix in _own_prefixes(case):
        kind = "venv" if m.is_file(m.path.join(prefix, "pyvenv.cfg")) else "conda"
        for folder in site_folders(m, prefix, kind, None):
            if f"{case.python.short_version}" not in folder and m.platform != "win32":
                continue  # of another version: that is another cause
            if m.key(folder) not in on_path and case.elsewhere.known.any_holds([folder], name):
                return _site_off(case, name, prefix, folder)
    return _closed_link(case, name)


def _own_prefixes(case: Case) -> list[str]:
    """Return where the interpreter, by the path that it was started with, has its environment."""
    m = case.files
    places = [case.launch.argv[0] if case.launch.argv else "", case.python.executable]
    places += [behind for p in places if (behind := program_behind(m, p)) is not None]
    found = [prefix_of(m, p) for p in places if m.path.isabs(p)]
    return list(dict.fromkeys([*found, case.python.prefix]))


def _site_off(case: Case, name: str, prefix: str, folder: str) -> Finding:
    from kalyx.core.verdicts.remedies.variables import without_flag, without_variable

    m = case.files
    owner = case.elsewhere.known.metadata_in(folder).providing(name)
    config = m.path.join(prefix, "pyvenv.cfg")
    home = case.launch.env.get("PYTHONHOME")
    flags = case.python.flags
    todo: tuple[Remedy, ...]
    if flags.get("no_site"):
        why = Evidence(f"it was started with {' '.join(case.launch.argv[1:]) or '-S'}, which leaves every "
                       "site-packages out")
        todo = (without_flag(m, case.seat, "SI") or Remedy(
            "Start it without -S.", "manual", changes="how this seat starts Python"),)
    elif home and not flags.get("ignore_environment"):
        why = Evidence(f"the variable PYTHONHOME is {home!r}: it sends the interpreter to another place")
        todo = (without_variable(m, case.seat, "PYTHONHOME"),)
    elif (taken := _taken_off(case)) is not None:
        why, todo = taken
    elif (behind := program_behind(m, case.launch.argv[0] if case.launch.argv else "")) is not None:
        why = Evidence(f"{case.launch.argv[0]} is a link to {behind}, and Python looks for pyvenv.cfg beside the link "
                       "only: it runs as its base", case.launch.argv[0])
        todo = (name_own_program(m, case.seat, behind),)
    elif m.same(prefix, case.python.base_prefix) and not m.is_file(config):
        why = Evidence(f"{prefix} is an installation of its own, whose site module adds {folder} at every start",
                       folder)
        todo = (Remedy("See what its site module does at the start, by the line below; nothing is to be made in its "
                       "place.", "manual", changes="nothing",
                       typed=command_line(m, (case.python.executable, "-m", "site"))),)
    else:
        there = m.is_file(config)
        why = Evidence(f"{config} {'does not name a home that works' if there else 'is not there'}, so the "
                       "interpreter does not know that it belongs to an environment", config)
        base = python_in(m, case.python.base_prefix)
        todo = (Remedy(f"Write {config} anew; what is installed in {prefix} stays.", "command",
                       argv=(base, "-m", "venv", "--without-pip", prefix),
                       changes=f"writes pyvenv.cfg, the links and the activation scripts of {prefix}"),)
    return Finding.error(
        "site-off", "certain",
        f"{name} is in {folder}, the environment's own folder, and that is not on the search path.",
        (Evidence(f"{folder} has {_what(owner, name)}", owner.metadata if owner else folder), why,
         *searched(case)), todo)


def _taken_off(case: Case) -> tuple[Evidence, tuple[Remedy, ...]] | None:
    """Find code that takes folders off the path at every start, where pyvenv.cfg is as it should be."""
    from kalyx.core.facts.search_path.startup_code import code_lines

    m, config = case.files, find_venv_config(case.files, case.python.executable)
    if config is None or not config.home or not m.same(config.prefix, case.python.prefix) \
            or not m.exists(config.home):
        return None
    sites = [*site_folders(m, case.python.prefix, version=case.python.version),
             *case.modules.folders]
    found = [x for x in code_lines(m, sites) if "sys.path" in x.text]
    if not found:
        return None
    first = found[0]
    why = Evidence("it is run at every start, and changes sys.path", first.file, first.line or None)
    if len(found) > 1:
        places = ", ".join(f"{x.file}:{x.line}" if x.line else x.file for x in found)
        return why, (Remedy(f"Take out what removes folders from sys.path: one of {places}.", "manual",
                            changes="what Python runs at its start"),)
    if not first.line:
        return why, (files.set_aside(m, first.file, "so that the path stays whole"),)
    return why, (switch_off(m, first.file, first.line, first.text, f"Switch that line of {first.file} off."),)


def _closed_link(case: Case, name: str) -> Finding | None:
    """Find a .pth that may not be read, where it would have linked the module."""
    m = case.files
    for layer in case.modules.layers:
        if layer.layer not in ("env", "base", "user"):
            continue
        for file in sorted(n for n in case.modules.finder.names(layer.path) if n.endswith(".pth")):
            path = m.path.join(layer.path, file)
            try:
                m.read_bytes(path, 1)
            except Unreadable as error:
                owner = case.distributions.metadata_in(layer).named(name)
                if owner is None and name.lower() not in file.lower().replace("-", "_"):
                    continue
                return Finding.error(
                    "site-off", "certain" if owner else "likely",
                    f"{path} links {name}, and it may not be read: {error.reason}.",
                    (Evidence(error.reason, path), *searched(case)), (files.make_readable(case, path),))
    return None


@also("env-version-skew",
      asks="absence", after=("link-broken",),
      why_here="a link names the very folder; another version's folder is a guess beside that")
def packages_of_another_version(case: Case, failure: Failure | None) -> Finding | None:
    """Find the module in the environment, under the folder of another Python version."""
    name = absent_name(case, failure)
    if name is None or case.files.platform == "win32" or case.python.prefix == case.python.base_prefix:
        return None
    m = case.files
    library = m.path.join(case.python.prefix, "lib")
    mine = f"python{case.python.short_version}"
    for version in sorted(m.names_in(library)):
        folder = m.path.join(library, version, "site-packages")
        if version == mine or not version.startswith(("python", "pypy")) \
                or not case.elsewhere.known.any_holds([folder], name):
            continue
        owner = case.elsewhere.known.metadata_in(folder).providing(name)
        config = find_venv_config(m, case.python.executable)
        evidence = [Evidence(f"{folder} has {_what(owner, name)}", owner.metadata if owner else folder),
                    Evidence(f"{case.python.this_is}, which looks in "
                             f"{m.path.join(library, mine, 'site-packages')}", case.python.executable)]
        if config is not None and config.version:
            evidence.append(Evidence(f"the environment was made with Python {config.version}", config.path,
                                     config.lines.get("version") or config.lines.get("version_info")))
        from kalyx.core.facts.packaging.requirements import suits

        named = next((e.name for e in case.elsewhere.having(name) if e.name), import_names.distribution_for(name))
        wanted = owner.name if owner else named or name
        if owner is not None and suits(owner.requires_python, case.python.version):
            wanted = f"{owner.name}=={owner.version}"
        return Finding.error(
            "env-version-skew", "certain",
            f"{name} is in {case.environment_name}, but under {version}, and its interpreter is Python "
            f"{case.python.version} now.", tuple(evidence),
            (*pip.install(case, wanted, why=" again, for the Python that it has now"),
             *_all_again(case, config, folder)))
    return None


def _all_again(case: Case, config: VenvConfig | None, folder: str) -> list[Remedy]:
    """Return how to have all packages of an environment again that stand under another version's folder."""
    version = case.files.path.basename(case.files.path.dirname(folder))
    by_hand = Remedy(f"All packages in {folder} are out of reach: install each again, or make the environment "
                     f"anew with {version}.", "manual", changes=case.python.prefix)
    if config is None or not version.startswith("python"):
        return [by_hand]
    from kalyx.core.verdicts.remedies.environments import remake

    found = remake(case.files, replace(config, keys={**config.keys, "version": f"{version[6:]}.0"}),
                   case.elsewhere.known.bases)
    return [replace(r, do=f"Or have all of its packages again. {r.do}") for r in found] or [by_hand]


@cause("base-site-off", "it is in the base installation, and the environment is closed to it",
       asks="absence", after=("user-site-off", "submodule-absent:dropped_module"), not_beside=("pip-absent",),
       why_here="the base's pip is no remedy for an environment without one")
def base_site_off(case: Case, failure: Failure | None) -> Finding | None:
    """Look into the base's site folders where the environment does not.

    Looks like: `No module named ...` in an environment, though the system's own Python has it.
    Why: An environment is closed to the packages of the installation that it was made from, unless it
        was opened.
    How Kalyx knows: The base installation's folder holds it, and pyvenv.cfg does not say
        `include-system-site-packages = true`.
    What to do: Put it into the environment; or open the environment to all packages of its base.
    """
    name = absent_name(case, failure)
    config = find_venv_config(case.files, case.python.executable)
    if name is None or failure is None or config is None or config.open_to_base:
        return None
    for folder in site_folders(case.files, case.python.base_prefix,
                               version=case.python.version):
        if case.elsewhere.known.any_holds([folder], name):
            owner = case.elsewhere.known.metadata_in(folder).providing(name)
            break
    else:
        return None
    line = config.lines.get("include-system-site-packages")
    declared = project_requirement(case, failure)
    todo = [*(install_for_project(case, owner.name if owner else name, declared) if declared else
              pip.install_module(case, name, owner))]
    todo += or_written(case, failure, owner.name if owner else name)
    part = asked_part(case, owner.name if owner else name)
    opened = _open_config(case, config.path, line)
    if opened is not None and not (part and owner and part.lacks(owner.version)):
        todo.append(opened)
    return Finding.error(
        "base-site-off", "certain",
        f"{name} is in the base installation {case.python.base_prefix}, and {case.environment_name} is "
        "closed to it.",
        (*requirement_evidence(declared),
         Evidence(f"{folder} has {_what(owner, name)}", owner.metadata if owner else folder),
         *([part.evidence()] if part else []),
         Evidence("include-system-site-packages is not true", config.path, line)), tuple(todo))


def _open_config(case: Case, path: str, line: int | None) -> Remedy | None:
    text = case.modules.code_line(path, line) if line else ""
    if not text:
        return None
    edit = edit_line(case.files, path, line, text, text.partition("=")[0].rstrip() + " = true")
    return Remedy("Or open the environment to all packages of its base.", "edit", edits=(edit,), changes=path,
                  undoable=True) if edit else None


@cause("user-site-off", "it is in the user site, which this seat ignores",
       asks="absence", after=("pip-absent",),
       why_here="it is on this machine, for this Python, and switched off")
def user_site_off(case: Case, failure: Failure | None) -> Finding | None:
    """Look into the user's site folder where this seat does not.

    Looks like: `No module named ...` for something that was installed with `pip install --user`.
    Why: Environments ignore the user site, and so does Python with -s, -I or PYTHONNOUSERSITE;
        PYTHONUSERBASE has it look into another one.
    How Kalyx knows: The user site holds it, and what switches that off is named.
    What to do: Put it into the environment of this seat.
    """
    name = absent_name(case, failure)
    version = case.python.version
    if name is None or not version:
        return None
    folder = user_site(case.files, version, case.python.implementation, case.launch.env)
    if any(x.layer == "user" for x in case.modules.layers) or not case.elsewhere.known.any_holds([folder], name):
        return _user_base_elsewhere(case, name)
    owner = case.elsewhere.known.metadata_in(folder).providing(name)
    return Finding.error(
        "user-site-off", "certain",
        f"{name} is in your user site {folder}, and this seat does not look there: "
        f"{_why_off(case)[0].says}.",
        (Evidence(f"{folder} has {_what(owner, name)}", owner.metadata if owner else folder),
         *_why_off(case)), _look_there_or_put(case, name, owner))


def _user_base_elsewhere(case: Case, name: str) -> Finding | None:
    """Find a module in the usual user site, where a variable has this seat look into another one."""
    from kalyx.core.verdicts.remedies.variables import without_variable

    other, config = case.launch.env.get("PYTHONUSERBASE"), find_venv_config(case.files, case.python.executable)
    flags = case.python.flags
    if not other or flags.get("ignore_environment") or flags.get("no_user_site") or leaves_user_site_out(
            case.launch.env, case.python.version) or (config is not None and not config.open_to_base):
        return None
    folder = user_site(case.files, case.python.version, case.python.implementation,
                       {k: v for k, v in case.launch.env.items() if k != "PYTHONUSERBASE"})
    if case.files.key(folder) in {case.files.key(x.path) for x in case.modules.layers} or \
            not case.elsewhere.known.any_holds([folder], name):
        return None
    owner = case.elsewhere.known.metadata_in(folder).providing(name)
    looked, put = without_variable(case.files, case.seat, "PYTHONUSERBASE"), pip.install_module(case, name, owner)
    return Finding.error(
        "user-site-off", "certain",
        f"{name} is in your user site {folder}, and this seat does not look there: PYTHONUSERBASE names {other}.",
        (Evidence(f"{folder} has {_what(owner, name)}", owner.metadata if owner else folder),
         Evidence(f"the variable PYTHONUSERBASE is {other!r}")),
        (looked, *put) if looked.kind == "edit" else (*put, looked))


def _look_there_or_put(case: Case, name: str, owner: Distribution | None) -> tuple[Remedy, ...]:
    """Return how to have the seat look into the user site, where that is an edit, and how to put it here instead."""
    from kalyx.core.verdicts.remedies.variables import without_flag, without_variable

    put, config = pip.install_module(case, name, owner), find_venv_config(case.files, case.python.executable)
    if config is not None and not config.open_to_base:
        return put
    flag = without_flag(case.files, case.seat, "sI")
    if flag is None and not leaves_user_site_out(case.launch.env, case.python.version):
        return put
    looked = flag or without_variable(case.files, case.seat, "PYTHONNOUSERSITE")
    return (looked, *put) if looked.kind == "edit" else (*put, looked)


def _why_off(case: Case) -> list[Evidence]:
    config = find_venv_config(case.files, case.python.executable)
    flags = case.python.flags
    if config is not None and not config.open_to_base:
        return [Evidence("an environment that is closed to its base ignores the user site",
                         config.path, config.lines.get("include-system-site-packages"))]
    if leaves_user_site_out(case.launch.env, case.python.version) and not flags.get("ignore_environment"):
        return [Evidence(f"the variable PYTHONNOUSERSITE is {case.launch.env['PYTHONNOUSERSITE']!r}")]
    if flags.get("isolated") or flags.get("no_user_site"):
        return [Evidence(f"it was started with {' '.join(case.launch.argv[1:]) or '-s or -I'}")]
    return [Evidence("the interpreter switched its user site off")]
