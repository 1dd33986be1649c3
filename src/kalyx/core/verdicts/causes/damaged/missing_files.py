"""Group D: what is installed is not all there: files are missing, or all of the code."""

from __future__ import annotations

import re

from kalyx.core.facts.search_path.modules import top_level
from kalyx.core.model import Evidence, Finding
from kalyx.core.model.names import normal_name
from kalyx.core.tables import import_names
from kalyx.core.verdicts.catalogue import also, cause
from kalyx.core.verdicts.causes.damaged.conda_records import gone_by_conda
from kalyx.core.verdicts.reading.absence import is_absent
from kalyx.core.verdicts.remedies import pip

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.facts.search_path.layers import Layer
    from kalyx.core.model import Distribution
    from kalyx.core.model.kinds import Confidence
    from kalyx.core.verdicts.reading.failure import Failure

__all__ = ["files_missing", "metadata_only", "not_whole"]

INSTALLED = ("env", "base", "user", "pythonpath")
_NO_FILE = re.compile(r"No such file or directory: '([^']+)'$")
_OF_MODULE = re.compile(r"(?<![\w.])((?:\w+\.)+)\w+ (?:size changed|has the wrong size)")  # a class of a compiled part
_LIBRARY = re.compile(r"(?<![\w.+-])([\w.+-]+\.so[\w.]{0,40}): cannot open shared object file")


def _incomplete(case: Case, failure: Failure | None) -> tuple[Distribution, list[str], list[str]] | None:
    """Return the distribution of what is missing, its code files, and those that are not there."""
    for owner, wanted in _wanted_files(case, failure):
        record = case.distributions.record(owner)
        missing = record.missing()
        if any(p.startswith(wanted) or p.rsplit("/", 1)[-1] in wanted for p in missing):
            return owner, record.code, missing
        data = [p for p in wanted if p in record.rows and not case.files.exists(record.absolute(p))]
        if data:
            return owner, [*record.code, *data], [*data, *missing]
    return _without_start(case, failure) or _less_than_elsewhere(case, failure)


def _less_than_elsewhere(case: Case, failure: Failure | None
                         ) -> tuple[Distribution, list[str], list[str]] | None:
    """Find a part that the same version has in another environment, where no RECORD tells what belongs here."""
    owner = case.distributions.of(case.modules.file_of(failure.top)) if failure is not None else None
    if failure is None or owner is None or owner.editable or case.distributions.record(owner).rows:
        return None
    part = failure.module.replace(".", "/")
    wanted = [f"{part}/{failure.name}"] if failure.name else []
    wanted += [part] if "." in failure.module else []
    found = case.elsewhere.part(wanted, owner.name, owner.version) if wanted else None
    return (owner, list(found), [found[0]]) if found is not None else None


def _without_start(case: Case, failure: Failure | None) -> tuple[Distribution, list[str], list[str]] | None:
    """Find the package that is taken for a bare folder, as its start file is gone (PEP 420)."""
    name = failure.module if failure is not None else case.obs.module
    found = [(x, c) for x, c in case.modules.candidates(top_level(name))]
    if not found or any(c.kind != "namespace" for _, c in found):
        return None
    for layer in case.modules.layers:
        for owner in _bringing(case, layer, top_level(name)):
            record = case.distributions.record(owner)
            missing = record.missing()
            if f"{top_level(name)}/__init__.py" in missing:
                return owner, record.code, missing
    return None


def _wanted_files(case: Case, failure: Failure | None) -> list[tuple[Distribution, tuple[str, ...]]]:
    """Return distributions that should have the missing thing, with how its files would begin."""
    found: list[tuple[Distribution, tuple[str, ...]]] = []
    if failure is not None and (failure.name is None or "partially" in failure.error.message
                                or case.modules.search_folders(failure.module)):
        package = failure.module.replace(".", "/")
        wanted = f"{package}/{failure.name}" if failure.name else package
        for layer in case.modules.layers:
            found += [(owner, (wanted + ".", wanted + "/", package + "/__init__."))
                      for owner in _bringing(case, layer, failure.top)]
    lost = _lost_file(case)
    if lost is not None:
        found.append(lost)
    for error in case.obs.chain:
        # a part that is there as source alone is not what the parts compiled with it expect
        part = _OF_MODULE.search(error.message)
        owner = case.distributions.of(case.modules.file_of(part.group(1)[:-1])) if part else None
        if part and owner is not None:
            found.append((owner, (part.group(1).replace(".", "/")[:-1] + ".",)))
        # a library that came with the distribution itself
        match = _LIBRARY.search(error.message) if "shared object" in error.message else None
        owner = case.distributions.of(error.path) if match else None
        if match and owner is not None:
            found.append((owner, (match.group(1),)))
    return found


def _lost_file(case: Case) -> tuple[Distribution, tuple[str, ...]] | None:
    """Return the distribution of a file that its code wanted to read, with the file's row in RECORD."""
    error = case.obs.error
    match = _NO_FILE.search(error.message) if error is not None and error.type == "FileNotFoundError" else None
    owner = case.distributions.of(match.group(1)) if match else None
    row = case.distributions.record(owner).row_of(match.group(1)) if match and owner is not None else None
    return (owner, (row,)) if owner is not None and row is not None else None


def _bringing(case: Case, layer: Layer, module: str) -> list[Distribution]:
    """Return the distributions in a layer that say that they bring a module, whatever their own names are."""
    if layer.layer not in INSTALLED:
        return []
    return [d for d in case.distributions.metadata_in(layer).bringing(module) if not _is_linked(case, d)]


def _is_linked(case: Case, distribution: Distribution) -> bool:
    """Whether a distribution's code lies elsewhere, so that none of it is missed here (PEP 660)."""
    if distribution.editable or case.distributions.record(distribution).lists("__editable__"):
        return True
    links = (n.rsplit(".", 1)[0] for n in case.modules.finder.names(distribution.location)
             if n.endswith((".pth", ".egg-link")))
    return any(normal_name(n.removeprefix("__editable__.").lstrip("_").partition("-")[0]) == normal_name(
        distribution.name) for n in links)


@cause("metadata-only", "metadata is here, none of the code is",
       asks="traces", family="damage", after=("foreign-abi",), not_beside=("mixed-install:interrupted",),
       why_here="nothing of the code is there, so its single files are not looked at")
def metadata_only(case: Case, failure: Failure | None) -> Finding | None:
    """Find a distribution of which only the metadata is left.

    Looks like: `No module named ...`, though `pip list` shows the package.
    Why: Its metadata is left and its code is gone.
    How Kalyx knows: None of the code files in RECORD is there.
    What to do: Install the package again; pip alone believes that it is there, so it must be forced.
    """
    found = _incomplete(case, failure)
    if found is None:
        return _without_anything(case, failure)
    if len(found[1]) != len(found[2]):
        return None
    owner, listed, missing = found
    return _gone(case, "metadata-only", owner, listed, missing,
                 f"Of {owner.name} {owner.version} only the metadata is left; none of its code is there.")


def _without_anything(case: Case, failure: Failure | None) -> Finding | None:
    """Find metadata that has lost even the list of its files, of a module that is not there."""
    if failure is None or not is_absent(case, failure):
        return None
    for layer in case.modules.layers:
        owner = _without_list(case, layer, failure.top)
        if owner is None:
            continue
        package = case.files.path.join(layer.path, failure.top)
        obstacles = _obstacles_at(case, layer.path, [case.files.path.join(package, "__init__.py")])
        evidence = [Evidence(f"it says that it brings {failure.top}" if failure.top in owner.modules
                             else "it lists no files", owner.metadata),
                    Evidence(f"{package} is no package", package)]
        evidence += [Evidence(f"{path} is {what}", path) for path, what in obstacles.items()]
        return Finding.error(
            "metadata-only", "certain",
            f"Of {owner.name} {owner.version} only metadata is left, and not all of that; {failure.top} is not "
            "there.", tuple(evidence),
            pip.reinstall(case, owner.name, owner.version, "to have its files",
                               obstacles=tuple(obstacles)))
    return gone_by_conda(case, failure.top)


def _without_list(case: Case, layer: Layer, module: str) -> Distribution | None:
    """Return what brings a module by its metadata, or by its name where it says nothing, and lists no files."""
    if layer.layer not in INSTALLED:
        return None
    metadata = case.distributions.metadata_in(layer)
    named = [metadata.named(n) for n in (module, import_names.distribution_for(module)) if n]
    found = [*metadata.bringing(module), *[d for d in named if d is not None and not d.modules]]
    return next((d for d in found if not _is_linked(case, d) and not case.distributions.record(d).rows), None)


@cause("files-missing", "RECORD lists files that are not there",
       asks="traces", family="damage", also_when_it_imports="without a file",
       not_beside=("file-corrupt", "mixed-install:interrupted"),
       why_here="where a file is broken, what is missing beside it is not what failed")
def files_missing(case: Case, failure: Failure | None) -> Finding | None:
    """Find a distribution of which some files are missing, the wanted one among them.

    Looks like: `No module named 'a.b'`, or a library that came with the package is not found.
    Why: Files of the package were deleted: by a clean-up, a virus scanner, an interrupted installation.
    How Kalyx knows: RECORD lists files that are not there.
    What to do: Install the package again.
    """
    found = _incomplete(case, failure)
    if found is None or len(found[1]) == len(found[2]):
        return None
    owner, listed, missing = found
    if not case.distributions.record(owner).rows:
        return _gone(case, "files-missing", owner, listed, missing,
                     f"{owner.name} {owner.version} lacks a file that this version has: {missing[0]}.")
    verb = "is" if len(missing) == 1 else "are"
    return _gone(case, "files-missing", owner, listed, missing,
                 f"{len(missing)} of the {len(listed)} files of {owner.name} {owner.version} {verb} "
                 f"missing" + (f", {missing[0]} among them." if len(missing) > 1 else f": {missing[0]}."))


@also("files-missing",
      asks="traces", family="damage", last_resort=True, also_when_it_imports="without a file",
      why_here="files that the failure does not speak of are told where nothing else was found")
def not_whole(case: Case, failure: Failure | None) -> Finding | None:
    """Find files missing in a distribution whose own code failed, where nothing else explains it."""
    if case.obs.outcome != "fails" or case.obs.later:
        return None
    files = [f.file for e in case.obs.chain for f in reversed(e.frames)]
    for owner in dict.fromkeys(case.distributions.of(f) for f in dict.fromkeys(files)):
        if owner is None or owner.editable:
            continue
        record = case.distributions.record(owner)
        missing = [p for p in record.missing() if not {"test", "tests"} & set(p.split("/"))]
        if missing:
            return _gone(case, "files-missing", owner, record.code, missing,
                         f"The import failed in the code of {owner.name} {owner.version}, of whose "
                         f"{len(record.code)} files {len(missing)} {'is' if len(missing) == 1 else 'are'} "
                         f"missing: {missing[0]}{', and others' if len(missing) > 1 else ''}.", "likely")
    return None


def _gone(case: Case, slug: str, owner: Distribution, listed: list[str], missing: list[str],
          because: str, confidence: Confidence = "certain") -> Finding:
    record = case.distributions.record(owner)
    obstacles = _obstacles_at(case, record.folder, [record.absolute(p) for p in missing])
    return Finding(
        slug, "warning" if case.obs.outcome == "imports" else "error", confidence, because,
        (Evidence(f"RECORD lists {len(listed)} files that it needs", record.path) if record.rows else
         Evidence(f"the same version has it in {listed[-1]}", listed[-1]),
         *[Evidence(f"{path} stands where something else belongs; it is {what}", path)
           for path, what in obstacles.items()],
         *[Evidence(f"{p} is not there", record.absolute(p)) for p in missing[:4]]),
        pip.reinstall(case, owner.name, owner.version, "to have all its files",
                           obstacles=tuple(obstacles)))


def _obstacles_at(case: Case, site: str, missing: list[str]) -> dict[str, str]:
    """Return what stands where missing files, or a folder of them, belong, and what that is.

    Nothing can be installed over it. Only inside the site folder: what lies elsewhere is never to be removed.
    """
    m = case.files
    found: dict[str, str] = {}
    for file in missing:
        link = m.read_link(file)
        if m.is_within(file, site) and (link is not None or m.exists(file)):
            what = "a folder" if m.is_folder(file) else "no file"
            found[file] = f"a link to {link}" if link is not None else what
    for folder in dict.fromkeys(m.path.dirname(p) for p in missing):
        while m.is_within(folder, site) and not m.same(folder, site):
            target = m.read_link(folder)
            if target is not None and not m.exists(folder):
                found[folder] = f"a link to {target}, which does not exist"
            elif m.is_file(folder):
                found[folder] = "a file"
            folder = m.path.dirname(folder)
    return found
