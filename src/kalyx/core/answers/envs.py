"""``envs``: the environments and interpreters of this machine."""

from __future__ import annotations

from functools import partial

from kalyx.core.answers.spared import spared
from kalyx.core.errors import NothingToJudge, WrongUsage
from kalyx.core.facts.editors import settings
from kalyx.core.facts.environments.neighbours import Neighbours
from kalyx.core.facts.interpreters.environment import prefix_of, python_in
from kalyx.core.facts.interpreters.pyvenv import find_venv_config
from kalyx.core.facts.packaging.requirements import is_met
from kalyx.core.lean.record import record, replace
from kalyx.core.model import Note
from kalyx.core.model.names import requirement_name
from kalyx.core.verdicts.seats.environment import judge_environment

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

    from kalyx.core.facts.seats.context import SeatContext
    from kalyx.core.model import Environment, Interpreter

__all__ = ["EnvsAnswer", "Listed", "answer_envs"]


@record
class Listed:
    """An environment as listed: who uses it, its other names, its size in bytes when asked for."""

    environment: Environment
    used_by: tuple[str, ...]
    other_paths: tuple[str, ...]
    size: int | None
    open_to_base: bool


@record
class EnvsAnswer:
    """The environments and interpreters that were found and passed the filters."""

    environments: tuple[Listed, ...]
    interpreters: tuple[Interpreter, ...]
    notes: tuple[Note, ...] = ()
    filtered: bool = False

    @property
    def status(self) -> str:
        """Whether one is ill, or none was found."""
        if any(f.is_problem for e in self.environments for f in e.environment.findings):
            return "problem"
        return "ok" if self.environments else "unknown"


def answer_envs(context: SeatContext, folders: Sequence[str] = (), *, under: str | None = None,
                kind: str | None = None, python: str | None = None, has: str | None = None,
                sizes: bool = False) -> EnvsAnswer:
    """List environments, each real folder once, and judge their health.

    Raises:
        WrongUsage: a version specifier or requirement cannot be parsed.
        NothingToJudge: a folder to look into is not there.
    """
    m = context.machine
    _check_filters(python, has)
    for folder in folders:
        if not m.is_folder(m.absolute(folder)):
            raise NothingToJudge(f"{m.absolute(folder)} {m.trouble_at(m.absolute(folder))}.",
                                 "Name a folder that is there.")
    for folder in folders:
        context.examiner.trust.distrust(folder)
    context = context.but(below=tuple(m.absolute(f) for f in folders), asks_when_read=False)
    everything = context.environments()
    neighbours = Neighbours(m, context)
    uses = _users(context)
    listed: list[Listed] = []
    notes: list[Note] = []
    for environment in everything:
        if _passes(environment, context, neighbours, under, kind, python, has):
            listed.append(spared(m, environment.path, partial(_listed, environment, context, uses, sizes))
                          or Listed(environment, (), (), None, False))
            if environment.interpreter is not None and environment.interpreter.known_by == "broken":
                notes.append(Note("env-unreadable", f"{environment.path}: "
                                  f"{environment.interpreter.trouble}.", environment.path))
    notes += [Note("env-unreadable", f"{prefix} {trouble}.", prefix)
              for prefix, trouble in context.surveyor.closed]
    return EnvsAnswer(tuple(listed), tuple(_interpreters(context, everything, python)),
                      tuple(notes), bool(under or kind or python or has))


def _interpreters(context: SeatContext, environments: Sequence[Environment],
                  python: str | None) -> list[Interpreter]:
    """Return the installed interpreters: those of bases, and those that PATH names, each once."""
    found = {e.interpreter.real_path: e.interpreter for e in environments
             if e.interpreter is not None and e.kind == "base"}
    for program in context.surveyor.programs:
        examined = context.examiner.examine(program, ask=False)
        if examined.wrapper is not None:
            continue  # it starts one of the others
        if examined.interpreter.version is None:
            examined = context.examiner.examine(program)
        interpreter = examined.interpreter
        if examined.config is None and interpreter.works and interpreter.version:
            found.setdefault(interpreter.real_path, interpreter)
    return [i for i in found.values() if not python or (
        i.version and is_met(f"python{_specifier(python)}", i.version))]


def _check_filters(python: str | None, has: str | None) -> None:
    if python and is_met(f"python{_specifier(python)}", "3.0") is None:
        raise WrongUsage(f"{python!r} is not a version specifier.", "Write it as in '>=3.9,<3.13'.")
    if has and is_met(has, "1.0") is None:
        raise WrongUsage(f"{has!r} is not a requirement.", "Write it as in 'NAME>=1'.")


def _specifier(text: str) -> str:
    return text if text[:1] in "<>=!~" else f"=={text}.*"


def _passes(environment: Environment, context: SeatContext, neighbours: Neighbours,
            under: str | None, kind: str | None, python: str | None, has: str | None) -> bool:
    m = context.machine
    if under and not m.is_within(m.real_path(environment.path), m.real_path(m.absolute(under))):
        return False
    if kind and environment.kind != kind:
        return False
    if python and not (environment.python_version and is_met(
            f"python{_specifier(python)}", environment.python_version)):
        return False
    if not has:
        return True
    found = [d for f in neighbours.sites(environment)
             if (d := neighbours.metadata_in(f).named(requirement_name(has))) is not None]
    return bool(found) and bool(is_met(has, found[0].version))


def _users(context: SeatContext) -> dict[str, list[str]]:
    """Map the prefixes that seats and kernels run to their references."""
    m = context.machine
    found: dict[str, list[str]] = {}
    python = context.shell_python()
    if python is not None and python[1].interpreter.prefix:
        found.setdefault(m.key(python[1].interpreter.prefix), []).append("shell")
    for setting in settings.find_settings(m, context.folder, context.config.editors):
        if setting.program:
            prefix = prefix_of(m, setting.program)
            found.setdefault(m.key(prefix), []).append(f"editor:{setting.file}")
    for kernel in context.kernels():
        if kernel.argv and m.path.isabs(kernel.argv[0]):
            prefix = prefix_of(m, kernel.argv[0])
            found.setdefault(m.key(prefix), []).append(f"kernel:{kernel.name}")
    return found


def _listed(environment: Environment, context: SeatContext, uses: dict[str, list[str]],
            sizes: bool) -> Listed:
    m = context.machine
    config = find_venv_config(m, python_in(m, environment.path))
    findings = tuple(judge_environment(environment, m, context.bases))
    key = m.key(environment.path)
    size = None
    if sizes and environment.kind != "base":
        size = m.tree_size(m.real_path(environment.path))
    return Listed(replace(environment, findings=findings), tuple(dict.fromkeys(uses.get(key, ()))),
                  tuple(context.surveyor.twins.get(key, ())), size,
                  config is not None and config.open_to_base)
