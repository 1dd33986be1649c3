"""Wheels on this machine that pip is told of: in find-links folders, or in an index that is a folder.

What they hold can be read, so that a version can be named of which it is known
that it has what is missing. Indexes elsewhere are not asked.
"""

from __future__ import annotations

import configparser
import io
import re
import zipfile
from urllib.parse import unquote, urlparse

from packaging.tags import Tag
from packaging.utils import InvalidWheelFilename, canonicalize_name, parse_wheel_filename
from packaging.version import Version

from kalyx.core.errors import NotRecorded, Unreadable
from kalyx.core.facts.packaging.distributions import parse_heads
from kalyx.core.facts.packaging.requirements import suits
from kalyx.core.facts.source_code.definitions import names_in_text
from kalyx.core.lean.record import record

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping

    from kalyx.core.facts.files import Files
    from kalyx.core.model import RunningPython

__all__ = ["Target", "Wheel", "Wheelhouse", "fits"]

MOST_WHEELS = 20  # of one distribution, the newest first
NO_FILE = ("/dev/null", "nul", "NUL")
WHEEL_LIMIT = 64 * 1024 * 1024  # bytes


@record
class Wheel:
    """A wheel file that fits an interpreter."""

    name: str
    version: Version
    path: str


@record
class Target:
    """An interpreter, as far as it decides which wheels it can use; `flags` are those of its ABI (t, d).

    `processor` is the kind of the machine's, such as ``x86_64``.
    """

    version: str
    implementation: str
    system: str
    processor: str
    flags: str = ""
    is_musl: bool = False

    @staticmethod
    def of(python: RunningPython, files: Files) -> Target:
        """Return what an interpreter of a machine is, by the endings of the compiled modules that it loads."""
        tagged = max(python.suffixes, key=len, default="")
        match = re.search(r"(_d)?\.(?:cpython-|cp)\d+([a-z]*)", tagged)
        flags = (match[2] + ("d" if match[1] else "")) if match else ""
        return Target(python.version, python.implementation, files.platform, files.processor(),
                      "".join(sorted(set(flags) & set("td"))), "musl" in tagged)


class Wheelhouse:
    """The local wheels that pip would be offered at a seat."""

    def __init__(self, files: Files, env: Mapping[str, str], prefix: str) -> None:
        """Take up the variables of a seat, and the prefix of its environment: both may configure pip."""
        self.files = files
        self._env = env
        self._prefix = prefix

    @property
    def is_closed(self) -> bool:
        """Whether pip is told to use no index, so that it has nothing but what lies here."""
        return _no_index(list(self._settings()))

    def wheels_of(self, name: str, python: Target) -> list[Wheel]:
        """Return the wheels of a distribution that an interpreter can use, newest first."""
        wanted = canonicalize_name(name)
        found: dict[Version, Wheel] = {}
        for path in self._files(wanted):
            try:
                called, number, _, tags = parse_wheel_filename(self.files.path.basename(path))
            except (InvalidWheelFilename, ValueError):
                continue
            if called == wanted and not number.is_prerelease and any(
                    fits(tag, python) for tag in tags):
                found.setdefault(number, Wheel(name, number, path))
        return [found[number] for number in sorted(found, reverse=True)][:MOST_WHEELS]

    def has_source(self, name: str, version: str) -> bool:
        """Whether the source of a version lies in a folder that pip is told of."""
        m, wanted = self.files, canonicalize_name(name)
        folders = [f for key, value in self._settings() if key == "find-links" for word in value.split()
                   if (f := local_folder(word, m.platform))]
        sources = [n.removesuffix(ending) for f in folders for n in m.names_in(f)
                   for ending in (".tar.gz", ".zip") if n.endswith(ending)]
        return any(canonicalize_name(n) == canonicalize_name(f"{wanted}-{version}") for n in sources)

    def file_of(self, wheel: Wheel, name: str) -> bytes | None:
        """Return a file that a wheel holds, as it would be installed; None where it has none of that name."""
        try:
            data = self.files.read_bytes(wheel.path, WHEEL_LIMIT)
            with zipfile.ZipFile(io.BytesIO(data)) as archive:
                return archive.read(name)
        except (Unreadable, OSError, zipfile.BadZipFile, KeyError, ValueError, RuntimeError):
            return None

    def names_of(self, wheel: Wheel) -> list[str]:
        """Return the files that a wheel holds; none where it cannot be read."""
        try:
            with zipfile.ZipFile(io.BytesIO(self.files.read_bytes(wheel.path, WHEEL_LIMIT))) as archive:
                return archive.namelist()
        except (Unreadable, OSError, zipfile.BadZipFile, ValueError, RuntimeError):
            return []

    def has(self, wheel: Wheel, module: str, name: str | None, version: str) -> bool:
        """Whether a wheel is for a Python version and has a module and, where one is given, the name in it."""
        base = module.replace(".", "/")
        files = (f"{base}/__init__.py", f"{base}.py")
        try:
            with zipfile.ZipFile(io.BytesIO(self.files.read_bytes(wheel.path, WHEEL_LIMIT))) as archive:
                inside = set(archive.namelist())
                heads = next((n for n in inside if n.endswith(".dist-info/METADATA")), None)
                text = archive.read(heads).decode("utf-8", "replace") if heads else ""
                if not suits(parse_heads(text).requires_python, version):
                    return False
                if name is None:
                    return any(n in inside for n in files) or any(n.startswith(base + ".") for n in inside)
                part = (f"{base}/{name}.py", f"{base}/{name}/__init__.py")
                return any(n in inside for n in part) or any(
                    name in names_in_text(archive.read(f).decode("utf-8", "replace"))
                    for f in files if f in inside)
        except (Unreadable, OSError, zipfile.BadZipFile, ValueError, RuntimeError):
            return False

    def _files(self, name: str) -> Iterator[str]:
        m = self.files
        settings = list(self._settings())
        for key, value in settings:
            for word in value.split():
                folder = local_folder(word, m.platform)
                if folder is None:
                    continue
                try:
                    if key == "find-links":
                        yield from (m.path.join(folder, n) for n in m.names_in(folder) if n.endswith(".whl"))
                    elif key.endswith("index-url") and not _no_index(settings):
                        yield from self._listed(m.path.join(folder, name))
                except NotRecorded:  # what pip would find there is not known of another machine
                    continue

    def _listed(self, folder: str) -> Iterator[str]:
        """Yield the wheels of a project's page in an index that is a folder (PEP 503)."""
        m = self.files
        yield from (m.path.join(folder, n) for n in m.names_in(folder) if n.endswith(".whl"))
        try:
            page = m.read_text(m.path.join(folder, "index.html"), 4_194_304)
        except Unreadable:
            return
        for link in re.findall(r"""href\s*=\s*["']([^"'#]+)""", page):
            target = local_folder(link, m.platform) if ":" in link else unquote(link)
            if target and target.endswith(".whl"):
                yield str(m.path.normpath(m.path.join(folder, target)))

    def _settings(self) -> Iterator[tuple[str, str]]:
        """Yield pip's settings that name places: from variables, then from its configuration files."""
        for variable, key in (("PIP_FIND_LINKS", "find-links"), ("PIP_INDEX_URL", "index-url"),
                              ("PIP_EXTRA_INDEX_URL", "extra-index-url"), ("PIP_NO_INDEX", "no-index")):
            if self._env.get(variable):
                yield key, self._env[variable]
        for file in self._config_files():
            if file in NO_FILE:
                continue  # pip's own way to be told of none
            parser = configparser.RawConfigParser(strict=False)
            try:
                parser.read_string(self.files.read_text(file, 262_144))
            except (Unreadable, NotRecorded, configparser.Error):
                continue
            for section in ("global", "install"):
                if parser.has_section(section):
                    for key in ("find-links", "index-url", "extra-index-url", "no-index"):
                        if parser.has_option(section, key):
                            yield key, parser.get(section, key)

    def _config_files(self) -> Iterator[str]:
        """Yield where pip looks for configuration, as its documentation lists it."""
        m, env = self.files, self._env
        if env.get("PIP_CONFIG_FILE"):
            yield env["PIP_CONFIG_FILE"]
            if env["PIP_CONFIG_FILE"] in ("/dev/null", "nul"):  # this switches all of them off
                return
        if m.platform == "win32":
            yield from (m.path.join(env.get(v, m.home), "pip", "pip.ini") for v in ("APPDATA", "PROGRAMDATA"))
            yield m.path.join(m.home, "pip", "pip.ini")
            yield m.path.join(self._prefix, "pip.ini")
            return
        config = env.get("XDG_CONFIG_HOME") or m.path.join(m.home, ".config")
        shared = (env.get("XDG_CONFIG_DIRS") or "/etc/xdg").split(":")
        places = [config, *shared, *(["/Library/Application Support", m.path.join(
            m.home, "Library", "Application Support")] if m.platform == "darwin" else [])]
        yield from (m.path.join(place, "pip", "pip.conf") for place in places)
        yield "/etc/pip.conf"
        yield from (m.path.join(m.home, ".pip", "pip.conf"), m.path.join(self._prefix, "pip.conf"))


def local_folder(text: str, system: str) -> str | None:
    """Return the path that a setting names, where it is one of this machine and no address."""
    if text.startswith("file:"):
        path = unquote(urlparse(text).path)
        return path.lstrip("/").replace("/", "\\") if system == "win32" else path
    return None if "://" in text else text


def _no_index(settings: list[tuple[str, str]]) -> bool:
    return any(key == "no-index" and value.strip().lower() in ("1", "true", "yes", "on", "t", "y")
               for key, value in settings)


def fits(tag: Tag, python: Target) -> bool:
    """Whether an interpreter can use what has a tag (PEP 425, 600, 656, 703)."""
    major, minor = python.version.split(".")[:2]
    if tag.interpreter in (f"py{major}", f"py{major}{minor}"):
        for_python = tag.abi == "none"
    else:
        short = {"cpython": "cp", "pypy": "pp"}.get(python.implementation, python.implementation)
        made_for = re.fullmatch(rf"{short}{major}(\d*)", tag.interpreter)
        for_python = made_for is not None and (
            (made_for.group(1) == minor and _is_abi_of(tag.abi, python, major + minor))
            or (tag.abi == "abi3" and "t" not in python.flags and int(made_for.group(1) or 0) <= int(minor)))
    system = {"linux": "linux", "darwin": "macosx", "win32": "win"}.get(python.system, python.system)
    if tag.platform.startswith(("manylinux", "musllinux")) and python.is_musl == tag.platform.startswith("manylinux"):
        return False
    kinds = (python.processor.lower(), "universal2", "win32")
    return for_python and (tag.platform == "any" or (system in tag.platform and tag.platform.endswith(kinds)))


def _is_abi_of(abi: str, python: Target, short: str) -> bool:
    """Whether compiled parts of an ABI are loaded: a debug build takes those of the release too, not the reverse."""
    match = re.fullmatch(rf"cp{short}([a-z]*)", abi)
    if match is None:
        return abi in ("none", "abi3") or not abi.startswith("cp")
    flags = set(match[1]) - set("mu")  # which memory and Unicode: there is but one of them since 3.8
    return flags - {"d"} == set(python.flags) - {"d"} and ("d" in python.flags or "d" not in flags)
