"""Seats: from a reference to the interpreter that it runs, step by step."""

from __future__ import annotations

from kalyx.core.errors import AmbiguousName, NothingToJudge, WrongUsage
from kalyx.core.facts.interpreters.command_words import ALL, follow_script
from kalyx.core.facts.interpreters.environment import is_environment, python_in

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable

    from kalyx.core.facts.seats.context import SeatContext, SeatFacts

__all__ = ["KINDS", "find_seat", "find_seat_to_run"]


def _editor(context: SeatContext, file: str) -> SeatFacts:
    from kalyx.core.facts.seats.editor import editor_seat

    return editor_seat(context, file)


def _kernel(context: SeatContext, name: str) -> SeatFacts:
    from kalyx.core.facts.seats.kernel import kernel_seat

    return kernel_seat(context, name)


def _notebook(context: SeatContext, file: str) -> SeatFacts:
    from kalyx.core.facts.seats.kernel import notebook_seat

    return notebook_seat(context, file)


def _script(context: SeatContext, file: str) -> SeatFacts:
    from kalyx.core.facts.seats.script import script_seat

    return script_seat(context, file)


def _process(context: SeatContext, number: str) -> SeatFacts:
    from kalyx.core.facts.seats.process import process_seat

    return process_seat(context, number)


def _python(context: SeatContext, path: str) -> SeatFacts:
    from kalyx.core.facts.seats.environment import python_seat

    return python_seat(context, path)


def _env(context: SeatContext, name: str) -> SeatFacts:
    from kalyx.core.facts.seats.environment import env_seat

    return env_seat(context, name)


# What stands before the colon of a reference; `shell` alone has no name behind it
KINDS: dict[str, Callable[[SeatContext, str], SeatFacts]] = {
    "editor": _editor, "kernel": _kernel, "notebook": _notebook, "script": _script, "process": _process,
    "python": _python, "env": _env}


def find_seat(context: SeatContext, ref: str) -> SeatFacts:
    """Return the seat that a reference or a bare word means.

    Raises:
        NothingToJudge: there is no such seat.
        AmbiguousName: the word can mean several.
        WrongUsage: the kind of seat is not known.
    """
    for known in (context.given, context.live):
        if known is not None and ref == known.seat.ref:
            return known
    if ref == "shell":
        from kalyx.core.facts.seats.shell import shell_seat

        return shell_seat(context)
    kind, colon, rest = ref.partition(":")
    if colon and (kind in KINDS or kind == "shell") and not context.machine.exists(ref):
        if kind == "shell" or not rest:
            raise WrongUsage(f"{ref!r} is not a seat.", "Write shell, or kind:name.")
        return KINDS[kind](context, rest)
    return _by_bare_word(context, ref)


def find_seat_to_run(context: SeatContext, ref: str) -> SeatFacts:
    """Return the seat that a reference means, for a command that runs code there.

    Raises:
        NothingToJudge: there is no such seat, or it is another user's process: running what its
            variables and folder say would be done with one's own rights.
    """
    facts = find_seat(context, ref)
    if facts.foreign and not context.anyway:
        raise NothingToJudge(
            f"{facts.seat.ref} is another user's: what its variables and folder name would be run with your "
            "rights.", "Say --anyway if you trust that user.")
    return facts


def _by_bare_word(context: SeatContext, word: str) -> SeatFacts:
    m = context.machine
    path = m.absolute(word)
    if m.is_folder(path) and (is_environment(m, path) or (
            m.path.sep in word and m.is_executable(python_in(m, path)))):  # a base, by its own folder
        return KINDS["env"](context, word)
    if m.exists(path) and (m.path.sep in word or "/" in word or not m.is_folder(path)):
        from kalyx.core.facts.editors import settings

        if word.endswith(".ipynb"):
            return KINDS["notebook"](context, word)
        if settings.editor_for(m, path, context.config.editors):
            return KINDS["editor"](context, word)
        if word.endswith((".py", ".pyw")):
            return KINDS["script"](context, word)
        if not m.is_folder(path) and m.is_executable(path):
            return KINDS["script" if _is_script(context, path) else "python"](context, word)
    for fold in (str, str.lower):
        candidates = _refs_named(context, word, fold)
        if len(candidates) == 1:
            return find_seat(context, candidates[0])
        if candidates:
            raise AmbiguousName(word, candidates)
    raise NothingToJudge(
        f"There is no seat {word!r}: no such file, environment or kernel.",
        "Name one as " + ", ".join(f"{k}:…" for k in KINDS) + " or shell.")


def _is_script(context: SeatContext, path: str) -> bool:
    """Whether an executable file is a script that something runs, and no wrapper that starts a Python."""
    started = follow_script(context.machine, path, (ALL,), context.machine.env, context.machine.cwd)
    return started is not None and path in started.words[1:]


def _refs_named(context: SeatContext, word: str, fold: Callable[[str], str]) -> list[str]:
    refs = [f"env:{e.path}" for e in context.environments() if fold(e.name) == fold(word)]
    refs += [f"kernel:{k}" for k in dict.fromkeys(k.name for k in context.kernels())
             if fold(k) == fold(word)]
    return refs
