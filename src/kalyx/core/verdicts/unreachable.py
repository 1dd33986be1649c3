"""Group B: it is on this machine, and this seat does not look there."""

from __future__ import annotations

from kalyx.core.errors import Unreadable
from kalyx.core.facts.cases import Case
from kalyx.core.facts.layers import LinkLine, link_lines, site_folders, user_site
from kalyx.core.facts.pyvenv import find_venv_config
from kalyx.core.model import Distribution, Edit, Evidence, Finding, Remedy
from kalyx.core.verdicts import remedies
from kalyx.core.verdicts.absence import asked_by_person, asked_near_home, is_absent, searched
from kalyx.core.verdicts.catalogue import cause
from kalyx.core.verdicts.failure import Failure

__all__ = ["base_site_off", "link_broken", "own_code_unreachable", "user_site_off"]


def _absent_name(case: Case, failure: Failure | None) -> str | None:
    if failure is None or not is_absent(case, failure):
        return None
    return failure.top


def _what(distribution: Distribution | None, name: str) -> str:
    return f"{distribution.name} {distribution.version}" if distribution else name


@cause("base-site-off", "B", "it is in the base installation, and the environment is closed to it",
       rank=44)
def base_site_off(case: Case, failure: Failure | None) -> Finding | None:
    """Look into the base's site folders where the environment does not."""
    name = _absent_name(case, failure)
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
    """Look into the user's site folder where this seat does not."""
    name = _absent_name(case, failure)
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


@cause("link-broken", "B", "an editable install or .pth line points to a folder that is gone or "
       "moved", rank=38)
def link_broken(case: Case, failure: Failure | None) -> Finding | None:
    """Find the link that would have brought the module, and where its folder may be now."""
    name = _absent_name(case, failure)
    if name is None or failure is None or not asked_by_person(case, failure):
        return None
    for layer in case.layers:
        if layer.layer not in ("env", "base", "user"):
            continue
        if not any(n.endswith(".pth") for n in case.finder.names(layer.path)):
            continue
        for line in link_lines(case.machine, layer.path):
            target = line.target or _finder_target(case, layer.path, line, name)
            if target and not case.machine.exists(target):
                owner = case.shelf(layer).named(name)
                if owner is not None or _names_it(case, line, target, name):
                    return _broken(case, name, line, target, owner)
    return None


def _names_it(case: Case, line: LinkLine, target: str, name: str) -> bool:
    m = case.machine
    words = [m.path.basename(line.file).lower(), *target.lower().replace("\\", "/").split("/")]
    return any(name.lower() in w.replace("-", "_") for w in words)


def _finder_target(case: Case, folder: str, line: LinkLine, name: str) -> str | None:
    """Read where an editable install's import hook would look for a module (PEP 660)."""
    import re

    match = re.search(r"import (__editable__\w+)", line.text)
    if not match:
        return None
    try:
        text = case.machine.read_text(case.machine.path.join(folder, match.group(1) + ".py"), 262_144)
    except Unreadable:
        return None
    entry = re.search(rf"['\"]{re.escape(name)}['\"]\s*:\s*['\"]([^'\"]+)['\"]", text)
    return entry.group(1) if entry else None


def _broken(case: Case, name: str, line: LinkLine, target: str,
            owner: Distribution | None) -> Finding:
    m = case.machine
    now = _moved_to(case, target, name)
    todo: list[Remedy] = []
    command = remedies.pip_command(case)
    root = next((p for p in (now, m.path.dirname(now)) if any(
        m.is_file(m.path.join(p, f)) for f in ("pyproject.toml", "setup.py"))), None) if now else None
    if root and command:
        todo.append(Remedy(f"Install it again from where it is now, {root}.", "command",
                           argv=(*command, "install", "-e", root), changes="the link"))
    elif now and line.target:
        todo.append(Remedy(f"Have the line name the folder's new place, {now}.", "edit",
                           edits=(Edit(line.file, line.text, now),), changes=line.file))
    todo.append(Remedy(f"Put the folder back to {target}, or install {name} again.", "manual",
                       changes=target))
    evidence = [Evidence(f"the line names {target}", line.file, line.line),
                Evidence(f"{target} {m.trouble_at(target)}", target)]
    if owner is not None:
        evidence.append(Evidence(f"{owner.name} {owner.version} was linked by it", owner.metadata))
    if now:
        evidence.append(Evidence(f"{now} has {name}: it may have moved there", now))
    return Finding(
        "link-broken", "error", "certain" if owner else "likely",
        f"{name} was linked from {target}, and that folder {m.trouble_at(target)}.",
        tuple(evidence), tuple(todo))


def _moved_to(case: Case, target: str, name: str) -> str | None:
    """Look for the module in the neighbourhood of a folder that is gone."""
    m = case.machine
    inside = [m.path.basename(target)] if m.path.basename(target) in ("src", "lib") else []
    above = m.path.dirname(target)
    for _ in range(3):
        for child in m.scan(above)[1][:300]:
            for place in (m.path.join(above, child), m.path.join(above, child, "src"),
                          m.path.join(above, child, *inside)):
                found = case.finder.find_in(place, name)
                if found is not None and found.kind in ("package", "module"):
                    return str(place)
        if above in (m.home, m.path.dirname(above)):
            break
        above = m.path.dirname(above)
    return None


@cause("own-code-unreachable", "B", "the module is the person's own in this project, and no "
       "layer holds its folder", rank=40)
def own_code_unreachable(case: Case, failure: Failure | None) -> Finding | None:
    """Look for the module among the person's own files around the start folder."""
    if not is_absent(case, failure) or failure is None or not asked_near_home(case, failure):
        return None
    m, name = case.machine, failure.top
    folder = case.start or case.launch.cwd
    for place in _own_places(case, folder):
        found = _code_at(case, place, name)
        if found is None:
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
        todo.append(Remedy(f"Start Python from {place}, where {name} lies, or add that folder to "
                           "PYTHONPATH.", "manual", changes="where imports are looked for"))
        return Finding(
            "own-code-unreachable", "error", "certain",
            f"{name} is your own code in {found}, and no part of this seat's search path "
            f"holds {place}.",
            (Evidence(f"{found} is there", found),
             Evidence(f"Python was started with {folder} as its start folder", folder),
             *searched(case)), tuple(todo))
    return None


def _code_at(case: Case, place: str, name: str) -> str | None:
    """Return the file that a folder has for a module, by two looks and not by listing it."""
    m = case.machine
    return next((f for f in (m.path.join(place, name, "__init__.py"), m.path.join(place, name + ".py"))
                 if m.is_file(f)), None)


def _own_places(case: Case, folder: str) -> list[str]:
    m = case.machine
    places = [m.path.join(folder, "src")]
    places += [m.path.join(folder, n) for n in m.scan(folder)[1][:200]
               if "." not in n and n not in ("node_modules", "__pycache__")]
    above = folder
    for _ in range(3):
        parent = m.path.dirname(above)
        if parent == above or above == m.home or parent == m.path.dirname(m.home):
            break
        above = parent
        if above not in ("/tmp", "/"):
            places += [above, m.path.join(above, "src")]
    on_path = {m.key(x.path) for x in case.layers}
    return [p for p in places if m.key(p) not in on_path
            and not m.is_file(m.path.join(p, "pyvenv.cfg"))]
