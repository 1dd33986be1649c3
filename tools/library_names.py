"""Write src/kalyx/core/tables/library_names.json: which names of the standard library came and went.

    python tools/library_names.py PYTHON...

Asks each interpreter given, one of each version from 3.6 on, what its modules,
classes and functions have; only what is not in all of them is written. A value
is ``3.11`` for what that version brought, ``-3.12`` for what it took out, and
``3.8-3.12`` for both.
"""

from __future__ import annotations

import json
import subprocess
import sys
from collections.abc import Iterable
from pathlib import Path

TABLE = Path(__file__).parent.parent / "src" / "kalyx" / "core" / "tables" / "library_names.json"
# Asked in two rounds: what is there, and then of everything that is there anywhere, whether it is here
# too, as a module may have names that it does not list.
PROBE = r'''
import importlib, inspect, io, json, os, pkgutil, sys, types, warnings
warnings.simplefilter("ignore")
SKIPPED = {"antigravity", "this", "idlelib", "turtledemo", "test", "tests", "__main__", "lib2to3", "ensurepip",
           "pydoc_data", "__phello__", "_testcapi", "xxlimited", "xxlimited_35", "distutils"}
SPECIAL = {"__class_getitem__", "__or__", "__ror__", "__ior__", "__enter__", "__aenter__", "__reversed__",
           "__matmul__", "__index__"}
KINDS = (inspect.Parameter.POSITIONAL_OR_KEYWORD, inspect.Parameter.KEYWORD_ONLY)

def modules():
    folder = os.path.dirname(os.__file__)
    found = [m[1] for m in pkgutil.iter_modules([folder, os.path.join(folder, "lib-dynload")])]
    found += [n for n in sys.builtin_module_names if not n.startswith("_")]
    waiting = [n for n in sorted(set(found)) if n not in SKIPPED and not n.startswith("_")] + ["__future__"]
    while waiting:
        name = waiting.pop(0)
        try:
            module = importlib.import_module(name)
        except BaseException:
            continue
        yield name, module
        for entry in pkgutil.iter_modules(getattr(module, "__path__", [])):
            part = entry[1]
            if part not in SKIPPED and not part.startswith(("_", "test")):
                waiting.append(name + "." + part)

def parameters(value):
    try:
        return [p.name for p in inspect.signature(value).parameters.values() if p.kind in KINDS]
    except Exception:
        return None

def has(value, name):
    try:
        getattr(value, name)
        return True
    except BaseException:
        return False

asked = json.load(open(sys.argv[1])) if len(sys.argv) > 1 else {}
names, members, calls, seen = {}, {}, {}, set()
for name, module in [*modules(), ("os.path", os.path)]:
    listed = {n for n in dir(module) if not n.startswith("_")}
    kept = {n for n in listed if not isinstance(getattr(module, n, None), types.ModuleType)}
    names[name] = sorted(kept | {n for n in asked.get("names", {}).get(name, ()) if has(module, n)})
    for key, value in sorted(vars(module).items()):
        home = getattr(value, "__module__", None)
        if isinstance(value, type) and (home == name or name == "builtins") and value not in seen:
            seen.add(value)
            whole = name + "." + key
            own = {a for a in dir(value) if not a.startswith("_") or a in SPECIAL}
            own |= {a for a in asked.get("members", {}).get(whole, ()) if has(value, a)}
            members[whole] = sorted(own)
            calls[whole] = parameters(value)
            for attribute, method in sorted(vars(value).items()):
                if not attribute.startswith("_") and callable(method):
                    calls[whole + "." + attribute] = parameters(method)
        elif callable(value) and not key.startswith("_") and (home == name or name == "builtins"):
            calls[name + "." + key] = parameters(value)
print("\n" + json.dumps({"version": "%d.%d" % sys.version_info[:2], "names": names, "members": members,
                         "calls": calls}))
'''
# What has no signature to read
BY_HAND = {"builtins.zip": {"strict": "3.10"}, "builtins.sum": {"start": "3.8"},
           "builtins.pow": {"base": "3.8", "exp": "3.8", "mod": "3.8"}}


def ask(python: str, *arguments: str) -> dict:
    """Return what one interpreter has."""
    done = subprocess.run([python, "-I", "-c", PROBE, *arguments], check=False, capture_output=True, text=True,
                          stdin=subprocess.DEVNULL)
    if done.returncode:
        sys.exit(f"{python}: {done.stderr}")
    return json.loads(done.stdout.splitlines()[-1])


def key_of(version: str) -> tuple[int, ...]:
    """Return a version in the form that compares."""
    return tuple(int(n) for n in version.split("."))


def span(present: list[bool], versions: list[str]) -> str | None:
    """Return when something came and went; None when it was always there or came twice."""
    changes = [n for n in range(1, len(present)) if present[n] != present[n - 1]]
    if not changes or len(changes) > 2 or (len(changes) == 2 and present[0]):
        return None
    came = "" if present[0] else versions[changes[0]]
    went = versions[changes[-1]] if not present[-1] else ""
    return f"{came}-{went}" if went else came


def changed(tables: list[dict[str, Iterable[str] | None]], versions: list[str]) -> dict[str, dict[str, str]]:
    """Return what came or went inside the things that several versions have."""
    found: dict[str, dict[str, str]] = {}
    for owner in sorted({key for table in tables for key in table}):
        places = [n for n, table in enumerate(tables) if owner in table]
        if len(places) < 2 or places != list(range(places[0], places[-1] + 1)) or any(
                tables[n][owner] is None for n in places):
            continue
        inside = [set(tables[n][owner] or ()) for n in places]
        for name in sorted(set().union(*inside)):
            when = span([name in held for held in inside], [versions[n] for n in places])
            if when:
                found.setdefault(owner, {})[name] = when
    return found


def main() -> int:
    """Ask every interpreter twice and write the table."""
    first = sorted((ask(python) for python in sys.argv[1:]), key=lambda a: key_of(a["version"]))
    everything: dict[str, dict[str, list[str]]] = {"names": {}, "members": {}}
    for answer in first:
        for kind, table in everything.items():
            for owner, held in answer[kind].items():
                table[owner] = sorted({*table.get(owner, ()), *held})
    union = TABLE.with_suffix(".asked")
    union.write_text(json.dumps(everything))
    try:
        answers = sorted((ask(p, str(union)) for p in sys.argv[1:]), key=lambda a: key_of(a["version"]))
    finally:
        union.unlink()
    versions = [a["version"] for a in answers]
    table = {"comment": "Made by tools/library_names.py. 3.11: that version brought it; -3.12: that version "
                        "took it out.", "versions": [versions[0], versions[-1]]}
    table |= {kind: changed([a[kind] for a in answers], versions) for kind in ("names", "members", "calls")}
    for call, known in BY_HAND.items():
        table["calls"][call] = {**table["calls"].get(call, {}), **known}
    TABLE.write_text(json.dumps(table, indent=0, sort_keys=True, separators=(",", ":")) + "\n")
    return 0


if __name__ == "__main__":
    sys.exit(main())
