"""Whose a module is: distributions of other names, two of one module, left-overs; each built for real."""

from __future__ import annotations

import json
import os
import shutil
import sys
from collections.abc import Mapping, Sequence
from pathlib import Path

import pytest

from tests.situations.general import Situation
from tests.situations.reach import kernel
from tests.support.build import SHORT, World, other_pythons, python_of, site_of, write

BOX = {"toolbox/__init__.py": "x = 1\n"}
EGG = f"acme_toolbox-1.2-py{SHORT}.egg-info"
HEADS = "Metadata-Version: 2.1\nName: acme-toolbox\nVersion: 1.2\n"


def installed(w: World, env: Path, name: str, version: str = "1.0", files: Mapping[str, str] | None = None,
              requires: Sequence[str] = ()) -> Path:
    """Install a wheel that pip can find too; return the site folder."""
    w.wheels.install(w.wheels.add(name, version, dict(files) if files else None, requires), site_of(env))
    return site_of(env)


def _without_code(w: World, lab: Path) -> None:
    shutil.rmtree(installed(w, lab, "acme-toolbox", "1.2", BOX) / "toolbox")


def _metadata(*files: tuple[str, str]):
    """Leave nothing of a distribution but some files of metadata."""
    def build(w: World, lab: Path) -> None:
        w.wheels.add("acme-toolbox", "1.2", dict(BOX))
        for name, text in files:
            write(site_of(lab) / name, text)
    return build


def _nameless(w: World, lab: Path) -> None:
    _without_code(w, lab)
    (site_of(lab) / "acme_toolbox-1.2.dist-info" / "METADATA").unlink()


def _one_file_of_metadata(w: World, lab: Path) -> None:
    w.wheels.add("toolbox", "1.2", dict(BOX))
    write(site_of(lab) / f"toolbox-1.2-py{SHORT}.egg-info", "Metadata-Version: 1.1\nName: toolbox\nVersion: 1.2\n")


def _plug_in(w: World, lab: Path) -> None:
    installed(w, lab, "acme", files={"acme/__init__.py": ""})
    shutil.rmtree(installed(w, lab, "acme-plug", "2.0", {"acme/plug/__init__.py": ""}) / "acme" / "plug")


def _second_owner(w: World, lab: Path) -> None:
    installed(w, lab, "acme", files={"acme/__init__.py": "import acme.extra\n"})
    (installed(w, lab, "zulu", "2.0", {"acme/extra.py": "", "zulu.py": ""}) / "acme" / "extra.py").unlink()


def _asker_of_gone(w: World, lab: Path) -> None:
    _without_code(w, lab)
    installed(w, lab, "shed", files={"shed.py": "import toolbox\n"}, requires=["acme-toolbox"])


def _two_projects(w: World, lab: Path) -> None:
    installed(w, lab, "PyJot", "2.0", {"jot/__init__.py": "def encode(): pass\n"})
    installed(w, lab, "jot", files={"jot/__init__.py": "x = 1\n"})


def _two_projects_one_asked(w: World, lab: Path) -> None:
    _two_projects(w, lab)
    installed(w, lab, "shed", files={"shed.py": "from jot import encode\n"}, requires=["PyJot>=2"])


def _two_projects_both_asked(w: World, lab: Path) -> None:
    _two_projects_one_asked(w, lab)
    installed(w, lab, "barn", files={"barn.py": ""}, requires=["jot"])


def _shim(w: World, lab: Path) -> None:
    site = installed(w, lab, "soupkit4", "4.0", {"sk4/__init__.py": "from sk4 import bowl\n", "sk4/bowl.py": ""})
    write(site / "sk4-0.1.dist-info" / "METADATA", "Metadata-Version: 2.1\nName: sk4\nVersion: 0.1\n")
    write(site / "sk4-0.1.dist-info" / "RECORD", "sk4-0.1.dist-info/METADATA,,\nsk4-0.1.dist-info/RECORD,,\n")
    (site / "sk4" / "bowl.py").unlink()


def _set_aside(w: World, lab: Path) -> None:
    site = installed(w, lab, "fastgrid", files={"fastgrid/__init__.py": ""})
    for entry in ("fastgrid", "fastgrid-1.0.dist-info"):
        (site / entry).rename(site / f"~{entry[1:]}")


def _half_replaced(w: World, lab: Path) -> None:
    site = installed(w, lab, "fastgrid", files={"fastgrid/__init__.py": "import fastgrid.core\n",
                                                "fastgrid/core.py": ""})
    shutil.copytree(site / "fastgrid", site / "~astgrid")
    (site / "fastgrid" / "core.py").unlink()


def _left_binary(w: World, lab: Path) -> None:
    site = installed(w, lab, "fastgrid", files={"fastgrid/__init__.py": "from fastgrid.core import x\n",
                                                "fastgrid/core.py": "x = 1\n"})
    built = next(f for p in sys.path if p.endswith("lib-dynload") for f in Path(p).glob("_json*.so"))
    shutil.copy(built, site / "fastgrid" / f"core{built.name[5:]}")


def _dropped_part(w: World, lab: Path) -> None:
    """A part that newer versions have dropped, and an old version in an environment of an old Python."""
    installed(w, lab, "setuptools", "82.0", {"setuptools/__init__.py": ""})
    parts = {"setuptools/__init__.py": "", "pkg_resources/__init__.py": ""}
    w.wheels.add("setuptools", "80.0", dict(parts))
    old = w.wheels.add("setuptools", "41.0", {**parts, "pkg_resources/__init__.py": "raise ImportError('too old')\n"})
    place = w.venv("old", other_pythons().get("3.8") or python_of(lab))
    w.wheels.install(old, site_of(place))


def _asked_part(w: World, lab: Path) -> None:
    """Two versions to be had, of which the newer has not what is asked for."""
    w.wheels.add("elasticsearch", "7.9", {"elasticsearch/__init__.py": "RequestsHttpConnection = str\n"})
    w.wheels.add("elasticsearch", "8.1", {"elasticsearch/__init__.py": ""})


def _asked_part_of_others(w: World, lab: Path) -> None:
    """The same, and the newer one in another environment: to use that would not help."""
    _asked_part(w, lab)
    installed(w, w.venv("other"), "elasticsearch", "8.1", {"elasticsearch/__init__.py": ""})


def _old_importer(w: World, lab: Path) -> None:
    """A package that lends its parts as Python did it until 3.11, at a newer one; its next version does so no more."""
    env = w.venv("new", other_pythons().get("3.12") or pytest.skip("no Python 3.12 here"), pip=True)
    installed(w, env, "oldmoves", "1", {"oldmoves.py": (
        "import sys\nclass Finder:\n    def find_module(self, name, path=None):\n        return None\n"
        "sys.meta_path.append(Finder())\n__path__ = []\n")})
    w.wheels.add("oldmoves", "2", {"oldmoves/__init__.py": "", "oldmoves/parts.py": ""})


def _gone_by_conda(w: World, lab: Path) -> None:
    write(lab / "conda-meta" / "history", "")
    write(lab / "conda-meta" / "acme-toolbox-1.2-0.json", json.dumps({
        "name": "acme-toolbox", "version": "1.2", "files": [f"lib/python{SHORT}/site-packages/toolbox/__init__.py"]}))


def _required_portion(w: World, lab: Path) -> None:
    installed(w, lab, "acme-core", files={"acme/core/__init__.py": ""})
    w.wheels.add("acme-storage", "1.5", {"acme/storage/__init__.py": ""})
    installed(w, lab, "acme-app", files={"acmeapp.py": "import acme.storage\n"}, requires=["acme-storage>=1"])


def _user_site(w: World, env: Path) -> None:
    site = w.home / ".local" / "lib" / f"python{SHORT}" / "site-packages"
    w.wheels.install(w.wheels.add("fastgrid"), site)


def _without_user_site(*flags: str, **env: str):
    """A kernel of an environment that is open, but for the user site, where the module is."""
    def build(w: World, lab: Path) -> None:
        place = w.venv("open", pip=True, options=["--system-site-packages"])
        _user_site(w, place)
        installed(w, place, "gridder", files={"gridder.py": "import fastgrid\n"}, requires=["fastgrid>=1"])
        kernel(w, "open", python_of(place), *flags, **env)
    return build


def _ignores_variables(w: World, lab: Path) -> None:
    folder = w.home / "more"
    w.wheels.install(w.wheels.add("fastgrid"), folder)
    w.env["PYTHONPATH"] = str(folder)
    kernel(w, "closed", python_of(lab), "-E")


def _no_pip(w: World, lab: Path) -> None:
    w.wheels.add("fastgrid")
    w.venv("bare", other_pythons().get("3.12") or python_of(lab))


def _unread_link(w: World, lab: Path) -> None:
    (site_of(lab) / "more.pth").symlink_to(w.home / "gone.pth")
    w.wheels.add("fastgrid")


def _pipe(w: World, lab: Path) -> None:
    installed(w, lab, "fastgrid")
    os.mkfifo(site_of(lab) / "more.pth")


def _advises_older(w: World, lab: Path) -> None:
    message = "Descriptors cannot be created.\\nWays out are:\\n 1. Downgrade the beans package to 3.20.x or lower."
    w.wheels.add("beans", "3.20.3", {"beans.py": ""})
    installed(w, lab, "beans", "4.21.0", {"beans.py": f"raise TypeError('{message}')\n"})


def _advises_newer(w: World, lab: Path) -> None:
    w.wheels.add("beans", "5.0", {"beans.py": ""})
    installed(w, lab, "beans", "4.21.0", {"beans.py": "raise ImportError('too old: requires beans>=4.25')\n"})


OWNERS = [
    Situation("code gone, of another name", _without_code, "toolbox", "metadata-only", says="acme-toolbox 1.2",
              remedy="command"),
    Situation("egg-info without RECORD", _metadata((f"{EGG}/PKG-INFO", HEADS), (f"{EGG}/top_level.txt", "toolbox\n")),
              "toolbox", "metadata-only", says="acme-toolbox 1.2", remedy="command"),
    Situation("egg-info with its own list", _metadata(
        (f"{EGG}/PKG-INFO", HEADS), (f"{EGG}/installed-files.txt", "../toolbox/__init__.py\nPKG-INFO\n")),
              "toolbox", "metadata-only", says="acme-toolbox 1.2", remedy="command"),
    Situation("Import-Name alone", _metadata(("acme_toolbox-1.2.dist-info/METADATA", f"{HEADS}Import-Name: toolbox\n")),
              "toolbox", "metadata-only", says="acme-toolbox 1.2", remedy="command"),
    Situation("METADATA gone too", _nameless, "toolbox", "metadata-only", says="toolbox 1.2", remedy="command"),
    Situation("egg-info of one file", _one_file_of_metadata, "toolbox", "metadata-only", remedy="command"),
    Situation("plug-in in another's package", _plug_in, "acme.plug", "metadata-only", says="acme-plug 2.0",
              remedy="command"),
    Situation("second owner of a package", _second_owner, "acme", "files-missing", says="zulu 2.0", remedy="command"),
    Situation("required and gone", _asker_of_gone, "shed", "metadata-only", says="acme-toolbox", remedy="command"),
    Situation("two projects of one module", _two_projects, "jot:encode", "mixed-install", says="PyJot",
              remedy="command"),
    Situation("two projects, one is required", _two_projects_one_asked, "shed", "mixed-install", says="PyJot",
              remedy="command"),
    Situation("two projects, both are required", _two_projects_both_asked, "jot:encode", "attribute-absent"),
    Situation("a shim owns nothing", _shim, "sk4", "files-missing", says="soupkit4", remedy="command"),
    Situation("set aside and not replaced", _set_aside, "fastgrid", "mixed-install", says="interrupted",
              remedy="command"),
    Situation("half replaced", _half_replaced, "fastgrid", "mixed-install", says="interrupted", remedy="command"),
    Situation("left-over binary", _left_binary, "fastgrid", "mixed-install", says="is no file of fastgrid",
              remedy="edit"),
    Situation("part dropped since", _dropped_part, "pkg_resources", "submodule-absent", remedy="command"),
    Situation("part that newer ones lack", _asked_part, "elasticsearch:RequestsHttpConnection", "not-installed",
              remedy="command"),
    Situation("part that the others lack", _asked_part_of_others, "elasticsearch:RequestsHttpConnection",
              "installed-elsewhere", remedy="command"),
    Situation("importer of the old kind", _old_importer, "oldmoves.parts", "python-too-new", at="env:new",
              remedy="command"),
    Situation("gone, by conda's record", _gone_by_conda, "toolbox", "metadata-only", says="acme-toolbox 1.2"),
    Situation("required part of a namespace", _required_portion, "acmeapp", "dependency-absent", says="acme-storage",
              remedy="command"),
    Situation("user site off by a flag", _without_user_site("-s"), "fastgrid", "user-site-off", at="kernel:open",
              remedy="edit"),
    Situation("user site off by a variable", _without_user_site(PYTHONNOUSERSITE="1"), "fastgrid", "user-site-off",
              at="kernel:open", remedy="edit"),
    Situation("requirement in the user site alone", _without_user_site("-I"), "gridder", "dependency-absent",
              at="kernel:open", remedy="command"),
    Situation("pip would find it by PYTHONPATH", _ignores_variables, "fastgrid", "not-installed", at="kernel:closed",
              remedy="command"),
    Situation("no pip, and a base that lends", _no_pip, "fastgrid", "not-installed", at="env:bare", remedy="command"),
    Situation("a .pth that is a link to nowhere", _unread_link, "fastgrid", "not-installed", says="could be read",
              remedy="command"),
    Situation("a .pth that is a pipe", _pipe, "fastgrid", "interpreter-broken", says="more.pth", remedy="edit",
              hangs=True),
    Situation("message says older", _advises_older, "beans", "raises", remedy="command"),
    Situation("message says newer", _advises_newer, "beans", "raises", remedy="command"),
]
