"""The words that Kalyx speaks in: frozen records, no behaviour that reads the machine."""

from kalyx.core.model.contrast import Contrasted, DistributionDifference, Listed, Side
from kalyx.core.model.finding import Edit, Evidence, Finding, Move, Note, Remedy, TrailStep
from kalyx.core.model.fit import Alternative, AskedLine, FitOfEnvironment, Lack, Need, NeededPart, PythonWanted, Reached
from kalyx.core.model.imports import (
    Comparison,
    Difference,
    Distribution,
    Elsewhere,
    FileReport,
    Frame,
    ImportGroup,
    ImportReport,
    Observation,
    ObservedError,
    Place,
)
from kalyx.core.model.kernel import Kernel, Proof
from kalyx.core.model.live import THIS_KERNEL, ChangedModule, LivePython
from kalyx.core.model.places import Places, hosts_label
from kalyx.core.model.python import Environment, Interpreter, RunningPython, python_version, version_pair
from kalyx.core.model.seat import Agreement, Launch, Script, Seat
from kalyx.core.model.weight import (
    DiskFolder,
    Unowned,
    WeighedDistribution,
    WeighedEnvironment,
    WeighedShared,
)

__all__ = [
    "THIS_KERNEL", "Agreement", "Alternative", "AskedLine", "ChangedModule", "Comparison", "Contrasted", "Difference",
    "DiskFolder", "Distribution", "DistributionDifference", "Edit", "Elsewhere", "Environment",
    "Evidence", "FileReport", "Finding", "FitOfEnvironment", "Frame", "ImportGroup", "ImportReport", "Interpreter",
    "Kernel", "Lack", "Launch", "Listed", "LivePython", "Move", "Need", "NeededPart", "Note", "Observation",
    "ObservedError", "Place", "Places", "Proof", "PythonWanted", "Reached", "Remedy", "RunningPython", "Script", "Seat",
    "Side", "TrailStep", "Unowned", "WeighedDistribution", "WeighedEnvironment", "WeighedShared", "hosts_label",
    "python_version", "version_pair",
]
