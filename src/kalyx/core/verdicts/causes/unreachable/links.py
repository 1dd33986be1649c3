"""Group B: a link that brought a module into an environment leads nowhere any more, or is not followed."""

from __future__ import annotations

import re

from kalyx.core.facts.packaging.listed_modules import mapped_folder
from kalyx.core.facts.search_path.pth_files import link_lines
from kalyx.core.model import Evidence, Finding, Remedy
from kalyx.core.verdicts.catalogue import cause
from kalyx.core.verdicts.reading.absence import absent_name, asked_by_person
from kalyx.core.verdicts.remedies import pip, which_pip
from kalyx.core.verdicts.remedies.search_path import reach
from kalyx.core.verdicts.remedies.unique_edits import switch_off

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

    from kalyx.core.facts.imports.case import Case
    from kalyx.core.facts.search_path.layers import Layer
    from kalyx.core.facts.search_path.pth_files import LinkLine
    from kalyx.core.model import Distribution
    from kalyx.core.verdicts.reading.failure import Failure

__all__ = ["link_broken"]

_HOOK = re.compile(r"^import\s+(__editable__\w+)")


@cause("link-broken", "an editable install or .pth line points to a folder that is gone or moved",
       asks="absence", after=("dependency-absent",),
       why_here="who needs it is said first, where it is a package that needs it")
def link_broken(case: Case, failure: Failure | None) -> Finding | None:
    """Find the link that would have brought the module, and where its folder may be now.

    Looks like: `No module named ...` for your own project, which you had installed as editable.
    Why: An editable install is a link to a folder, and that folder was moved, renamed or deleted. Or the
        link is a symbolic one, or a line of a .pth file that is not reached, as a line before it fails.
    How Kalyx knows: The .pth line, the import hook, the egg-link or the symbolic link names a place that is
        not there, or that is there and not on the path.
    What to do: Install the project again from where it is now, or have the link name the new place.
    """
    name = absent_name(case, failure)
    if name is None or failure is None or not asked_by_person(case, failure):
        return None
    found = _library_folder(case, name)
    for layer in case.modules.layers if found is None else ():
        if layer.layer in ("env", "base", "user"):
            found = _symbolic(case, name, layer) or _by_line(case, failure, name, layer) or _egg_link(case, name, layer)
        elif case.files.is_file(layer.path) and layer.layer != "stdlib":
            found = _archive(case, name, layer.path)
        if found is not None:
            return found
    return found


def _by_line(case: Case, failure: Failure, name: str, layer: Layer) -> Finding | None:
    """Find the line of a .pth file, or the import hook that it starts, that was to bring the module.

    First those of the distribution that brings it by its metadata, then those that are called somewhat like it.
    """
    lines = link_lines(case.files, layer.path, case.modules.finder.names(layer.path))
    owner = next(iter(case.distributions.metadata_in(layer).bringing(name)), None) if lines else None
    owner = owner or (case.distributions.metadata_in(layer).named(name) if lines else None)
    mine = [x for x in lines if owner is not None and _is_of(case, x, owner)]
    others = [x for x in lines if x not in mine and (not mine or _names_it(case, x, x.target or "", name))]
    for line in [*mine, *others]:
        gone = _finder_gone(case, layer.path, line)
        if gone and (line in mine or _is_like(name, gone)):
            return _hook_gone(case, name, line, gone, owner)
        target = line.target or _finder_target(case, layer.path, line, name)
        if target and not case.files.exists(target):
            if line in mine or _names_it(case, line, target, name) or _egg_link_of(case, layer, name):
                return _broken(case, name, line, target, owner)
        elif line.target and not _is_on_path(case, line.target):
            behind = _behind(case, name, line, lines)
            if behind is not None:
                return behind
        if line.target and (not case.files.is_folder(line.target)
                            or case.files.path.basename(line.target) == name):
            from kalyx.core.verdicts.causes.unreachable.path_entries import meant_by_line

            meant = meant_by_line(case, failure, line.file, line.line, line.text)
            if meant is not None:
                return meant
    return None


def _is_of(case: Case, line: LinkLine, owner: Distribution) -> bool:
    """Whether a distribution has installed the .pth file of a line, or it is called after it."""
    file = case.files.path.basename(line.file)
    if case.distributions.record(owner).row_of(line.file):
        return True
    stem = file.removesuffix(".pth").removeprefix("__editable__.").lstrip("_").partition("-")[0]
    return _plain(stem) == _plain(owner.name)


def _plain(name: str) -> str:
    return re.sub(r"[-_.]", "", name).lower()


def _is_like(name: str, path: str) -> bool:
    """Whether a path has a word like a module's name in it, whatever parts its words."""
    return _plain(name) in _plain(path)


def _is_on_path(case: Case, target: str) -> bool:
    return any(case.files.same(target, layer.path) for layer in case.modules.layers)


def _names_it(case: Case, line: LinkLine, target: str, name: str) -> bool:
    m = case.files
    words = [m.path.basename(line.file), *target.replace("\\", "/").split("/")]
    return any(_is_like(name, w) for w in words)


def _finder_gone(case: Case, folder: str, line: LinkLine) -> str | None:
    """Return the file of an editable install's import hook, where a .pth line asks for it and it is gone."""
    match = _HOOK.search(line.text) if "__editable__" in line.text else None
    if match is None or f"{match.group(1)}.py" in case.modules.finder.names(folder):
        return None
    return str(case.files.path.join(folder, match.group(1) + ".py"))


def _finder_target(case: Case, folder: str, line: LinkLine, name: str) -> str | None:
    """Read where an editable install's import hook would look for a module (PEP 660)."""
    match = _HOOK.search(line.text) if "__editable__" in line.text else None
    return mapped_folder(case.files, folder, match.group(1) + ".py", name) if match else None


def _hook_gone(case: Case, name: str, line: LinkLine, gone: str, owner: Distribution | None) -> Finding:
    m = case.files
    source = owner.source if owner and owner.source and m.is_folder(owner.source) else None
    served = which_pip.allowed(case)
    todo: tuple[Remedy, ...] = (Remedy(
        f"Install {name} again from the folder that its project lies in now, as editable; no index has your own "
        "project.", "manual", changes="the link"),)
    if source and served:
        todo = (Remedy(f"Install it again from {source}.", "command", argv=served.install(source, linked=True),
                       changes="the link"),)
    elif owner is not None and owner.source:
        todo = pip.reinstall(case, owner.name, owner.version, "in place of the link")
    evidence = [Evidence("the line loads it at every start", line.file, line.line),
                Evidence(f"{gone} {m.trouble_at(gone)}", gone)]
    if owner is not None:
        evidence.append(Evidence(f"{owner.name} {owner.version} was linked by it", owner.metadata))
        if owner.source and not source:
            evidence.append(Evidence(f"its folder was {owner.source}, which {m.trouble_at(owner.source)}",
                                     owner.source))
    return Finding.error("link-broken", "certain" if owner else "likely",
                   f"{name} was linked by the import hook {gone}, and that file {m.trouble_at(gone)}.",
                   tuple(evidence), todo)


def _broken(case: Case, name: str, line: LinkLine, target: str,
            owner: Distribution | None) -> Finding:
    from kalyx.core.verdicts.causes.unreachable.link_remedies import moved_to, renew

    m, now = case.files, moved_to(case, target, name)
    where = "the line" if line.target else "the import hook that the line starts"
    evidence = [Evidence(f"{where} names {target}", line.file, line.line),
                Evidence(f"{target} {m.trouble_at(target)}", target)]
    if owner is not None:
        evidence.append(Evidence(f"{owner.name} {owner.version} was linked by it", owner.metadata))
    if now:
        evidence.append(Evidence(f"{now} has {name}: it may have moved there", now))
    return Finding.error(
        "link-broken", "certain" if owner else "likely",
        f"{name} was linked from {target}, and that folder {m.trouble_at(target)}.",
        tuple(evidence), renew(case, target, now, line))


def _behind(case: Case, name: str, line: LinkLine, lines: Sequence[LinkLine]) -> Finding | None:
    """Find that a line's folder has the module and was not added, as a line of code before it failed."""
    found = case.modules.finder.find_in(line.target or "", name)
    before = [x for x in lines if x.file == line.file and x.line < line.line and x.target is None]
    if found is None or found.kind == "namespace" or not before:
        return None
    said = re.search(r"Error processing line (\d{1,6}) of " + re.escape(line.file), case.obs.output)
    failing = next((x for x in before if said and x.line == int(said[1])), before[-1])
    return Finding.error(
        "link-broken", "certain" if said else "likely",
        f"{name} is in {line.target}, which line {line.line} of {line.file} adds; Python leaves the rest of that file "
        f"out, as line {failing.line} fails.",
        (Evidence(f"{found.path} is there", found.path), Evidence(failing.text, failing.file, failing.line),
         *([Evidence(said[0])] if said else []), Evidence(f"{line.target} is not on the path", line.file, line.line)),
        (switch_off(case.files, failing.file, failing.line, failing.text, f"Switch that line of {failing.file} off."),))


def _archive(case: Case, name: str, path: str) -> Finding | None:
    """Find that an archive on the path cannot be read, where its bytes or its name speak of the module."""
    from kalyx.core.errors import Unreadable
    from kalyx.core.facts.search_path.archives import is_archive

    try:
        data = case.files.read_whole(path)
    except Unreadable:
        return None
    if not path.endswith((".zip", ".whl", ".egg", ".pyz")) and data[:2] != b"PK":
        return None
    has = any(f"{name}{end}".encode() in data for end in ("/", ".py"))
    if is_archive(data) or not (has or _is_like(name, path)):
        return None
    return Finding.error(
        "link-broken", "certain" if has else "likely",
        f"{path} is on the path as an archive, and cannot be read as one: it is cut off, or no zip file.",
        (Evidence(f"it has no directory of its contents, in which a zip file ends; it is {len(data)} bytes long", path),
         *([Evidence(f"its bytes speak of {name}", path)] if has else [])),
        (Remedy(f"Fetch or build {path} again.", "manual", changes=path),))


def _library_folder(case: Case, name: str) -> Finding | None:
    """Find that the folder of the environment's own packages, or one above it, is a link that leads nowhere."""
    m, prefix = case.files, case.python.prefix
    if any(x.layer == "env" for x in case.modules.layers) or m.platform == "win32":
        return None  # it is on the path, as it is there
    for parts in (("lib",), ("lib", f"python{case.python.short_version}"),
                  ("lib", f"python{case.python.short_version}", "site-packages")):
        folder = m.path.join(prefix, *parts)
        target = m.read_link(folder)
        if target is None or m.exists(folder):
            continue
        return Finding.error(
            "link-broken", "certain",
            f"{folder}, where the packages of {case.environment_name} are, is a link to {target}, which "
            f"{m.trouble_at(m.located(target, m.path.dirname(folder)))}: whether {name} was there cannot be seen.",
            (Evidence(f"it is a link to {target}", folder),),
            (Remedy(f"Put {target} back.", "manual", changes=target),))
    return None


def _symbolic(case: Case, name: str, layer: Layer) -> Finding | None:
    """Find a symbolic link in the module's place that leads nowhere."""
    m = case.files
    for entry in sorted(n for n in case.modules.finder.names(layer.path) if n == name or n.startswith(f"{name}.")):
        link = m.path.join(layer.path, entry)
        target = m.read_link(link)
        if target is None or m.exists(link):
            continue
        from kalyx.core.verdicts.causes.unreachable.link_remedies import moved_to

        target = m.located(target, layer.path)
        above = moved_to(case, target, name)
        now = m.path.join(above, entry) if above and m.exists(m.path.join(above, entry)) else None
        again = Remedy(f"Have the link lead to {now}.", "command", argv=("ln", "-sfn", now or "", link), changes=link)
        return Finding.error(
            "link-broken", "certain",
            f"{name} is a link in {layer.path} to {target}, which {m.trouble_at(target)}.",
            (Evidence(f"{link} is a link to {target}", link),
             *([Evidence(f"{now} is there: it may have moved there", now)] if now else [])),
            (*([again] if now and m.platform != "win32" else []),
             Remedy(f"Put {target} back.", "manual", changes=target)))
    return None


def _egg_link_of(case: Case, layer: Layer, name: str) -> str | None:
    """Return the egg-link by which a project called like the module was linked; None where there is none."""
    names = (n for n in case.modules.finder.names(layer.path) if n.endswith(".egg-link"))
    found = next((n for n in sorted(names) if _plain(n.removesuffix(".egg-link")) == _plain(name)), None)
    return str(case.files.path.join(layer.path, found)) if found else None


def _egg_link(case: Case, name: str, layer: Layer) -> Finding | None:
    """Find an egg-link whose folder is gone, or is in no line of a .pth file any more."""
    from kalyx.core.errors import Unreadable
    from kalyx.core.verdicts.causes.unreachable.link_remedies import moved_to, renew

    m, link = case.files, _egg_link_of(case, layer, name)
    try:
        target = m.located(m.read_text(link, 65536).split("\n")[0].strip(), layer.path) if link else ""
    except Unreadable:
        return None
    if not link or not target or _is_on_path(case, target):
        return None
    there = m.is_folder(target)
    found = case.modules.finder.find_in(target, name) if there else None
    if there and found is None:
        return None
    now = None if there else moved_to(case, target, name)
    says = "no line of a .pth file adds that folder to the path" if there else f"that folder {m.trouble_at(target)}"
    return Finding.error(
        "link-broken", "certain", f"{name} was linked from {target}, and {says}.",
        (Evidence(f"it names {target}", link, 1), *([Evidence(f"{found.path} is there", found.path)] if found else []),
         *([Evidence(f"{now} has {name}: it may have moved there", now)] if now else [])),
        tuple(reach(case, target, name)) if there else renew(case, target, now, None))
