"""The words that Kalyx speaks in: frozen records, no behaviour that reads the machine."""

from kalyx.core.model.finding import Edit, Evidence, Finding, Note, Remedy, TrailStep
from kalyx.core.model.imports import (
    Distribution,
    Elsewhere,
    Frame,
    ImportReport,
    Observation,
    ObservedError,
)
from kalyx.core.model.kernel import Kernel, Proof
from kalyx.core.model.python import Environment, Interpreter
from kalyx.core.model.seat import Agreement, Launch, Script, Seat

__all__ = [
    "Agreement", "Distribution", "Edit", "Elsewhere", "Environment", "Evidence", "Finding",
    "Frame", "ImportReport", "Interpreter", "Kernel", "Launch", "Note", "Observation",
    "ObservedError", "Proof", "Remedy", "Script", "Seat", "TrailStep",
]
