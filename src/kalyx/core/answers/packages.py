"""``packages``: what a seat can import, layer by layer."""

from __future__ import annotations

import fnmatch

from kalyx.core.answers.module_notes import module_notes
from kalyx.core.errors import NothingToJudge
from kalyx.core.facts.environments.neighbours import Neighbours
from kalyx.core.facts.packaging.inventory import read_inventory
from kalyx.core.facts.packaging.requirements import marker_values
from kalyx.core.facts.search_path.predicted import forbids_pip
from kalyx.core.facts.seats.finder import find_seat
from kalyx.core.facts.seats.search_path import path_of_seat
from kalyx.core.lean.record import record
from kalyx.core.model import Note
from kalyx.core.model.names import normal_name
from kalyx.core.verdicts.seats.judge_seat import judge_seat
from kalyx.core.verdicts.seats.packages import user_copies, version_conflicts

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.search_path.layers import Layer
    from kalyx.core.facts.seats.context import SeatContext
    from kalyx.core.model import Distribution, Finding, Seat

__all__ = ["PackagesAnswer", "answer_packages"]


@record
class PackagesAnswer:
    """The layers of a seat's search path and what lies in each."""

    seat: Seat
    layers: tuple[Layer, ...]
    distributions: tuple[Distribution, ...]
    findings: tuple[Finding, ...]
    notes: tuple[Note, ...] = ()
    asked: str = ""
    closed: tuple[str, ...] = ()  # folders of the path that are there and cannot be listed
    only_conflicts: bool = False

    @property
    def all_findings(self) -> tuple[Finding, ...]:
        """What bears on what can be imported: leaks, conflicts, the environment's health, why nothing runs."""
        environment = self.seat.environment
        return (*self.findings, *(environment.findings if environment else self.seat.findings))

    @property
    def status(self) -> str:
        """Whether something is wrong; whether what was asked for is not there, or could not be looked for."""
        if any(f.is_problem for f in self.all_findings):
            return "problem"
        return "unknown" if self.closed or (self.asked and not self.distributions) else "ok"


def answer_packages(context: SeatContext, seat_ref: str, *, layer: str | None = None,
                    name: str | None = None, module: str | None = None, conflicts: bool = False,
                    sizes: bool = False) -> PackagesAnswer:
    """Read what a seat can import. Nothing of it is run.

    Raises:
        NothingToJudge: there is no such seat, or it has no interpreter to go by.
    """
    m = context.machine
    facts = find_seat(context, seat_ref)
    neighbours = Neighbours(m, context)
    seat = judge_seat(facts, context.machine, neighbours)
    interpreter, launch, examined = seat.interpreter, seat.launch, facts.examined
    if interpreter is None or launch is None or examined is None or interpreter.prefix is None \
            or not interpreter.works:
        if seat.cannot_run:
            return PackagesAnswer(seat, (), (), ())  # it is there and cannot run: that is the answer
        found = next((f.because for f in seat.findings if f.is_problem), "it has no interpreter.")
        why = facts.why_untold or found.rstrip(".")
        raise NothingToJudge(f"What {seat.ref} can import cannot be told: {why}.",
                             "Name another seat with --at.")
    path = path_of_seat(m, facts, start=launch.start or launch.cwd)
    everything = read_inventory(m, path.layers, sizes=sizes)
    findings = [*[f for f in seat.findings if f.cause == "layer-leak"], *user_copies(everything)]
    if conflicts:
        markers = marker_values(interpreter.version or "3", interpreter.implementation or "cpython",
                                m.platform)
        findings += version_conflicts(everything, markers, "" if forbids_pip(m, interpreter) else interpreter.path)
    chosen = [d for d in everything if _wanted(d, layer, name, module)]
    notes = [Note("runs-code", f"{line.file}, line {line.line}, runs code when Python starts, which "
                  "may change the path; it was read, not run.", line.file)
             for line in path.links if line.target is None and "__editable__" not in line.text
             and "distutils-precedence" not in line.file]
    notes += module_notes(m, seat, [x.path for x in path.layers if x.layer == "pythonpath"])
    asked = " ".join(x for x in (layer, name, module) if x)
    closed = tuple(x.path for x in path.layers if m.is_folder(x.path) and m.why_not_listed(x.path))
    return PackagesAnswer(seat, path.layers, tuple(chosen), tuple(findings), tuple(notes), asked, closed, conflicts)


def _wanted(distribution: Distribution, layer: str | None, name: str | None,
            module: str | None) -> bool:
    if layer and distribution.layer != layer:
        return False
    if name and not fnmatch.fnmatchcase(normal_name(distribution.name), normal_name(name)) \
            and not fnmatch.fnmatchcase(distribution.name.lower(), name.lower()):
        return False
    return not module or module.split(".")[0] in distribution.modules
