"""Findings about editor settings."""

from __future__ import annotations

from kalyx.core.facts.interpreters.environment import python_in
from kalyx.core.model import Evidence, Finding, Remedy
from kalyx.core.verdicts.catalogue import cause
from kalyx.core.verdicts.remedies.editor_settings import point_setting
from kalyx.core.verdicts.remedies.environments import nearest_environment, own_environment
from kalyx.core.verdicts.seats.interpreter import which_is_gone

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.files import Files
    from kalyx.core.facts.seats.context import SeatFacts
    from kalyx.core.model import Environment

__all__ = ["judge_editor"]


def judge_editor(facts: SeatFacts, files: Files,
                 environments: list[Environment]) -> list[Finding]:
    """Return what is wrong with an editor seat."""
    found = [setting_unreadable(facts), setting_points_nowhere(facts, files, environments)]
    return [f for f in found if f is not None]


@cause("setting-unreadable", "an editor's settings file is broken",
       brief="the editor's settings cannot be read")
def setting_unreadable(facts: SeatFacts) -> Finding | None:
    """Report a settings file that cannot be read or parsed.

    Looks like: The editor ignores its settings.
    Why: The settings file cannot be parsed.
    How Kalyx knows: File and line.
    What to do: Mend the line.
    """
    setting = facts.setting
    if setting is None or not setting.trouble:
        return None
    return Finding.warning(
        "setting-unreadable", "certain",
        f"The settings file {setting.file} cannot be used: {setting.trouble}.",
        (Evidence(setting.trouble, setting.file),),
        (Remedy(f"Open {setting.file} and mend the place named above.", "manual",
                changes=setting.file),))


@cause("setting-points-nowhere", "an editor's settings name an interpreter that is not there",
       brief="the editor's setting names an interpreter that is not there",
       instead_of=("interpreter-gone", "interpreter-broken"))
def setting_points_nowhere(facts: SeatFacts, files: Files,
                           environments: list[Environment]) -> Finding | None:
    """Report a named interpreter that does not exist, and the nearest that does.

    Looks like: The editor uses another interpreter than its setting names.
    Why: The setting names a path that is not there, often one folder off.
    How Kalyx knows: The file, the line, and the nearest interpreter that is there.
    What to do: Have the setting name that one.
    """
    setting, interpreter = facts.setting, facts.seat.interpreter
    if setting is not None and setting.lacks:
        return Finding.error(
            "setting-points-nowhere", "certain",
            f"The editor's setting names {setting.value!r}, and its table of interpreters has none of that name.",
            (Evidence(f"{setting.key} is {setting.value!r}", setting.file, setting.line),
             Evidence("the table was read", setting.lacks)),
            (Remedy("Choose the interpreter of this project again in the editor, or have it add the environment "
                    "under that name.", "manual", changes=setting.file),))
    if setting is None or interpreter is None or interpreter.known_by != "gone":
        return None
    near = own_environment(files, setting.root, environments) or nearest_environment(
        files, interpreter.path, environments)
    todo: list[Remedy] = []
    evidence = [Evidence(f"{setting.key} is {setting.value!r}", setting.file, setting.line),
                Evidence(interpreter.trouble, interpreter.path)]
    if near is not None:
        program = python_in(files, near.path)
        evidence.append(Evidence(f"the nearest that is there is {program}", program))
        todo.append(point_setting(files, setting, program))
    todo.append(Remedy(f"Write the right path for {setting.key} in {setting.file}.", "manual",
                       changes=setting.file))
    return Finding.error(
        "setting-points-nowhere", "certain",
        f"The editor's setting names {interpreter.path}"
        f"{which_is_gone(interpreter.path, interpreter.trouble)}.",
        tuple(evidence), tuple(todo[:1] if near is not None else todo))
