"""The layers of a search path: which part of sys.path each entry is."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from kalyx.core.errors import Unreadable
from kalyx.core.facts.launchers import version_in_name
from kalyx.core.facts.pyvenv import find_venv_config
from kalyx.core.machine import Machine
from kalyx.core.model import Interpreter
from kalyx.core.record import dataclass

__all__ = ["Layer", "LinkLine", "PathFacts", "classify_path", "link_lines", "pythonpath_of",
           "site_contents", "site_folders", "user_site", "user_sites", "visible_sites"]



@dataclass(frozen=True)
class Layer:
    """An entry of the search path and the layer it is part of."""

    layer: str
    path: str


@dataclass(frozen=True)
class PathFacts:
    """What is needed to name the layers of a path."""

    prefix: str
    base_prefix: str
    user_site: str | None
    pythonpath: Sequence[str]
    start: str | None


def classify_path(machine: Machine, path: Sequence[str], facts: PathFacts) -> list[Layer]:
    """Name the layer of each entry.

    Folders that a .pth line adds are layer ``link``: whatever is none of the
    others and stands in no variable came from there or from running code.
    """
    m = machine
    pythonpath = {m.key(p) for p in facts.pythonpath}
    layers = []
    for number, entry in enumerate(path):
        if number == 0 and facts.start is not None and m.key(entry) == m.key(facts.start):
            layers.append(Layer("start", entry))
        elif m.key(entry) in pythonpath:
            layers.append(Layer("pythonpath", entry))
        else:
            layers.append(Layer(_layer_of(m, entry, facts), entry))
    if all(x.layer != "other" for x in layers):
        return layers
    links = {m.key(line.target) for layer in layers if layer.layer in ("env", "base", "user")
             for line in link_lines(m, layer.path) if line.target}
    return [Layer("link", x.path) if x.layer == "other" and m.key(x.path) in links else x
            for x in layers]


def _layer_of(m: Machine, entry: str, facts: PathFacts) -> str:
    if facts.user_site and m.key(entry) == m.key(facts.user_site):
        return "user"
    *_, above, name = ("", "", *entry.replace("\\", "/").lower().split("/"))
    if name in ("site-packages", "dist-packages"):
        for prefix, layer in ((facts.prefix, "env"), (facts.base_prefix, "base")):
            if m.is_within(entry, prefix) or m.is_within(m.real_path(entry), m.real_path(prefix)):
                return layer
        # Debian keeps a base's own packages in /usr/local and /usr/lib beside /usr
        if facts.base_prefix == "/usr" and entry.startswith("/usr/local/"):
            return "env" if facts.prefix == facts.base_prefix else "base"
    elif m.is_file(m.path.join(entry, "os.py")) or (_is_library(name, above) and any(
            m.is_within(entry, p) or m.is_within(m.real_path(entry), m.real_path(p))
            for p in (facts.prefix, facts.base_prefix))):
        return "stdlib"
    return "other"


def _is_library(name: str, above: str) -> bool:
    """Whether a path's last two parts, in small letters, are those of a standard library."""
    if name.startswith(("lib-", "plat-")):
        name = above
    if name.startswith("python") and name.endswith(".zip"):
        return name[6:-4].removesuffix("t").isdigit()
    return name in ("lib", "dlls") or bool(version_in_name(name))


@dataclass(frozen=True)
class LinkLine:
    """A line of a .pth file: the folder that it adds, or the code that it runs."""

    file: str
    line: int
    text: str
    target: str | None


def link_lines(machine: Machine, folder: str, names: Iterable[str] | None = None) -> list[LinkLine]:
    """Read the .pth files of a site folder, as the site module does; `names` are those in it, if known."""
    m = machine
    found = []
    listed = m.entries(folder) if names is None else names
    for name in sorted(n for n in listed if n.endswith(".pth")):
        file = m.path.join(folder, name)
        try:
            text = m.read_text(file, 1_048_576)
        except Unreadable:
            continue
        for number, raw in enumerate(text.splitlines(), 1):
            line = raw.rstrip()
            if not line or line.startswith("#"):
                continue
            runs = line.startswith(("import ", "import\t"))
            found.append(LinkLine(file, number, line,
                                  None if runs else m.located(line, folder)))
    return found


def user_site(machine: Machine, version: str, implementation: str = "cpython",
              env: Mapping[str, str] | None = None, *, framework: bool = False) -> str:
    """Return the user site folder of a Python version (`site.USER_SITE`).

    A framework build on macOS has a place of its own.
    """
    m = machine
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
    name = "pypy" if implementation == "pypy" and (int(major), int(minor)) >= (3, 8) else "python"
    return str(m.path.join(base, "lib", f"{name}{major}.{minor}", "site-packages"))


def user_sites(machine: Machine) -> list[tuple[str, str]]:
    """Return the user's site folders that are there, of whichever version of Python, with that version."""
    m = machine
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


def site_folders(machine: Machine, prefix: str, kind: str = "venv",
                 version: str | None = None) -> list[str]:
    """Return the site folders under a prefix that exist, found by listing.

    With a `version` only that version's count; for Debian's ``/usr`` the
    dist-packages folders are those.
    """
    m = machine
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


def site_contents(machine: Machine, prefix: str, likely: str = "") -> list[tuple[str, list[str]]]:
    """Return the site folders under a prefix, each with the names in it.

    As `site_folders`, for many prefixes: a folder is listed at once, and not looked for before. `likely`
    is the name of a library folder (``python3.12``), tried first where there can be but one.
    """
    m = machine
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


def visible_sites(machine: Machine, interpreter: Interpreter) -> list[str]:
    """Return the site folders that an interpreter looks into, the user's and the base's among them."""
    m = machine
    if interpreter.prefix is None or interpreter.version is None:
        return []
    folders = site_folders(m, interpreter.prefix, version=interpreter.version)
    config = find_venv_config(m, interpreter.path)
    if config is None or config.open_to_base:
        folders.append(user_site(m, interpreter.version, interpreter.implementation or "cpython"))
    if config is not None and config.open_to_base and interpreter.base_prefix:
        folders += site_folders(m, interpreter.base_prefix, version=interpreter.version)
    return folders


def pythonpath_of(machine: Machine, env: Mapping[str, str], cwd: str) -> list[str]:
    """Return the PYTHONPATH entries as folders."""
    return [machine.located(entry, cwd) if entry else cwd
            for entry in env.get("PYTHONPATH", "").split(machine.path_separator)
            if entry or env.get("PYTHONPATH", "")]
