"""What must not be taken away with a kernel: a folder that is, or holds, more than the environment that was named."""

from __future__ import annotations

from kalyx.core.changes.journal import journal_folder
from kalyx.core.facts.interpreters.environment import python_in
from kalyx.core.facts.interpreters.pyvenv import find_venv_config
from kalyx.core.facts.processes.processes import program_of, python_processes

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.seats.context import SeatContext
    from kalyx.core.model import Environment

__all__ = ["in_use_by", "why_not_taken"]

# What the standard library's venv, installers and data files of wheels lay into an environment (PEP 405, 427)
_LAYOUT = frozenset({"bin", "Scripts", "lib", "lib64", "Lib", "include", "Include", "share", "etc", "man", "pyvenv.cfg",
                     ".gitignore", ".lock", "CACHEDIR.TAG", "pip-selfcheck.json", "local", "src", "sbin", "var", "doc"})
_CHECKOUTS = (".git", ".hg", ".svn", ".bzr", "_darcs", ".fossil")


def why_not_taken(context: SeatContext, environment: Environment) -> str:
    """Return why an environment's folder must not be moved away, whatever is said; empty where it may be."""
    m, path = context.machine, environment.path
    for what, place in (("your home folder", m.home), ("the folder that you are in", m.cwd),
                        ("Kalyx's journal", journal_folder(m))):
        if m.same(place, path) or m.is_within(m.real_path(place), m.real_path(path)):
            return f"{path} is, or holds, {what}: {place}"
    names = set(m.names_in(path))
    if names & set(_CHECKOUTS):
        return f"{path} is a checkout: it holds {min(names & set(_CHECKOUTS))}"
    if environment.kind == "conda" and m.is_folder(m.path.join(path, "envs")) and m.names_in(m.path.join(path, "envs")):
        return f"{path} holds other environments, in {m.path.join(path, 'envs')}"
    foreign = sorted(names - _LAYOUT) if environment.kind == "venv" else []
    if foreign:
        return f"{path} holds {', '.join(foreign[:4])}, which is no part of an environment"
    for other in context.environments():
        if m.same(other.path, path):
            continue
        if m.is_within(m.real_path(other.path), m.real_path(path)):
            return f"{path} holds another environment: {other.path}"
        config = find_venv_config(m, python_in(m, other.path) or "")
        if any(b and m.is_within(b, path) for b in (other.base, config.home if config else None)):
            return f"{path} is the base of {other.path}"
    return ""


def in_use_by(context: SeatContext, environment: Environment) -> str:
    """Return which live process runs from an environment; empty where none does."""
    m = context.machine
    for raw in python_processes(m):
        program = program_of(raw, m) or ""
        started = raw.argv[0] if raw.argv else ""
        if any(p and m.path.isabs(p) and m.is_within(p, environment.path) for p in (program, started)):
            return f"process {raw.pid} runs from {environment.path}"
    return ""
