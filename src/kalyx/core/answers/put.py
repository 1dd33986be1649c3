"""``put``: install into the environment that a seat really uses, after saying what that would change."""

from __future__ import annotations

import json

from kalyx.core.answers.pip_changes import files_of, run_watched
from kalyx.core.answers.put_checks import Step, broken_now, built_for_older, dependents_of, try_imports
from kalyx.core.changes.journal import Journal
from kalyx.core.errors import NothingToJudge, Refused, WrongUsage
from kalyx.core.facts.environments.neighbours import Neighbours
from kalyx.core.facts.packaging.distributions import SiteMetadata
from kalyx.core.facts.packaging.inventory import read_inventory
from kalyx.core.facts.packaging.pip_complaints import read_complaint
from kalyx.core.facts.packaging.pip_lines import can_serve, isolated_pip, lent_pip
from kalyx.core.facts.packaging.requirements import marker_values, suits
from kalyx.core.facts.search_path.site_folders import visible_sites
from kalyx.core.facts.seats.finder import find_seat
from kalyx.core.facts.seats.search_path import path_of_seat
from kalyx.core.lean.record import record, replace
from kalyx.core.model import Note
from kalyx.core.model.names import normal_name
from kalyx.core.quoting import join_words
from kalyx.core.verdicts.remedies.shell_lines import command_line, shell_of
from kalyx.core.verdicts.seats.judge_seat import judge_seat
from kalyx.core.verdicts.seats.packages import would_break

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from kalyx.core.changes.entry import Change, Entry
    from kalyx.core.facts.packaging.pip_lines import Pip
    from kalyx.core.facts.search_path.layers import Layer
    from kalyx.core.facts.seats.context import SeatContext, SeatFacts
    from kalyx.core.machine.results import RunResult
    from kalyx.core.model import Distribution, Finding, Interpreter, Seat

__all__ = ["PIP_LIMIT", "PutAnswer", "action_between", "answer_put", "pip_for", "plan_steps", "read_installed",
           "read_layers", "refuse_options", "what_pip_said", "would_lose"]

PIP_LIMIT = 3600.0  # seconds; a large package over a slow line


@record
class PutAnswer:
    """What would change, or did; ``findings`` are the requirements that it would break."""

    seat: Seat
    steps: tuple[Step, ...]
    findings: tuple[Finding, ...] = ()
    done: bool = False
    differs: tuple[str, ...] = ()
    change: Change | None = None
    notes: tuple[Note, ...] = ()

    @property
    def status(self) -> str:
        """Whether it was done as planned, or nothing speaks against it."""
        cannot_run = self.seat.interpreter is None or not self.seat.interpreter.works
        return "problem" if self.findings or self.differs or cannot_run else "ok"


def answer_put(context: SeatContext, requirements: Sequence[str], seat_ref: str, *, dry_run: bool,
               anyway: bool, progress: Callable[[str], object] = bool, entry: Entry | None = None) -> PutAnswer:
    """Plan an installation with the seat's own pip; carry it out where it breaks nothing.

    It is a change of its own, or a part of the `entry` that is being made.

    Raises:
        NothingToJudge: there is no such seat, or it has no interpreter.
        Refused: its environment is not to be changed, or pip refused.
    """
    refuse_options(requirements)
    facts = find_seat(context, seat_ref)
    seat = judge_seat(facts, context.machine, Neighbours(context.machine, context))
    interpreter, environment = seat.interpreter, seat.environment
    if interpreter is None or environment is None or not interpreter.works:
        if seat.cannot_run:
            return PutAnswer(seat, ())
        found = next((f.because for f in seat.findings if f.is_problem), "it has no interpreter.")
        why = facts.why_untold or found.rstrip(".")
        raise NothingToJudge(f"Nothing can be put where {seat.ref} is: {why}.", "Name another seat with --at.")
    facts = replace(facts, seat=seat)
    _refuse_managed(context, facts)
    pip = pip_for(context, interpreter)
    before = read_installed(context, facts)
    progress(f"asking pip what {' '.join(requirements)} would change in {environment.path} …")
    steps, notes = _plan(context, facts, pip, requirements, before)
    findings = would_lose(context, facts, before, steps, requirements)
    if dry_run or (findings and not anyway):
        return PutAnswer(seat, tuple(steps), tuple(findings), notes=tuple(notes))
    worked = try_imports(context, facts, dependents_of(before, steps))
    progress(f"installing into {environment.path} …")
    change = _install(context, facts, pip.install(*requirements), requirements, (before, steps, notes), entry)
    differs = _differs(steps, read_installed(context, facts))
    findings += broken_now(context, facts, worked)
    return PutAnswer(seat, tuple(steps), tuple(findings), True, tuple(differs), change, tuple(notes))


def _install(context: SeatContext, facts: SeatFacts, line: Sequence[str], requirements: Sequence[str],
             plan: tuple[Sequence[Distribution], Sequence[Step], Sequence[Note]], entry: Entry | None) -> Change | None:
    """Have pip install, noted in the journal; return the change, None where nothing had to change.

    Raises:
        Refused: pip failed; what it had changed is taken back.
    """
    before, steps, notes = plan
    environment = facts.seat.environment
    assert environment is not None
    said = ", ".join(f"{s.name} {s.before + ' -> ' if s.before else ''}{s.after}" for s in steps)
    replaced = None if any(n.note == "no-plan" for n in notes) else files_of(
        context.machine, before, [s.name for s in steps if s.before is not None])
    with Journal(context.machine).change(f"put {', '.join(requirements)} into {environment.path}"
                                         + (f" ({said})" if said else ""), entry) as made:
        ran, changed = run_watched(context.machine, made, environment, replaced,
                                   lambda: _run(context, facts, line))
        if ran.status != 0:
            reason, hint = what_pip_said(context, ran)
            if changed:
                made.take_back_last()
            raise Refused(f"pip could not install it: {reason}", hint or "Nothing else was changed by Kalyx.")
    return made.change if changed else None


def _differs(steps: Sequence[Step], installed: Sequence[Distribution]) -> list[str]:
    """Say where what is there is not what was planned."""
    after: dict[str, list[str]] = {}
    for d in installed:  # metadata that is left of the version before is no version
        after.setdefault(normal_name(d.name), []).append(d.version)
    return [f"{s.name} {s.after} was planned, and {', '.join(after.get(normal_name(s.name), ['nothing']))} is there"
            for s in steps if s.after not in after.get(normal_name(s.name), [])]


def would_lose(context: SeatContext, facts: SeatFacts, before: Sequence[Distribution], steps: Sequence[Step],
               asked: Sequence[str]) -> list[Finding]:
    """Return what an installation would break: requirements, and compiled parts that are for another version."""
    return [*_broken(context, facts, before, steps, asked), *built_for_older(context.machine, before, steps),
            *_libraries_lost(context, facts, before, steps)]


def _libraries_lost(context: SeatContext, facts: SeatFacts, before: Sequence[Distribution],
                    steps: Sequence[Step]) -> list[Finding]:
    """Return whose compiled parts would lose a library; nothing is read where no version changes."""
    interpreter = facts.seat.interpreter
    if interpreter is None or not any(s.before not in (None, s.after) for s in steps):
        return []
    from kalyx.core.answers.put_libraries import libraries_lost
    from kalyx.core.facts.packaging.wheelhouse import Target, Wheelhouse

    m, env = context.machine, facts.seat.launch.env if facts.seat.launch else context.machine.env
    target = Target(interpreter.version or "3", interpreter.implementation or "cpython", m.platform, m.processor())
    return libraries_lost(m, before, steps, Wheelhouse(m, env, interpreter.prefix or ""), target)


def refuse_options(requirements: Sequence[str]) -> None:
    """Refuse what pip would take for an option.

    Raises:
        WrongUsage: one of the words is no requirement.
    """
    for word in requirements:
        if word.strip().startswith("-") or not word.strip():
            raise WrongUsage(f"{word!r} is no requirement.", "Name a distribution, such as pandas or 'pandas>=2'.")


def _refuse_managed(context: SeatContext, facts: SeatFacts) -> None:
    """Refuse to change what the system manages, or what may not be written."""
    m, interpreter = context.machine, facts.seat.interpreter
    assert interpreter is not None and interpreter.prefix is not None
    prefix = interpreter.prefix
    alternative = ("Make an environment of your own, and use that: "
                   f"{command_line(m, ('kalyx', 'make', '.venv', '--python', interpreter.path))}")
    if prefix == interpreter.base_prefix:
        for name in m.names_in(m.path.join(prefix, "lib")):
            marker = m.path.join(prefix, "lib", name, "EXTERNALLY-MANAGED")
            if name.startswith("python") and m.is_file(marker):
                raise Refused(f"{prefix} is managed by the system, which asks pip to leave it alone "
                              f"({marker}).", alternative)
    sites = [x.path for x in read_layers(context, facts) if x.layer == "env" and m.is_folder(x.path)]
    if sites and not any(m.may_write(s) for s in sites):
        raise Refused(f"{sites[0]} is not yours to write.", alternative)


def read_layers(context: SeatContext, facts: SeatFacts) -> Sequence[Layer]:
    """Return the layers of a seat's search path, read afresh; the folder that it starts from left out."""
    return path_of_seat(context.machine, facts, start=None).layers


def read_installed(context: SeatContext, facts: SeatFacts) -> list[Distribution]:
    """Return what the seat can import, read afresh."""
    return read_inventory(context.machine, read_layers(context, facts))


def pip_for(context: SeatContext, interpreter: Interpreter) -> Pip:
    """Return the pip that serves an interpreter: its own, else another environment's recent one.

    Raises:
        Refused: there is none.
    """
    sites = visible_sites(context.machine, interpreter)
    if any(context.machine.is_file(context.machine.path.join(s, "pip", "__main__.py")) for s in sites):
        return isolated_pip(interpreter.path)
    others = [(e.path != interpreter.base_prefix, i.version_pair != interpreter.version_pair, n, i)
              for n, e in enumerate(context.environments()) if (i := e.interpreter) is not None and i.works]
    for *_, other in sorted(others, key=lambda o: o[:3]):
        if other.path != interpreter.path and _may_lend(context, other, interpreter.version or ""):
            return lent_pip(isolated_pip(other.path), interpreter.path)
    raise Refused(f"{interpreter.path} has no pip, and no other environment has one that could stand in.",
                  f"Give it one: {command_line(context.machine, (interpreter.path, '-m', 'ensurepip', '--upgrade'))}")


def _may_lend(context: SeatContext, other: Interpreter, version: str) -> bool:
    """Whether an interpreter has a pip that serves a version of Python, and is none that only the folder brings.

    Its metadata tells the version: pip is run only where it is used.
    """
    m, trust = context.machine, context.examiner.trust
    if trust.is_foreign(m.real_path(other.path)) or trust.is_foreign(m.real_path(other.prefix or other.path)):
        return False
    for site in visible_sites(m, other):
        if not m.is_file(m.path.join(site, "pip", "__main__.py")) or trust.why_not_read(site):
            continue
        found = SiteMetadata(m, site).named("pip")
        return found is not None and can_serve(found.version, found.requires_python, version)
    return False


def _run(context: SeatContext, facts: SeatFacts, argv: Sequence[str]) -> RunResult:
    """Run pip with the seat's variables, from the user's folder: relative paths are theirs."""
    env = facts.seat.launch.env if facts.seat.launch else context.machine.env
    return context.machine.run(argv, env={**env, "PIP_DISABLE_PIP_VERSION_CHECK": "1"}, limit=PIP_LIMIT)


def what_pip_said(context: SeatContext, ran: RunResult) -> tuple[str, str]:
    """Return why pip failed, in a sentence, and what is to be done about it, empty where that is not known."""
    if ran.timed_out:
        return "it did not end in time.", ""
    said = read_complaint(ran.err.decode("utf-8", "replace"))
    reason = said.reason or ran.why_not or f"it ended with status {ran.status}"
    hint = ""
    if said.package and context.machine.exists("/usr/bin/apt-get"):
        hint = f"The system's package {said.package} has it: apt-get install {said.package} (needs root)."
    elif said.lacks:
        hint = f"Install {said.lacks} for this system, then do it again."
    able = [p for p in _pythons(context) if any(suits(need, p.version or "") for need in said.pythons)]
    if able:
        make = command_line(context.machine, ("kalyx", "make", ".venv", "--python", able[-1].path))
        hint = f"Of the Pythons here {', '.join(dict.fromkeys(p.short_version for p in able))} can: {make}"
    return f"{reason.rstrip('.')}.", hint


def _pythons(context: SeatContext) -> list[Interpreter]:
    """Return the Pythons of this machine that environments can be made of, the newest last."""
    found = [i for i in (*context.bases(), *(e.interpreter for e in context.environments() if e.kind == "base"))
             if i is not None and i.works and i.version]
    return sorted(found, key=lambda i: i.version_pair or (0, 0))


def _plan(context: SeatContext, facts: SeatFacts, pip: Pip, requirements: Sequence[str],
          before: Sequence[Distribution]) -> tuple[list[Step], list[Note]]:
    """Have pip work out what it would install, without installing it.

    Raises:
        Refused: it cannot be installed.
    """
    ran = _run(context, facts, pip.plan(requirements))
    if ran.status != 0:
        said, hint = what_pip_said(context, ran)
        if "no such option" in said:
            return [], [Note("no-plan", "The pip there is older than 22.2 and cannot say beforehand what it "
                             "would change.")]
        raise Refused(f"pip cannot install it: {said}", hint or "Nothing was changed.")
    try:
        items = json.loads(ran.text())["install"]
        wanted = [(str(i["metadata"]["name"]), str(i["metadata"]["version"])) for i in items]
    except (ValueError, KeyError, TypeError):
        return [], [Note("no-plan", "pip's report of what it would change cannot be read.")]
    return plan_steps(before, wanted), []


def plan_steps(before: Sequence[Distribution], wanted: Sequence[tuple[str, str]]) -> list[Step]:
    """Return what an installation of distributions, each with its version, would do to those that are there."""
    there = {normal_name(d.name): d.version for d in before if d.hidden_by is None and d.layer == "env"}
    return [Step(name, action_between(there.get(normal_name(name)), version), there.get(normal_name(name)), version)
            for name, version in wanted]


def action_between(before: str | None, after: str) -> str:
    """Return what becomes of a distribution: added, upgraded, downgraded, or replaced where that cannot be told."""
    from packaging.version import InvalidVersion, Version

    if before is None:
        return "added"
    try:
        old, new = Version(before), Version(after)
    except InvalidVersion:
        return "replaced"
    return "upgraded" if new > old else "downgraded" if new < old else "replaced"


def _broken(context: SeatContext, facts: SeatFacts, before: Sequence[Distribution],
            steps: Sequence[Step], asked: Sequence[str]) -> list[Finding]:
    """Return the requirements that are met now, and would not be any more."""
    interpreter = facts.seat.interpreter
    assert interpreter is not None
    markers = marker_values(interpreter.version or "3", interpreter.implementation or "cpython",
                            context.machine.platform)
    later = {normal_name(s.name): s for s in steps}
    after = [replace(d, version=later[normal_name(d.name)].after) if normal_name(d.name) in later else d
             for d in before if normal_name(d.name) not in later or d.layer == "env"]
    changed = {normal_name(step.name): step.before for step in steps}
    shell = shell_of(context.machine)
    return would_break(before, after, changed, markers, asked,
                       lambda words: join_words(("kalyx", "put", *words, "--at", facts.seat.ref), shell))
