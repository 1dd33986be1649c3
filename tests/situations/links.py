"""Links and archives by which modules come, and folders that stand in their way: each built for real."""

from __future__ import annotations

import json
import os
import zipfile
from collections.abc import Sequence
from pathlib import Path

from tests.situations.general import Situation
from tests.situations.reach import kernel
from tests.support.build import World, python_of, site_of, write
from tests.support.packages import Build

FINDER = """import sys
from importlib.util import spec_from_file_location
MAPPING: dict[str, str] = {%r: %r}
class Finder:
    @classmethod
    def find_spec(cls, name, path=None, target=None):
        return spec_from_file_location(name, MAPPING[name] + '/__init__.py') if name in MAPPING else None
def install(): sys.meta_path.append(Finder)
"""


def linked(site: Path, source: Path, line: str = "", finder: bool = False) -> None:
    """Write what an editable install of acme-lib in `source` leaves in a site folder."""
    info = site / "acme_lib-1.0.dist-info"
    write(info / "METADATA", "Metadata-Version: 2.1\nName: acme-lib\nVersion: 1.0\n")
    write(info / "top_level.txt", "acmelib\n")
    write(info / "RECORD", "__editable__.acme_lib-1.0.pth,,\nacme_lib-1.0.dist-info/RECORD,,\n")
    write(info / "direct_url.json", json.dumps({"url": source.as_uri(), "dir_info": {"editable": True}}))
    hook = "__editable___acme_lib_1_0_finder"
    write(site / "__editable__.acme_lib-1.0.pth", line or f"import {hook}; {hook}.install()\n")
    if finder:
        write(site / f"{hook}.py", FINDER % ("acmelib", str(source / "acmelib")))


def _symbolic(w: World, lab: Path) -> None:
    (site_of(lab) / "mylib").symlink_to(w.home / "work" / "mylib")
    write(w.home / "work" / "moved" / "mylib" / "__init__.py", "")


def _symbolic_file(w: World, lab: Path) -> None:
    (site_of(lab) / "mylib.py").symlink_to(w.home / "work" / "mylib.py")


def _library_folder(w: World, lab: Path) -> None:
    site = site_of(lab)
    site.rename(w.home / "packages")
    site.symlink_to(w.home / "gone")


def _egg_link(w: World, lab: Path) -> None:
    write(w.home / "proj" / "mylib" / "__init__.py", "")
    write(site_of(lab) / "mylib.egg-link", f"{w.home / 'proj'}\n.")


def _behind_failing(w: World, lab: Path) -> None:
    write(w.home / "proj" / "mylib" / "__init__.py", "")
    write(site_of(lab) / "all.pth", f"import nothing_of_that_name\n{w.home / 'proj'}\n")


def _cut_archive(w: World, lab: Path) -> None:
    file = w.home / "libs.zip"
    with zipfile.ZipFile(file, "w") as archive:
        archive.writestr("mylib/__init__.py", "x = 1\n" * 300)
    file.write_bytes(file.read_bytes()[:200])
    write(site_of(lab) / "more.pth", f"{file}\n")


def _archive_first(w: World, lab: Path) -> None:
    w.wheels.install(w.wheels.add("fastgrid", "1.0"), site_of(lab))
    w.env["PYTHONPATH"] = w.wheels.add("fastgrid", "0.1", {"fastgrid.py": "raise ImportError('old')\n"})


def _source_gone(w: World, lab: Path) -> None:
    linked(site_of(lab), w.home / "proj", f"{w.home / 'proj' / 'src'}\n")


def _hook_file_gone(w: World, lab: Path) -> None:
    linked(site_of(lab), w.home / "proj")


def _above_renamed(w: World, lab: Path) -> None:
    write(w.home / "work2" / "proj" / "src" / "acmelib" / "__init__.py", "")
    linked(site_of(lab), w.home / "work" / "proj", f"{w.home / 'work' / 'proj' / 'src'}\n")


def _two_dead(w: World, lab: Path) -> None:
    write(site_of(lab) / "a.pth", f"{w.home / 'dead' / 'other'}\n")
    linked(site_of(lab), w.home / "proj", f"{w.home / 'dead' / 'right'}\n")


def _folder_before_hook(w: World, lab: Path) -> None:
    write(w.home / "proj" / "acmelib" / "__init__.py", "")
    linked(site_of(lab), w.home / "proj", finder=True)
    write(w.project / "acmelib" / "rows.csv", "1\n")


def _one_deeper(w: World, lab: Path) -> None:
    write(w.project / "mylib" / "mylib" / "__init__.py", "x = 1\n")


def _one_deeper_in_src(w: World, lab: Path) -> None:
    write(w.project / "mylib" / "src" / "mylib" / "__init__.py", "x = 1\n")


def _tests_of_another(w: World, lab: Path) -> None:
    w.wheels.install(w.wheels.add("sloppy", "1.0", {"sloppy.py": "", "tests/__init__.py": ""}), site_of(lab))
    write(w.project / "tests" / "helpers.py", "")


def _neighbour(w: World, lab: Path) -> None:
    write(w.project / "pkg" / "__init__.py", "import helper\n")
    write(w.project / "pkg" / "helper.py", "")


def _neighbour_in_installed(w: World, lab: Path) -> None:
    w.wheels.add("oldpkg", "2.0", {"oldpkg/__init__.py": ""})
    w.wheels.install(w.wheels.add("oldpkg", "1.0", {"oldpkg/__init__.py": "import oldhelper\n",
                                                    "oldpkg/oldhelper.py": ""}), site_of(lab))


def _empty_entry(w: World, lab: Path) -> None:
    write(w.project / "logging.py", "raise ImportError('one of their own')\n")
    w.env["PYTHONPATH"] = os.pathsep


def _target(where: str, code: str = "x = 1\n", newer: bool = False, requires: Sequence[str] = (), lose: str = "",
            kernel_path: bool = False) -> Build:
    """Install a package into a folder by itself; a `newer` copy into the environment; `lose` a file of it again."""
    def build(w: World, lab: Path) -> None:
        folder = w.project / where
        folder.mkdir(parents=True, exist_ok=True)
        files = {"gridlib/__init__.py": code, "gridlib/cells.py": "x = 1\n"}
        w.wheels.add("traygrid", "1")
        if newer:
            w.wheels.install(w.wheels.add("gridlib", "3", {**files, "gridlib/new.py": ""}), site_of(lab))
        w.wheels.install(w.wheels.add("gridlib", "2", files, requires), folder)
        if lose:
            (folder / lose).unlink()
        if kernel_path:
            kernel(w, "trials", python_of(lab), PYTHONPATH=str(folder))
    return build


LINKS = [
    Situation("installed into a folder that no path holds", _target("vendor"), "gridlib", "installed-elsewhere",
              says="was installed into the folder", remedy="command"),
    Situation("installed into the start folder, over a newer one", _target(".", newer=True), "gridlib.new",
              "hidden-by-file", says="of gridlib 2, which was installed", remedy="edit"),
    Situation("installed into the start folder, needs more", _target(".", "import traygrid\n", requires=["traygrid"]),
              "gridlib", "dependency-absent", says="gridlib 2 needs traygrid", remedy="command"),
    Situation("installed into a folder, a file of it gone", _target(
        "../libs", "import gridlib.cells\n", lose="gridlib/cells.py", kernel_path=True), "gridlib", "files-missing",
        at="kernel:trials", remedy="command"),
    Situation("a package is a link to nowhere", _symbolic, "mylib", "link-broken", says="is a link", remedy="command"),
    Situation("a module is a link to nowhere", _symbolic_file, "mylib", "link-broken", says="is a link"),
    Situation("the library folder is a link to nowhere", _library_folder, "mylib", "link-broken", says="packages of"),
    Situation("egg-link without its line", _egg_link, "mylib", "link-broken", says="no line", remedy="edit"),
    Situation("line behind one that fails", _behind_failing, "mylib", "link-broken", says="line 1 fails",
              remedy="edit"),
    Situation("archive cut off", _cut_archive, "mylib", "link-broken", says="cut off"),
    Situation("wheel on PYTHONPATH hides", _archive_first, "fastgrid", "hidden-by-path", says="0.1 before 1.0"),
    Situation("linked project is gone", _source_gone, "acmelib", "link-broken", says="proj/src"),
    Situation("import hook's file is gone", _hook_file_gone, "acmelib", "link-broken", says="import hook"),
    Situation("folder above was renamed", _above_renamed, "acmelib", "link-broken", says="work/proj", remedy="edit"),
    Situation("of two dead links the right one", _two_dead, "acmelib", "link-broken", says="dead/right"),
    Situation("folder without code before a hook", _folder_before_hook, "acmelib", "namespace-split", remedy="edit",
              outcome="imports", says="proj/acmelib"),
    Situation("checkout one folder deeper", _one_deeper, "mylib:x", "own-code-unreachable", remedy="edit"),
    Situation("checkout with src one folder deeper", _one_deeper_in_src, "mylib:x", "own-code-unreachable",
              remedy="edit"),
    Situation("tests of somebody else", _tests_of_another, "tests.helpers", "namespace-split", says="sloppy",
              remedy="edit"),
    Situation("neighbour by its plain name", _neighbour, "pkg", "own-code-unreachable", remedy="edit"),
    Situation("neighbour in an installed package", _neighbour_in_installed, "oldpkg", "python2-source",
              remedy="command"),
    Situation("empty entry in PYTHONPATH", _empty_entry, "logging", "hidden-by-file", remedy="edit"),
]
