"""Group B: it is on this machine, and this seat does not look there."""

from __future__ import annotations

from kalyx.core.errors import Unreadable
from kalyx.core.facts import tables
from kalyx.core.facts.cases import Case
from kalyx.core.facts.interpreters import python_in
from kalyx.core.facts.layers import site_folders, user_site
from kalyx.core.facts.pyvenv import VenvConfig, find_venv_config
from kalyx.core.model import Distribution, Edit, Evidence, Finding, Remedy
from kalyx.core.record import replace
from kalyx.core.verdicts import remedies
from kalyx.core.verdicts.absence import absent_name, asked_near_home, is_absent, searched
from kalyx.core.verdicts.catalogue import also_at_import, cause
from kalyx.core.verdicts.failure import Failure
from kalyx.core.verdicts.launch_settings import without_flag, without_variable
from kalyx.core.verdicts.replacements import remake

__all__ = ["base_site_off", "own_code_unreachable", "site_off", "site_off_for", "user_site_off"]


def _what(distribution: Distribution | None, name: str) -> str:
    return f"{distribution.name} {distribution.version}" if distribution else name


@cause("site-off", "B", "the environment's own site-packages is not on the path", rank=37)
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
    m = case.machine
    on_path = {m.key(x.path) for x in case.layers}
    for prefix in _own_prefixes(case):
        kind = "venv" if m.is_file(m.path.join(prefix, "pyvenv.cfg")) else "conda"
        for folder in site_folders(m, prefix, kind, None):
            if f"{case.version[0]}.{case.version[1]}" not in folder and m.platform != "win32":
                continue  # of another version: that is another cause
            if m.key(folder) not in on_path and case.neighbours.any_holds([folder], name):
                return _site_off(case, name, prefix, folder)
    return _closed_link(case, name)


def _own_prefixes(case: Case) -> list[str]:
    """Return where the interpreter, by the path that it was started with, has its environment."""
    m = case.machine
    places = [case.launch.argv[0] if case.launch.argv else "", case.python]
    found = [m.path.dirname(m.path.dirname(p)) for p in places if m.path.isabs(p)]
    return list(dict.fromkeys([*found, case.prefix]))


def _site_off(case: Case, name: str, prefix: str, folder: str) -> Finding:
    m = case.machine
    owner = case.neighbours.shelf(folder).providing(name)
    config = m.path.join(prefix, "pyvenv.cfg")
    home = case.launch.env.get("PYTHONHOME")
    flags = case.obs.who.get("flags", {})
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
    else:
        there = m.is_file(config)
        why = Evidence(f"{config} {'does not name a home that works' if there else 'is not there'}, so the "
                       "interpreter does not know that it belongs to an environment", config)
        base = python_in(m, case.base_prefix)
        todo = (Remedy(f"Write {config} anew; what is installed in {prefix} stays.", "command",
                       argv=(base, "-m", "venv", "--without-pip", prefix),
                       changes=f"writes pyvenv.cfg, the links and the activation scripts of {prefix}"),)
    return Finding(
        "site-off", "error", "certain",
        f"{name} is in {folder}, the environment's own folder, and that is not on the search path.",
        (Evidence(f"{folder} has {_what(owner, name)}", owner.metadata if owner else folder), why,
         *searched(case)), todo)


def _taken_off(case: Case) -> tuple[Evidence, tuple[Remedy, ...]] | None:
    """Find code that takes folders off the path at every start, where pyvenv.cfg is as it should be."""
    from kalyx.core.facts.start_code import code_lines

    m, config = case.machine, find_venv_config(case.machine, case.python)
    if config is None or not config.home or not m.same(config.prefix, case.prefix) \
            or not m.exists(config.home):
        return None
    sites = [*site_folders(m, case.prefix, version=str(case.obs.who.get("version"))),
             *[x.path for x in case.layers]]
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
        return why, (remedies.set_aside(m, first.file, "so that the path stays whole"),)
    return why, (Remedy(f"Switch that line of {first.file} off.", "edit",
                        edits=(Edit(first.file, first.text, f"# {first.text}"),), changes=first.file),)


def _closed_link(case: Case, name: str) -> Finding | None:
    """Find a .pth that may not be read, where it would have linked the module."""
    m = case.machine
    for layer in case.layers:
        if layer.layer not in ("env", "base", "user"):
            continue
        for file in sorted(n for n in case.finder.names(layer.path) if n.endswith(".pth")):
            path = m.path.join(layer.path, file)
            try:
                m.read_bytes(path, 1)
            except Unreadable as error:
                owner = case.shelf(layer).named(name)
                if owner is None and name.lower() not in file.lower().replace("-", "_"):
                    continue
                return Finding(
                    "site-off", "error", "certain" if owner else "likely",
                    f"{path} links {name}, and it may not be read: {error.reason}.",
                    (Evidence(error.reason, path), *searched(case)), (remedies.make_readable(case, path),))
    return None


@also_at_import("env-version-skew", rank=39)
def packages_of_another_version(case: Case, failure: Failure | None) -> Finding | None:
    """Find the module in the environment, under the folder of another Python version."""
    name = absent_name(case, failure)
    if name is None or case.machine.platform == "win32" or case.prefix == case.base_prefix:
        return None
    m = case.machine
    library = m.path.join(case.prefix, "lib")
    mine = f"python{case.version[0]}.{case.version[1]}"
    for version in sorted(m.names_in(library)):
        folder = m.path.join(library, version, "site-packages")
        if version == mine or not version.startswith(("python", "pypy")) \
                or not case.neighbours.any_holds([folder], name):
            continue
        owner = case.neighbours.shelf(folder).providing(name)
        config = find_venv_config(m, case.python)
        evidence = [Evidence(f"{folder} has {_what(owner, name)}", owner.metadata if owner else folder),
                    Evidence(f"{case.this_is}, which looks in "
                             f"{m.path.join(library, mine, 'site-packages')}", case.python)]
        if config is not None and config.version:
            evidence.append(Evidence(f"the environment was made with Python {config.version}", config.path,
                                     config.lines.get("version") or config.lines.get("version_info")))
        from kalyx.core.facts.markers import suits

        named = next((e.name for e in case.elsewhere(name) if e.name), tables.distribution_for(name))
        wanted = owner.name if owner else named or name
        if owner is not None and suits(owner.requires_python, str(case.obs.who.get("version"))):
            wanted = f"{owner.name}=={owner.version}"
        return Finding(
            "env-version-skew", "error", "certain",
            f"{name} is in {case.environment_name}, but under {version}, and its interpreter is Python "
            f"{case.obs.who.get('version')} now.", tuple(evidence),
            (*remedies.install(case, wanted, why=" again, for the Python that it has now"),
             *_all_again(case, config, folder)))
    return None


def _all_again(case: Case, config: VenvConfig | None, folder: str) -> list[Remedy]:
    """Return how to have all packages of an environment again that stand under another version's folder."""
    version = case.machine.path.basename(case.machine.path.dirname(folder))
    by_hand = Remedy(f"All packages in {folder} are out of reach: install each again, or make the environment "
                     f"anew with {version}.", "manual", changes=case.prefix)
    if config is None or not version.startswith("python"):
        return [by_hand]
    found = remake(case.machine, replace(config, keys={**config.keys, "version": f"{version[6:]}.0"}),
                   case.neighbours.bases)
    return [replace(r, do=f"Or have all of its packages again. {r.do}") for r in found] or [by_hand]


@cause("base-site-off", "B", "it is in the base installation, and the environment is closed to it",
       rank=44)
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
    config = find_venv_config(case.machine, case.python)
    if name is None or config is None or config.open_to_base:
        return None
    for folder in site_folders(case.machine, case.base_prefix,
                               version=str(case.obs.who.get("version"))):
        if case.neighbours.any_holds([folder], name):
            owner = case.neighbours.shelf(folder).providing(name)
            break
    else:
        return None
    line = config.lines.get("include-system-site-packages")
    todo = [*remedies.install(case, owner.name if owner else name)]
    opened = _open_config(case, config.path, line)
    if opened is not None:
        todo.append(opened)
    return Finding(
        "base-site-off", "error", "certain",
        f"{name} is in the base installation {case.base_prefix}, and {case.environment_name} is "
        "closed to it.",
        (Evidence(f"{folder} has {_what(owner, name)}", owner.metadata if owner else folder),
         Evidence("include-system-site-packages is not true", config.path, line)), tuple(todo))


def _open_config(case: Case, path: str, line: int | None) -> Remedy | None:
    text = case.code_line(path, line) if line else ""
    if not text:
        return None
    changed = text.partition("=")[0].rstrip() + " = true"
    return Remedy("Or open the environment to all packages of its base.", "edit",
                  edits=(Edit(path, text, changed),), changes=path, undoable=True)


@cause("user-site-off", "B", "it is in the user site, which this seat ignores", rank=42)
def user_site_off(case: Case, failure: Failure | None) -> Finding | None:
    """Look into the user's site folder where this seat does not.

    Looks like: `No module named ...` for something that was installed with `pip install --user`.
    Why: Environments ignore the user site, and so does Python with -s, -I or PYTHONNOUSERSITE.
    How Kalyx knows: The user site holds it, and what switches that off is named.
    What to do: Put it into the environment of this seat.
    """
    name = absent_name(case, failure)
    version = str(case.obs.who.get("version", ""))
    if name is None or not version or any(x.layer == "user" for x in case.layers):
        return None
    folder = user_site(case.machine, version, str(case.obs.who.get("implementation")),
                       case.launch.env)
    if not case.neighbours.any_holds([folder], name):
        return None
    owner = case.neighbours.shelf(folder).providing(name)
    return Finding(
        "user-site-off", "error", "certain",
        f"{name} is in your user site {folder}, and this seat does not look there: "
        f"{_why_off(case)[0].says}.",
        (Evidence(f"{folder} has {_what(owner, name)}", owner.metadata if owner else folder),
         *_why_off(case)), remedies.install(case, owner.name if owner else name))


def _why_off(case: Case) -> list[Evidence]:
    config = find_venv_config(case.machine, case.python)
    flags = case.obs.who.get("flags", {})
    if config is not None and not config.open_to_base:
        return [Evidence("an environment that is closed to its base ignores the user site",
                         config.path, config.lines.get("include-system-site-packages"))]
    if case.launch.env.get("PYTHONNOUSERSITE") and not flags.get("ignore_environment"):
        return [Evidence("the variable PYTHONNOUSERSITE is set")]
    if flags.get("isolated") or flags.get("no_user_site"):
        return [Evidence(f"it was started with {' '.join(case.launch.argv[1:]) or '-s or -I'}")]
    return [Evidence("the interpreter switched its user site off")]


@cause("own-code-unreachable", "B", "the module is the person's own in this project, and no "
       "layer holds its folder", rank=40)
def own_code_unreachable(case: Case, failure: Failure | None) -> Finding | None:
    """Look for the module among the person's own files around the start folder.

    Looks like: `No module named ...` for a file of your own project.
    Why: Python looks in the folder of the script that was started, not in the project's other folders;
        -P and -I switch even that off.
    How Kalyx knows: The file is found above, beside or below the start folder, and no entry of the path
        holds it.
    What to do: Install the project as editable where it has a pyproject.toml; have the environment look
        into the folder by a .pth file; or start Python from the folder that holds the module.
    """
    if failure is not None and failure.error.type == "PackageNotFoundError":
        return _not_installed_itself(case, failure)
    if not is_absent(case, failure) or failure is None or not asked_near_home(case, failure):
        return None
    m, name = case.machine, failure.top
    folder = case.start or case.launch.start or case.launch.cwd
    for place in _own_places(case, folder):
        found = _code_at(case, place, name)
        if found is None or _is_reached(case, place):
            continue
        todo: list[Remedy] = []
        root = m.path.dirname(place) if m.path.basename(place) == "src" else place
        built = next((f for f in ("pyproject.toml", "setup.py")
                      if m.is_file(m.path.join(root, f))), None)
        command = remedies.pip_command(case)
        if built and command and remedies.managed_marker(case) is None:
            todo.append(Remedy(
                f"Install the project itself, so that it can be imported from anywhere ({built} "
                "is there).", "command", argv=(*command, "install", "-e", root),
                changes=f"links {root} into {case.prefix}"))
        off = _switched_off(case) if m.same(place, folder) else ""
        todo += _let_start_folder_in(case, place, off) if off else _reach(case, place, name)
        return Finding(
            "own-code-unreachable", "error", "certain",
            f"{name} is your own code in {found}, and no part of this seat's search path "
            f"holds {place}.",
            (Evidence(f"{found} is there", found),
             _start_evidence(case, folder),
             *searched(case)), tuple(todo))
    return None


def _let_start_folder_in(case: Case, place: str, off: str) -> list[Remedy]:
    """Return how to have the start folder on the path again."""
    if case.launch.env.get("PYTHONSAFEPATH") and not case.launch.argv[1:]:
        return [without_variable(case.machine, case.seat, "PYTHONSAFEPATH")]
    return [without_flag(case.machine, case.seat, "IP") or Remedy(
        f"Start Python without {off}, which keeps {place} off the path.", "manual",
        changes="where imports are looked for")]


def _reach(case: Case, place: str, name: str) -> list[Remedy]:
    """Return how to have a folder of the person's own on the path: by a .pth file, or by hand."""
    m = case.machine
    by_hand = Remedy(f"Start Python from {place}, where {name} lies, or add that folder to PYTHONPATH.",
                     "manual", changes="where imports are looked for")
    site = next((x.path for x in case.layers if x.layer == "env"), None)
    if site is None or case.prefix == case.base_prefix or (m.platform == "win32" and not place.isascii()):
        return [by_hand]
    file = m.path.join(site, f"{m.path.basename(place)}-folder.pth")
    if m.exists(file) or not m.may_write(site):
        return [by_hand]
    says = f"Have {case.environment_name} look into {place} too, wherever Python is started from."
    change = Edit(file, None, f"{place}\n")
    return [Remedy(says, "edit", edits=(change,), changes=f"adds {file}", undoable=True),
            replace(by_hand, do=f"Or start{by_hand.do[5:]}")]


def _not_installed_itself(case: Case, failure: Failure) -> Finding | None:
    """A project that asks for its own metadata, and is run from its folder without being installed."""
    m, name = case.machine, failure.top
    command = remedies.pip_command(case)
    if failure.asker is None or command is None or not case.candidates(name):
        return None
    root = m.path.dirname(failure.asker.file)
    for _ in range(4):
        file = m.path.join(root, "pyproject.toml")
        if m.is_file(file):
            break
        root = m.path.dirname(root)
    else:
        return None
    return Finding(
        "own-code-unreachable", "error", "likely",
        f"{name} is your own code in {root}, and asks for its own metadata, which only an installation has.",
        (*_asked(case, failure), Evidence(f"no metadata of {name} in {case.environment_name}"),
         Evidence(f"{file} is there: it can be installed", file)),
        (Remedy("Install the project itself; it stays in its folder.", "command",
                argv=(*command, "install", "-e", root), changes=f"links {root} into {case.prefix}"),))


def _asked(case: Case, failure: Failure) -> list[Evidence]:
    frame = failure.asker
    return [Evidence(case.code_line(frame.file, frame.line), frame.file, frame.line)] if frame else []


def _switched_off(case: Case) -> str:
    """Return what keeps the start folder off the path, empty where nothing does."""
    flags = case.obs.who.get("flags", {})
    if not flags.get("isolated") and not flags.get("safe_path"):
        return ""
    return " ".join(case.launch.argv[1:]) or "the variable PYTHONSAFEPATH"


def _start_evidence(case: Case, folder: str) -> Evidence:
    off = _switched_off(case)
    if off:
        return Evidence(f"{folder} is not on the path, as {off} switches the start folder off", folder)
    return Evidence(f"Python was started with {folder} as its start folder", folder)


def _code_at(case: Case, place: str, name: str) -> str | None:
    """Return the file that a folder has for a module, by two looks and not by listing it."""
    m = case.machine
    start = place.rstrip(m.path.sep) + m.path.sep + name
    return next((f for f in (f"{start}{m.path.sep}__init__.py", start + ".py") if m.is_file(f)), None)


def _own_places(case: Case, folder: str) -> list[str]:
    m = case.machine
    environments = set(case.neighbours.prefixes)
    children = [folder.rstrip(m.path.sep) + m.path.sep + n for n in m.scan(folder)[1]
                if "." not in n and n not in ("node_modules", "__pycache__")]
    places = [folder, m.path.join(folder, "src"), *[c for c in children if c not in environments][:200]]
    above = folder
    for _ in range(3):
        parent = m.path.dirname(above)
        if parent == above or above == m.home or parent == m.path.dirname(m.home):
            break
        above = parent
        if above not in ("/tmp", "/"):
            places += [above, m.path.join(above, "src")]
    return places


def _is_reached(case: Case, place: str) -> bool:
    """Whether a folder is on the path already, or an environment of its own."""
    m = case.machine
    return any(m.same(place, x.path) for x in case.layers) or m.is_file(m.path.join(place, "pyvenv.cfg"))
