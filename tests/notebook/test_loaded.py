"""What is remembered of loaded modules, and what is told of those that changed."""

from __future__ import annotations

import importlib
import importlib.util
import os
import sys
import types
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from kalyx.notebook.extension import _installation
from kalyx.notebook.loaded import LoadedModules
from tests.support.build import write


@pytest.fixture
def own(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Path]:
    """Return a folder on the path; what is imported of it is forgotten afterwards."""
    monkeypatch.syspath_prepend(str(tmp_path))
    monkeypatch.setattr(sys, "dont_write_bytecode", True)
    before = set(sys.modules)
    yield tmp_path
    for name in set(sys.modules) - before:
        del sys.modules[name]


def rewritten(folder: Path) -> None:
    write(folder / "kalyx_sample.py", "__version__ = '2'\nmore = 1\n")


def replaced(folder: Path) -> None:  # of the same size and time: another file all the same
    info = (folder / "kalyx_sample.py").stat()
    write(folder / "other", (folder / "kalyx_sample.py").read_bytes()).replace(folder / "kalyx_sample.py")
    os.utime(folder / "kalyx_sample.py", ns=(info.st_atime_ns, info.st_mtime_ns))


def gone(folder: Path) -> None:
    (folder / "kalyx_sample.py").unlink()


def reloaded(folder: Path) -> None:
    rewritten(folder)
    importlib.reload(sys.modules["kalyx_sample"])


def again(folder: Path) -> None:
    rewritten(folder)
    del sys.modules["kalyx_sample"]
    importlib.import_module("kalyx_sample")


def dropped(folder: Path) -> None:
    gone(folder)
    del sys.modules["kalyx_sample"]


WHAT: dict[Callable[[Path], None], str | None] = {
    rewritten: "changed", replaced: "changed", gone: "gone", reloaded: None, again: None, dropped: None}


@pytest.mark.parametrize("happens", WHAT, ids=lambda f: f.__name__)
def test_what_happened_to_a_module(happens: Callable[[Path], None], own: Path) -> None:
    """A module whose file is another one now is told, with the loaded version; one that was loaded anew is not."""
    write(own / "kalyx_sample.py", "__version__ = '1'\n")
    seen = LoadedModules()
    importlib.import_module("kalyx_sample")
    seen.look()
    assert not [one for one in seen.changed() if one["name"] == "kalyx_sample"]
    happens(own)
    seen.look()
    told = [one for one in seen.changed() if one["name"] == "kalyx_sample"]
    assert [(one["how"], one["version"], one["file"]) for one in told] == (
        [(WHAT[happens], "1", str(own / "kalyx_sample.py"))] if WHAT[happens] else [])


def test_loaded_again_and_changed_again(own: Path) -> None:
    """A module that was loaded anew is remembered as it was then."""
    write(own / "kalyx_sample.py", "__version__ = '1'\n")
    importlib.import_module("kalyx_sample")
    seen = LoadedModules()
    reloaded(own)
    seen.look()
    write(own / "kalyx_sample.py", "__version__ = '3'\nmuch = more = 1\n")
    assert [one["version"] for one in seen.changed() if one["name"] == "kalyx_sample"] == ["2"]


def test_odd_modules(own: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """What is no module, has no file, an odd one, or is lazy is passed by, and not woken."""
    write(own / "kalyx_lazy.py", "raise SystemExit('it was woken')\n")
    spec = importlib.util.find_spec("kalyx_lazy")
    assert spec is not None and spec.loader is not None
    spec.loader = importlib.util.LazyLoader(spec.loader)
    lazy = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(lazy)

    class Odd(types.ModuleType):
        def __getattr__(self, name: str) -> object:
            raise RuntimeError(name)

    odd = Odd("kalyx_odd")
    odd.__file__ = 7  # type: ignore[assignment]
    for name, module in (("kalyx_lazy", lazy), ("kalyx_odd", odd), ("kalyx_text", "text"), ("kalyx_none", None)):
        monkeypatch.setitem(sys.modules, name, module)  # type: ignore[arg-type]
    seen = LoadedModules()
    (own / "kalyx_lazy.py").unlink()
    assert [(one["name"], one["how"]) for one in seen.changed() if one["name"].startswith("kalyx_")] == [
        ("kalyx_lazy", "gone")]


def test_where_kalyx_lies(own: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """The process that answers gets Kalyx and the site folders, and nothing of the notebook's folder or of cells."""
    site = own / "lib" / "site-packages"
    monkeypatch.chdir(own)
    monkeypatch.setattr(sys, "path", ["", str(own), "relative/site-packages", str(own / "cells"), str(site), 7])
    found = _installation()
    assert found[1:] == [str(site)] and (Path(found[0]) / "kalyx" / "__init__.py").is_file()
