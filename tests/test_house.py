"""The rules of the house: which way imports point, what the probe may use, tables that hold."""

from __future__ import annotations

import ast
import graphlib
import importlib
import json
import re
from functools import cache
from pathlib import Path

import pytest

from kalyx.core.tables import import_names, standard_library
from kalyx.core.verdicts import explanations, index
from kalyx.core.verdicts.catalogue import CATALOGUE, CHECKS
from kalyx.core.verdicts.reading.spelling import is_one_edit, near_names
from tests.support.build import World, other_pythons, run

SOURCE = Path(importlib.import_module("kalyx").__file__ or "").parent
# each room of core/ may import only what stands before it
ORDER = ["lean", "errors", "masks", "quoting", "redaction", "toml", "model", "machine", "tables", "facts", "verdicts",
         "entering", "wire", "changes", "carried", "answers"]


@cache
def modules() -> dict[str, Path]:
    """Return every module by its dotted name."""
    return {".".join(["kalyx", *file.relative_to(SOURCE).with_suffix("").parts]).removesuffix(".__init__"): file
            for file in SOURCE.rglob("*.py")}


@cache
def text_of(file: Path) -> str:
    """Return what a file of the source says."""
    return file.read_text()


@cache
def tree_of(file: Path) -> ast.Module:
    """Return the syntax tree of a file of the source."""
    return ast.parse(text_of(file))


@cache
def nodes_of(tree: ast.Module) -> list[ast.AST]:
    """Return all that is in a tree."""
    return list(ast.walk(tree))


@cache
def imports_of(file: Path) -> set[str]:
    """Return the modules that a file imports anywhere in it, in functions and for types alone as well."""
    found, known = set(), modules()
    for node in nodes_of(tree_of(file)):
        if isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom):
            inner = {f"{node.module}.{alias.name}" for alias in node.names} & set(known)
            found |= inner or {node.module or ""}
    return found


@cache
def arrows() -> dict[str, set[str]]:
    """Return for each module which others of the project it imports."""
    known = modules()
    return {name: (imports_of(file) & set(known)) - {"kalyx"} for name, file in known.items()}


def test_no_circles() -> None:
    """No module imports one that imports it, by however many steps; nor do the modules and folders of a folder,
    each taken as one.
    """
    graphlib.TopologicalSorter(arrows()).prepare()
    levels: dict[str, dict[str, set[str]]] = {}
    for name, others in arrows().items():
        mine = name.split(".")
        for theirs in (other.split(".") for other in others):
            depth = next((n for n, (x, y) in enumerate(zip(mine, theirs, strict=False)) if x != y), None)
            if depth is not None:
                levels.setdefault(".".join(mine[:depth]), {}).setdefault(mine[depth], set()).add(theirs[depth])
    for graph in levels.values():
        graphlib.TopologicalSorter(graph).prepare()


def code_lines(node: ast.FunctionDef, text: list[str]) -> int:
    """Return how many lines of code a function has, its docstring and comments left out."""
    first = node.body[1] if ast.get_docstring(node) and len(node.body) > 1 else node.body[0]
    lines = (line.strip() for line in text[first.lineno - 1: node.end_lineno])
    return sum(bool(line) and not line.startswith("#") for line in lines)


def test_nothing_is_long() -> None:
    """No module has more than 400 lines, no function more than 40; the probe is one file, as it runs as one, and a
    beacon one function, which leaves no names where it is pasted.
    """
    for name, file in modules().items():
        text = text_of(file).splitlines()
        assert len(text) <= 400 or ".probe." in name, name
        for node in nodes_of(tree_of(file)):
            if isinstance(node, ast.FunctionDef):
                assert code_lines(node, text) <= 40 or name == "kalyx.probe.beacon", (name, node.name)


def test_modules_named_in_strings() -> None:
    """A module that code names in a string is there."""
    for file in SOURCE.rglob("*.py"):
        for name in re.findall(r"[\"'](kalyx\.(?:core|cli|show)\.[a-z_.]*[a-z_])[\"']", text_of(file)):
            assert name in modules(), (file, name)


def test_rooms_of_verdicts() -> None:
    """A room of causes knows no other; nothing in the verdicts knows the machine, or how seats are found."""
    for name, others in arrows().items():
        if name.startswith("kalyx.core.verdicts"):
            assert not {o for o in others if o.startswith("kalyx.core.machine")}, name
        room = re.match(r"kalyx\.core\.verdicts\.causes\.(\w+)\.", name)
        for other in others:
            theirs = re.match(r"kalyx\.core\.verdicts\.causes\.(\w+)\.", other)
            assert not room or not theirs or room[1] == theirs[1], (name, other)


def test_imports_point_one_way() -> None:
    """core/ knows nothing of the interface, and its rooms only of those before them."""
    for file in (SOURCE / "core").rglob("*.py"):
        part = file.relative_to(SOURCE / "core").parts[0].removesuffix(".py")
        for name in imports_of(file):
            assert not re.match(r"kalyx\.(cli|show|demo)|argparse|rich", name), (file, name)
            match = re.match(r"kalyx\.core\.(\w+)", name)
            if match and part != "__init__":
                assert match.group(1) in ORDER[: ORDER.index(part) + 1], (file, name)
    for file in (SOURCE / "show").rglob("*.py"):
        assert not {n for n in imports_of(file) if n.startswith("kalyx.cli")}


def test_outside_is_reached_by_the_door_alone() -> None:
    """No facts or verdicts open files, read variables or start processes themselves."""
    for part in ("verdicts", "model"):
        for file in (SOURCE / "core" / part).rglob("*.py"):
            assert not {"os", "subprocess", "pathlib", "io", "tempfile"} & imports_of(file), file
            assert "open(" not in re.sub(r"\w+open\(", "", text_of(file)), file


def test_safety_page_is_held_by_tests() -> None:
    """Each promise of docs/safety.md names a test, and the test is there."""
    page = (Path(__file__).parent.parent / "docs" / "safety.md").read_text()
    promises = page.partition("## What does not hold")[0]
    lines = [ln for ln in promises.split("\n") if ln.startswith("- ")]
    assert len(lines) > 15
    for line in lines:
        file, name = re.findall(r"`(test_\w+\.py)::(test_\w+)`$", line)[0]
        assert f"def {name}(" in next(Path(__file__).parent.rglob(file)).read_text(), line


@cache
def own_names(tree: ast.Module) -> set[str]:
    """Return the names that a module defines at its top, under conditions as well."""
    found: set[str] = set()
    for node in nodes_of(tree):
        if isinstance(node, (ast.FunctionDef, ast.ClassDef)):
            found.add(node.name)
        elif isinstance(node, ast.Assign):
            found |= {name.id for target in node.targets for name in ast.walk(target) if isinstance(name, ast.Name)}
        elif isinstance(node, ast.AnnAssign) and isinstance(node.target, ast.Name):
            found.add(node.target.id)
    return found


def names_taken(tree: ast.Module) -> set[tuple[str, str]]:
    """Return (module, name) for each name of another module that a module uses: imported, or as an attribute."""
    known, bound, found = modules(), {}, set()
    for node in nodes_of(tree):
        if isinstance(node, ast.ImportFrom) and node.module in known:
            for alias in node.names:
                inner = f"{node.module}.{alias.name}"
                if inner in known:
                    bound[alias.asname or alias.name] = inner
                else:
                    found.add((node.module, alias.name))
    return found | {(bound[node.value.id], node.attr) for node in nodes_of(tree)
                    if isinstance(node, ast.Attribute) and isinstance(node.value, ast.Name) and node.value.id in bound}


def test_public_names_are_as_listed() -> None:
    """Every ``__all__`` lists names that the module has, each once, and what other modules use is listed."""
    trees = {name: tree_of(file) for name, file in modules().items() if "payload" not in file.parts}
    listed: dict[str, list[str]] = {}
    for name, tree in trees.items():
        found = [node.value for node in tree.body if isinstance(node, ast.Assign)
                 and isinstance(node.targets[0], ast.Name) and node.targets[0].id == "__all__"]
        listed[name] = ast.literal_eval(found[0]) if found else []
        assert len(listed[name]) == len(set(listed[name])), name
        if ".probe" not in name and not name.endswith("__main__"):
            module = importlib.import_module(name)
            lacking = {n for n in listed[name] if not hasattr(module, n)} - (own_names(tree) if listed[name] else set())
            assert not lacking, (name, lacking)
    own = {name: own_names(tree) for name, tree in trees.items()}
    for name, tree in trees.items():
        for other, taken in names_taken(tree):
            if taken in own[other] and not re.match(r"kalyx\.(cli|show\.pages)\.\w+$", other):
                assert taken in listed[other], (name, other, taken)


@pytest.mark.parametrize("version", sorted(other_pythons()))
def test_probe_runs_on_every_python(version: str, world: World) -> None:
    """The who probe answers under each interpreter, as it is run."""
    probe = SOURCE / "probe" / "who.py"
    flags = ["-E", "-s", "-S"] if version == "2.7" else ["-I", "-S"]
    done = run([other_pythons()[version], *flags, probe], env=world.env)
    answer = json.loads(done.stdout)
    assert answer["executable"] and answer["kalyx"] == "1"


def test_tables() -> None:
    """Names differ where the table says so; histories are versions in order."""
    content = json.loads((SOURCE / "core/tables/import_names.json").read_text())["modules"]
    assert all(re.fullmatch(r"[A-Za-z_][\w.]*", m) and re.fullmatch(r"[\w.-]+", d)
               for m, d in content.items())
    assert (import_names.distribution_for("sklearn"), import_names.module_for("Scikit_Learn")) == (
        "scikit-learn", "sklearn")
    assert [import_names.distribution_for(n) for n in (
        "google.protobuf.descriptor", "google.cloud.storage.blob", "azure.storage.queue", "google",
        "google.auth", "ruamel.yaml")] == ["protobuf", "google-cloud-storage", "azure-storage-queue", None,
                                           "google-auth", "ruamel.yaml"]
    assert import_names.module_for("protobuf") == "google.protobuf"
    assert [import_names.module_for(n) for n in ("matplotlib", "setuptools", "numpy")] == [None] * 3
    for name, (since, until, _) in standard_library.stdlib_history()["modules"].items():
        assert since or until, name
        if since and until:
            assert tuple(map(int, since.split("."))) < tuple(map(int, until.split(".")))


def test_history_agrees_with_the_interpreters() -> None:
    """What the table says of a version is what the interpreters of this machine have."""
    for short, python in other_pythons().items():
        if not re.fullmatch(r"3\.\d+", short):
            continue
        version = tuple(map(int, short.split(".")))
        wanted = [n for n, (since, until, _) in standard_library.stdlib_history()["modules"].items()
                  if n not in ("winreg", "msilib", "ossaudiodev", "nis", "lzma", "tkinter")]
        done = run([python, "-I", "-S", "-c", (
            "import sys, importlib.util as u\ndef has(n):\n    try:\n        return u.find_spec(n)\n"
            "    except Exception:\n        return None\nprint(' '.join(n for n in sys.argv[1:] if has(n)))"),
            *wanted])
        has = set(done.stdout.split())
        for name in wanted:
            since, until, _ = standard_library.stdlib_history()["modules"][name]
            there = (not since or version >= tuple(map(int, since.split(".")))) and (
                not until or version < tuple(map(int, until.split("."))))
            assert (name in has) == there, (name, short)


def test_dropped_names_agree_with_the_interpreters() -> None:
    """A name that the table says was dropped is there before, and not after."""
    table = standard_library.stdlib_history()["names"]
    code = ("import importlib, sys\nfor n in sys.argv[1:]:\n    m, _, a = n.rpartition('.')\n"
            "    try:\n        print(n, int(hasattr(importlib.import_module(m), a)))\n"
            "    except ImportError:\n        pass\n")
    for short, python in other_pythons().items():
        if not re.fullmatch(r"3\.\d+", short):
            continue
        version = tuple(map(int, short.split(".")))
        for line in run([python, "-W", "ignore", "-c", code, *table]).stdout.splitlines():
            name, has = line.split()
            gone = tuple(map(int, table[name][0].split(".")))
            assert (has == "1") == (version < gone), (name, short)


def test_causes_are_explained() -> None:
    """Every cause has its four parts in words, and docs/causes.md is what the checks say."""
    for item in explanations.all_explanations():
        assert all(len(getattr(item, key)) > 4 for key in explanations.LABELS), item.cause
    assert (Path(__file__).parent.parent / "docs" / "causes.md").read_text() == explanations.as_markdown()
    assert {slug for entry in CATALOGUE.values() for slug in entry.instead_of} <= set(CATALOGUE)


def test_catalogue() -> None:
    """Every cause has a slug, a group, a sentence; the index is what the checks say of themselves."""
    assert Path(index.__file__).read_text() == explanations.as_index()
    assert all(check.why_here for check in CHECKS)
    for slug, entry in CATALOGUE.items():
        assert re.fullmatch(r"[a-z0-9]+(-[a-z0-9]+)*", slug)
        assert entry.group in "ABCDEFG" and entry.when and entry.brief
        assert (entry.check.__doc__ or "").strip().endswith(".")


@pytest.mark.parametrize(("a", "b", "near"), [
    ("pandas", "panda", True), ("pandas", "pandsa", True), ("pandas", "bandas", True),
    ("pandas", "pandass", True), ("pandas", "pandas", False), ("pandas", "padnsa", False),
    ("ab", "ba", True), ("abc", "xyz", False),
])
def test_one_edit(a: str, b: str, near: bool) -> None:
    """Insertions, droppings, changes and swapped neighbours are one edit; more is not."""
    assert is_one_edit(a, b) is near and is_one_edit(b, a) is near
    assert near_names("Json", {"json", "jsom", "x"}) == ["json"]
