"""The parsers of files that others wrote: right on samples, and never surprised."""

from __future__ import annotations

import json
import keyword
import os
import platform
import zipfile
from collections.abc import Callable
from io import BytesIO
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from packaging.markers import InvalidMarker, Marker, UndefinedComparison, UndefinedEnvironmentName
from packaging.requirements import InvalidRequirement, Requirement
from packaging.tags import parse_tag

from kalyx.core.answers.why.module import parse_request
from kalyx.core.carried.blocks import find_blocks
from kalyx.core.carried.recorded_data import machine_of
from kalyx.core.entering.variables import read_kept
from kalyx.core.errors import KalyxError, WrongUsage
from kalyx.core.facts.editors import formats
from kalyx.core.facts.imports.kept_observation import live_python_of, observation_of
from kalyx.core.facts.interpreters.command_words import follow_script
from kalyx.core.facts.interpreters.pyvenv import parse_venv_config
from kalyx.core.facts.interpreters.who_answer import parse_answer
from kalyx.core.facts.kernels import notebooks
from kalyx.core.facts.kernels.kernelspecs import derive_name, read_kernel
from kalyx.core.facts.native.binaries import read_header
from kalyx.core.facts.native.ld_cache import parse_cache
from kalyx.core.facts.packaging import distributions, plain_markers, requirements
from kalyx.core.facts.packaging.inventory import read_inventory
from kalyx.core.facts.packaging.listed_files import ListedFiles
from kalyx.core.facts.packaging.package_lists import read_package_list
from kalyx.core.facts.packaging.pip_complaints import read_complaint
from kalyx.core.facts.packaging.project import read_list
from kalyx.core.facts.packaging.record_file import Record
from kalyx.core.facts.packaging.wheelhouse import Target, Wheelhouse, fits
from kalyx.core.facts.processes.processes import connection_file_of, kind_of
from kalyx.core.facts.search_path.layers import Layer
from kalyx.core.facts.search_path.pth_files import link_lines
from kalyx.core.facts.shells import commands
from kalyx.core.facts.shells.loaded_modules import read_module_file
from kalyx.core.facts.source_code.imports import read_source
from kalyx.core.facts.text_encoding import decode_text
from kalyx.core.facts.tracebacks.parser import parse_traceback
from kalyx.core.machine.local import RealMachine
from kalyx.core.model import Environment, RunningPython, names
from kalyx.core.wire.client import KernelFailed
from kalyx.core.wire.messages import BadMessage, Session
from kalyx.core.wire.running import parse_connection
from tests.support.build import write
from tests.support.made_up import MadeUpMachine

TEXT = st.text(max_size=400)
JSON_VALUES = st.recursive(st.none() | st.booleans() | st.integers() | TEXT, lambda inner:
                           st.lists(inner, max_size=4) | st.dictionaries(TEXT, inner, max_size=4))


def followed(script: bytes) -> object:
    """Return what a script starts."""
    return follow_script(MadeUpMachine("linux", {"/s": script}), "/s", ("$@",), {"A": "b"}, "/")


NEVER_RAISE = {
    "RECORD": distributions.modules_in_record,
    "METADATA": distributions.parse_heads,
    "requires.txt": distributions.parse_egg_requires,
    "requirement": names.requirement_name,
    "pyvenv.cfg": lambda text: parse_venv_config(text, "/e/pyvenv.cfg", "/e"),
    "first line": lambda text: followed(b"#!" + text.encode("utf-8", "replace")),
    "shell text": lambda text: followed(b"#!/bin/sh\n" + text.encode("utf-8", "replace")),
    "env -S": lambda text: followed(b"#!/usr/bin/env -S " + text.encode("utf-8", "replace")),
    "env file": formats.parse_env_file,
    "who": parse_answer,
    "shell names": commands.parse_shell_names,
    "first word": formats.first_word,
}


ENDLESS = {
    "lines that double": "#!/bin/sh\nA=xxxxxxxxxx\n" + "A=$A$A$A$A$A$A$A$A\n" * 60 + "exec $A\n",
    "arguments that double": "#!/bin/sh\nexec sh \"$0\"" + ' "$@"' * 900 + "\n",
    "reads itself": "#!/bin/bash\n" + ". /s\n" * 9,
    "text of itself": "#!/bin/sh\nA='eval \"$A\";eval \"$A\"'\neval \"$A\"\n",
    "words in words": "#!/bin/sh\nexec " + "$(echo " * 40 + ")" * 40,
    "defaults": "#!/bin/sh\nexec " + "${A:+" * 400 + "}" * 400,
    "open brackets": "#!/bin/sh\n" + "$(" * 4000, "itself": '#!/bin/sh\nexec /s "$@"\n', "script of itself": "#!/s\n",
    "env, itself": "#!/usr/bin/env -S " + "env -S " * 1000, "env, variables": "#!/usr/bin/env -S " + "${A}" * 1900,
}


@pytest.mark.parametrize("name", ENDLESS)
def test_no_script_takes_for_ever(name: str) -> None:
    """What grows with each line or hop is given up before it is large."""
    machine = MadeUpMachine("linux", {"/s": ENDLESS[name]})
    started = follow_script(machine, "/s", ("$@",) * 9, {"A": "b" * 100_000}, "/")
    assert started is not None and sum(map(len, started.words)) < 1_000_000


@pytest.mark.parametrize("name", NEVER_RAISE)
@given(text=TEXT)
def test_parsers_take_anything(name: str, text: str) -> None:
    """No text makes them raise: it is a fact, or it is nothing."""
    NEVER_RAISE[name](text)


@pytest.mark.parametrize("name", sorted(formats.FORMATS))
@given(text=TEXT)
def test_settings_formats_refuse_in_one_way(name: str, text: str) -> None:
    """A settings file is read or refused with ValueError, whatever stands in it."""
    try:
        said = formats.FORMATS[name](text, ("a", "b.c"), ("", ""))
    except (ValueError, RecursionError):
        return
    assert all(isinstance(n.value, str) for n in said.named)


@given(content=JSON_VALUES)
def test_odd_json_in_notebooks_and_kernels(content: object) -> None:
    """A notebook or a kernel.json of any JSON has trouble, or names something usable."""
    machine = MadeUpMachine("linux", {"/n.ipynb": json.dumps(content),
                                      "/k/x/kernel.json": json.dumps(content)})
    notebook = notebooks.read_notebook(machine, "/n.ipynb")
    assert notebook.trouble or notebook.name is None or isinstance(notebook.name, str)
    kernel = read_kernel(machine, "/k/x/kernel.json", "user")
    assert kernel.trouble or kernel.argv


@pytest.mark.parametrize(("record", "modules"), [
    ("pkg/__init__.py,sha256=x,1\npkg/sub/a.py,,\n", {"pkg"}),
    ("single.py,,\nfast.cpython-311-x86_64-linux-gnu.so,,\n", {"single", "fast"}),
    ("../../bin/tool,,\n/etc/x,,\nx-1.0.dist-info/RECORD,,\n__pycache__/a.pyc,,\n", set()),
    ('"odd,name/a.py",,\nwin\\a.py,,\n', {"win"}),
    ("x-1.0.data/scripts/y,,\nnot-a-module/a.py,,\n", set()),
])
def test_modules_in_record(record: str, modules: set[str]) -> None:
    """The top-level modules are those that can be imported, and no others."""
    assert distributions.modules_in_record(record) == modules


def test_who_installed_it() -> None:
    """conda's records and .egg-link files say what a package's own metadata does not."""
    site = "/e/lib/python3.11/site-packages"
    machine = MadeUpMachine("linux", {
        "/e/conda-meta/tray-grid-1.0-py311_0.json": "{}", "/e/conda-meta/history": "",
        f"{site}/tray_grid-1.0.dist-info/METADATA": "Name: tray_grid\nVersion: 1.0\n",
        f"{site}/other-1.0.dist-info/METADATA": "Name: other\nVersion: 1.0\n",
        f"{site}/kit.egg-link": "/code/kit\n../", f"{site}/empty.egg-link": "",
        "/code/kit/kit.egg-info/PKG-INFO": "Name: kit\nVersion: 2\n"})
    found = {d.name: d for d in read_inventory(machine, [Layer("env", site),
                                                         Layer("start", "/code/kit")])}
    assert (found["tray_grid"].installer, found["other"].installer) == ("conda", None)
    assert found["kit"].editable and not found["other"].editable


def test_metadata_in_every_form() -> None:
    """dist-info, egg-info folder and file, requires.txt, a zip; broken ones are passed over."""
    archive = BytesIO()
    with zipfile.ZipFile(archive, "w") as content:
        content.writestr("EGG-INFO/PKG-INFO", "Name: zipped\nVersion: 2\n")
        content.writestr("EGG-INFO/top_level.txt", "zipped\n")
    machine = MadeUpMachine("linux", {
        "/s/a-1.dist-info/METADATA": "Name: A\nVersion: 1\nProvides-Extra: x\n"
                                     "Requires-Dist: b>=1; extra == 'x'\n\nName: not this\n",
        "/s/a-1.dist-info/RECORD": "a.py,,\n", "/s/a-1.dist-info/INSTALLER": "pip\n",
        "/s/a-1.dist-info/REQUESTED": "",
        "/s/b.egg-info/PKG-INFO": "Name: b\nVersion: 2\n",
        "/s/b.egg-info/requires.txt": "c>1\n[x]\nd\n[:python_version<'3']\ne\n",
        "/s/c.egg-info": "Name: c\nVersion: 3\n",
        "/s/broken.dist-info/METADATA": b"\xff\x00", "/s/d-4-py3.8-linux-x86_64.egg-info": "Name: d\n",
        "/s/e-5-py3.8.egg/EGG-INFO/PKG-INFO": "Name: e\n", "/s/f-6-py3.egg-info/PKG-INFO": "Version: 6\n",
        "/z.egg": archive.getvalue(), "/not.egg": b"PK\x03\x04 no"})
    found = {d.name: d for d in distributions.open_shelf(machine, "/s", "env").distributions()}
    assert [f"{n} {found[n].version}" for n in sorted(found)] == ["A 1", "b 2", "c 3", "d 4", "f 6"]
    egg = distributions.open_shelf(machine, "/s/e-5-py3.8.egg", "other").distributions()
    assert [(d.name, d.version) for d in egg] == [("e", "5")], "as its folder says, where its metadata does not"
    assert (found["A"].modules, found["A"].requested, found["A"].extras) == (("a",), True, ("x",))
    assert found["b"].requires == ("c>1", 'd ; extra == "x"', "e ; (python_version<'3')")
    zipped = distributions.open_shelf(machine, "/z.egg", "other").distributions()
    assert [(d.name, d.modules) for d in zipped] == [("zipped", ("zipped",))]
    assert distributions.open_shelf(machine, "/not.egg", "other").distributions() == []


@pytest.mark.parametrize(("requirement", "extras", "expected"), [
    ("a", ("",), True), ("a; python_version < '3'", ("",), False),
    ("a; extra == 'x'", ("",), False), ("a; extra == 'x'", ("", "x"), True),
    ("a; sys_platform == 'win32'", ("",), False), ("a; nonsense", ("",), False), ("a ==", ("",), True),
    ("a; implementation_name == 'cpython' and python_full_version >= '3.9.1'", ("",), True),
])
def test_markers(requirement: str, extras: tuple[str, ...], expected: bool) -> None:
    """Markers hold for the examined interpreter, not for the one that runs Kalyx."""
    values = requirements.marker_values("3.9.18", "cpython", "linux")
    assert requirements.applies(requirement, values, extras) is expected


TERMS = [f"{name} {op} '{said}'" for name, said_of in (
    ("python_version", ("3", "3.8", "3.11.0", "3.10", "3.*", "3.11rc1", "", "x")),
    ("python_full_version", ("3.11.7", "3.11", "2.7.18")),
    ("sys_platform", ("win32", "linux", "linux2", "", "v1", "3")),
    ("os_name", ("nt", "posix")), ("implementation_name", ("pypy", "cpython")), ("platform_machine", ("arm64",)),
    ("extra", ("test", "Te_st", ""))) for op in ("==", "!=", "<", ">=", "in", "~=") for said in said_of] + [
    "'nt' == os_name", "bogus == '1'", "", "and", "(", ")", "python_version < '3' extra == 'x'"]
TARGETS = [requirements.marker_values(*target) for target in (
    ("3.11.7", "cpython", "linux"), ("3.8.0", "pypy", "win32"), ("2.7.18", "cpython", "darwin"),
    ("3.14.0rc1", "cpython", "linux"))]


def told(marker: str, target: dict[str, str], extra: str) -> bool:
    """Return what the package that reads all forms says."""
    try:
        return Marker(marker).evaluate({**target, "extra": extra})
    except (InvalidMarker, UndefinedComparison, UndefinedEnvironmentName):
        return False


@given(st.lists(st.sampled_from(TERMS), min_size=1, max_size=4), st.sampled_from(
    ["{}", "({})", "{} and {}", "{} or {}", "({}) and {}", "{} and ({} or {})", "({} and {}) and {}",
     "({} or {}) or {}", "{} and {} or {}", "({} and ({} and {})) and {}"]), st.sampled_from(["", "test", "te-st"]))
@settings(max_examples=400)
def test_plain_markers(terms: list[str], form: str, extra: str) -> None:
    """What is said without reading all forms is what they say; and of the plain ones it is said."""
    marker = form.format(*(terms * 4))
    for target in TARGETS:
        said = plain_markers.holds_plainly(marker, target, extra)
        assert said is None or said == told(marker, target, extra), (marker, target)


def test_plain_forms_are_read() -> None:
    """Those that installers' files are full of; of odd heads of requirements nothing is said."""
    for marker, holds in (("extra == 'test'", False), ("python_version < '3.12' and extra == 'x'", True),
                          ("(sys_platform != \"win32\") and extra == 'x'", True),
                          ("(os_name == 'nt' or sys_platform == 'linux') and extra == 'test'", False),
                          ("python_full_version >= '3.10.0'", True),
                          ("platform_python_implementation != 'PyPy'", True)):
        assert plain_markers.holds_plainly(marker, TARGETS[0], "x") is holds, marker
    for head in ("a", "a[b]", "a [b , c-d]>=1,<2.*", "a[]", "a[b](>=1)", "a[b", "a[b c]", "a[b,]", "a[-b]", "a[b]foo",
                 "a-[b]", "a[b]>=", "a>=1 [b]", "a[b] @ https://x/y", "a @ https://x/y;z", "a==1.*", "a>=1,,<2", "a~=1",
                 "a==1.0.post1", "a>=1.0+local", "a>=1-x", "a>=1a", "a[b]>=1rc1,!=2.*"):
        try:
            extras: set[str] | None = set(Requirement(head).extras)
        except InvalidRequirement:
            extras = None
        assert not plain_markers.is_plain(head) or extras is not None, head
        assert requirements.extras_of(f"{head} ; os_name == 'nt'") == (extras or set()), head


@given(st.lists(st.tuples(st.sampled_from(["a/", "a/b/", "", "../", "c d/", "/x/"]), st.sampled_from(
    ["m.py", "é,1.py", 'q"q', "__init__.py", "..x"]), st.sampled_from(["", "sha256=a/b,3"])), max_size=9),
    st.booleans())
def test_runs_of_a_record(rows: list[tuple[str, str, str]], windows: bool) -> None:
    """Taken apart later, the rows are the same as read at once, and are found below their folder."""
    names = [folder + name for folder, name, _ in rows]
    said = [f'"{name.replace(chr(34), 2 * chr(34))}"' if set(name) & set(',"') else name for name in names]
    text = "".join(f"{name},{rest}\n" for name, (_, _, rest) in zip(said, rows, strict=True))
    text = text.replace("\n", "\r\n") if windows else text
    machine = MadeUpMachine("linux", {"/s/a-1.dist-info/METADATA": "Name: a\nVersion: 1\n",
                                      "/s/a-1.dist-info/RECORD": text})
    record = Record(machine, distributions.open_shelf(machine, "/s", "env").distributions()[0])
    assert sorted(set(record.names)) == sorted(set(record.rows)) == sorted(set(names))
    assert {n for n in names if ".." in n or n.startswith("/")} == set(record.names_apart)
    listed = ListedFiles()
    listed.take(7, record)
    assert all(name in listed.below(name) for name in names)
    assert listed.names() == {n.partition("/")[0] for n in names} - {""}


@pytest.mark.parametrize(("argv", "expected"), [
    (["python", "-m", "ipykernel_launcher", "-f", "/c.json"], ("kernel", "ipykernel_launcher")),
    (["python3", "-Xfrozen_modules=off", "-m", "ipykernel_launcher"], ("kernel", "ipykernel_launcher")),
    (["/e/bin/python", "/e/bin/jupyter-lab", "--port=1"], ("server", "/e/bin/jupyter-lab")),
    (["python", "-W", "ignore", "tool.py", "-m", "x"], ("script", "tool.py")),
    (["python", "-X", "dev", "-c", "print()\nx"], ("command", "print()")),
    (["python", "-u"], ("shell", "interactive")), (["python", "-"], ("shell", "standard input")),
    (["python", "-Im", "pylsp"], ("language-server", "pylsp")), (["python", "-uBmpylsp"], ("language-server", "pylsp")),
    (["python", "-m", "pylsp"], ("language-server", "pylsp")), (["python", "-m"], ("shell", "interactive")),
])
def test_kinds_of_processes(argv: list[str], expected: tuple[str, str]) -> None:
    """A command line says what a process is."""
    assert kind_of(argv)[:2] == expected


def test_connection_files() -> None:
    """In each form that a kernel takes it."""
    assert [connection_file_of(w) for w in (["-f", "/a"], ["--f=/b"], ["-x"], ["-f"],
                                            ["--IPKernelApp.connection_file=/c"])] == [
        "/a", "/b", None, None, "/c"]


@pytest.mark.parametrize(("text", "expected"), [
    ("pandas", ("pandas", None)), ("a.b.c", ("a.b.c", None)), ("a.b:c", ("a.b", "c")),
    ("scikit-learn", ("scikit_learn", None)), ("größe", ("größe", None)),
    ("", None), ("a b", None), ("a..b", None), ("1a", None), ("a:b:c", None), ("a:", ("a", None)),
    ("a;b", None), ("../a", None),
])
def test_requests(text: str, expected: tuple[str, str | None] | None) -> None:
    """What is asked for is the name of a module, or wrong usage."""
    if text == "a:":
        expected = None
    if expected is None:
        with pytest.raises(WrongUsage):
            parse_request(text)
    else:
        assert parse_request(text) == expected


@pytest.mark.parametrize(("name", "kind", "expected"), [
    ("lab", "venv", "lab"), ("Lab 2/.venv", "venv", "lab-2"), ("3.11.7", "base", "python-3.11.7"),
    ("ünï", "venv", "n"), ("..", "venv", "environment"), ("a/b/.venv", "venv", "a"),
])
def test_kernel_names(name: str, kind: str, expected: str) -> None:
    """A derived kernel name holds allowed letters only."""
    assert derive_name(Environment("/x", name, kind, None, "3.11.7")) == expected


def test_pth_lines() -> None:
    """Folders, code, remarks and blank lines, as the site module reads them."""
    machine = MadeUpMachine("linux", {"/s/x.pth": "/abs\nrel\n# no\n\nimport os; os.x\nimport\ty\n"})
    assert [(x.line, x.target) for x in link_lines(machine, "/s")] == [
        (1, "/abs"), (2, "/s/rel"), (5, None), (6, None)]


@given(key=st.binary(max_size=20), content=st.dictionaries(TEXT, TEXT, max_size=3), at=st.integers(1, 5))
def test_messages_are_signed(key: bytes, content: dict[str, str], at: int) -> None:
    """What one side packs the other unpacks; a changed part is not believed."""
    session = Session(key)
    identity, frames = session.pack("test_request", content)
    assert session.unpack([b"route", *frames])["content"] == content
    assert session.unpack(frames)["header"]["msg_id"] == identity
    frames[at] += b" "
    if key:
        with pytest.raises(BadMessage):
            session.unpack(frames)
    for broken in ([], [b"<IDS|MSG>"], [b"<IDS|MSG>", b"", b"{"], [b"x"] * 6):
        with pytest.raises(BadMessage):
            session.unpack(broken)


def test_wheelhouse(tmp_path: Path) -> None:
    """Local wheels are found wherever pip is told of them, and only those that fit."""
    names = ["seed_kit-1.0-py3-none-any.whl", "seed_kit-2.0-cp39-cp39-manylinux_2_17_x86_64.whl",
             "seed_kit-3.0-cp38-abi3-manylinux_2_17_x86_64.whl", "seed_kit-4.0-cp311-cp311-win_amd64.whl",
             "seed_kit-5.0b1-py3-none-any.whl", "other-9-py3-none-any.whl", "seed_kit-none.whl"]
    folder, index = tmp_path / "a wheelhouse", tmp_path / "simple" / "seed-kit"
    for name in names:
        with zipfile.ZipFile(write(folder / name, ""), "w") as archive:
            archive.writestr("seedkit/__init__.py", "def sow(): pass\nif 1:\n    deep = 1\n")
            archive.writestr("seedkit/part.py", "")
    write(index / "index.html", f'<a href="../../a%20wheelhouse/{names[0]}#sha256=0">{names[0]}</a>')
    write(tmp_path / "home" / ".config" / "pip" / "pip.conf",
          f"[global]\nextra-index-url =\n  https://index.invalid/simple\n"
          f"  {index.parent.as_uri()}\n")
    write(tmp_path / "broken.conf", "no section\n")
    links = {"PIP_FIND_LINKS": folder.as_uri(), "PIP_CONFIG_FILE": "/dev/null"}
    broken = {"PIP_CONFIG_FILE": str(tmp_path / "broken.conf")}
    for env, versions in ((links, ["3.0", "1.0"]), (broken, ["1.0"]), ({"PIP_NO_INDEX": "1"}, []),
                          ({"PIP_CONFIG_FILE": "/dev/null"}, [])):
        machine = RealMachine({"HOME": str(tmp_path / "home"), **env}, str(tmp_path))
        machine.home = str(tmp_path / "home")
        house = Wheelhouse(machine, machine.env, str(tmp_path / "env"))
        wheels = house.wheels_of("Seed.Kit", Target("3.11.7", "cpython", "linux", "x86_64"))
        assert [str(w.version) for w in wheels] == versions
        for wheel in wheels:
            for asked in (("seedkit", "sow"), ("seedkit", "part"), ("seedkit.part", None)):
                assert house.has(wheel, *asked, "3.12.1")
            for asked in (("seedkit", "reap"), ("seedkit.deep", None), ("kit", None)):
                assert not house.has(wheel, *asked, "3.12.1")


# what an interpreter's compiled modules end in, and which wheels it takes
BUILDS = {
    ".cpython-313-x86_64-linux-gnu.so": "cp313-cp313-manylinux_2_17 cp39-abi3-manylinux_2_17 cp313-none-linux",
    ".cpython-313t-x86_64-linux-gnu.so": "cp313-cp313t-manylinux_2_17 cp313-none-linux",
    ".cpython-313d-x86_64-linux-gnu.so": "cp313-cp313-manylinux_2_17 cp39-abi3-manylinux_2_17 cp313-cp313d-linux "
                                         "cp313-none-linux",
    ".cpython-313-x86_64-linux-musl.so": "cp313-cp313-musllinux_1_2 cp313-none-linux"}


@pytest.mark.parametrize("ending", BUILDS)
def test_wheels_are_for_one_build(ending: str) -> None:
    """Debug and free-threaded builds and the C library decide, as the wheel's tag says (PEP 425, 656, 703)."""
    target = Target.of(RunningPython("3.13.0", suffixes=(ending, ".so")), RealMachine())
    offered = dict.fromkeys(w for wheels in BUILDS.values() for w in wheels.split())
    taken = [w for w in offered if any(fits(t, target) for t in parse_tag(f"{w}_{platform.machine()}"))]
    assert set(taken) == set(BUILDS[ending].split())


def of_file(read: Callable[[MadeUpMachine, str], object], name: str = "/f") -> Callable[[bytes], object]:
    """Return a reader of bytes of one that reads a file."""
    return lambda data: read(MadeUpMachine("linux", {name: data}), name)


def as_text(read: Callable[[str], object]) -> Callable[[bytes], object]:
    """Return a reader of bytes of one that reads a text."""
    return lambda data: read(data.decode("utf-8", "surrogateescape"))


def as_json(read: Callable[[object], object]) -> Callable[[bytes], object]:
    """Return a reader of bytes of one that takes what JSON may hold."""
    return lambda data: read(json.loads(data))


# each with the errors that it may answer with: it is read, or refused in one way
READERS: dict[str, tuple[Callable[[bytes], object], tuple[type[Exception], ...]]] = {
    "binary": (read_header, ()), "library cache": (parse_cache, ()),
    "pip's words": (as_text(read_complaint), ()), "kept variables": (as_text(read_kept), ()),
    "beacon": (as_text(find_blocks), ()), "mail": (lambda d: find_blocks(decode_text(d)), ()),
    "module file": (of_file(lambda m, p: read_module_file(m, "/f", {"A": "b"})), ()),
    "module file, lua": (of_file(lambda m, p: read_module_file(m, "/f", {"A": "b"}), "/f.lua"), ()),
    "list of requirements": (of_file(read_list, "/requirements.txt"), ()),
    "lock file": (of_file(lambda m, path: read_package_list(m, path, {}), "/pylock.toml"), (KalyxError,)),
    "a tool's lock": (of_file(lambda m, path: read_package_list(m, path, {}), "/x.lock"), (KalyxError,)),
    "packages": (of_file(lambda m, path: read_package_list(m, path, {}), "/p.json"), (KalyxError,)),
    "a printed list": (of_file(lambda m, path: read_package_list(m, path, {}), "/p.txt"), (KalyxError,)),
    "connection": (parse_connection, (KernelFailed,)),
    "code": (of_file(read_source, "/s.py"), ()),
    "snapshot": (as_json(lambda v: machine_of(v, "/own")), (ValueError,)),
    "observation": (as_json(observation_of), (ValueError,)),
    "running Python": (as_json(live_python_of), (ValueError,)),
}
WORDS = ["begin", "[kalyx beacon 1: ab begins, 1 lines, 4 bytes]\n", "ab.0000.AAAA.AA\n", "setenv", "prepend_path(",
         "prepend-path PATH /x\n", "\x7fELF\x02\x01\x01", "MZ", "PE\0\0", "\xca\xfe\xba\xbe", "glibc-ld.so.cache1.1",
         "ERROR: ", "ResolutionImpossible", "requires a different Python", "import a.b as c\n", "-r /f\n",
         "[[packages]]\n", "[[package]]\nname = ", "@EXPLICIT\n", "/a-1-py_0.conda\n", "a=1=py_0\n",
         "# Name Version Build\n", "Package Version\n--- ---\n", '{"_meta": {}, "default": ',
         '[{"name": "a", "version": ', '{"installed": [',
         "lock-version = '1.0'\n", '{"outcome": "fails", "chain": [{}]}',
         '{"pid": 1, "python": {}, "loaded": {"a": [null, ""]}}',
         '{"pid": 1, "python": {}, "changed": [{}]}', '{"outcome": "fails"}', '{"machine": 1}', "[]", "null",
         "=", ">=1", ";", "\n", "\0"]


@pytest.mark.parametrize("name", READERS)
@settings(max_examples=int(os.environ.get("KALYX_EXAMPLES", "60")), deadline=None,
          derandomize="KALYX_EXAMPLES" not in os.environ)
@given(data=st.binary(max_size=300) | st.lists(st.sampled_from(WORDS) | st.text(max_size=6), max_size=12).map(
    lambda parts: "".join(parts).encode("utf-8", "surrogatepass")) | JSON_VALUES.map(lambda v: json.dumps(v).encode()))
def test_readers_refuse_in_one_way(name: str, data: bytes) -> None:
    """Any bytes: they are read, or refused by the errors of that reader; never by another exception."""
    read, refusals = READERS[name]
    try:
        read(data)
    except refusals:
        pass
    except (UnicodeDecodeError, json.JSONDecodeError):  # as_json's own
        assert refusals == (ValueError,)


@given(names=st.lists(st.from_regex(r"[a-z_][a-z_0-9]{0,8}", fullmatch=True), min_size=1, max_size=4),
       files=st.lists(st.tuples(st.from_regex(r"/[a-z ]{1,8}/[a-zé]{1,8}\.py", fullmatch=True), st.integers(1, 99999)),
                      min_size=1, max_size=5), message=st.text(st.characters(codec="utf-8", exclude_categories=("C",)),
                                                               max_size=30))
def test_tracebacks_are_read_back(names: list[str], files: list[tuple[str, int]], message: str) -> None:
    """What Python prints of an exception is read as what it was: its frames in their order, type, message, request."""
    asked = ".".join(names)
    frames = [f'  File "{file}", line {line}, in <module>\n    import {asked}\n' for file, line in files]
    said = message.strip() or "x"
    found = parse_traceback(f"Traceback (most recent call last):\n{''.join(frames)}ImportError: {said}\n")
    assert found is not None and (found.chain[0].type, found.chain[0].message) == ("ImportError", said)
    assert [(f.file, f.line) for f in found.chain[0].frames] == files
    if not any(map(keyword.iskeyword, names)):
        assert found.request() == (asked, None, found.chain[0].frames[0])
