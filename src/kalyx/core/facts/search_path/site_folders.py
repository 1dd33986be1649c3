"""The site folders of an interpreter: its own, the base's, the user's."""

from __future__ import annotations

import re

from kalyx.core.facts.interpreters.path_lookup import version_in_name
from kalyx.core.facts.interpreters.pyvenv import find_venv_config
from kalyx.core.model import version_pair

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from kalyx.core.facts.files import Files
    from kalyx.core.facts.interpreters.pyvenv import VenvConfig
    from kalyx.core.model import Interpreter

__all__ = ["leaves_user_site_out", "site_contents", "site_folders", "user_site", "user_sites", "visible_sites"]

_ZERO = re.compile(r"\s{0,99}[+-]?0{1,99}")  # as the C library reads a number


def leaves_user_site_out(env: Mapping[str, str], version: str | None) -> bool:
    """Whether PYTHONNOUSERSITE is set to what that Python takes for yes: since 3.7 all but a number that is zero."""
    value = env.get("PYTHONNOUSERSITE", "")
    return bool(value) and ((0, 0) < version_pair(version) < (3, 7) or not _ZERO.fullmatch(value))


def user_site(files: Files, version: str, implementation: str = "cpython",
              env: Mapping[str, str] | None = None, *, framework: bool = False) -> str:
    """Return the user site folder of a Python version (`site.USER_SITE`).

    A framework build on macOS has a place of its own.
    """
    m = files
    env = m.env if env is None else env
    major, minor = version.split(".")[:2]
    if m.platform == "win32":
        base = env.get("PYTHONUSERBASE") or m.path.join(
            env.get("APPDATA", m.home), "Python")
        return str(m.path.join(base, f"Python{major}{minor}", "site-packages"))
    if m.platform == "darwin" and framework and not env.get("PYTHONUSERBASE"):
        return str(m.path.join(m.home, "Library", "Python", f"{major}.{minor}", "lib", "python",
                               "site-packages"))
    base = env.get("PYTHONUSERBASE") or m.path.join(m.home, ".local")
    name = "pypy" if implementation == "pypy" and version_pair(version) >= (3, 8) else "python"
    return str(m.path.join(base, "lib", f"{name}{major}.{minor}", "site-packages"))


def user_sites(files: Files) -> list[tuple[str, str]]:
    """Return the user's site folders that are there, of whichever version of Python, with that version."""
    m = files
    if m.platform == "win32":
        base = m.env.get("PYTHONUSERBASE") or m.path.join(m.env.get("APPDATA", m.home), "Python")
        found = [(m.path.join(base, n, "site-packages"), f"{n[6:7]}.{n[7:]}") for n in m.entries(base)
                 if n.startswith("Python") and n[6:].isdigit()]
    else:
        base = m.path.join(m.env.get("PYTHONUSERBASE") or m.path.join(m.home, ".local"), "lib")
        found = [(m.path.join(base, n, "site-packages"), version_in_name(n) or "") for n in m.entries(base)]
        if m.platform == "darwin":
            base = m.path.join(m.home, "Library", "Python")
            found += [(m.path.join(base, n, "lib", "python", "site-packages"), n) for n in m.entries(base)]
    return sorted((folder, version) for folder, version in found if "." in version and m.exists(folder))


def site_folders(files: Files, prefix: str, kind: str = "venv",
                 version: str | None = None) -> list[str]:
    """Return the site folders under a prefix that exist, found by listing.

    With a `version` only that version's count; for Debian's ``/usr`` the
    dist-packages folders are those.
    """
    m = files
    if m.platform == "win32":
        folder = m.path.join(prefix, "Lib", "site-packages")
        return [folder] if m.is_folder(folder) else []
    short = ".".join(version.split(".")[:2]) if version else None
    found = []
    sep = m.path.sep
    libraries = [prefix + sep + "lib"]
    second = prefix + sep + "lib64"  # in most environments another name of the first
    if m.exists(second) and m.read_link(second) != "lib" and not m.same(second, libraries[0]):
        libraries.append(second)
    if prefix == "/usr":
        libraries.append("/usr/local/lib")
    for library in libraries:
        for name in sorted(n for n in m.entries(library) if n.startswith(("python", "pypy"))):
            known = version_in_name(name)
            if not known or (short and known not in (short, short.split(".")[0])):
                continue
            inside = library + sep + name + sep
            found += [inside + s for s in ("site-packages", "dist-packages") if m.exists(inside + s)]
    return found


def site_contents(files: Files, prefix: str, likely: str = "") -> list[tuple[str, list[str]]]:
    """Return the site folders under a prefix, each with the names in it.

    As `site_folders`, for many prefixes: a folder is listed at once, and not looked for before. `likely`
    is the name of a library folder (``python3.12``), tried first where there can be but one.
    """
    m = files
    if m.platform == "win32" or prefix == "/usr":
        return [(folder, m.entries(folder)) for folder in site_folders(m, prefix)]
    library = prefix + "/lib"
    if m.exists(library + "64") and m.read_link(library + "64") != "lib":  # the rare layout
        return [(folder, m.entries(folder)) for folder in site_folders(m, prefix)]
    if likely and m.has_one_folder(library):
        folder = f"{library}/{likely}/site-packages"
        names = m.entries(folder)
        if names:
            return [(folder, names)]
    found = []
    for name in m.entries(library):
        if version_in_name(name):
            folder = f"{library}/{name}/site-packages"
            names = m.entries(folder)
            if names or m.exists(folder):
                found.append((folder, names))
            if name == "python3" or not names:
                other = f"{library}/{name}/dist-packages"
                found += [(other, m.entries(other))] if m.exists(other) else []
    return sorted(found) if len(found) > 1 else found


def visible_sites(files: Files, interpreter: Interpreter, config: VenvConfig | None = None,
                  own: Sequence[str] | None = None) -> list[str]:
    """Return the site folders that an interpreter looks into, the user's and the base's among them.

    `config` is its pyvenv.cfg, and `own` are the site folders under its prefix, where they are known already.
    """
    m = files
    if interpreter.prefix is None or interpreter.version is None:
        return []
    folders = list(own) if own is not None else site_folders(m, interpreter.prefix, version=interpreter.version)
    config = config or find_venv_config(m, interpreter.path)
    if config is None or config.open_to_base:
        folders.append(user_site(m, interpreter.version, interpreter.implementation or "cpython"))
    if config is not None and config.open_to_base and interpreter.base_prefix:
        folders += site_folders(m, interpreter.base_prefix, version=interpreter.version)
    return folders
