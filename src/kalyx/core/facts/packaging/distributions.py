"""Installed distributions, read from their metadata (core metadata, RECORD, PEP 376, 610, 660)."""

from __future__ import annotations

import re

from kalyx.core.errors import NOT_RECORDED, NotRecorded, Unreadable
from kalyx.core.facts.packaging.file_urls import path_of_url
from kalyx.core.facts.packaging.listed_modules import (
    imports_in_heads,
    mapped_modules,
    modules_in_record,
    names_in_heads,
)
from kalyx.core.facts.packaging.record_file import Record
from kalyx.core.lean.record import record, replace
from kalyx.core.model import Distribution
from kalyx.core.model.names import normal_name

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable

    from kalyx.core.facts.files import Files
    from kalyx.core.model.kinds import LayerName

__all__ = ["SiteMetadata", "ZipShelf", "open_shelf", "parse_egg_requires", "parse_heads"]

METADATA_ENDINGS = (".dist-info", ".egg-info")
METADATA_HEAD = 262_144  # bytes; the headers stand before the description
FIRST_READ = 8192  # bytes; nearly all headers end before that
RECORD_LIMIT = 64 * 1024 * 1024
TEXT_LIMIT = 1024 * 1024
MOST_IN_ZIP = 20_000  # names
_PYTHON_TAG = re.compile(r"-py[23]\.\d{1,2}(?:-.{1,60})?$")  # in the name of an egg


@record
class _Heads:
    name: str
    version: str
    requires: tuple[str, ...]
    extras: tuple[str, ...]
    requires_python: str


def parse_heads(text: str) -> _Heads:
    """Read the header lines of a METADATA or PKG-INFO file.

    They end at an empty line; one of spaces alone continues a field, as in a licence's text.
    """
    fields: dict[str, list[str]] = {}
    for line in text.replace("\r\n", "\n").split("\n"):  # a form feed in a text ends no line
        if not line:
            break  # the description follows
        key, colon, value = line.partition(":")
        if colon and not line[0].isspace():
            fields.setdefault(key.lower(), []).append(value.strip())
    return _Heads(
        fields.get("name", [""])[0], fields.get("version", [""])[0],
        tuple(fields.get("requires-dist", ())), tuple(fields.get("provides-extra", ())),
        fields.get("requires-python", [""])[0])


def _metadata_among(names: Iterable[str]) -> list[str]:
    """Return the names of metadata entries; one with a ~ is what an installer set aside and never took away."""
    return [n for n in names if (n.endswith(METADATA_ENDINGS) or n == "EGG-INFO") and n[0] != "~"]


class SiteMetadata:
    """The distributions whose metadata lies in one folder, read when asked for."""

    def __init__(self, files: Files, folder: str, layer: LayerName = "other",
                 names: Iterable[str] | None = None) -> None:
        """Take up a folder; `names` are what it holds, where that has been listed already."""
        self.files = files
        self.folder = folder
        self.layer = layer
        self._metadata: list[str] | None = None
        if names is not None:
            self._metadata = sorted(_metadata_among(names))
        self._modules: dict[str, tuple[str, ...]] = {}
        self._all: dict[str, Distribution | None] = {}
        self._inside: dict[str, list[str]] = {}
        self._bringing: dict[str, list[Distribution]] = {}

    def metadata_folders(self) -> list[str]:
        """Return the names of the metadata entries in this folder."""
        if self._metadata is None:
            self._metadata = _metadata_among(self.files.names_in(self.folder))
        return self._metadata

    def distributions(self, *, modules: bool = True) -> list[Distribution]:
        """Read every distribution here; without `modules` these are left out, and long lists of files not read."""
        found = ((self.read(entry) if modules else self._read(entry, ())) for entry in self.metadata_folders())
        return [d for d in found if d is not None]

    def named(self, name: str) -> Distribution | None:
        """Return the distribution called `name`, compared normalised; None when not here."""
        entry = self.entry_named(name)
        return self.read(entry) if entry is not None else None

    def entry_named(self, name: str) -> str | None:
        """Return the metadata entry of the distribution called `name`; None when not here."""
        wanted = normal_name(name)
        for entry in self.metadata_folders():
            if entry[:1].lower() == wanted[:1]:
                stem = entry.rsplit(".", 1)[0].split("-")[0]
                if normal_name(stem) == wanted:
                    return entry
        return None

    def providing(self, module: str) -> Distribution | None:
        """Return the distribution that a top-level module belongs to; None when no metadata names it.

        The one whose name is the module's is looked at first: it usually is,
        and reading every RECORD is slow in a large environment.
        """
        for entry in self._alike_first(module):
            if module in self.modules_of(entry):
                return self.read(entry)
        return None

    def bringing(self, module: str) -> list[Distribution]:
        """Return every distribution that says of itself that it brings a top-level module."""
        if module not in self._bringing:
            found = [self.read(e) for e in self._alike_first(module)
                     if self._may_bring(e, module) and module in self.modules_of(e)]
            self._bringing[module] = [d for d in found if d is not None]
        return self._bringing[module]

    def bringing_part(self, module: str) -> list[Distribution]:
        """Return the distributions that bring a dotted module of a name that several of them share (PEP 420)."""
        return [d for d in self.bringing(module.split(".")[0]) if self._brings_part(d, module)]

    def _brings_part(self, one: Distribution, module: str) -> bool:
        m, listed = self.files, Record(self.files, one)
        source = self._source(m.path.basename(one.metadata))
        if source and one.editable:
            places = (m.path.join(source, *before, *module.split(".")) for before in ((), ("src",)))
            return any(m.exists(p) or m.exists(p + ".py") for p in places)
        if listed.names:
            return listed.part_of(module) > 1
        return module in names_in_heads(self._heads(m.path.basename(one.metadata)))

    def _may_bring(self, entry: str, module: str) -> bool:
        """Whether its RECORD has the module's name anywhere, or it takes more to know; quick, as most have not."""
        if entry in self._modules:
            return True
        try:
            rows = self.files.read_bytes(self.files.path.join(self.folder, entry, "RECORD"), RECORD_LIMIT)
        except (Unreadable, NotRecorded):
            return True
        return not rows or module.encode() in rows or b".pth" in rows or b"__editable__" in rows

    def _alike_first(self, module: str) -> list[str]:
        wanted = normal_name(module)
        return sorted(self.metadata_folders(),
                      key=lambda e: normal_name(e.split("-")[0].rsplit(".", 1)[0]) != wanted)

    def modules_of(self, entry: str) -> tuple[str, ...]:
        """Return the top-level modules of one metadata entry."""
        if entry not in self._modules:
            self._modules[entry] = self._read_modules(entry)
        return self._modules[entry]

    def _read_modules(self, entry: str) -> tuple[str, ...]:
        m = self.files
        found, is_listed = self._listed_modules(entry)
        source = self._source(entry)
        if source and not found - {n for n in found if n.startswith("__editable__")}:
            found |= {n.split(".")[0] for n in m.names_in(source)
                      if n.endswith(".py") or m.is_file(m.path.join(source, n, "__init__.py"))}
        for name in list(found):
            if name.startswith("__editable__"):
                found.discard(name)
                found |= mapped_modules(m, self.folder, name + ".py")
        if not found and not is_listed:
            found = self._usual_modules(entry)
        return tuple(sorted(n for n in found if n.isidentifier()))

    def _listed_modules(self, entry: str) -> tuple[set[str], bool]:
        """Return the modules that the metadata lists, and whether there is a list of files at all.

        A distribution whose list names none of them brings none, whatever its own name is.
        """
        listed = self._text(entry, "top_level.txt")
        found = {line.strip() for line in listed.splitlines() if line.strip()}
        if found:
            return found, True
        try:
            rows = self._text(entry, "RECORD", RECORD_LIMIT)  # it can be long: read where nothing shorter says it
        except NotRecorded:  # of another machine it may not be known
            rows = ""
        rows += self._text(entry, "installed-files.txt").replace("../", "")
        return modules_in_record(rows) or imports_in_heads(self._heads(entry)), bool(rows.strip())

    def _usual_modules(self, entry: str) -> set[str]:
        """Return what a distribution usually brings and is here, where it has lost the lists of its files."""
        from kalyx.core.tables.import_names import module_for

        m, name = self.files, entry.rsplit(".", 1)[0].split("-")[0]
        usual = {name, normal_name(name).replace("-", "_"), module_for(normal_name(name)) or name}
        return {n for n in usual if m.is_folder(m.path.join(self.folder, n))
                or m.is_file(m.path.join(self.folder, n + ".py"))}

    def read(self, entry: str) -> Distribution | None:
        """Read one distribution; None when its metadata has no name."""
        if entry not in self._all:
            self._all[entry] = self._read(entry)
        return self._all[entry]

    def _read(self, entry: str, modules: tuple[str, ...] | None = None) -> Distribution | None:
        m = self.files
        path = m.path.join(self.folder, entry)
        heads = parse_heads(self._heads(entry))
        if not heads.name or not heads.version:  # damaged: its own name says the least of it (PEP 376)
            own = m.path.basename(self.folder) if entry == "EGG-INFO" else entry  # an egg has the name of its folder
            name, dash, version = _PYTHON_TAG.sub("", own.rsplit(".", 1)[0]).partition("-")
            lacks = " and ".join(k for k, v in (("name", heads.name), ("version", heads.version)) if not v)
            m.report(path, f"its metadata says no {lacks}")
            if not heads.name and not dash:
                return None
            heads = replace(heads, name=heads.name or name, version=heads.version or version)
        source = self._source(entry)
        requires = heads.requires or parse_egg_requires(self._text(entry, "requires.txt"))
        return Distribution(
            heads.name, heads.version, self.layer, self.folder,
            self._text(entry, "INSTALLER").strip() or None, self._is_editable(entry), None,
            self.modules_of(entry) if modules is None else modules, metadata=path, requires=requires, source=source,
            requested=self._requested(entry), extras=heads.extras, requires_python=heads.requires_python)

    def _heads(self, entry: str) -> str:
        """Read the header lines, wherever this form of metadata keeps them."""
        whole = self.files.path.join(self.folder, entry)
        if not {"METADATA", "PKG-INFO"} & set(self.names_inside(entry)) and self.files.is_folder(whole):
            self.files.report(whole, "it holds no METADATA")
            return ""
        for file in ("METADATA", "PKG-INFO", ""):
            text = self._beginning(entry, file, FIRST_READ)
            if len(text) >= FIRST_READ - 4 and "\n\n" not in text and "\r\n\r\n" not in text:
                text = self._beginning(entry, file, METADATA_HEAD)
            if text:
                return text
        return ""

    def _beginning(self, entry: str, file: str, limit: int) -> str:
        """Read the beginning of one metadata file; say so where it is in no UTF-8, as it has to be (PEP 566)."""
        m = self.files
        if file and file not in self.names_inside(entry):
            return ""
        path = m.path.join(self.folder, entry, file) if file else m.path.join(self.folder, entry)
        try:
            data = m.read_bytes(path, limit)
        except Unreadable:
            return ""
        try:
            return data.decode("utf-8").removeprefix("\ufeff")
        except UnicodeDecodeError as error:
            if error.start < len(data) - 4:  # else a character that was cut in two
                m.report(path, "it is not in UTF-8; what could be read of it was")
            return data.decode("utf-8", "replace")

    def _requested(self, entry: str) -> bool | None:
        """Read whether it was asked for by name; only installers that write RECORD say so."""
        names = self.names_inside(entry)
        if "REQUESTED" in names:
            return True
        return False if "INSTALLER" in names and "RECORD" in names else None

    def names_inside(self, entry: str) -> list[str]:
        """Return the files of one metadata entry; an egg-info that is one file, as distutils wrote it, has none."""
        if entry not in self._inside:
            whole = self.files.path.join(self.folder, entry)
            is_one_file = entry.endswith(".egg-info") and self.files.is_file(whole)
            self._inside[entry] = [] if is_one_file else self.files.names_in(whole)
        return self._inside[entry]

    def size_of(self, distribution: Distribution) -> int | None:
        """Return the bytes of its files: what RECORD says, or what the files weigh."""
        m = self.files
        entry = m.path.basename(distribution.metadata)
        text = self._text(entry, "RECORD", RECORD_LIMIT)
        if not text:
            folders = [m.path.join(self.folder, n) for n in distribution.modules]
            return sum(m.tree_size(f) for f in [*folders, distribution.metadata]) or None
        total = 0
        for line in text.splitlines():
            path, _, rest = line.rpartition(",")
            if rest.isdecimal() and len(rest) < 19:
                total += int(rest)
            else:
                info = m.stat(m.path.join(self.folder, path.split(",")[0].strip('"')))
                total += info.size if info else 0
        return total

    def _direct_url(self, entry: str) -> dict[str, object]:
        """Read where it was installed from (PEP 610); empty when that was an index."""
        import json

        if "direct_url.json" not in self.names_inside(entry):
            return {}
        try:
            data = json.loads(self._text(entry, "direct_url.json") or "{}")
        except (ValueError, RecursionError):
            self.files.report(self.files.path.join(self.folder, entry, "direct_url.json"), "it is not JSON")
            return {}
        return data if isinstance(data, dict) else {}

    def _source(self, entry: str) -> str | None:
        url = str(self._direct_url(entry).get("url", ""))
        path = path_of_url(self.files, url) if url.startswith("file://") else ""
        return path if path and self.files.exists(path) else None

    def _is_editable(self, entry: str) -> bool:
        info = self._direct_url(entry).get("dir_info")
        return bool(isinstance(info, dict) and info.get("editable"))

    def _text(self, entry: str, file: str, limit: int = TEXT_LIMIT) -> str:
        if file and file not in self.names_inside(entry):
            return ""
        path = self.files.path.join(self.folder, entry, file) if file else (
            self.files.path.join(self.folder, entry))
        try:
            return self.files.read_text(path, limit)
        except Unreadable:
            return ""


class ZipShelf(SiteMetadata):
    """The distributions inside a zip file or egg that stands on the path."""

    def __init__(self, files: Files, file: str, layer: LayerName = "other") -> None:
        super().__init__(files, file, layer)
        self._content: dict[str, str] | None = None

    def _read_all(self) -> dict[str, str]:
        """Read the texts of the metadata inside; nothing when it is no zip."""
        import io
        import zipfile

        if self._content is None:
            self._content = {}
            try:
                with zipfile.ZipFile(io.BytesIO(self.files.read_whole(self.folder))) as archive:
                    for info in archive.infolist()[:MOST_IN_ZIP]:
                        if re.match(r"(?<![^/])(EGG-INFO|[^/]+\.(dist|egg)-info)/", info.filename):
                            with archive.open(info) as file:  # what it says of its size may be untrue
                                text = file.read(METADATA_HEAD).decode("utf-8", "replace")
                            self._content[info.filename] = text
            except Unreadable:
                pass
            except NotRecorded as error:
                self.files.report(error.question, NOT_RECORDED)
            except Exception as error:  # what is wrong with an archive has many names
                self.files.report(self.folder, f"it is no zip file that can be read: {error}")
        return self._content

    def metadata_folders(self) -> list[str]:
        return sorted({name.split("/")[0] for name in self._read_all()})

    def names_inside(self, entry: str) -> list[str]:
        return [n.split("/", 1)[1] for n in self._read_all() if n.startswith(entry + "/")]

    def _text(self, entry: str, file: str, limit: int = TEXT_LIMIT) -> str:
        return self._read_all().get(f"{entry}/{file}", "")[:limit]

    def _beginning(self, entry: str, file: str, limit: int) -> str:
        return self._text(entry, file, limit)


def open_shelf(files: Files, entry: str, layer: LayerName) -> SiteMetadata:
    """Return the distributions of a path entry, a folder or a zip file."""
    if files.is_file(entry):
        return ZipShelf(files, entry, layer)
    return SiteMetadata(files, entry, layer)


def parse_egg_requires(text: str) -> tuple[str, ...]:
    """Read an egg-info's requires.txt into requirement lines with markers for its sections."""
    requires = []
    extra, marker = "", ""
    for raw in text.splitlines():
        line = raw.strip()
        if line.startswith("["):
            extra, _, marker = line.strip("[]").partition(":")
        elif line:
            conditions = [c for c in (marker and f"({marker})", extra and f'extra == "{extra}"')
                          if c]
            requires.append(line + (" ; " + " and ".join(conditions) if conditions else ""))
    return tuple(requires)
