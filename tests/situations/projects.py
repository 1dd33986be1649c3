"""Situations between packages: versions that do not fit, names that two projects share, wheels for others."""

from __future__ import annotations

import shutil
from collections.abc import Sequence
from pathlib import Path

from tests.situations.general import Situation, needs_library
from tests.support.build import World, site_of, write

Wheel = tuple[str, str, dict[str, str], Sequence[str]]  # name, version, files, requirements
LICENCE = ("License: Some terms\n        of use.\n        \n        More of them: here\x0c\n        \n"
           "Requires-Dist: seedlib<2\n")


def project(name: str, version: str, code: str = "", *requires: str, **files: str) -> Wheel:
    """Describe a project with one package, and more files in it by their names without the ending."""
    return name, version, {f"{name}/__init__.py": code,
                           **{f"{name}/{part}.py": text for part, text in files.items()}}, requires


def fitted(*here: Wheel, offered: Sequence[Wheel] = (), elsewhere: Sequence[Wheel] = (), tag: str = "py3-none-any",
           extras: dict[str, Sequence[str]] | None = None, licence: bool = False):
    """Install some projects, offer others to pip, and have others in another environment."""
    def build(w: World, lab: Path) -> None:
        for name, version, files, requires in offered:
            w.wheels.add(name, version, files, requires)
        for name, version, files, requires in here:
            w.wheels.install(w.wheels.add(name, version, files, requires, tag=tag, extras=extras or {}), site_of(lab))
        for name, version, files, requires in elsewhere:
            w.wheels.install(w.wheels.add(name, version, files, requires), site_of(w.venv("lab-old")))
        if licence:  # as build tools write a licence of many paragraphs into the head
            info = next(site_of(lab).glob("germkit-*.dist-info")) / "METADATA"
            info.write_text(info.read_text().replace("Requires-Dist: seedlib<2\n", LICENCE))
    return build


def _linked(w: World, lab: Path) -> None:
    """An editable install by an import hook, as build backends write it, in another environment."""
    source, site = w.root / "code" / "seedbank", site_of(w.venv("lab-old"))
    write(source / "seedbank" / "__init__.py", "")
    w.wheels.install(w.wheels.add("seed-bank", "1", {
        "__editable___seed_bank_1_finder.py": f"MAPPING: dict[str, str] = {{'seedbank': '{source}/seedbank'}}\n",
        "__editable__.seed_bank-1.pth": "import __editable___seed_bank_1_finder\n"}), site)
    info = next(site.glob("seed_bank-*.dist-info"))
    (info / "direct_url.json").write_text(f'{{"url": "{source.as_uri()}", "dir_info": {{"editable": true}}}}')


def _nothing_written(w: World, lab: Path) -> None:
    """A package that lacks a part of its own, and whose metadata is gone."""
    fitted(project("germkit", "2", "from germkit.trial import x\n", trial="x = 1\n"))(w, lab)
    shutil.rmtree(next(site_of(lab).glob("germkit-*.dist-info")))
    (site_of(lab) / "germkit" / "trial.py").unlink()


SHRUNK = ("raise ValueError('numpy.dtype size changed, may indicate binary incompatibility. "
          "Expected 96 from C header, got 88')\n")

PROJECTS = [
    # which version has it is known: by another environment, or by a wheel that pip is told of
    Situation("name that an older wheel has", fitted(
        project("germkit", "2", "from seedlib import old\n", "seedlib"), project("seedlib", "2.0", "new = 1\n"),
        offered=[project("seedlib", "1.5", "old = 1\n"), project("seedlib", "1.7", "other = 1\n")]),
        "germkit", "attribute-absent", says="has no old", remedy="command"),
    Situation("part that a newer wheel has", fitted(
        project("seedlib", "2.0"), offered=[project("seedlib", "2.5", part="")]),
        "seedlib.part", "submodule-absent", remedy="command"),
    Situation("dropped name, newer asker", fitted(
        project("germkit", "2", "import seedlib\nseedlib.old\n", "seedlib>=1"), project("seedlib", "2.0", "new = 1\n"),
        offered=[project("germkit", "3", "import seedlib\nseedlib.new\n", "seedlib>=2")]),
        "germkit", "attribute-absent", says="has no old", remedy="command"),
    Situation("module that a newer version dropped", fitted(
        project("seedtools", "9"),
        elsewhere=[("seedtools", "3", {"seedtools/__init__.py": "", "seedparts.py": ""}, ())]),
        "seedparts", "installed-elsewhere", remedy="command"),
    Situation("linked in another environment", _linked, "seedbank", "installed-elsewhere", says="lab-old"),
    Situation("licence in the head of the metadata", fitted(
        project("germkit", "2", "import seedlib\nseedlib.old\n", "seedlib<2"), project("seedlib", "2.0", "new = 1\n"),
        offered=[project("seedlib", "1.5", "old = 1\n")], licence=True),
        "germkit", "version-conflict", says="seedlib<2", remedy="command"),
    Situation("C interface that became smaller", fitted(
        project("germkit", "2", SHRUNK), project("numpy", "2.2"), offered=[project("numpy", "1.26")]),
        "germkit", "binary-mismatch", says="numpy"),
    # what would fail next is mended with it
    Situation("several requirements at once", fitted(
        project("germkit", "2", "import seedlib, fastgrid\n", "seedlib>=1,<2", "fastgrid", "never-offered"),
        offered=[project("seedlib", "1.5"), project("seedlib", "2.0"), project("fastgrid", "3")]),
        "germkit", "dependency-absent", says="seedlib", remedy="command"),
    Situation("several versions at once", fitted(
        project("germkit", "2", "from seedlib import x\nfrom fastgrid import x\n", "seedlib<2", "fastgrid>=3"),
        project("seedlib", "2"), project("fastgrid", "2"),
        offered=[project("seedlib", "1.5", "x = 1\n"), project("fastgrid", "3", "x = 1\n")]),
        "germkit", "version-conflict", says="seedlib", remedy="command"),
    Situation("call that a newer version refuses", fitted(
        project("germkit", "2", "import seedlib\nseedlib.sow(depth=1)\n", "seedlib>=1"),
        project("seedlib", "2.0", "def sow(): pass\n"), offered=[project("germkit", "3")]),
        "germkit", "raises", says="depth", remedy="command"),
    Situation("older, where others hold it", fitted(
        project("trials", "1", "import germkit\n", "germkit<3"),
        project("germkit", "2", "from seedlib import old\n", "seedlib>=1"), project("seedlib", "2.5", "new = 1\n")),
        "trials", "attribute-absent", says="has no old"),
    Situation("folder that two share", fitted(
        ("field-a", "1", {"field/a.py": ""}, ()), ("field-b", "1", {"field/b.py": "{}['rows']\n"}, ())),
        "field.b", "raises", says="field-b 1"),
    Situation("nothing written down of it", _nothing_written, "germkit", "submodule-absent", remedy="command"),
    Situation("made for an older Python, version gone", fitted(
        ("seedscan", "3", {"seedscan/__init__.py": "from seedscan._pixels import x\n",
                           "seedscan/_pixels.cpython-36m-x86_64-linux-gnu.so": ""}, ()),
        offered=[project("seedscan", "4")], tag="cp36-cp36m-linux_x86_64"),
        "seedscan", "foreign-abi", says="3.6", remedy="command"),
    # two projects with a module of one name
    Situation("another project, name", fitted(
        project("serial", "0.1", "def parse(): pass\n"),
        offered=[("pyserial", "3.5", {"serial/__init__.py": "class Serial: pass\n"}, ())]),
        "serial:Serial", "name-differs", says="another project than pyserial", remedy="command"),
    Situation("another project, code of its own", fitted(
        ("docx", "0.2", {"docx.py": "from exceptions import PendingDeprecationWarning\n"}, ("lxml",)),
        offered=[("python-docx", "1.1", {"docx/__init__.py": ""}, ())]),
        "docx", "name-differs", says="python-docx", others=("stdlib-removed",), remedy="command"),
    Situation("another project, known from an environment", fitted(
        project("seedlog", "0.1"),
        elsewhere=[("humid-seedlog", "2", {"seedlog/__init__.py": "class Log: pass\n"}, ())]),
        "seedlog:Log", "name-differs", says="humid-seedlog", remedy="command"),
    Situation("library missing, and a fork elsewhere", lambda w, e: (
        needs_library(w, e), fitted(elsewhere=[("nativeseed-binary", "1", {"nativeseed/__init__.py": ""}, ())])(w, e),
        None)[-1],
        "nativeseed", "library-missing"),
    # parts that are missing
    Situation("wheel for another system", fitted(
        project("seedps", "5", "from . import _linux\n"), tag="cp36-abi3-macosx_10_9_x86_64"),
        "seedps", "foreign-platform", says="macosx"),
    Situation("part of its own that was never there", fitted(
        project("germkit", "2", "from . import trial\n", trial="from . import _core\n")),
        "germkit", "attribute-absent", says="no _core"),
    Situation("extra that a message speaks of", fitted(
        project("reader", "1", "raise LookupError('no SOCKS support: dependencies are missing')\n"),
        offered=[("fastgrid", "1", {"fastgrid.py": ""}, ())], extras={"socks": ["fastgrid"]}),
        "reader", "extra-absent", says="extra socks"),
]
