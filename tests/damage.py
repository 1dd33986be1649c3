"""More situations: damaged, foreign and stale files, native parts, versions, paths."""

from __future__ import annotations

import json
import os
import shutil
import struct
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path

import pytest

from tests.situations import Situation, own
from tests.support.build import (
    BASE_PYTHON,
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

Build = Callable[[World, Path], None]
KIT: dict[str, str | bytes] = {
    "germkit/__init__.py": "from germkit.trial import Trial\n",
    "germkit/trial.py": "class Trial:\n    rows = 6\n", "germkit/tray.py": "cells = 48\n"}


def installed(name: str = "germkit", files: Mapping[str, str | bytes] | None = None, version: str = "2",
              change: Callable[[World, Path], object] | None = None, requires: Sequence[str] = ()) -> Build:
    """Install a wheel, keep it for pip, and then do something to what was installed."""
    def build(w: World, lab: Path) -> None:
        w.wheels.install(w.wheels.add(name, version, dict(files or KIT), requires), site_of(lab))
        if change is not None:
            change(w, site_of(lab))
    return build


def replace(file: str, content: str | bytes) -> Build:
    """Install the kit, then write something else into one of its files."""
    return installed(change=lambda w, site: write(site / file, content))


def ending(python: str) -> str:
    """Return the suffix of compiled modules of an interpreter."""
    return run([python, "-c", "import sysconfig; print(sysconfig.get_config_var('EXT_SUFFIX'))"]).stdout.strip()


def compiled(w: World, name: str, body: str = "return PyModule_Create(&made);", *link: str | Path,
             before: str = "", python: str = BASE_PYTHON) -> bytes:
    """Compile a real extension module with the headers of an interpreter."""
    work = w.root / "native"
    headers = run([python, "-c", "import sysconfig; print(sysconfig.get_path('include'))"]).stdout.strip()
    if not os.path.exists(os.path.join(headers, "Python.h")):
        pytest.skip(f"no headers of {python}")
    write(work / f"{name}.c", (
        "#include <Python.h>\n#include <stdlib.h>\n#include <signal.h>\n" + before +
        f'\nstatic struct PyModuleDef made = {{PyModuleDef_HEAD_INIT, "{name}", 0, -1, 0}};\n'
        f"PyMODINIT_FUNC PyInit_{name}(void) {{ {body} }}\n"))
    done = run(["gcc", "-shared", "-fPIC", f"-I{headers}", "-o", work / f"{name}.so", work / f"{name}.c", *link],
               cwd=work)
    assert done.returncode == 0, done.stderr
    return (work / f"{name}.so").read_bytes()


def library(w: World, name: str, code: str, *options: str | Path) -> Path:
    """Compile a shared library; return its path."""
    work = w.root / "native"
    write(work / f"{name}.c", code)
    done = run(["gcc", "-shared", "-fPIC", "-o", work / name, work / f"{name}.c", f"-Wl,-soname,{name}", *options],
               cwd=work)
    assert done.returncode == 0, done.stderr
    return work / name


def native(make: Callable[[World], bytes], **more: str | bytes) -> Build:
    """Install a package with a compiled part."""
    def build(w: World, lab: Path) -> None:
        files = {"nativeseed/__init__.py": "from nativeseed import ext\n", f"nativeseed/ext{ending(BASE_PYTHON)}":
                 make(w), **more}
        w.wheels.install(w.wheels.add("nativeseed", "1", files), site_of(lab))
    return build


def patched(place: int, form: str, value: int) -> Callable[[World], bytes]:
    """Return a maker of an extension whose ELF header says something else."""
    def make(w: World) -> bytes:
        data = bytearray(compiled(w, "ext"))
        struct.pack_into(form, data, place, value)
        return bytes(data)
    return make


def _windows_file(w: World, lab: Path) -> None:
    head = b"MZ" + b"\0" * 58 + struct.pack("<I", 64) + b"PE\0\0" + struct.pack("<H", 0x8664) + b"\0" * 100
    files = {"seedscan/__init__.py": "from seedscan._pixels import scan\n"}
    w.wheels.install(w.wheels.add("seedscan", "3", {**files, "seedscan/_pixels.cp311-win_amd64.pyd": head}),
                     site_of(lab))
    w.wheels.add("seedscan", "3", {**files, "seedscan/_pixels.py": "scan = 1\n"})


def _broken_then_whole(content: Callable[[World], bytes]) -> Build:
    """Install a compiled part that is damaged afterwards; pip has the whole one."""
    def build(w: World, lab: Path) -> None:
        native(lambda w: compiled(w, "ext"))(w, lab)
        file = next((site_of(lab) / "nativeseed").glob("ext*"))
        file.write_bytes(content(w))
    return build


def _deep_library(w: World, lab: Path) -> None:
    inner = library(w, "libroots.so.2", "int roots(void) { return 1; }\n")
    outer = library(w, "libstems.so.1", "int roots(void); int stems(void) { return roots(); }\n", inner)
    data = compiled(w, "ext", "stems(); return PyModule_Create(&made);", outer, "-Wl,-rpath," + str(outer.parent),
                    before="int stems(void);")
    native(lambda w: data)(w, lab)
    inner.unlink()


def _own_library(w: World, lab: Path) -> None:
    made = library(w, "libgrain-1a2b.so.1", "int grain(void) { return 1; }\n")
    data = compiled(w, "ext", "grain(); return PyModule_Create(&made);", made,
                    "-Wl,-rpath,$ORIGIN/../nativeseed.libs", before="int grain(void);")
    native(lambda w: data, **{"nativeseed.libs/libgrain-1a2b.so.1": made.read_bytes()})(w, lab)
    (site_of(lab) / "nativeseed.libs" / "libgrain-1a2b.so.1").unlink()
    made.unlink()


def _symbol(w: World, lab: Path) -> None:
    made = library(w, "libhusk.so.1", "int husk(void) { return 1; }\n")
    data = compiled(w, "ext", "husk(); return PyModule_Create(&made);", made, "-Wl,-rpath," + str(made.parent),
                    before="int husk(void);")
    library(w, "libhusk.so.1", "int other(void) { return 1; }\n")
    native(lambda w: data)(w, lab)


def _symbol_version(w: World, lab: Path) -> None:
    work = w.root / "native"
    code = "int husk(void) { return 1; }\n"
    write(work / "two.map", "SEED_1.0 { };\nSEED_2.0 { husk; } SEED_1.0;\n")
    write(work / "one.map", "SEED_1.0 { husk; };\n")
    made = library(w, "libhusk.so.1", code, f"-Wl,--version-script={work / 'two.map'}")
    data = compiled(w, "ext", "husk(); return PyModule_Create(&made);", made, "-Wl,-rpath," + str(work),
                    before="int husk(void);")
    library(w, "libhusk.so.1", code, f"-Wl,--version-script={work / 'one.map'}")
    native(lambda w: data)(w, lab)


def _other_abi(w: World, lab: Path) -> None:
    old = other_pythons().get("2.7") or pytest.skip("no Python 2.7 here")
    work = w.root / "native"
    headers = run([old, "-c", "import sysconfig; print(sysconfig.get_path('include'))"]).stdout.strip()
    write(work / "ext.c", '#include <Python.h>\nvoid initext(void) { Py_InitModule("ext", 0); }\n')
    run(["gcc", "-shared", "-fPIC", f"-I{headers}", "-o", work / "ext.so", work / "ext.c"])
    files = {"nativeseed/__init__.py": "from nativeseed import ext\n", "nativeseed/ext.so":
             (work / "ext.so").read_bytes()}
    w.wheels.install(w.wheels.add("nativeseed", "1", files), site_of(lab))


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


def bounded(bound: str, code: str) -> Build:
    """Install a package that declares for which Pythons it is, whether this is one or not."""
    def build(w: World, lab: Path) -> None:
        w.wheels.install(w.wheels.add("germkit", "2", {"germkit/__init__.py": code}, requires_python=bound),
                         site_of(lab))
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


def _needs_newer_interface(w: World, lab: Path) -> None:
    """A compiled part that compares the version of an interface, as the real ones do."""
    for version in ("1", "2"):
        w.wheels.add("seedarray", version, {"seedarray.py": f"api = {version}\n"})
    w.wheels.install(str(w.wheels.folder / "seedarray-1-py3-none-any.whl"), site_of(lab))
    installed("germkit", {"germkit.py": (
        "import seedarray\nif seedarray.api < 2:\n    raise RuntimeError('seedarray: module compiled against API "
        "version 0x2 but this version of seedarray is 0x1')\n")})(w, lab)


def installation(change: Callable[[Path], object]) -> Build:
    """Lay out two installations of this Python, their files linked, and change the library of one."""
    def build(w: World, lab: Path) -> None:
        base = Path(BASE_PYTHON).resolve().parent.parent
        for name in ("whole", "broken"):
            home = w.home / ".pyenv/versions" / name
            (home / "bin").mkdir(parents=True)
            shutil.copy(base / "bin" / f"python{SHORT}", home / "bin" / f"python{SHORT}")
            (home / "bin" / "python").symlink_to(f"python{SHORT}")
            (home / "include").symlink_to(base / "include")
            library = home / "lib" / f"python{SHORT}"
            (library / "site-packages").mkdir(parents=True)
            for file in (base / "lib" / f"python{SHORT}").iterdir():
                if file.name not in ("site-packages", "__pycache__"):
                    (library / file.name).symlink_to(file)
        change(w.home / ".pyenv/versions/broken/lib" / f"python{SHORT}")
    return build


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


def failing(name: str, code: str, **more: object) -> Build:
    """Install a package that needs the distribution fastgrid, which pip can find."""
    def build(w: World, lab: Path) -> None:
        w.wheels.add("fastgrid", "1")
        w.wheels.install(w.wheels.add(name, "1", {f"{name}.py": code}, **more), site_of(lab))
    return build


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
              says="regular package", remedy="command"),
    Situation("folder of data takes the name", lambda w, e: (
        w.wheels.add("germkit", "2", dict(KIT)), write(w.project / "germkit" / "data.csv", "1"), None)[-1],
        "germkit:Trial", "namespace-split", says="holds no code", remedy="command"),
    Situation("folder of data is imported", lambda w, e: (
        w.wheels.add("germkit", "2", dict(KIT)), write(w.project / "germkit" / "data.csv", "1"), None)[-1],
        "germkit", "namespace-split", outcome="imports", remedy="command"),
    Situation("no pyvenv.cfg", _no_config, "germkit", "site-off", says="own folder", remedy="command"),
    Situation("started with -S", _without_site, "germkit", "site-off", at="script:count.py", remedy="edit"),
    Situation("PYTHONHOME in the kernelspec", _python_home, "json", "interpreter-broken", at="kernel:lab",
              says="Fatal Python error", remedy="edit"),
    Situation("unreadable .pth", _closed_link, "linked_kit", "site-off", says="may not be read",
              remedy="command", privileged=False),
    Situation("path code hides", _path_hides, "germkit", "hidden-by-path", says="copies", remedy="edit"),
    Situation("hook to a moved folder", _hook_gone, "hooked", "link-broken", says="hooked"),
    Situation("run from a sub-folder", _sub_folder, "seedtools", "own-code-unreachable", at="script:jobs/nightly.py", remedy="edit"),
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
    Situation("Windows file", _windows_file, "seedscan", "foreign-platform", says="Windows", remedy="command"),
    Situation("other machine", native(patched(18, "<H", 183)), "nativeseed", "foreign-platform", says="AArch64"),
    Situation("32 bits", native(patched(4, "<B", 1)), "nativeseed", "foreign-platform"),
    Situation("Python 2's extension without a tag", _other_abi, "nativeseed", "foreign-abi"),
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
    Situation("upper bound of Requires-Python", bounded(">=3.4,<3.8", "raise RuntimeError('no')\n"), "germkit", "python-too-new", says="3.8"),
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
    Situation("compiled part cut off", _broken_then_whole(lambda w: (w.root / "native/ext.so").read_bytes()[:3000]),
              "nativeseed", "file-corrupt", remedy="command"),
    Situation("compiled part empty", _broken_then_whole(lambda w: b""), "nativeseed", "file-corrupt",
              remedy="command"),
    Situation("compiled part is text", _broken_then_whole(lambda w: b"<html>404</html>\n" * 99), "nativeseed",
              "file-corrupt", remedy="command"),
    Situation("compiled part cut at the end", _broken_then_whole(
        lambda w: (w.root / "native/ext.so").read_bytes()[:9000]), "nativeseed", "file-corrupt", remedy="command"),
    Situation("file of the standard library damaged", installation(lambda lib: _rewritten(lib / "random.py", "def (\n")),
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
    Situation("own library of the wheel gone", _own_library, "nativeseed", "files-missing", says="libgrain"),
    Situation("file closed", _closed("germkit", "trial.py"), "germkit", "file-unreadable", remedy="command",
              privileged=False),
    Situation("folder closed", _closed("germkit"), "germkit.trial", "file-unreadable", remedy="command",
              privileged=False),
    Situation("site folder closed", _closed(), "germkit", "file-unreadable", remedy="command", privileged=False),
    Situation("bytecode older than its source", _stale_bytecode, "germkit", "bytecode-stale", remedy="command"),
    Situation("bytecode of Python 2", _foreign_bytecode, "germkit", "bytecode-stale", remedy="command"),
    Situation("bytecode without source", _sourceless, "germkit", "bytecode-stale", remedy="command"),
    # E: native
    Situation("library further down", _deep_library, "nativeseed", "library-missing", says="libroots.so.2"),
    Situation("undefined symbol", _symbol, "nativeseed", "symbol-missing", says="husk"),
    Situation("symbol version", _symbol_version, "nativeseed", "symbol-missing", says="SEED_1.0"),
    Situation("C interface of another version", installed("germkit", {"germkit.py": (
        "raise ValueError('numpy.ndarray size changed, may indicate binary incompatibility. Expected 96 from C "
        "header, got 88 from PyObject')\n")}), "germkit", "binary-mismatch"),
    Situation("C interface of a newer version", _needs_newer_interface, "germkit", "binary-mismatch",
              says="seedarray", remedy="command"),
    Situation("symbol like Python's own", native(lambda w: compiled(
        w, "ext", "PySeed_Sow(); return PyModule_Create(&made);", before="void PySeed_Sow(void);")), "nativeseed",
        "symbol-missing", says="PySeed_Sow"),
    Situation("compiled under another name", native(lambda w: compiled(w, "other")), "nativeseed", "symbol-missing",
              says="PyInit_ext"),
    Situation("crash in a compiled part", native(lambda w: compiled(w, "ext", "raise(SIGSEGV); return 0;")),
              "nativeseed", "crash", says="SIGSEGV"),
    Situation("abort", native(lambda w: compiled(w, "ext", "abort(); return 0;")), "nativeseed", "crash",
              says="SIGABRT"),
    Situation("waits for its own lock", _lock, "locked", "hang", says="locked.py"),
    # F: its own code
    Situation("ring in an old Python", _old_ring, "ringa", "circular-import", at="env:former",
              says="ringa.py imports ringb.py"),
    Situation("more dots than packages", _above_the_top, "trials.plan", "relative-import-alone", says="above the topmost"),
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
    Situation("dependency behind another error", failing("reader", "try:\n    import fastgrid\nexcept ImportError as e:\n"
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
