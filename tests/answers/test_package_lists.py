"""``contrast`` with what other programs write down of an environment: each form says what is there, and what is not."""

from __future__ import annotations

import json
import sys
from typing import TYPE_CHECKING

from tests.support.build import World, run, site_of, write

if TYPE_CHECKING:
    from collections.abc import Callable
    from pathlib import Path

# Lists by the name of their file; VER stands for the version of traygrid. All but for that are of an environment
# with germkit 1.2 and traygrid 2.0
WRITTEN = {
    "explicit.txt": """# This file may be used to create an environment
@EXPLICIT
https://conda.example/forge/linux-64/_libgcc_mutex-0.1-forge.tar.bz2
https://conda.example/forge/linux-64/libseed-9e-hd590300_1.conda#248f521b64ce055e7feae3105e7abeb8
https://conda.example/forge/noarch/germkit-1.2-pyhd8ed1ab_0.conda#0badf9c54e24cecfb0ad2f99d680c163
https://conda.example/forge/linux-64/traygrid-VER-py311h06a4308_0.conda
""",
    "columns.txt": """# packages in environment at /opt/forge:
#
# Name                    Version                   Build  Channel
libseed                   9e               hd590300_1    forge
germkit                   1.2                pyhd8ed1ab_0    forge
traygrid                  VER                  pypi_0    pypi
""",
    "export.txt": "# platform: linux-64\nlibseed=9e=hd590300_1\ngermkit=1.2=py_0\ntraygrid=VER=cpu_py311h06a4308_0\n",
    "environment.yml": "name: lab\ndependencies:\n- libseed=9e\n- germkit=1.2\n- pip:\n  - traygrid==VER\n",
    "rows.json": json.dumps([
        {"name": "libseed", "version": "9e", "build_string": "hd590300_1", "channel": "forge"},
        {"name": "germkit", "version": "1.2", "build_string": "pyhd8ed1ab_0", "channel": "forge"},
        {"name": "traygrid", "version": "VER", "build_string": "pypi_0", "channel": "pypi"}]),
    "by_root.lock": """version = 1
requires-python = ">=3.9"

[[package]]
name = "plan"
version = "0.1.0"
source = { virtual = "." }
dependencies = [{ name = "germkit" }, { name = "winkit", marker = "sys_platform == 'nowhere'" }]
[package.dev-dependencies]
dev = [{ name = "seedtest" }]

[[package]]
name = "germkit"
version = "1.2"
source = { registry = "https://index.example/simple" }
dependencies = [{ name = "traygrid" }]

[[package]]
name = "traygrid"
version = "VER"
source = { registry = "https://index.example/simple" }
resolution-markers = ["sys_platform != 'nowhere'"]

[[package]]
name = "traygrid"
version = "7"
source = { registry = "https://index.example/simple" }
resolution-markers = ["sys_platform == 'nowhere'"]

[[package]]
name = "winkit"
version = "3"
source = { registry = "https://index.example/simple" }
dependencies = [{ name = "winbase" }]

[[package]]
name = "winbase"
version = "3"
source = { registry = "https://index.example/simple" }

[[package]]
name = "seedtest"
version = "5"
source = { registry = "https://index.example/simple" }
""",
    "by_names.lock": """[[package]]
name = "germkit"
version = "1.2"
optional = false
python-versions = "*"
files = []

[package.dependencies]
traygrid = ">=1"
winkit = {version = "*", markers = "sys_platform == \\"nowhere\\""}

[[package]]
name = "traygrid"
version = "VER"
optional = false
python-versions = "*"
files = []

[[package]]
name = "winkit"
version = "3"
optional = false
python-versions = "*"
files = []

[[package]]
name = "seedtest"
version = "5"
category = "dev"
optional = false
python-versions = "*"
files = []

[metadata]
lock-version = "2.0"
""",
    "by_lines.lock": """[[package]]
name = "germkit"
version = "1.2"
groups = ["default"]
dependencies = ["traygrid>=1", "winkit; sys_platform == 'nowhere'"]

[[package]]
name = "traygrid"
version = "VER"
groups = ["default"]

[[package]]
name = "winkit"
version = "3"
groups = ["default"]
marker = "sys_platform == 'nowhere'"

[[package]]
name = "seedtest"
version = "5"
groups = ["test"]
""",
    "Pipfile.lock": json.dumps({"_meta": {"pipfile-spec": 6}, "default": {
        "germkit": {"version": "==1.2", "hashes": ["sha256:aa"]}, "traygrid": {"version": "==VER"},
        "winkit": {"version": "==3", "markers": "sys_platform == 'nowhere'"}},
        "develop": {"seedtest": {"version": "==5"}}}),
    "freeze.txt": "germkit @ file:///nowhere/build/germkit_1696202382185/work\n"
                  "traygrid @ file:///nowhere/traygrid-VER-py3-none-any.whl#sha256=aa\n",
}
PRINTED = (["list"], ["list", "--format=json"], ["freeze", "--all"], ["inspect"])


def _lab(world: World) -> Path:
    lab = world.venv("lab")
    for name, version in {"germkit": "1.2", "traygrid": "2.0"}.items():
        world.wheels.install(world.wheels.add(name, version), site_of(lab))
    return lab


def _differences(world: World, file: str, validate: Callable[[object], object]) -> tuple[set[str], set[str], set[str]]:
    document = world.answer("contrast", file, "env:lab")
    validate(document)
    found = document["result"]["distributions"]
    only = ({d["name"] for d in found[side]} for side in ("only_a", "only_b"))
    assert (document["exit"] == 0) == (not (found["only_a"] or found["only_b"] or found["differ"]))
    return (*only, {d["name"] for d in found["differ"]})


def test_what_is_written_down(world: World, validate: Callable[[object], object]) -> None:
    """What is the same is no difference, nor is what is for another system, for development, or no Python."""
    world.activate(world.venv("shell"))
    _lab(world)
    for name, text in WRITTEN.items():
        write(world.project / name, text.replace("VER", "2.0"))
        assert _differences(world, name, validate) == (set(), set(), set()), name
        write(world.project / name, text.replace("VER", "3.1").replace("germkit", "humidlog"))
        told = set() if name == "environment.yml" else {"humidlog"}  # of that one, nothing tells that it is Python
        assert _differences(world, name, validate) == (told, {"germkit"}, {"traygrid"}), name
    said = [(name, n["message"]) for name in WRITTEN for n in world.answer("contrast", name, "env:lab")["notes"]]
    assert {name for name, message in said if "libseed" in message} == {n for n, t in WRITTEN.items() if "libseed" in t}


def test_what_pip_prints(world: World, validate: Callable[[object], object]) -> None:
    """All forms in which pip tells what is installed, editable projects among it."""
    world.activate(world.venv("shell"))
    site = site_of(_lab(world))
    write(world.root / "own" / "pyproject.toml", "[project]\nname = 'own'\nversion = '1'\n")
    info = write(site / "own-1.dist-info" / "METADATA", "Metadata-Version: 2.1\nName: own\nVersion: 1\n").parent
    write(info / "RECORD", "")
    write(info / "INSTALLER", "pip")
    url = (world.root / "own").as_uri()
    write(info / "direct_url.json", json.dumps({"url": url, "dir_info": {"editable": True}}))
    for form in PRINTED:
        pip = [sys.executable, "-m", "pip", *form, "--path", str(site)]
        said = run(pip, cwd=world.project, env=world.env).stdout
        name = f"list.{'json' if said.lstrip()[0] in '[{' else 'txt'}"
        write(world.project / name, said)
        assert _differences(world, name, validate) == (set(), set(), set()), said
        write(world.project / name, said.replace("2.0", "3.1"))
        assert _differences(world, name, validate) == (set(), set(), {"traygrid"}), said
        (world.project / name).write_bytes(said.encode("utf-16"))  # as a Windows shell redirects it
        assert _differences(world, name, validate) == (set(), set(), set()), said
