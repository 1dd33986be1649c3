"""What an interpreter is where it is started with some variables: PYTHONHOME and PYTHONPLATLIBDIR move its library.

Follows ``Modules/getpath`` of CPython: where PYTHONHOME is set, nothing else tells where the standard library is.
"""

from __future__ import annotations

from kalyx.core.errors import NotRecorded
from kalyx.core.facts.interpreters.flags import has_flag
from kalyx.core.lean.record import replace

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping

    from kalyx.core.facts.files import Files
    from kalyx.core.facts.interpreters.examiner import Examined
    from kalyx.core.model import Launch

__all__ = ["started_with"]


def started_with(files: Files, examined: Examined, launch: Launch) -> Examined:
    """Return what was examined as it is when it is started so; one that finds no library then is broken."""
    one, inner = examined.interpreter, examined.launched(launch)
    if not one.works or not one.version_pair or one.implementation != "cpython" or examined.variables is None \
            or has_flag(inner.argv[1:], "EI"):
        return examined
    home = inner.env.get("PYTHONHOME", "")
    platlib = inner.env.get("PYTHONPLATLIBDIR", "") if one.version_pair >= (3, 9) and files.platform != "win32" else ""
    if (not home and not platlib) or one.base_prefix is None:
        return examined
    prefix, _, exec_prefix = (home, "", "") if files.platform == "win32" else home.partition(":")
    base = files.located(prefix, inner.cwd) if home else one.base_prefix
    library = _library_in(files, base, one.short_version, platlib)
    if library is None:
        if _is_elsewhere(files, base, one.short_version, platlib, inner.env, inner.cwd):
            return examined
        trouble = _not_found(files, base, one.short_version, home, platlib)
        return replace(examined, interpreter=replace(one, known_by="broken", trouble=trouble))
    own = examined.config.prefix if examined.config is not None else base
    moved = _entries(files, library, base, files.located(exec_prefix, inner.cwd) if exec_prefix else base) \
        if (platlib or exec_prefix) and one.version_pair > (3, 0) else ()
    return replace(examined, interpreter=replace(one, prefix=own, base_prefix=base), stdlib=moved)


def _names(files: Files, short: str, platlib: str) -> list[str]:
    """Return the places below a prefix where a standard library may be, the likeliest first."""
    if files.platform == "win32":
        return ["Lib"]
    return [files.path.join(folder, f"python{short}{tag}") for folder in ([platlib] if platlib else ["lib", "lib64"])
            for tag in ("", "t")]


def _library_in(files: Files, base: str, short: str, platlib: str) -> str | None:
    places = [files.path.join(base, name) for name in _names(files, short, platlib)]
    return next((p for p in places if files.exists(files.path.join(p, "encodings"))), None)


def _is_elsewhere(files: Files, base: str, short: str, platlib: str, env: Mapping[str, str], cwd: str) -> bool:
    """Whether what every Python needs to start may be had from another place: an archive, PYTHONPATH."""
    archive = f"python{short.replace('.', '')}.zip"
    folder = base if files.platform == "win32" else files.path.join(base, platlib or "lib")
    entries = [files.located(e, cwd) for e in env.get("PYTHONPATH", "").split(files.path_separator) if e]
    return any(files.exists(files.path.join(e, "encodings")) or (files.is_file(e) and _holds_it(files, e))
               for e in (files.path.join(folder, archive), *entries))


def _holds_it(files: Files, archive: str) -> bool:
    """Whether an archive has what every Python needs to start, as far as that can be told."""
    from kalyx.core.facts.search_path.archives import archive_names

    try:
        return any(name.startswith("encodings/") for name in archive_names(files, archive))
    except NotRecorded:
        return True


def _entries(files: Files, library: str, base: str, compiled: str) -> tuple[str, ...]:
    """Return the search path's part of the standard library: its archive, itself, and the modules of compiled code."""
    m, name = files, files.path.basename(library)
    archive = m.path.join(m.path.dirname(library), name.removesuffix("t").replace(".", "") + ".zip")
    return archive, library, m.path.join(compiled, m.path.relpath(library, base), "lib-dynload")


def _not_found(files: Files, base: str, short: str, home: str, platlib: str) -> str:
    by = " and ".join(n for n, v in (("PYTHONHOME", home), ("PYTHONPLATLIBDIR", platlib)) if v)
    place = files.path.join(base, *(("Lib",) if files.platform == "win32" else (platlib or "lib", f"python{short}")))
    return f"by {by}, its standard library is {place}, where encodings is not: no Python starts without it"
