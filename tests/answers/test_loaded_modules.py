"""Cluster modules: which of the loaded ones brings an interpreter, a folder of PYTHONPATH or of libraries."""

from __future__ import annotations

import pytest

from kalyx.core.facts.shells.loaded_modules import brought_by, read_module_file
from tests.support.build import World, site_of, write
from tests.support.made_up import MadeUpMachine

TCL = """#%Module1.0
## setenv NOT read
set version 1.9
set root "/opt/scipy/$version"
prepend-path -d : PYTHONPATH $root/lib {/opt/more lib}
append-path LD_LIBRARY_PATH [file join $root lib64]
setenv ROOT ${root}; # it
if { [info exists env(X)] } { setenv UNTOLD [exec date] }
pushenv HERE $env(HOME)/x
prepend-path BAD $nothing/lib
"""
LUA = """-- setenv("NOT", "read")
local version = "1.9"
local root = pathJoin("/opt/scipy", version)
prepend_path("PYTHONPATH", root .. "/lib") -- it
append_path{"LD_LIBRARY_PATH", pathJoin(root, "lib64"), ":"}
setenv('ROOT', root); setenv
pushenv("HERE", os.getenv("HOME") .. "/x")
prepend_path("BAD", unknown .. "/lib")
prepend_path("BAD", f(g("x")))
"""
SAID = [("PYTHONPATH", "/opt/scipy/1.9/lib"), ("LD_LIBRARY_PATH", "/opt/scipy/1.9/lib64"), ("ROOT", "/opt/scipy/1.9"),
        ("HERE", "/home/ada/x")]


@pytest.mark.quick
def test_both_forms_are_read() -> None:
    """Plain Tcl and plain Lua say what they set; what takes more than reading is left out, and noise costs nothing."""
    noise = "setenv A [file; join]\n" + "prepend_path(" * 3000 + '"a" .. ' * 3000 + "\nprepend-path A {" + "[" * 5000
    machine = MadeUpMachine("linux", {"/m/scipy/1.9": TCL, "/m/scipy/2.lua": LUA, "/m/noise": noise,
                                      "/m/noise2.lua": noise})
    env = {"HOME": "/home/ada"}
    tcl = [(name, value) for name, value, _ in read_module_file(machine, "/m/scipy/1.9", env)]
    assert [s for s in tcl if s != ("PYTHONPATH", "/opt/more lib")] == SAID
    assert [(n, v) for n, v, _ in read_module_file(machine, "/m/scipy/2.lua", env)] == SAID
    assert {line for _, _, line in read_module_file(machine, "/m/scipy/2.lua", env)} == {4, 5, 6, 7}
    assert read_module_file(machine, "/m/noise", env) == read_module_file(machine, "/m/noise2.lua", env) == []
    loaded = {**env, "LOADEDMODULES": "numpy/2:scipy/1.9:scipy/2",
              "_LMFILES_": "/gone/numpy/2:/m/scipy/1.9:/m/scipy/2.lua"}
    for value, module, line in (("/opt/scipy/1.9/lib", "scipy/2", 4), ("/opt/more lib", "scipy/1.9", 5),
                                ("/sw/numpy/2/lib/python3", "numpy/2", None), ("/sw/numpy-2/lib", "numpy/2", None),
                                ("/sw/scipy/2/lib", None, None), ("/elsewhere", None, None)):
        found = brought_by(machine, loaded, "PYTHONPATH", value)
        assert (found and (found.module, found.evidence.line)) == ((module, line) if module else None), value
    assert brought_by(machine, {**loaded, "_LMFILES_": "/one"}, "PYTHONPATH", "/sw/scipy/2/lib")
    assert brought_by(machine, {}, "PYTHONPATH", "/opt/scipy/1.9/lib") is None


@pytest.mark.parametrize("ending", ["", ".lua"])
def test_what_a_module_brings_is_said(ending: str, world: World, validate) -> None:
    """`here`, `packages` and `why` name the module and its line; the remedy unloads it."""
    lab = world.venv("lab")
    world.activate(lab)
    brought = world.home / "sw/traygrid/3/lib"
    world.wheels.install(world.wheels.add("traygrid", "3.0", {"traygrid/__init__.py": "old = True\n"}), brought)
    world.wheels.install(world.wheels.add("traygrid", "4.0", {"traygrid/__init__.py": "new = True\n"}), site_of(lab))
    lines = (f'#%Module\nprepend-path PYTHONPATH {brought}\nprepend-path PATH {lab}/bin\n' if not ending else
             f'prepend_path("X", "y")\nprepend_path("PYTHONPATH", "{brought}")\nprepend_path("PATH", "{lab}/bin")\n')
    file = write(world.home / f"modulefiles/traygrid/3{ending}", lines)
    env = {"LOADEDMODULES": "gcc/12:traygrid/3", "_LMFILES_": f"/gone/gcc/12:{file}", "PYTHONPATH": str(brought)}
    here = world.answer("here", env=env)
    validate(here)
    steps = {(s["says"].partition(" puts ")[0], s["where"], s["line"]) for s in here["result"]["seats"][0]["trail"]}
    assert {("the loaded module traygrid/3", str(file), 2), ("the loaded module traygrid/3", str(file), 3)} <= steps
    for words in (("here",), ("packages",), ("why", "traygrid:new")):
        document = world.answer(*words, env=env)
        result = document["result"]
        seats = result.get("seats") or [result["seat"]] if "imports" not in result else []
        found = [f for s in seats for f in (*s["findings"], *(s["environment"] or {}).get("findings", ()))]
        found += [*result.get("findings", ()), *[f for r in result.get("imports", ()) for f in r["causes"]]]
        first = next(f for f in found if f["cause"] in ("layer-leak", "hidden-by-path")) if found else document
        assert any(e["path"] == str(file) and e["line"] == 2 for e in first["evidence"]), (words, first)
        assert [r["typed"] for r in first["remedies"]][:1] == ["module unload traygrid/3"], (words, first["remedies"])
    for words in (("packages",), ("why", "traygrid")):
        notes = [n["note"] for n in world.answer(*words, env=env)["notes"]]
        assert "from-loaded-module" in notes, words
    assert "which the loaded module traygrid/3 brings" in world.kalyx("here", env=env).stdout
