"""The seat of an editor: the interpreter that its settings file names."""

from __future__ import annotations

from kalyx.core.errors import NothingToJudge, Unreadable
from kalyx.core.facts.editors import settings
from kalyx.core.facts.interpreters.examiner import numbered
from kalyx.core.facts.seats.context import SeatFacts
from kalyx.core.lean.record import replace
from kalyx.core.model import Launch, Seat, TrailStep

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.seats.context import SeatContext

__all__ = ["editor_seat", "seat_of_setting"]


def editor_seat(context: SeatContext, file: str) -> SeatFacts:
    """Return the seat of an editor's settings file."""
    m = context.machine
    path = m.absolute(file)
    known = settings.editor_for(m, path, context.config.editors)
    if known is None:
        names = ", ".join(e.files[0] for e in context.config.editors)
        raise NothingToJudge(f"{path} is not a settings file that Kalyx knows.",
                             f"Known: {names}; kalyx.toml can add others.")
    if not m.is_there(path):
        raise NothingToJudge(f"{path} does not exist.", "Check the path.")
    return seat_of_setting(context, settings.read_setting(m, known[0], path, known[1], context.folder))


def seat_of_setting(context: SeatContext, setting: settings.EditorSetting) -> SeatFacts:
    """Return the seat that a settings file stands for."""
    ref = f"editor:{setting.file}"
    label = setting.editor.name
    if setting.program is None:
        steps = [TrailStep(0, f"{setting.file} sets {setting.key} to {setting.value!r}", setting.file, setting.line)] \
            if setting.key else []
        return SeatFacts(Seat(ref, "editor", label, trail=numbered(steps)), setting=setting, untold=setting.untold)
    steps = [TrailStep(0, f"{setting.file} sets {setting.key} to {setting.value!r}",
                       setting.file, setting.line, setting.program)]
    steps += [TrailStep(0, f"it wins over {s.file}, which sets {s.key} to {s.value!r}", s.file,
                        s.line, s.program) for s in setting.loses]
    context.examiner.trust.distrust(setting.root)
    context.examiner.trust.distrust(context.machine.path.dirname(setting.file))
    env, more = _variables(context, setting)
    examined = context.examiner.examine(setting.program, setting.root, by_folder=True)
    facts = context.facts_of(ref, "editor", label, examined, [*steps, *more],
                             Launch((setting.program,), env, setting.root))
    return replace(facts, setting=setting)


def _variables(context: SeatContext, setting: settings.EditorSetting) -> tuple[dict[str, str],
                                                                      list[TrailStep]]:
    """Return the variables that an editor adds: those of its env file, and its extra paths."""
    m, env, steps = context.machine, dict(context.machine.env), []
    if setting.env_file and setting.editor.family == "code":
        from kalyx.core.facts.editors.formats import parse_env_file

        try:
            said = parse_env_file(m.read_text(setting.env_file, 262_144))
            what = f"sets {', '.join(said) or 'nothing'}"
        except Unreadable as error:
            said, what = {}, f"cannot be read: {error.reason}"
        env.update(said)
        steps.append(TrailStep(0, f"{setting.env_file} {what}", setting.env_file))
    if setting.extra_paths:
        known = [env["PYTHONPATH"]] if env.get("PYTHONPATH") else []
        env["PYTHONPATH"] = m.path_separator.join([*known, *setting.extra_paths])
        steps.append(TrailStep(0, f"{setting.file} adds {', '.join(setting.extra_paths)} to the "
                               "path", setting.file))
    return env, steps
