"""``weigh``: the sum of all parts is what the system's own count says; what would go with what; the picture."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kalyx.core.facts.packaging.requirements import marker_values
from kalyx.core.lean.record import replace
from kalyx.core.model import Distribution, WeighedDistribution
from kalyx.core.squares import divided
from kalyx.core.verdicts.weigh.dependents import could_go, with_dependents
from tests.support.build import World, other_pythons, python_of, run, site_of, write


def _counted(folder: Path) -> int:
    """Return what the system's own program counts below a folder, in bytes."""
    return int(subprocess.run(["du", "-s", "--block-size=1", folder], capture_output=True, text=True,
                              check=True).stdout.split()[0])


def _lab(world: World) -> Path:
    """Fill an environment by pip: asked for and brought along, with extras, markers, and one that is needed twice."""
    lab = world.venv("lab", pip=True)
    world.activate(lab)
    code = {"growlight/__init__.py": "x = 1\n" * 4000, "growlight/lamp.bin": "0" * 30_000}
    world.wheels.add("growlight", "2", code, ["humidlog", "seedling[trays]", 'windows-kit; sys_platform == "win32"'])
    world.wheels.add("humidlog", "1", {"humidlog.py": "y = 2\n" * 3000})
    world.wheels.add("seedling", "1", {"seedling.py": ""}, extras={"trays": ["traygrid"]})
    world.wheels.add("traygrid", "1", {"traygrid.py": "z\n" * 5000})
    world.wheels.add("potlog", "1", {"potlog.py": ""}, ["humidlog"])
    install = [python_of(lab), "-m", "pip", "install", "-q", "growlight", "potlog"]
    done = run(install, cwd=world.project, env=world.env)
    assert done.returncode == 0, done.stderr
    run([python_of(lab), "-c", "import growlight, humidlog, potlog"], env=world.env)
    return lab


def test_parts_and_sum(world: World, validate) -> None:
    """All parts together are what is allocated: links once, sparse files as they lie there, nothing outside."""
    lab = _lab(world)
    site = site_of(lab)
    os.link(site / "growlight" / "lamp.bin", site / "growlight" / "twin.bin")
    with open(site / "sparse.dat", "wb") as file:
        file.truncate(50_000_000)
    outside = write(world.home / "elsewhere" / "big.bin", "1" * 400_000)
    (site / "link").symlink_to(outside.parent)
    record = next(site.glob("potlog-*.dist-info")) / "RECORD"
    record.write_text(record.read_text() + f"{os.path.relpath(outside, site)},,\n/etc/hostname,,\n")
    left_over = write(site / "growlight" / "cache" / "model.bin", "2" * 100_000)
    document = world.answer("weigh")
    validate(document)
    result = document["result"]
    rows = {d["name"]: d for d in result["distributions"]}
    assert (document["exit"], result["total"]) == (0, _counted(lab))
    assert sum(d["bytes"] for d in rows.values()) + result["unowned"]["bytes"] == result["total"]
    assert result["shared"] > 0 and result["total"] < 50_000_000
    assert [str(left_over.parent), str(site / "sparse.dat")][0] in result["unowned"]["paths"]
    said = " ".join(n["message"] for n in document["notes"])
    assert str(outside) in said and "/etc/hostname" in said
    assert rows["growlight"]["bytecode"] > 0 and rows["growlight"]["files"] >= 6
    sizes = [d["bytes"] for d in result["distributions"]]
    assert sizes == sorted(sizes, reverse=True)


def test_what_goes_with_what(world: World) -> None:
    """What only it needs goes with it, what somebody asked for or needs stays; the command takes out what is idle."""
    lab = _lab(world)
    result = world.answer("weigh", "--at", "env:lab")["result"]
    rows = {d["name"]: d for d in result["distributions"]}
    assert rows["humidlog"]["needed_by"] == ["growlight", "potlog"]
    assert rows["growlight"]["alone"] == sum(rows[n]["bytes"] for n in ("growlight", "seedling", "traygrid"))
    assert rows["potlog"]["alone"] == rows["potlog"]["bytes"] and not result["could_go"]
    gone = [python_of(lab), "-m", "pip", "uninstall", "-q", "-y", "growlight"]
    assert run(gone, env=world.env).returncode == 0
    after = world.answer("weigh", "--at", "env:lab")["result"]
    assert after["could_go"] == ["seedling", "traygrid"], "nobody asks for the extra any more"
    text = world.kalyx("weigh", "--at", "env:lab", "--most", "1").stdout
    assert "Take out what nobody asked for" in text and "more; --most N" in text
    assert run(after["remedies"][0]["argv"], cwd=world.project, env=world.env).returncode == 0
    assert run([python_of(lab), "-c", "import potlog"], env=world.env).returncode == 0
    assert world.answer("weigh", "--at", "env:lab")["result"]["could_go"] == []


EXTRAS = ('a; extra == "fast"', "b ; extra=='fast'", 'w; extra == "fast" and sys_platform == "win32"')
IDLE = {  # distributions by name: asked for, what they require; and what could go
    "nothing needs it": ({"one": (True, ()), "a": (False, ())}, ["a"]),
    "asked for": ({"one": (True, ()), "a": (True, ())}, []),
    "needed": ({"one": (True, ("a",)), "a": (False, ())}, []),
    "an extra that is there in full": ({"one": (True, EXTRAS), "a": (False, ()), "b": (False, ())}, []),
    "an extra of which a part is there": ({"one": (True, EXTRAS), "a": (False, ())}, ["a"]),
    "an extra of what could go itself": ({"one": (False, EXTRAS), "a": (False, ()), "b": (False, ())},
                                         ["a", "b", "one"]),
    "not noted": ({"one": (None, ()), "a": (False, ())}, ["a"]),
    "pip itself": ({"one": (True, ()), "pip": (False, ()), "setuptools": (False, ())}, ["setuptools"]),
    "one needs the other": ({"one": (True, ()), "a": (False, ("b",)), "b": (False, ("a",))}, []),
}


@pytest.mark.parametrize("name", IDLE)
def test_what_could_go(name: str) -> None:
    """What was asked for, is needed, or may have been asked for as an extra stays; so does what takes it out."""
    rows, expected = IDLE[name]
    all_here = [Distribution(n, "1", "env", "/s", requires=needs, requested=asked)
                for n, (asked, needs) in rows.items()]
    markers = marker_values("3.11.2", "cpython", "linux")
    plain = [WeighedDistribution(n, "1", 10, 1, 0, 10) for n in rows]
    assert could_go(with_dependents(plain, all_here, markers), all_here, markers) == expected
    old = [replace(one, metadata="/s/x.egg-info") for one in all_here]  # setuptools put it there, and is needed by it
    assert could_go(with_dependents(plain, old, markers), old, markers) == [n for n in expected if n != "setuptools"]


def test_all_environments(world: World, validate) -> None:
    """The biggest first; a file that is linked into two counts once; what is the same in several is said."""
    world.activate(world.venv("shell"))
    for name in ("a", "b"):
        world.wheels.install(world.wheels.add("germkit", "1", {"germkit.py": "x" * 50_000}), site_of(world.venv(name)))
    one, two = (site_of(world.home / "envs" / n) / "germkit.py" for n in ("a", "b"))
    apart = world.answer("weigh", "--envs")["result"]
    two.unlink()
    os.link(one, two)
    document = world.answer("weigh", "--envs")
    validate(document)
    result = document["result"]
    totals = {e["environment"]["name"]: e["total"] for e in result["environments"]}
    assert sum(totals.values()) == sum(e["total"] for e in apart["environments"]) - one.stat().st_blocks * 512
    assert list(totals.values()) == sorted(totals.values(), reverse=True)
    shared = next(s for s in result["shared"] if s["name"] == "germkit")
    assert len(shared["environments"]) == 2
    text = world.kalyx("weigh", "--envs").stdout
    assert "the same in several" in text and "no seat uses it" in text
    base = next(e for e in result["environments"] if e["environment"]["path"] == os.path.realpath(sys.base_prefix))
    assert {f"env:{world.home / 'envs' / n}" for n in ("a", "b", "shell")} <= set(base["used_by"])
    assert "the base of " in " ".join(text.split()), "who takes that away takes these with it"


OLD = "Metadata-Version: 1.0\nName: {}\nVersion: 1.0\n"
# files below the site folder of distributions that came without a list, with the one that they belong to (None: nobody)
WITHOUT_A_LIST: dict[str, dict[str, str | None]] = {
    "a folder of its own": {"oakbed-1.0-py3.8.egg/EGG-INFO/PKG-INFO": "oakbed", "oakbed-1.0-py3.8.egg/oak.py": "oakbed",
                            "oakbed-1.0-py3.8.egg/oakbed/deep/a.py": "oakbed"},
    "what it says it brings": {"Elmbed-1.0.egg-info/PKG-INFO": "elmbed", "Elmbed-1.0.egg-info/top_level.txt": "elmbed",
                               "elmbed/data/tree.bin": "elmbed", "elmbed/__pycache__/a.cpython-38.pyc": "elmbed",
                               "elmmod.py": "elmbed", "__pycache__/elmmod.cpython-38.pyc": "elmbed",
                               "_elm.cpython-38-x86_64-linux-gnu.so": "elmbed", "elmother/a.py": None},
    "what two say": {"ash1-1.0.egg-info/PKG-INFO": "ash1", "ash1-1.0.egg-info/top_level.txt": "ash1",
                     "ash2-1.0.egg-info/PKG-INFO": "ash2", "ash2-1.0.egg-info/top_level.txt": "ash2",
                     "ash/a.py": None},
    "what is shared by its word": {
        "fir.one-1.0.egg-info/PKG-INFO": "fir.one", "fir.one-1.0.egg-info/top_level.txt": "fir.one",
        "fir.one-1.0.egg-info/namespace_packages.txt": "fir.one", "fir.one-1.0.egg-info/SOURCES.txt": "fir.one",
        "fir/one/a.py": "fir.one", "fir/two/a.py": None},
    "what another lists": {"yew-1.0.egg-info/PKG-INFO": "yew", "yew-1.0.egg-info/top_level.txt": "yew",
                           "yew/listed.py": "yew2", "yew/other.py": None, "yew2-1.0.dist-info/METADATA": "yew2",
                           "yew2-1.0.dist-info/RECORD": "yew2"},
}
SAID = {"Elmbed-1.0.egg-info/top_level.txt": "elmbed\nelmmod\n_elm\n..\n", "ash1-1.0.egg-info/top_level.txt": "ash\n",
        "ash2-1.0.egg-info/top_level.txt": "ash\n", "fir.one-1.0.egg-info/top_level.txt": "fir\n",
        "fir.one-1.0.egg-info/namespace_packages.txt": "fir\n",
        "fir.one-1.0.egg-info/SOURCES.txt": "setup.py\nsrc/fir/one/a.py\nfir/gone.py\nfir/../../../../x.py\n",
        "yew-1.0.egg-info/top_level.txt": "yew\n", "yew2-1.0.dist-info/RECORD": "yew/listed.py,,\n"}


@pytest.mark.parametrize("name", WITHOUT_A_LIST)
def test_without_a_list(name: str, world: World) -> None:
    """An egg is whole; else what only it says that it brings, or was built from, is its own; the sum holds."""
    lab = world.venv("lab")
    expected: dict[str, int] = {}
    for path, owner in WITHOUT_A_LIST[name].items():
        named = path.partition("-1.0")[0].lower()
        file = write(site_of(lab) / path, SAID.get(path, OLD.format(named)) if "-info/" in path.lower() else "x" * 9000)
        if owner:
            expected[owner] = expected.get(owner, 0) + file.stat().st_size
    result = world.answer("weigh", "--at", "env:lab", "--verbose")["result"]
    assert result["total"] == _counted(lab) == result["unowned"]["bytes"] + sum(
        d["bytes"] for d in result["distributions"])
    counts = {d["name"]: d["files"] for d in result["distributions"]}
    owners = list(WITHOUT_A_LIST[name].values())
    assert counts == {owner: owners.count(owner) for owner in expected}


# package of conda's: version, files below the prefix with their sizes, what it depends on, what asked for it
OF_CONDA: dict[str, tuple[str, dict[str, int], list[str], str]] = {
    "frostmath": ("2023.2.0", {"lib/libfrost_core.so": 300_000}, ["_lock_mutex 0.1 main"], "None"),
    "_lock_mutex": ("0.1", {}, [], ""),
    "blasmeta": ("3.9", {}, ["frostmath >=2023.2.0,<2024.0a0"], "None"),
    "numgrid": ("1.26.4", {"SITE/numgrid/__init__.py": 9, "SITE/numgrid/__pycache__/__init__.cpython-3.pyc": 5000,
                           "SITE/numgrid-1.26.4.dist-info/METADATA": 0, "bin/n2py": 20},
                ["blasmeta", "python >=3.9", "frostmath"], "numgrid"),
    "yamlbed": ("6.0", {"SITE/yamlbed/__init__.py": 8000, "share/yamlbed.txt": 10}, ["zonedata"], "None"),
    "zonedata": ("2024a", {"share/zoneinfo/UTC": 100}, [], "None"),  # not the distribution of that name
}


def _conda_record(world: World, lab: Path, name: str, indent: int | None) -> None:
    """Write a package's files and its record, as conda does, or as another installer of its packages."""
    version, files, depends, asked = OF_CONDA[name]
    site = str(site_of(lab).relative_to(lab))
    paths = {path.replace("SITE", site): size for path, size in files.items()}
    for path, size in paths.items():
        write(lab / path, "x" * size if size else f"Metadata-Version: 2.1\nName: {name}\nVersion: {version}\n")
    record = {"build": "h0", "depends": depends, "files": list(paths), "link": {"name": "no", "files": ["no"]},
              "name": name, "paths_data": {"paths": [{"_path": p, "sha256": "0" * 64} for p in paths]},
              "requested_spec": asked, "version": version}
    write(lab / "conda-meta" / f"{name}-{version}-h0.json", json.dumps(record, indent=indent))


@pytest.mark.parametrize("indent", [2, 4, None])
def test_packages_of_conda(indent: int | None, world: World, validate) -> None:
    """They own what they list, Python or not; what they need is theirs; conda's own copies are nobody's; no pip."""
    lab = world.venv("sci")
    write(lab / "conda-meta" / "history", "")
    for name in OF_CONDA:
        _conda_record(world, lab, name, indent)
    world.wheels.install(world.wheels.add("zonedata", "1", {"zonedata.py": "x"}, []), site_of(lab))
    (lab / "pkgs").mkdir()
    os.link(lab / "lib" / "libfrost_core.so", lab / "pkgs" / "kept.so")
    broken = write(lab / "conda-meta" / "odd-1-0.json", '{\n  "name": [')
    document = world.answer("weigh", "--at", "env:sci")
    validate(document)
    result = document["result"]
    rows = {(d["name"], d["by_conda"]): d for d in result["distributions"]}
    assert result["total"] == _counted(lab)
    assert sum(d["bytes"] for d in rows.values()) + result["unowned"]["bytes"] == result["total"]
    frost, grid = rows["frostmath", True], rows["numgrid", True]
    assert frost["bytes"] >= 300_000 and result["shared"] >= 300_000, "not given to the copy that nobody owns"
    assert frost["needed_by"] == ["blasmeta", "numgrid"] and ("numgrid", False) not in rows
    assert grid["files"] == 5 and grid["bytecode"] > 0, "with bytecode, script and record"
    assert grid["alone"] >= grid["bytes"] + frost["bytes"]
    assert rows["yamlbed", True]["needed_by"] == [] and rows["zonedata", True]["needed_by"] == ["yamlbed"]
    assert ("zonedata", False) in rows and result["could_go"] == ["zonedata"], "pip takes out nothing of conda's"
    assert [n["path"] for n in document["notes"]] == [str(broken)]
    text = world.kalyx("weigh", "--at", "env:sci").stdout
    assert "conda #" in text and "Python itself" not in text
    copy = next(s for s in world.answer("weigh", "--envs")["result"]["environments"]
                if s["environment"]["path"] == str(lab))
    assert copy["total"] == result["total"]


@pytest.mark.parametrize("version", [v for v in sorted(other_pythons()) if v[0] == "3"])
def test_interpreters_of_every_version(version: str, world: World) -> None:
    """An environment of any Python, with old forms of metadata too, weighs what the system counts."""
    from tests.support.build import make_venv

    lab = make_venv(world.home / "envs" / "lab", other_pythons()[version])
    site = next(lab.glob("lib/python*/site-packages"))
    write(site / "oldkit.py", "x = 1\n" * 500)
    write(site / "oldkit-1.egg-info" / "PKG-INFO", "Metadata-Version: 1.0\nName: oldkit\nVersion: 1\n")
    write(site / "oldkit-1.egg-info" / "installed-files.txt", "../oldkit.py\nPKG-INFO\n")
    alone = write(site / "singlekit-1.egg-info", "Metadata-Version: 1.0\nName: singlekit\nVersion: 1\n")
    result = world.answer("weigh", "--at", str(lab))["result"]
    assert result["total"] == _counted(lab)
    single = next(d for d in result["distributions"] if d["name"] == "singlekit")
    assert (single["files"], single["bytes"]) == (1, alone.stat().st_blocks * 512)  # it lists nothing, and is there
    assert result["distributions"][0]["name"] == "oldkit" and result["distributions"][0]["files"] >= 1


def test_the_picture(world: World) -> None:
    """PNG, SVG and PDF by the name's ending; without Matplotlib a sentence says what to do."""
    world.activate(_lab(world))
    for name, begin in (("a.png", b"\x89PNG"), ("a.svg", b"<?xml"), ("a.pdf", b"%PDF")):
        done = world.answer("weigh", "--plot", name)
        assert done["result"].get("plot") == str(world.project / name), done["result"]
        assert (world.project / name).read_bytes().startswith(begin)
    assert world.answer("weigh", "--plot", "a.png")["exit"] == 1, "it is there already"
    assert world.answer("weigh", "--plot", "a.png", "--overwrite")["exit"] == 0
    assert "growlight" in (world.project / "a.svg").read_text() or "<path" in (world.project / "a.svg").read_text()
    for args, status in ((("--plot", "a.gif"), 2), (("--plot", "no/where/a.png"), 1), (("--most", "0"), 2),
                         (("--envs", "--plot", "a.png"), 2), (("--at", "nix"), 3)):
        assert world.answer("weigh", *args)["exit"] == status, args
    code = ("import sys; sys.modules['matplotlib'] = None; from kalyx.__main__ import main; "
            "sys.argv = ['kalyx', 'weigh', '--plot', 'b.png']; sys.exit(main())")
    refused = subprocess.run([sys.executable, "-I", "-c", code], cwd=world.project, env=world.env, capture_output=True,
                             text=True, check=False)
    assert refused.returncode == 1 and "pip install 'kalyx[plot]'" in refused.stderr


@given(st.lists(st.floats(0.01, 1000), min_size=1, max_size=60))
def test_rectangles_are_true(sizes: list[float]) -> None:
    """They fill the whole, their areas stand in the ratio of the sizes, and none reaches out of it."""
    sizes.sort(reverse=True)
    places = divided(sizes, (1.0, 2.0, 12.0, 7.0))
    assert len(places) == len(sizes)
    for size, (left, bottom, width, height) in zip(sizes, places, strict=True):
        assert abs(width * height - size / sum(sizes) * 84) < 1e-6 * 84
        assert left >= 1 - 1e-9 and bottom >= 2 - 1e-9 and left + width <= 13 + 1e-6 and bottom + height <= 9 + 1e-6
