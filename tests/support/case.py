"""Hand-built cases: one import on a machine of a few made-up files, with nothing run."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from kalyx.core.facts.environments.neighbours import Neighbours
from kalyx.core.facts.imports.case import Case
from kalyx.core.model import (
    Environment,
    Frame,
    Interpreter,
    Launch,
    Observation,
    ObservedError,
    Place,
    RunningPython,
    Seat,
)
from tests.support.made_up import MadeUpMachine

BASE, LAB, START = "/opt/py", "/home/ada/lab/.venv", "/home/ada/lab"
USER = "/home/ada/.local/lib/python3.11/site-packages"
LIB, SITE = f"{BASE}/lib/python3.11", f"{LAB}/lib/python3.11/site-packages"
OTHER = "/home/ada/envs/other"
BASE_SITE, OTHER_SITE = f"{LIB}/site-packages", f"{OTHER}/lib/python3.11/site-packages"
SUFFIX = ".cpython-311-x86_64-linux-gnu.so"
PLACES = {"SITE": SITE, "LIB": LIB, "START": START, "USER": USER, "BASESITE": BASE_SITE, "OTHER": OTHER_SITE,
          "BASE": BASE,
          "LAB": LAB, "HOME": "/home/ada", "EXTRA": "/extra"}
FILES = {"LIB/os.py": "", "LIB/json/__init__.py": "", "LIB/random.py": "", "BASE/bin/python3.11": b"\x7fELF Py_",
         "LAB/pyvenv.cfg": f"home = {BASE}/bin\n", "LAB/bin/python": f"->{BASE}/bin/python3.11",
         "SITE/pip/__init__.py": "", "SITE/pip-24.0.dist-info/METADATA": "Name: pip\nVersion: 24.0\n"}


def placed(name: str) -> str:
    """Return a path whose first part stands for a folder, as SITE and START do."""
    first, _, rest = name.partition("/")
    return f"{PLACES[first]}/{rest}" if first in PLACES else name


def distribution(name: str, version: str = "1.0", files: Mapping[str, str | bytes] | None = None, *,
                 site: str = "SITE", requires: Sequence[str] = (), extras: Sequence[str] = ()
                 ) -> dict[str, str | bytes]:
    """Return the files of an installed distribution, its RECORD among them."""
    module = name.replace("-", "_")
    code = {f"{module}/__init__.py": ""} if files is None else files
    info = f"{site}/{module}-{version}.dist-info"
    heads = "".join([f"Name: {name}\nVersion: {version}\n", *(f"Requires-Dist: {r}\n" for r in requires),
                     *(f"Provides-Extra: {e}\n" for e in extras)])
    return {**{f"{site}/{n}": t for n, t in code.items()}, f"{info}/METADATA": heads,
            f"{info}/RECORD": "".join(f"{n},,\n" for n in code), f"{info}/INSTALLER": "pip\n"}


def error(kind: str, message: str, *places: str, name: str | None = None, path: str = "", line: int | None = None
          ) -> ObservedError:
    """Return an exception; each place is ``FILE:LINE``, the innermost last."""
    frames = tuple(Frame(placed(p.rpartition(":")[0]), int(p.rpartition(":")[2]), "<module>") for p in places)
    return ObservedError(kind, message, name, placed(path) or None, frames, lineno=line)


def absent(module: str, *places: str) -> ObservedError:
    """Return the exception for a module that is not there."""
    return error("ModuleNotFoundError", f"No module named '{module}'", *places, name=module)


class OneOther:
    """What finds one other environment, and the base."""

    def __init__(self, interpreter: Interpreter, known: bool) -> None:
        self._known = known
        self._base = Environment(BASE, "py", "base", BASE, "3.11.7", (), interpreter)
        python = Interpreter(f"{OTHER}/bin/python", f"{BASE}/bin/python3.11", "3.11.7", "cpython", OTHER, BASE)
        self._other = Environment(OTHER, "other", "venv", BASE, "3.11.7", (), python)

    def prefixes(self) -> list[str]:
        return [OTHER, BASE] if self._known else []

    def describe(self, prefix: str) -> Environment | None:
        return {OTHER: self._other, BASE: self._base}.get(prefix)

    def environments(self) -> list[Environment]:
        return [self._other, self._base] if self._known else []

    def config_of(self, path: str) -> None:
        return None

    def bases(self) -> list[Interpreter]:
        return [self._base.interpreter] if self._known and self._base.interpreter else []

    def kernels(self) -> list[object]:
        return []


def made_case(module: str, files: Mapping[str, str | bytes] | None = None, *chain: ObservedError, outcome: str = "",
              name: str | None = None, origin: str = "", loaded: Mapping[str, str] | None = None,
              path: Sequence[str] = (), env: Mapping[str, str] | None = None, base: bool = False,
              asked: Sequence[Place] = (), closed: Sequence[str] = (), known: bool = True, **python: object) -> Case:
    """Return a case: what was asked for, the files beside those of `FILES`, and the exceptions, the last one first.

    `closed` are folders that may not be listed; without `known` no other environment is known, and no base.
    `path` are entries of sys.path after the start folder; without any it is the usual one. With `base` the seat
    is the base installation.
    """
    machine = MadeUpMachine("linux", {placed(n): t for n, t in {**FILES, **(files or {})}.items()},
                            env=env, cwd=START, home="/home/ada", closed=[placed(c) for c in closed])
    prefix = BASE if base else LAB
    program = f"{prefix}/bin/python{'3.11' if base else ''}"
    usual = ["LIB", f"{LIB}/lib-dynload", "BASESITE" if base else "SITE"]
    entries = tuple(PLACES.get(p, p) for p in (path or usual))
    said = {"version": "3.11.7", "executable": program, "prefix": prefix, "base_prefix": BASE, "path": ("", *entries),
            "cwd": START, "platform": "linux", "suffixes": (SUFFIX, ".abi3.so", ".so"), "builtin": ["sys", "_io"],
            "stdlib": ["json", "os", "random", "sqlite3", "_sqlite3"], "user_site": USER, "cache_tag": "cpython-311",
            **python}
    interpreter = Interpreter(program, f"{BASE}/bin/python3.11", str(said["version"]), "cpython", prefix, BASE)
    environment = Environment(prefix, "lab/.venv", "base" if base else "venv", BASE, "3.11.7", (), interpreter)
    seat = Seat("shell", "shell", "this shell", interpreter, environment,
                launch=Launch((program,), dict(env or {}), START))
    observation = Observation(
        module, name, outcome or ("fails" if chain else "imports"), RunningPython(**said),  # type: ignore[arg-type]
        chain, placed(origin) or None, loaded={k: (placed(v), ()) for k, v in (loaded or {}).items()})
    survey = OneOther(Interpreter(f"{BASE}/bin/python3.11", f"{BASE}/bin/python3.11", "3.11.7", "cpython", BASE, BASE),
                      known)
    return Case(machine, seat, observation, Neighbours(machine, survey), asked=asked)  # type: ignore[arg-type]
