"""Group A: what is asked for is not in this seat."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from kalyx.core.facts import tables
from kalyx.core.facts.cases import Case
from kalyx.core.facts.distributions import normal_name, requirement_name
from kalyx.core.facts.markers import applies
from kalyx.core.facts.modules import top_level
from kalyx.core.model import Distribution, Elsewhere, Evidence, Finding, Frame, Remedy
from kalyx.core.verdicts import remedies
from kalyx.core.verdicts.catalogue import cause
from kalyx.core.verdicts.failure import Failure

__all__ = ["is_absent"]


def is_absent(case: Case, failure: Failure | None) -> bool:
    """Whether the failure is that a whole top-level module is not in this seat."""
    if failure is None or failure.name is not None or "." in failure.module:
        return False
    return not any(c.kind != "namespace" for _, c in case.candidates(failure.top))


def asked_by_person(case: Case, failure: Failure) -> bool:
    """Whether it is the very module that was asked for."""
    return failure.asker is None and failure.top == top_level(case.obs.module)


def searched(case: Case) -> list[Evidence]:
    """Return the folders that were searched, one piece of evidence for each layer."""
    grouped: dict[str, list[str]] = {}
    for layer in case.layers:
        grouped.setdefault(layer.layer, []).append(layer.path)
    if "stdlib" in grouped:  # one folder stands for the zip, the modules and lib-dynload
        grouped["stdlib"] = [p for p in grouped["stdlib"]
                             if not p.endswith((".zip", "lib-dynload"))][:1] or grouped["stdlib"]
    return [Evidence(f"layer {layer}: not in {', '.join(paths)}", paths[0])
            for layer, paths in grouped.items()]


# -- the standard library ------------------------------------------------------------------
def _versions(module: str) -> tuple[str | None, str | None, str | None] | None:
    row = tables.stdlib_history()["modules"].get(module)
    return (row[0], row[1], row[2]) if row else None


def _pair(text: str) -> tuple[int, int]:
    major, minor = text.split(".")
    return int(major), int(minor)


@cause("stdlib-not-built", "A", "this Python's own standard library was built or packaged "
       "without it", rank=30)
def stdlib_not_built(case: Case, failure: Failure | None) -> Finding | None:
    """Find optional parts of the standard library that this installation lacks."""
    if not is_absent(case, failure) or failure is None:
        return None
    table = tables.stdlib_history()
    name = failure.top
    history = _versions(name)
    asked_by_stdlib = failure.asker is not None and case.layer_of_file(failure.asker.file) == "stdlib"
    known = name in table["optional_parts"] or (asked_by_stdlib and name.startswith("_"))
    if not known or (history and not _has(history, case.version)):
        return None
    from_stdlib = failure.asker is None or asked_by_stdlib
    if not from_stdlib:
        from_stdlib = name in case.obs.who.get("stdlib", ())
    if not from_stdlib and name.startswith("_"):
        return None
    part = table["optional_parts"].get(name, "")
    folder = next((x.path for x in case.layers if x.path.endswith("lib-dynload")), case.base_prefix)
    package = table["debian_packages"].get(name)
    todo: list[Remedy] = []
    if case.base_prefix == "/usr" and package and case.machine.exists("/usr/bin/apt-get"):
        todo.append(Remedy(f"Install the system's package {package}.", "command",
                           argv=("apt-get", "install", "-y", package),
                           changes=f"adds {package} to the system (needs root)"))
    others = [e for e in case.neighbours.environments
              if e.kind == "base" and e.interpreter and e.path != case.base_prefix
              and _base_has(case, e.path, name)]
    if others:
        todo.append(Remedy(f"Use a Python that has it: {others[0].interpreter.path}"  # type: ignore[union-attr]
                           f" ({others[0].python_version}).", "manual",
                           changes="which Python is used"))
    todo.append(Remedy(f"Install the development files of {part or name} on the system, then build or "
                       f"install Python {case.obs.who.get('version')} again: {case.base_prefix}",
                       "manual", changes="the installation in " + case.base_prefix))
    return Finding(
        "stdlib-not-built", "error", "certain",
        f"The Python in {case.base_prefix} was built or packaged without {name}, a part of the "
        "standard library" + (f" that needs {part}." if part else "."),
        (Evidence(f"{name} is part of Python's own standard library, and pip cannot supply it"),
         Evidence(f"no compiled {name} in {folder}", folder), *asker_evidence(case, failure)),
        tuple(todo))


def _base_has(case: Case, prefix: str, name: str) -> bool:
    m = case.machine
    for library in m.names_in(m.path.join(prefix, "lib")):
        if library.startswith("python3"):
            folder = m.path.join(prefix, "lib", library)
            if name in case.finder.names(folder) or name + ".py" in case.finder.names(folder):
                return not name.startswith("tkinter") or _base_has(case, prefix, "_tkinter")
            if any(n.startswith(name + ".") for n in
                   case.finder.names(m.path.join(folder, "lib-dynload"))):
                return True
    return False


def _has(history: tuple[str | None, str | None, str | None], version: tuple[int, int]) -> bool:
    since, until, _ = history
    return (since is None or version >= _pair(since)) and (
        until is None or version < _pair(until))


@cause("stdlib-removed", "A", "in the standard library of older Python versions, not of this one",
       rank=32)
def stdlib_removed(case: Case, failure: Failure | None) -> Finding | None:
    """Find modules that the standard library has dropped."""
    if not is_absent(case, failure) or failure is None:
        return None
    history = _versions(failure.top)
    if history is None or history[1] is None or case.version < _pair(history[1]):
        return None
    return _history_finding("stdlib-removed", case, failure,
                            f"was part of Python's standard library until {history[1]} took it out",
                            history[2])


@cause("stdlib-not-yet", "A", "in the standard library of newer Python versions, not of this one",
       rank=34)
def stdlib_not_yet(case: Case, failure: Failure | None) -> Finding | None:
    """Find modules that came into the standard library after this version."""
    if not is_absent(case, failure) or failure is None:
        return None
    history = _versions(failure.top)
    if history is None or history[0] is None or case.version >= _pair(history[0]):
        return None
    return _history_finding("stdlib-not-yet", case, failure,
                            f"is part of Python's standard library only since {history[0]}", None)


def _history_finding(slug: str, case: Case, failure: Failure, says: str,
                     successor: str | None) -> Finding:
    name = failure.top
    backport = tables.stdlib_history()["backports"].get(name)
    todo: list[Remedy] = []
    provides_same = slug == "stdlib-removed" or backport in (
        "dataclasses", "typing", "enum34", "ipaddress", "configparser", "contextvars", "statistics",
        "futures", "graphlib_backport")
    if backport and provides_same:
        todo += remedies.install(case, backport, why=f", which brings {name} back")
    if successor:
        todo.append(Remedy(f"Change the code to use {successor} instead of {name}.", "manual",
                           changes="the import in the code"))
    elif backport and not provides_same:
        todo += remedies.install(case, backport, why=f" and import {backport} instead of {name}")
    todo.append(Remedy(f"Or use an environment whose Python has {name}.", "manual",
                       changes="which Python is used"))
    return Finding(
        slug, "error", "certain",
        f"{name} {says}; this is Python {case.obs.who.get('version')}.",
        (Evidence(f"{case.python} is Python {case.obs.who.get('version')}", case.python),
         *asker_evidence(case, failure)), tuple(todo))


# -- own code --------------------------------------------------------------------------------
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


def asked_near_home(case: Case, failure: Failure) -> bool:
    """Whether the person's own code asked for it, not an installed package."""
    if failure.asker is None:
        return True
    layer = case.layer_of_file(failure.asker.file)
    return layer == "start" or (layer == "link" and case.distribution_of(failure.asker.file) is None)


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


# -- names ------------------------------------------------------------------------------------
@cause("name-differs", "A", "the distribution and its module have different names", rank=48)
def name_differs(case: Case, failure: Failure | None) -> Finding | None:
    """Tell apart the name that one installs and the name that one imports."""
    if not is_absent(case, failure) or failure is None:
        return None
    name = failure.top
    return (_is_distribution_here(case, failure, name)
            or _belongs_to_other_name(case, failure, name)
            or _is_distribution_name(case, failure, name))


def _is_distribution_here(case: Case, failure: Failure, name: str) -> Finding | None:
    """The name is that of a distribution installed here, whose modules have other names."""
    found = case.distribution_named(name)
    usable = [m for m in found.modules if case.candidates(m)] if found else []
    if found is None or not usable or name in found.modules:
        return None
    public = [m for m in usable if not m.startswith("_")] or usable
    module = best_module(found.name, public)
    return Finding(
        "name-differs", "error", "certain",
        f"{found.name} {found.version} is installed here, and the module to import from it is "
        f"{module}, not {name}.",
        (Evidence(f"{found.name} {found.version} provides {', '.join(public)}",
                  found.metadata or found.location), *asker_evidence(case, failure)),
        (write_import(case, failure, name, module),))


def best_module(distribution: str, modules: list[str]) -> str:
    """Return the module that a distribution's name stands for: the most alike one."""
    import difflib

    plain = normal_name(distribution).replace("-", "").removeprefix("python")
    return max(modules, key=lambda m: (difflib.SequenceMatcher(
        None, plain, m.lower().replace("_", "")).ratio(), -len(m)))


def _belongs_to_other_name(case: Case, failure: Failure, name: str) -> Finding | None:
    """The module is provided by a distribution of another name."""
    for other in case.elsewhere(name):
        if other.name and normal_name(other.name) != normal_name(name):
            says = (f"in {other.environment.name} the module {name} belongs to {other.name}"
                    f" {other.version}")
            return Finding(
                "name-differs", "error", "certain",
                f"The module {name} comes from the distribution {other.name}: that is the name to "
                "install.", (Evidence(says, other.environment.path),),
                remedies.install(case, other.source or other.name))
    known = tables.distribution_for(name)
    if known is None or normal_name(known) == normal_name(name) or case.elsewhere(name):
        return None
    return Finding(
        "name-differs", "error", "certain",
        f"The module {name} comes from the distribution {known}: that is the name to install.",
        (Evidence(f"{name} belongs to {known} in the table of well-known names that Kalyx ships"),
         *searched(case), *asker_evidence(case, failure)),
        remedies.install(case, known))


def _is_distribution_name(case: Case, failure: Failure, name: str) -> Finding | None:
    """What was typed is the name of a distribution that is not here; its module has another."""
    module = tables.module_for(name)
    where = "the table of well-known names that Kalyx ships"
    for environment, distribution in case.neighbours.providing_name(name):
        public = [m for m in distribution.modules if not m.startswith("_")]
        if public and name not in distribution.modules:
            module, where = best_module(distribution.name, public), str(environment.path)
            break
    if module is None or case.elsewhere(name):
        return None
    if case.candidates(module):
        todo: tuple[Remedy, ...] = (write_import(case, failure, name, module),)
    else:
        todo = (*remedies.install(case, name, why=f", then import it as {module}"),
                write_import(case, failure, name, module))
    return Finding(
        "name-differs", "error", "certain",
        f"{name} is the name to install; the module to import from it is {module}.",
        (Evidence(f"{name} provides {module}, by {where}"),), todo)


def write_import(case: Case, failure: Failure, wrong: str, right: str) -> Remedy:
    """Return the remedy that writes another name in the import; an edit where the line is known."""
    from kalyx.core.model import Edit

    if failure.asker is not None:
        line = case.code_line(failure.asker.file, failure.asker.line)
        try:
            text = case.machine.read_text(failure.asker.file)
        except Exception:  # the file went away: the sentence still stands
            text = ""
        if wrong in line and text.count(line) == 1:
            changed = line.replace(wrong, right, 1)
            return Remedy(f"Write: {changed}", "edit",
                          edits=(Edit(failure.asker.file, line, changed),),
                          changes=f"line {failure.asker.line} of {failure.asker.file}")
    return Remedy(f"Write: import {right}", "manual", changes="the import in your code")


@cause("name-misspelt", "A", "one edit away from, or only in case different from, a module that "
       "this seat has", rank=50)
def name_misspelt(case: Case, failure: Failure | None) -> Finding | None:
    """Look for a module of nearly the same name."""
    if not is_absent(case, failure) or failure is None or not asked_near_home(case, failure):
        return None
    name = failure.top
    if case.elsewhere(name) or tables.distribution_for(name):
        return None
    near = near_names(name, case.names_in_layers())
    near = [n for n in near if n != name and not n.startswith("_")]
    if not near:
        return None
    by_case = near[0].lower() == name.lower()
    file = case.file_of(near[0])
    return Finding(
        "name-misspelt", "error", "certain" if by_case else "likely",
        f"There is no {name} here, but there is {near[0]}" + (
            ": the names differ only in capital letters." if by_case else ", one letter away."),
        (Evidence(f"{near[0]} is {file or 'built into the interpreter'}", file),
         *asker_evidence(case, failure)),
        (write_import(case, failure, name, near[0]),))


def near_names(name: str, names: Iterable[str]) -> list[str]:
    """Return the names that differ in case alone, then those one edit away."""
    same = sorted(n for n in names if n.lower() == name.lower() and n != name)
    if len(name) < 3:
        return same
    return same + sorted(n for n in names if len(n) > 2 and n not in same
                         and is_one_edit(name, n))


def is_one_edit(a: str, b: str) -> bool:
    """Whether one letter inserted, dropped, changed, or two neighbours swapped turns a into b."""
    if a == b or abs(len(a) - len(b)) > 1:
        return False
    start = 0
    while start < min(len(a), len(b)) and a[start] == b[start]:
        start += 1
    rest_a, rest_b = a[start:], b[start:]
    if len(a) == len(b):
        swapped = len(rest_a) > 1 and rest_a[1] + rest_a[0] + rest_a[2:] == rest_b
        return rest_a[1:] == rest_b[1:] or swapped
    return rest_a[1:] == rest_b or rest_a == rest_b[1:]


# -- plainly not there ----------------------------------------------------------------------
@cause("installed-elsewhere", "A", "absent here, present in another environment or interpreter",
       rank=46)
def installed_elsewhere(case: Case, failure: Failure | None) -> Finding | None:
    """Look for the module in the other environments of the machine."""
    if not is_absent(case, failure) or failure is None or not asked_by_person(case, failure):
        return None
    others = case.elsewhere(failure.top)
    if not others:
        return None
    name = others[0].name or failure.top
    todo = [*remedies.install(case, best_requirement(others, name))]
    for other in others[:2]:
        moved = remedies.move_seat(case, other, failure.top)
        if moved is not None:
            todo.append(moved)
    places = f"in {others[0].environment.name}"
    if len(others) > 1:
        places += f" and {len(others) - 1} other" + ("s" if len(others) > 2 else "")
    return Finding(
        "installed-elsewhere", "error", "certain",
        f"{failure.top} is not in {case.environment_name}; it is installed {places}.",
        (*[_elsewhere_evidence(o, failure.top) for o in others[:8]],
         *_pip_evidence(case, others), *searched(case)), tuple(todo))


def _pip_evidence(case: Case, others: Sequence[Elsewhere]) -> list[Evidence]:
    """Say when this shell's own pip is the one that installs into the other environment."""
    found = []
    for script in case.seat.scripts:
        prefix = script.interpreter.prefix if script.interpreter else None
        if prefix and any(case.machine.same(prefix, o.environment.path) for o in others):
            found.append(Evidence(f"{script.name} in this shell installs into {prefix}",
                                  script.path))
    return found[:1]


def best_requirement(others: Iterable[Elsewhere], name: str) -> str:
    """Return what to hand to pip: a local project where the other environment got it from one."""
    return next((o.source for o in others if o.source), name)


def _elsewhere_evidence(other: Elsewhere, module: str) -> Evidence:
    what = f"{other.name} {other.version}" if other.name else module
    return Evidence(f"{other.environment.path} (Python "
                    f"{other.environment.python_version or 'of unknown version'}) has {what}",
                    other.environment.path)


@cause("not-installed", "A", "no layer of this seat has the module, no known environment has it, "
       "and the name is plausible as it stands", rank=52)
def not_installed(case: Case, failure: Failure | None) -> Finding | None:
    """Conclude that it is nowhere."""
    if not is_absent(case, failure) or failure is None or not asked_by_person(case, failure):
        return None
    name = failure.top
    if case.elsewhere(name):
        return None
    known = tables.distribution_for(name) or name
    count = len(case.neighbours.environments)
    return Finding(
        "not-installed", "error", "certain",
        f"{name} is not installed in {case.environment_name}, nor in any other environment "
        "that Kalyx knows of.",
        (*searched(case), Evidence(f"none of the {count} known environments has it")),
        remedies.install(case, known, why="" if known != name else
                         " (the distribution is taken to have the module's name)"))


@cause("dependency-absent", "A", "the asked module is here; something that it needs is not",
       rank=36)
def dependency_absent(case: Case, failure: Failure | None) -> Finding | None:
    """Name what an installed module needs and does not find, and who asked for it."""
    if not is_absent(case, failure) or failure is None or asked_by_person(case, failure):
        return None
    if failure.asker is not None and case.layer_of_file(failure.asker.file) == "stdlib":
        return None
    name = failure.top
    history = _versions(name)
    if history is not None and not _has(history, case.version):
        return None  # that says more: it was never a matter of installing
    owner = case.distribution_of(failure.asker.file) if failure.asker else None
    requirement = requirement_for(case, owner, name)
    others = case.elsewhere(name)
    wanted = requirement or (others[0].source or others[0].name if others else None) or (
        tables.distribution_for(name) or name)
    who = f"{owner.name} {owner.version}" if owner else (
        failure.asker.file if failure.asker else case.obs.module)
    asked = top_level(case.obs.module)
    because = f"{asked} is here, but {who} needs {name}, which is not in {case.environment_name}."
    evidence = [*asker_evidence(case, failure)]
    if requirement and owner:
        evidence.append(Evidence(f"{owner.name} {owner.version} declares: {requirement}",
                                 owner.metadata))
    evidence += [_elsewhere_evidence(o, name) for o in others[:4]]
    return Finding("dependency-absent", "error", "certain" if failure.direct else "likely",
                   because, tuple(evidence), remedies.install(case, wanted))


@cause("extra-absent", "A", "the missing module is one that the metadata lists under an extra",
       rank=35)
def extra_absent(case: Case, failure: Failure | None) -> Finding | None:
    """Find the extra under which a package declares what it now asks for."""
    if failure is None or not is_absent(case, failure) or asked_by_person(case, failure):
        return None
    owner = case.distribution_of(failure.asker.file) if failure.asker else None
    if owner is None or any(_names(case, failure.top, r) for r in owner.requires
                            if applies(r, case.markers)):
        return None
    for extra in owner.extras:
        for line in owner.requires:
            if _names(case, failure.top, line) and applies(line, case.markers, (extra,)):
                return Finding(
                    "extra-absent", "error", "certain" if failure.direct else "likely",
                    f"{owner.name} {owner.version} needs {failure.top} only with its extra {extra}, "
                    f"which was not installed in {case.environment_name}.",
                    (*asker_evidence(case, failure),
                     Evidence(f"{owner.name} {owner.version} declares: {line}", owner.metadata)),
                    remedies.install(case, f"{owner.name}[{extra}]=={owner.version}"))
    return None


def _names(case: Case, module: str, requirement: str) -> bool:
    """Whether a requirement is for the distribution that brings a module."""
    name = normal_name(requirement_name(requirement))
    known = tables.distribution_for(module)
    return name in {normal_name(module), normal_name(known or module)} or any(
        o.name and normal_name(o.name) == name for o in case.elsewhere(module))


def requirement_for(case: Case, owner: Distribution | None, module: str) -> str | None:
    """Return the requirement line, without its marker, by which `owner` asks for a module."""
    if owner is None:
        return None
    names = {normal_name(module)}
    known = tables.distribution_for(module)
    names |= {normal_name(known)} if known else set()
    names |= {normal_name(o.name) for o in case.elsewhere(module) if o.name}
    lines = [r for r in owner.requires if applies(r, case.markers)]
    for line in lines:
        if normal_name(requirement_name(line)) in names:
            return line.split(";")[0].strip()
    unmet = [r for r in lines if case.distribution_named(requirement_name(r)) is None]
    return unmet[0].split(";")[0].strip() if len(unmet) == 1 else None


def asker_evidence(case: Case, failure: Failure) -> list[Evidence]:
    """Return the line of code that asked."""
    frame: Frame | None = failure.asker
    if frame is None:
        return []
    line = case.code_line(frame.file, frame.line)
    return [Evidence(f"it was asked for by: {line}" if line else "it was asked for here",
                     frame.file, frame.line)]


# -- parts of a module ------------------------------------------------------------------------
@cause("submodule-absent", "A", "the parent imports, the submodule isn't in the installed version",
       rank=70)
def submodule_absent(case: Case, failure: Failure | None) -> Finding | None:
    """Name the submodule that a package of this version does not hold."""
    if failure is None or failure.name is not None or "." not in failure.module:
        return None
    parent, _, name = failure.module.rpartition(".")
    file = case.file_of(parent)
    if file is None or "is not a package" in failure.error.message:
        return None
    owner = case.distribution_of(file)
    held = sorted({n.split(".")[0] for folder in case.search_folders(parent)
                   for n in case.finder.names(folder) if n.split(".")[0].isidentifier()
                   and not n.startswith("__")})
    near = near_names(name, held)
    what = f"{owner.name} {owner.version}" if owner else parent
    todo: list[Remedy] = [write_import(case, failure, failure.module, f"{parent}.{n}")
                          for n in near[:1]]
    for other in _newer(case, owner):
        todo += remedies.install(case, f"{owner.name}=={other.version}",  # type: ignore[union-attr]
                                 why=f", the version that {other.environment.name} has")
        break
    todo.append(Remedy(f"Look up which version of {parent} has {name}, or where it went.",
                       "manual", changes="the import, or the version"))
    return Finding(
        "submodule-absent", "error", "certain",
        f"{what} has no module {failure.module}.",
        (Evidence(f"{parent} is {file}", file),
         Evidence(f"it holds {', '.join(held[:12])}" + (" and more" if len(held) > 12 else "")
                  if held else "it holds no modules"), *asker_evidence(case, failure)),
        tuple(todo))


def _newer(case: Case, owner: Distribution | None) -> list[Elsewhere]:
    if owner is None or not owner.modules:
        return []
    return [o for o in case.elsewhere(owner.modules[0])
            if o.version and o.version != owner.version]


@cause("attribute-absent", "A", "X is the genuine X and has no y in it", rank=72)
def attribute_absent(case: Case, failure: Failure | None) -> Finding | None:
    """Name what a module of this version does not define."""
    if failure is None or failure.name is None or failure.error.type == "AttributeError":
        return None
    if "partially initialized" in failure.error.message:
        return None
    file = case.file_of(failure.module)
    owner = case.distribution_of(file)
    what = f"{owner.name} {owner.version}" if owner else failure.module
    todo: list[Remedy] = []
    for other in _newer(case, owner):
        todo += remedies.install(case, f"{owner.name}=={other.version}",  # type: ignore[union-attr]
                                 why=f", the version that {other.environment.name} has")
        break
    todo.append(Remedy(f"Look up which version of {failure.module} has {failure.name}, or where "
                       "it went.", "manual", changes="the import, or the version"))
    return Finding(
        "attribute-absent", "error", "certain",
        f"{failure.module} ({what}) is here and has no {failure.name}.",
        (Evidence(f"{failure.module} is {file or 'built into the interpreter'}", file),
         *asker_evidence(case, failure)), tuple(todo))
