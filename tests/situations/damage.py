"""More situations: damaged, foreign and stale files, versions, paths."""

from __future__ import annotations

import json
import os
import shutil
from pathlib import Path

import pytest

from tests.situations.general import Situation, own
from tests.support.build import (
    SHORT,
    World,
    kernelspec,
    make_venv,
    other_pythons,
    python_of,
    run,
    site_of,
    write,
)
from tests.support.packages import KIT, Build, bounded, failing, installation, installed, replace


def _twins(w: World, lab: Path) -> None:
    for version, files in (("1", {"germkit/__init__.py": "from germkit.trial import Trial\n",
                                  "germkit/trial.py": "Trial = None\n"}),
                           ("2", KIT)):
        w.wheels.install(w.wheels.add("germkit", version, dict(files)), site_of(lab))
    write(site_of(lab) / "germkit" / "trial.py", "from germkit.beds import Trial\n")


def _interrupted(w: World, lab: Path) -> None:
    installed()(w, lab)
    for name in ("germkit", "germkit-2.dist-info"):
        (site_of(lab) / name).rename(site_of(lab) / ("~" + name[1:]))


def _stale_bytecode(w: World, lab: Path) -> None:
    """Bytecode that is never compared with its source (PEP 552) and older than it."""
    installed()(w, lab)
    folder = site_of(lab) / "germkit"
    trial = write(folder / "trial.py", "rows = 6\n")
    run([python_of(lab), "-c", "import py_compile, sys; py_compile.compile(sys.argv[1], "
         "invalidation_mode=py_compile.PycInvalidationMode.UNCHECKED_HASH)", trial])
    write(trial, str(KIT["germkit/trial.py"]))


def _foreign_bytecode(w: World, lab: Path) -> None:
    installed("humidlog")(w, lab)
    write(w.project / "germkit.pyc", b"\x03\xf3\x0d\x0a" + b"\0" * 40)
    installed()(w, lab)


def _sourceless(w: World, lab: Path) -> None:
    installed()(w, lab)
    trial = site_of(lab) / "germkit" / "trial.py"
    trial.write_text("rows = 6\n")
    run([python_of(lab), "-c", "import py_compile, sys; py_compile.compile(sys.argv[1], sys.argv[1] + 'c')", trial])
    trial.unlink()


def _no_config(w: World, lab: Path) -> None:
    installed()(w, lab)
    (lab / "pyvenv.cfg").unlink()


def _without_site(w: World, lab: Path) -> None:
    installed()(w, lab)
    write(w.project / "count.py", f"#!{python_of(lab)} -S\nimport germkit\n", 0o755)


def _python_home(w: World, lab: Path) -> None:
    kernelspec(w.home, "lab", [python_of(lab), "-m", "x"], env={"PYTHONHOME": str(w.home / "gone")})


def _hidden_portion(w: World, lab: Path) -> None:
    w.wheels.install(w.wheels.add("seedbank-core", "1", {"seedbank/core.py": "vault = 1\n"}), site_of(lab))
    write(w.project / "seedbank" / "__init__.py", "")


def _path_hides(w: World, lab: Path) -> None:
    """A .pth line in an open environment hides what the base has, with a copy that fails."""
    base = make_venv(w.home / "base")
    del base
    installed()(w, lab)
    write(w.home / "copies" / "germkit.py", "from germkit_old import Trial\n")
    write(site_of(lab) / "a.pth", f"import sys; sys.path.insert(0, {str(w.home / 'copies')!r})\n")


def _wrong_version(check: str) -> Build:
    """A package needs a newer version of another than the one that is installed."""
    def build(w: World, lab: Path) -> None:
        for version, code in (("1.0", "def count(): pass\n"), ("2.1", "def count(): pass\ndef mean(): pass\n")):
            wheel = w.wheels.add("sporecount", version, {"sporecount/__init__.py": code})
            if version == "1.0":
                w.wheels.install(wheel, site_of(lab))
        w.wheels.add("sporecount", "3.0", {"sporecount/__init__.py": "raise ImportError('far too new')\n"})
        installed("germkit", {"germkit.py": check}, requires=["sporecount>=2,<3"])(w, lab)
    return build


def _two_wishes(w: World, lab: Path) -> None:
    for version in ("1.0", "1.5", "3.0"):
        code = "" if version == "1.5" else "raise ImportError('the wrong one')\n"
        w.wheels.add("traygrid", version, {"traygrid.py": code})
    installed("germkit", {"germkit.py": "import traygrid\n"}, requires=["traygrid>=1.2"])(w, lab)
    installed("humidlog", {"humidlog.py": ""}, requires=["traygrid<2"])(w, lab)


def _newer_elsewhere(code: str) -> Build:
    """Another environment has a version that has what is missing."""
    def build(w: World, lab: Path) -> None:
        newer = {**KIT, "germkit/beds.py": "", "germkit/trial.py": "class Trial: pass\ndef plan(): pass\n"}
        w.wheels.install(w.wheels.add("germkit", "3", newer), site_of(w.venv("newer")))
        installed()(w, lab)
        write(w.project / "plan.py", code)
    return build


def _skewed(w: World, lab: Path) -> None:
    w.wheels.install(w.wheels.add("germkit", "2", dict(KIT)), lab / "lib" / "python3.4" / "site-packages")


def _closed(*parts: str) -> Build:
    def build(w: World, lab: Path) -> None:
        installed()(w, lab)
        site_of(lab).joinpath(*parts).chmod(0)
    return build


def _closed_link(w: World, lab: Path) -> None:
    write(w.home / "code" / "linked_kit" / "__init__.py", "")
    write(site_of(lab) / "linked_kit.pth", f"{w.home / 'code'}\n", 0)


def _hook_gone(w: World, lab: Path) -> None:
    """An editable install by an import hook (PEP 660) whose folder is gone."""
    site = site_of(lab)
    write(site / "__editable___hooked_1_finder.py", (
        f"MAPPING: dict[str, str] = {{'hooked': '{w.home / 'code' / 'hooked'}'}}\n"
        "def install(): pass\n"))
    write(site / "__editable__.hooked-1.pth", "import __editable___hooked_1_finder\n")
    write(site / "hooked-1.dist-info" / "METADATA", "Name: hooked\nVersion: 1\n")
    write(site / "hooked-1.dist-info" / "top_level.txt", "hooked\n")
    write(w.home / "code" / "moved" / "hooked" / "__init__.py", "")


def beside(version: str, more: Build) -> Build:
    """Have another Python on PATH too, behind the one that is used."""
    def build(w: World, lab: Path) -> None:
        program = other_pythons().get(version) or pytest.skip(f"no Python {version} here")
        if version == SHORT:
            pytest.skip("another Python is needed")
        w.env["PATH"] += os.pathsep + os.path.dirname(program)
        more(w, lab)
    return build


def _user_site_of_another(w: World, lab: Path) -> None:
    w.wheels.install(w.wheels.add("germkit", "2", dict(KIT)), w.home / ".local/lib/python3.4/site-packages")


def _hook_file_gone(w: World, lab: Path) -> None:
    """An editable install of which the import hook was deleted; the project is where it was."""
    source = w.home / "code" / "germkit"
    write(source / "germkit" / "__init__.py", "")
    write(source / "pyproject.toml", "[project]\nname = 'germkit'\nversion = '1'\n")
    info = site_of(lab) / "germkit-1.dist-info"
    write(site_of(lab) / "__editable__.germkit-1.pth", "import __editable___germkit_1_finder; "
          "__editable___germkit_1_finder.install()\n")
    write(info / "METADATA", "Metadata-Version: 2.1\nName: germkit\nVersion: 1\n")
    write(info / "RECORD", "__editable__.germkit-1.pth,,\n__editable___germkit_1_finder.py,,\n")
    write(info / "direct_url.json", json.dumps({"url": source.as_uri(), "dir_info": {"editable": True}}))


def _old_link(w: World, lab: Path) -> None:
    write(site_of(lab) / "germ-kit.egg-link", f"{w.home / 'code/old'}\n.\n")
    write(site_of(lab) / "easy-install.pth", f"{w.home / 'code/old'}\n")
    write(w.home / "code/new/germ_kit/__init__.py", "")


def _start_code(w: World, lab: Path) -> None:
    installed()(w, lab)
    write(w.home / "lib" / "germkit" / "__init__.py", "raise ImportError('an old copy')\n")
    write(site_of(lab) / "sitecustomize.py", f"import sys\nsys.path.insert(0, {str(w.home / 'lib')!r})\n")


def _kernel_path(w: World, lab: Path) -> None:
    installed()(w, lab)
    write(w.home / "lib" / "germkit" / "__init__.py", "raise ImportError('an old copy')\n")
    kernelspec(w.home, "lab", [python_of(lab), "-m", "ipykernel_launcher", "-f", "{connection_file}"],
               env={"PYTHONPATH": f"{w.home / 'lib'}:{w.home / 'other'}"})


def _rewritten(file: Path, text: str) -> None:
    file.unlink()
    file.write_text(text)


def _old_ring(w: World, lab: Path) -> None:
    python = next((p for v, p in other_pythons().items() if v in ("3.6", "3.7")), None)
    if python is None:
        pytest.skip("no Python before 3.8 on this machine")
    make_venv(w.home / "former", python)
    write(w.project / "ringa.py", "from ringb import two\none = 1\n")
    write(w.project / "ringb.py", "from ringa import one\ntwo = 2\n")


def _above_the_top(w: World, lab: Path) -> None:
    write(w.project / "trials" / "__init__.py", "")
    write(w.project / "trials" / "plan.py", "from ..seeds import rows\n")
    write(w.project / "seeds.py", "rows = 6\n")


def _counts_on_newer(w: World, lab: Path) -> None:
    w.wheels.install(w.wheels.add("seedtypes", "3", {"seedtypes.py": "a = 1\n"}), site_of(lab))
    w.wheels.add("seedtypes", "4", {"seedtypes.py": "override = 2\n"})
    w.wheels.install(w.wheels.add("germkit", "1", {"germkit.py": "from seedtypes import override\n"},
                                  ["seedtypes"]), site_of(lab))


def _called_otherwise(w: World, lab: Path) -> None:
    w.wheels.add("seedlib", "1.5", {"seedlib.py": "def sow(depth):\n    pass\n"})
    w.wheels.install(w.wheels.add("seedlib", "2", {"seedlib.py": "def sow():\n    pass\n"}), site_of(lab))
    installed("germkit", {"germkit.py": "import seedlib\nseedlib.sow(depth=1)\n"}, requires=["seedlib<2"])(w, lab)


def _shared_namespace(w: World, lab: Path) -> None:
    w.wheels.install(w.wheels.add("google-auth", "2", {"google/auth/__init__.py": ""}), site_of(lab))
    w.wheels.add("protobuf", "4", {"google/protobuf/__init__.py": ""})


def _base_gone(w: World, lab: Path) -> None:
    gone = w.venv("gone")
    for name in ("python", "python3", f"python{SHORT}"):
        (gone / "bin" / name).unlink(missing_ok=True)
        (gone / "bin" / name).symlink_to(w.home / "removed" / name)


def _sub_folder(w: World, lab: Path) -> None:
    write(w.project / "seedtools.py", "")
    write(w.project / "jobs" / "nightly.py", "import seedtools\n")


def _switched_off(w: World, lab: Path) -> None:
    write(w.project / "seedtools.py", "")
    write(w.project / "nightly.py", f"#!{python_of(lab)} -I\nimport seedtools\n", 0o755)


def _lock(w: World, lab: Path) -> None:
    write(w.project / "locked.py", "import threading\nx = threading.Lock()\nx.acquire()\nx.acquire()\n")


def _unreadable_kernel(w: World, lab: Path) -> None:
    write(w.home / ".local/share/jupyter/kernels/odd/kernel.json", "{")


def _bare_notebook(w: World, lab: Path) -> None:
    write(w.project / "odd.ipynb", json.dumps([1]))


def _copied(w: World, lab: Path) -> None:
    """Files of another environment, copied over by hand: the metadata of one, the code of another."""
    installed()(w, lab)
    other = w.venv("other")
    w.wheels.install(w.wheels.add("germkit", "9", {
        "germkit/__init__.py": "from germkit.plan import Plan\n"}), site_of(other))
    shutil.copy(site_of(other) / "germkit" / "__init__.py", site_of(lab) / "germkit" / "__init__.py")
    w.wheels.add("germkit", "2", dict(KIT))


NUL = "class Trial:\n" + "\0" * 20
RAISES = "import sporecount\nif not hasattr(sporecount, 'mean'):\n    raise ImportError('sporecount>=2 is needed')\n"
MORE_SITUATIONS = [
    # B: here, but not reachable
    Situation("package hides a namespace's part", _hidden_portion, "seedbank.core", "namespace-split",
              says="regular package", remedy="edit"),
    Situation("folder of data takes the name", lambda w, e: (
        w.wheels.add("germkit", "2", dict(KIT)), write(w.project / "germkit" / "data.csv", "1"), None)[-1],
        "germkit:Trial", "namespace-split", says="holds no code", remedy="command"),
    Situation("folder of data is imported", lambda w, e: (
        w.wheels.add("germkit", "2", dict(KIT)), write(w.project / "germkit" / "data.csv", "1"), None)[-1],
        "germkit", "namespace-split", outcome="imports", remedy="command"),
    Situation("no pyvenv.cfg", _no_config, "germkit", "site-off", says="own folder", remedy="command"),
    Situation("started with -S", _without_site, "germkit", "site-off", at="script:count.py", remedy="edit"),
    Situation("PYTHONHOME in the kernelspec", _python_home, "json", "interpreter-broken", at="kernel:lab",
              says="encodings is not", remedy="edit"),
    Situation("unreadable .pth", _closed_link, "linked_kit", "site-off", says="may not be read",
              remedy="command", privileged=False),
    Situation("path code hides", _path_hides, "germkit", "hidden-by-path", says="copies", remedy="edit"),
    Situation("hook to a moved folder", _hook_gone, "hooked", "link-broken", says="hooked"),
    Situation("run from a sub-folder", _sub_folder, "seedtools", "own-code-unreachable", at="script:jobs/nightly.py",
              remedy="edit"),
    Situation("start folder switched off", _switched_off, "seedtools", "own-code-unreachable",
              at="script:nightly.py", remedy="edit"),
    Situation("in the user site of another version", _user_site_of_another, "germkit", "installed-elsewhere",
              says="user site of Python 3.4", remedy="command"),
    Situation("import hook deleted", _hook_file_gone, "germkit", "link-broken", says="import hook"),
    Situation("old link to a moved folder", _old_link, "germ_kit", "link-broken", says="code/old", remedy="edit"),
    Situation("code at Python's start hides", _start_code, "germkit", "hidden-by-path", says="lib puts its own",
              remedy="edit"),
    Situation("kernel.json sets PYTHONPATH", _kernel_path, "germkit", "hidden-by-path", at="kernel:lab", remedy="edit"),
    # C: made for another interpreter
    Situation("free-threaded extension", lambda w, e: installed("fern", {
        "fern/__init__.py": "from fern import _core\n", "fern/_core.cpython-311t-x86_64-linux-gnu.so": b"\x7fELF"})(
            w, e), "fern", "foreign-abi", says="free-threaded"),
    Situation("debug build's extension", lambda w, e: installed("fern", {
        "fern/__init__.py": "import fern._core\n", "fern/_core.cpython-311d-x86_64-linux-gnu.so": b"\x7fELF"})(
            w, e), "fern", "foreign-abi", says="debug"),
    Situation("packages of another version", _skewed, "germkit", "env-version-skew", says="python3.4",
              remedy="command"),
    Situation("Python 2: except", own("p2.py", "try:\n    1\nexcept ValueError, e:\n    pass\n"), "p2",
              "python2-source"),
    Situation("Python 2: raise", own("p2.py", "def f():\n    raise ValueError, 'x'\n"), "p2", "python2-source"),
    Situation("Python 2: backticks", own("p2.py", "x = `1`\n"), "p2", "python2-source"),
    Situation("Python 2: octal", own("p2.py", "mode = 0777\n"), "p2", "python2-source"),
    Situation("Python 2: exec", own("p2.py", "exec 'x = 1' in {}\n"), "p2", "python2-source"),
    Situation("Python 2: print to a file", own("p2.py", "import sys\nprint >>sys.stderr, 'x'\n"), "p2",
              "python2-source"),
    Situation("async as a name", installed("germkit", {"germkit.py": "def start(async=True):\n    pass\n"}), "germkit",
              "python-too-new", says="async"),
    Situation("removed name in a package", installed("germkit", {
        "germkit.py": "from inspect import getargspec\n"}), "germkit", "python-too-new", says="getargspec"),
    Situation("upper bound of Requires-Python", bounded(">=3.4,<3.8", "raise RuntimeError('no')\n"), "germkit",
              "python-too-new", says="3.8"),
    Situation("one other version only", bounded("==3.4.*", "raise RuntimeError('no')\n"), "germkit", "python-too-new"),
    Situation("lower bound of Requires-Python", bounded(">=3.14", "from typing import nothing\n"), "germkit",
              "python-too-old", says="3.14"),
    Situation("name that newer Pythons have", beside("3.13", own("fresh.py", "from warnings import deprecated\n")),
              "fresh", "python-too-old", says="came with Python 3.13"),
    Situation("name that older Pythons had", beside("3.9", own("former.py", "from gettext import lgettext\n")),
              "former", "python-too-new", says="lgettext"),
    # D: damaged
    Situation("start file gone", installed(change=lambda w, site: (site / "germkit/__init__.py").unlink()), "germkit",
              "files-missing", says="germkit/__init__.py", outcome="imports", remedy="command"),
    Situation("start file gone, name asked for", installed(change=lambda w, site: (
              site / "germkit/__init__.py").unlink()), "germkit:Trial", "files-missing", remedy="command"),
    Situation("NUL bytes", replace("germkit/trial.py", NUL), "germkit", "file-corrupt", says="trial.py",
              remedy="command"),
    Situation("cut off in a line", replace("germkit/trial.py", "class Trial:\n    rows = (6"), "germkit",
              "file-corrupt", remedy="command"),
    Situation("emptied", replace("germkit/trial.py", ""), "germkit", "file-corrupt", says="trial.py",
              remedy="command"),
    Situation("emptied start file", replace("germkit/__init__.py", ""), "germkit:Trial", "file-corrupt",
              remedy="command"),
    Situation("other encoding", replace("germkit/trial.py", b"name = 'J\xf6rg'\nclass Trial: pass\n"), "germkit",
              "file-corrupt", remedy="command"),
    Situation("file of the standard library damaged",
              installation(lambda lib: _rewritten(lib / "random.py", "def (\n")),
              "tempfile", "file-corrupt", at="python:../.pyenv/versions/broken/bin/python", says="standard library",
              remedy="command"),
    Situation("file of data gone", installed("germkit", {
        "germkit/__init__.py": "import os\nopen(os.path.join(os.path.dirname(__file__), 'rows.txt'))\n",
        "germkit/rows.txt": "6"}, change=lambda w, site: (site / "germkit/rows.txt").unlink()), "germkit",
        "files-missing", says="rows.txt", remedy="command"),
    Situation("two versions' metadata", _twins, "germkit", "mixed-install", remedy="command"),
    Situation("interrupted installation", _interrupted, "germkit", "mixed-install", says="interrupted",
              remedy="command"),
    Situation("copied over", _copied, "germkit", "mixed-install", remedy="command"),
    Situation("file closed", _closed("germkit", "trial.py"), "germkit", "file-unreadable", remedy="command",
              privileged=False),
    Situation("folder closed", _closed("germkit"), "germkit.trial", "file-unreadable", remedy="command",
              privileged=False),
    Situation("site folder closed", _closed(), "germkit", "file-unreadable", remedy="command", privileged=False),
    Situation("bytecode older than its source", _stale_bytecode, "germkit", "bytecode-stale", remedy="command"),
    Situation("bytecode of Python 2", _foreign_bytecode, "germkit", "bytecode-stale", remedy="command"),
    Situation("bytecode without source", _sourceless, "germkit", "bytecode-stale", remedy="command"),
    # E: native
    Situation("C interface of another version", installed("germkit", {"germkit.py": (
        "raise ValueError('numpy.ndarray size changed, may indicate binary incompatibility. Expected 96 from C "
        "header, got 88 from PyObject')\n")}), "germkit", "binary-mismatch"),
    Situation("waits for its own lock", _lock, "locked", "hang", says="locked.py", hangs=True),
    # F: its own code
    Situation("ring in an old Python", _old_ring, "ringa", "circular-import", at="env:former",
              says="ringa.py imports ringb.py"),
    Situation("more dots than packages", _above_the_top, "trials.plan", "relative-import-alone",
              says="above the topmost"),
    Situation("older version, name missing", _wrong_version("from sporecount import mean\n"), "germkit",
              "version-conflict", says="sporecount>=2,<3", remedy="command"),
    Situation("older version, attribute missing", _wrong_version("import sporecount\nm = sporecount.mean\n"),
              "germkit", "version-conflict", remedy="command"),
    Situation("older version, found by a check", _wrong_version(RAISES), "germkit", "version-conflict",
              remedy="command"),
    Situation("newer version, called otherwise", _called_otherwise, "germkit", "version-conflict", says="seedlib<2",
              remedy="command"),
    Situation("package code raises", installed("germkit", {"germkit.py": "{}['TRIALS']\n"}), "germkit", "raises",
              says="germkit 2"),
    Situation("environment variable missing", own("conf.py", "import os\nos.environ['SEED_HOME']\n"), "conf",
              "raises", says="SEED_HOME"),
    # A: names and parts
    Situation("module of another system", own("reg.py", "import winreg\n"), "reg", "stdlib-not-built",
              says="Windows only"),
    Situation("file of the standard library gone", installation(lambda lib: (lib / "random.py").unlink()), "tempfile",
              "stdlib-not-built", at="python:../.pyenv/versions/broken/bin/python", says="random", remedy="command"),
    Situation("misspelt by case, of a package", installed(), "Germkit", "name-misspelt", says="capital letters"),
    Situation("dependency behind another error",
              failing("reader", "try:\n    import fastgrid\nexcept ImportError as e:\n"
              "    raise RuntimeError('a grid is needed') from e\n", requires=["fastgrid"]), "reader",
              "dependency-absent", says="fastgrid", remedy="command"),
    Situation("dependency behind 'from None'", failing("reader", "try:\n    import fastgrid\nexcept ImportError:\n"
              "    raise ImportError('please add the grid') from None\n", requires=["fastgrid"]), "reader",
              "dependency-absent", says="fastgrid", remedy="command"),
    Situation("extra behind 'from None'", failing("reader", "try:\n    import fastgrid\nexcept ImportError:\n"
              "    raise ImportError('please add the grid') from None\n", extras={"fast": ["fastgrid"]}), "reader",
              "extra-absent", says="extra fast", remedy="command"),
    Situation("counts on a newer version", _counts_on_newer, "germkit", "attribute-absent", says="override",
              remedy="command"),
    Situation("part of a shared namespace", _shared_namespace, "google.protobuf", "name-differs", says="protobuf",
              remedy="command"),
    Situation("asks for metadata", failing("reader", "from importlib.metadata import version\nversion('fastgrid')\n",
              requires=["fastgrid"]), "reader", "dependency-absent", says="fastgrid", remedy="command"),
    Situation("asks for its own metadata", lambda w, e: (
        write(w.project / "pyproject.toml", "[project]\nname = 'trials'\nversion = '1'\n"),
        write(w.project / "trials.py", "from importlib.metadata import version\nversion('trials')\n"), None)[-1],
        "trials", "own-code-unreachable", says="metadata"),
    Situation("advice alone", failing("reader", "import importlib.util\nif importlib.util.find_spec('fastgrid') is "
              "None:\n    raise ImportError('please install fastgrid to read this')\n", extras={"fast": ["fastgrid"]}),
              "reader", "extra-absent", says="extra fast", remedy="command"),
    Situation("dependency in a group", failing("reader", "try:\n    import fastgrid\nexcept ImportError as e:\n"
              "    raise ExceptionGroup('two', [ValueError(1), e])\n", requires=["fastgrid"]), "reader",
              "dependency-absent", says="fastgrid", remedy="command"),
    Situation("wishes of two packages", _two_wishes, "germkit", "dependency-absent", remedy="command"),
    Situation("part of a newer version", _newer_elsewhere(""), "germkit.beds", "submodule-absent", remedy="command"),
    Situation("name of a newer version", _newer_elsewhere(""), "germkit.trial:plan", "attribute-absent",
              remedy="command"),
    Situation("misspelt name of a module", _newer_elsewhere("from germkit.trial import Trail\n"), "plan",
              "attribute-absent", remedy="edit"),
    Situation("attribute of the standard library", installed("germkit", {"germkit.py": "import json\njson.encode\n"}),
              "germkit", "attribute-absent", says="json"),
    # G: the seat
    Situation("kernel.json is broken", _unreadable_kernel, "json", "kernel-unreadable", at="kernel:odd"),
    Situation("notebook is none", _bare_notebook, "json", "notebook-unreadable", at="notebook:odd.ipynb"),
    Situation("base removed", _base_gone, "json", "interpreter-gone", at="env:../envs/gone",
              others=("env-base-gone",), remedy="command"),
]
