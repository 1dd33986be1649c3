"""Which pip installs for a seat, and how it is started so that it sees what the seat sees."""

from __future__ import annotations

from kalyx.core.facts.interpreters.pyvenv import find_venv_config
from kalyx.core.facts.packaging.pip_lines import can_serve, lent_pip, own_pip
from kalyx.core.model import version_pair
from kalyx.core.verdicts.known import as_known

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterator

    from kalyx.core.facts.environments.neighbours import Neighbours
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.facts.packaging.pip_lines import Pip
    from kalyx.core.model import Environment, Interpreter

__all__ = ["allowed", "managed_marker", "pip_flags", "serving", "serving_new", "serving_seat"]


def pip_flags(case: Case) -> tuple[str, ...]:
    """Return the flags with which pip sees what the seat sees, and does not fail over what the import failed over.

    ``-I`` where a file hides a module of the standard library: it hides it from ``python -m pip`` run in the
    same folder too. ``-s`` and ``-E`` where the seat itself ignores the user site and the variables, or has other
    ones than this shell: else pip finds there what the seat does not see, and changes nothing.
    """
    if case.python.version_pair < (3, 4):
        return ()
    calm = ("-W", "ignore") if "error" in case.launch.env.get("PYTHONWARNINGS", "") else ()  # pip warns too
    flags = case.python.flags
    if flags.get("isolated") or as_known(case.files, lambda: _hides_library(case), False):
        return (*calm, "-I")
    config = find_venv_config(case.files, case.python.executable)
    alone = flags.get("no_user_site") and (config is None or config.open_to_base)
    closed = flags.get("ignore_environment") or (
        case.files.env.get("PYTHONPATH", "") not in ("", case.launch.env.get("PYTHONPATH", "")))
    return (*calm, *(["-s"] if alone else ()), *(["-E"] if closed else ()))


def _hides_library(case: Case) -> bool:
    """Whether a file of the start folder or of PYTHONPATH has the name of a module of the standard library."""
    for layer in case.modules.layers:
        if layer.layer in ("start", "pythonpath"):
            stems = {n.removesuffix(".py") for n in case.modules.finder.names(layer.path)}
            for name in stems & (case.modules.stdlib_names | {"pip"}):
                if case.modules.finder.find_in(layer.path, name) is not None:
                    return True
    return False


def serving(case: Case) -> Pip | None:
    """Return the pip that serves the seat's interpreter; None when there is none to use.

    Where the seat's environment has no pip of its own, another environment's that can serve its version of
    Python installs into it.
    """
    if case.modules.candidates("pip"):
        return own_pip(case.python.executable, pip_flags(case))
    return _lent(case.elsewhere.known, case.python.executable, case.python.version or "", case.python.base_prefix)


def serving_seat(neighbours: Neighbours, interpreter: Interpreter) -> Pip | None:
    """Return the pip that serves an interpreter, its own or another environment's; None when there is none to use."""
    if neighbours.any_holds(neighbours.visible_sites(interpreter), "pip"):
        return own_pip(interpreter.path)
    return _lent(neighbours, interpreter.path, interpreter.version or "", interpreter.base_prefix or "")


def serving_new(case: Case, python: str) -> Pip | None:
    """Return the pip that serves an environment which is made of the seat's Python, without one of its own."""
    return _lent(case.elsewhere.known, python, case.python.version or "", "")


def _lent(neighbours: Neighbours, python: str, version: str, base: str) -> Pip | None:
    """Return another environment's pip that installs for an interpreter: that of its own base first, then that of an
    environment with the same Python, then any that can.
    """
    found = [(_distance(e.path == base, i.version, version), number, i)
             for number, e in enumerate(neighbours.environments)
             if (i := e.interpreter) is not None and i.works
             and any(can_serve(v, needs, version) for v, needs in _pips(neighbours, e))]
    return lent_pip(own_pip(min(found)[2].path), python) if found else None


def _distance(is_base: bool, theirs: str | None, mine: str) -> int:
    """Return how near another environment is: 0 the base, 1 the same minor version, 2 any other."""
    return 0 if is_base else 1 if version_pair(theirs) == version_pair(mine) else 2


def _pips(neighbours: Neighbours, environment: Environment) -> Iterator[tuple[str, str]]:
    """Yield the version of each pip in an environment, and for which Pythons it says that it is."""
    for folder in neighbours.sites(environment):
        pip = neighbours.metadata_in(folder).named("pip")
        if pip is not None:
            yield pip.version, pip.requires_python


def allowed(case: Case) -> Pip | None:
    """Return the pip that serves the seat's interpreter and may change its installation; None when there is none."""
    return serving(case) if managed_marker(case) is None else None


def managed_marker(case: Case) -> str | None:
    """Return the file by which a base installation forbids pip to change it (PEP 668)."""
    if case.python.prefix != case.python.base_prefix:
        return None
    m = case.files
    for layer in case.modules.layers:
        if layer.layer == "stdlib":
            marker = m.path.join(layer.path, "EXTERNALLY-MANAGED")
            if m.is_file(marker):
                return str(marker)
    return None
