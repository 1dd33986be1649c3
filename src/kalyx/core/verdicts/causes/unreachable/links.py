"""Group B: a link that brought a module into an environment leads nowhere any more."""

from __future__ import annotations

import re

from kalyx.core.facts.packaging.listed_modules import mapped_folder
from kalyx.core.facts.search_path.pth_files import link_lines
from kalyx.core.model import Edit, Evidence, Finding, Remedy
from kalyx.core.verdicts.catalogue import cause
from kalyx.core.verdicts.reading.absence import absent_name, asked_by_person
from kalyx.core.verdicts.remedies import pip, which_pip

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case
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
    Why: An editable install is a link to a folder, and that folder was moved, renamed or deleted.
    How Kalyx knows: The .pth line or the import hook names a folder that is not there, or the hook's own
        file is gone.
    What to do: Install the project again from where it is now, or have the line name the new place.
    """
    name = absent_name(case, failure)
    if name is None or failure is None or not asked_by_person(case, failure):
        return None
    for layer in case.modules.layers:
        if layer.layer not in ("env", "base", "user"):
            continue
        names = case.modules.finder.names(layer.path)
        lines = link_lines(case.files, layer.path, names)
        owner = case.distributions.metadata_in(layer).named(name) if lines else None
        for line in lines:
            gone = _finder_gone(case, layer.path, line)
            if gone and (owner is not None or name.lower() in gone.lower()):
                return _hook_gone(case, name, line, gone, owner)
            target = line.target or _finder_target(case, layer.path, line, name)
            links = {f"{n}.egg-link" for n in (name, name.replace("_", "-"))}
            if target and not case.files.exists(target) and (
                    owner is not None or _names_it(case, line, target, name)
                    or links & names):
                return _broken(case, name, line, target, owner)
            if line.target and (not case.files.is_folder(line.target)
                                or case.files.path.basename(line.target) == name):
                from kalyx.core.verdicts.causes.unreachable.path_entries import meant_by_line

                meant = meant_by_line(case, failure, line.file, line.line, line.text)
                if meant is not None:
                    return meant
    return None


def _finder_gone(case: Case, folder: str, line: LinkLine) -> str | None:
    """Return the file of an editable install's import hook, where a .pth line asks for it and it is gone."""
    match = _HOOK.search(line.text) if "__editable__" in line.text else None
    if match is None or f"{match.group(1)}.py" in case.modules.finder.names(folder):
        return None
    return str(case.files.path.join(folder, match.group(1) + ".py"))


def _hook_gone(case: Case, name: str, line: LinkLine, gone: str, owner: Distribution | None) -> Finding:
    m = case.files
    source = owner.source if owner and owner.source and m.is_folder(owner.source) else None
    served = which_pip.allowed(case)
    todo = pip.install(case, owner.name if owner else name)
    if source and served:
        todo = (Remedy(f"Install it again from {source}.", "command", argv=served.install(source, linked=True),
                       changes="the link"),)
    elif owner is not None:
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


def _names_it(case: Case, line: LinkLine, target: str, name: str) -> bool:
    m = case.files
    words = [m.path.basename(line.file).lower(), *target.lower().replace("\\", "/").split("/")]
    return any(name.lower() in w.replace("-", "_") for w in words)


def _finder_target(case: Case, folder: str, line: LinkLine, name: str) -> str | None:
    """Read where an editable install's import hook would look for a module (PEP 660)."""
    match = _HOOK.search(line.text) if "__editable__" in line.text else None
    return mapped_folder(case.files, folder, match.group(1) + ".py", name) if match else None


def _broken(case: Case, name: str, line: LinkLine, target: str,
            owner: Distribution | None) -> Finding:
    m = case.files
    now = _moved_to(case, target, name)
    todo: list[Remedy] = []
    served = which_pip.allowed(case)
    root = next((p for p in (now, m.path.dirname(now)) if any(
        m.is_file(m.path.join(p, f)) for f in ("pyproject.toml", "setup.py"))), None) if now else None
    if root and served:
        todo.append(Remedy(f"Install it again from where it is now, {root}.", "command",
                           argv=served.install(root, linked=True), changes="the link"))
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
    return Finding.error(
        "link-broken", "certain" if owner else "likely",
        f"{name} was linked from {target}, and that folder {m.trouble_at(target)}.",
        tuple(evidence), tuple(todo))


def _moved_to(case: Case, target: str, name: str) -> str | None:
    """Look for the module in the neighbourhood of a folder that is gone."""
    m = case.files
    inside = [m.path.basename(target)] if m.path.basename(target) in ("src", "lib") else []
    above = m.path.dirname(target)
    for _ in range(3):
        for child in m.scan(above)[1][:300]:
            for place in (m.path.join(above, child), m.path.join(above, child, "src"),
                          m.path.join(above, child, *inside)):
                found = case.modules.finder.find_in(place, name)
                if found is not None and found.kind in ("package", "module"):
                    return str(place)
        if above in (m.home, m.path.dirname(above)):
            break
        above = m.path.dirname(above)
    return None
