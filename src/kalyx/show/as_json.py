"""The JSON of every answer: the keys of the contract, and no others by accident."""

from __future__ import annotations

import json
from collections.abc import Mapping

from kalyx import __version__
from kalyx.core.lean.record import names_of
from kalyx.core.masks import masked, masked_document
from kalyx.core.model import Distribution, Environment, Evidence, Interpreter, Remedy, Seat

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable
    from typing import Any

    from kalyx.core.answers.ask import AskAnswer
    from kalyx.core.answers.beacon import BeaconAnswer
    from kalyx.core.answers.changes import ChangesAnswer, RetireAnswer
    from kalyx.core.answers.contrast import ContrastAnswer
    from kalyx.core.answers.enrol import EnrolAnswer
    from kalyx.core.answers.enter import EnterAnswer
    from kalyx.core.answers.envs import EnvsAnswer
    from kalyx.core.answers.fit import FitAnswer
    from kalyx.core.answers.from_elsewhere import ElsewhereAnswer
    from kalyx.core.answers.here import HereAnswer
    from kalyx.core.answers.kernels import KernelsAnswer
    from kalyx.core.answers.make import MakeAnswer
    from kalyx.core.answers.mend import MendAnswer
    from kalyx.core.answers.packages import PackagesAnswer
    from kalyx.core.answers.point import PointAnswer
    from kalyx.core.answers.put import PutAnswer
    from kalyx.core.answers.report import ReportAnswer
    from kalyx.core.answers.running import RunningAnswer
    from kalyx.core.answers.snapshot import SnapshotAnswer
    from kalyx.core.answers.weigh import WeighAnswer, WeighEnvsAnswer
    from kalyx.core.answers.why.module import WhyAnswer
    from kalyx.core.model import ImportReport, Kernel, Note, Proof
    from kalyx.core.verdicts.explanations import Explanation

__all__ = ["ask_result", "beacon_result", "changes_result", "contrast_result", "document", "elsewhere_result",
           "enrol_result", "enter_result",
           "envs_result", "explain_result", "fit_result", "here_result", "kernels_result", "make_result",
           "mend_result", "packages_result", "plain", "point_result", "put_result", "quoted",
           "report_result", "retire_result", "running_result", "snapshot_result", "undo_result", "weigh_envs_result",
           "weigh_result", "why_result"]

FORMAT = 2
INTERPRETER = ("path", "real_path", "version", "implementation", "prefix", "base_prefix")
ENVIRONMENT = ("path", "name", "kind", "base", "python_version", "findings")
EVIDENCE = ("says", "path", "line")
REMEDY = ("do", "kind", "argv", "cwd", "env", "edits", "moves", "changes", "undoable", "typed")
DISTRIBUTION = ("name", "version", "layer", "location", "installer", "editable", "size",
                "modules", "hides", "hidden_by", "requested")


def document(command: str, status: str, result: Mapping[str, Any],
             notes: Iterable[Note] = ()) -> str:
    """Return the envelope as text."""
    content = {"kalyx": {"version": __version__, "format": FORMAT}, "command": command,
               "status": status, "result": result, "notes": [plain(n) for n in notes]}
    text = json.dumps(content, indent=2, ensure_ascii=True)
    return text if masked(text) == text else json.dumps(masked_document(content), indent=2, ensure_ascii=True)


def quoted(text: str) -> str:
    """Return a text as it stands in a document, without the quotes around it."""
    return json.dumps(text)[1:-1]


def plain(value: Any) -> Any:
    """Turn records into what JSON can hold, by the keys of the contract."""
    if isinstance(value, Interpreter):
        return _picked(value, INTERPRETER)
    if isinstance(value, Environment):
        return _picked(value, ENVIRONMENT)
    if isinstance(value, Seat):
        return _seat(value)
    if isinstance(value, Distribution):
        found = _picked(value, DISTRIBUTION)
        return {**found, "version": found["version"] or None}  # damaged metadata may not say it
    if isinstance(value, Evidence):
        return _picked(value, EVIDENCE)
    if isinstance(value, Remedy):
        return _picked(value, REMEDY)
    if names_of(value):
        return _picked(value, names_of(value))
    if isinstance(value, Mapping):
        return {str(k): plain(v) for k, v in value.items()}
    if isinstance(value, (list, tuple)):
        return [plain(v) for v in value]
    return value


def _picked(value: Any, keys: Iterable[str]) -> dict[str, Any]:
    return {key: plain(getattr(value, key)) for key in keys}


def _seat(seat: Seat) -> dict[str, Any]:
    found = _picked(seat, ("ref", "kind", "label", "interpreter", "environment", "trail",
                           "findings"))
    if seat.kind == "shell":
        found["scripts"] = [_picked(s, ("name", "path", "interpreter")) for s in seat.scripts]
    return found


def here_result(answer: HereAnswer) -> dict[str, Any]:
    """Return the result of ``here``."""
    return {"folder": answer.folder, "seats": plain(answer.seats),
            "agreement": {"agree": answer.agreement.agree, "groups": plain(answer.agreement.groups)},
            "findings": plain(answer.findings)}


def why_result(answer: WhyAnswer) -> dict[str, Any]:
    """Return the result of ``why``."""
    return {"imports": [_import(r) for r in answer.imports], "files": plain(answer.files),
            "comparisons": plain(answer.comparisons), "groups": plain(answer.groups)}


def explain_result(answer: Explanation) -> dict[str, Any]:
    """Return the result of ``why --explain``."""
    return _picked(answer, [n for n in names_of(answer) if n != "status"])


def _import(report: ImportReport) -> dict[str, Any]:
    return {
        "module": report.module, "name": report.name, "seat": report.seat,
        "interpreter": plain(report.interpreter), "outcome": report.outcome,
        "error": plain(report.error), "origin": report.origin, "layer": report.layer,
        "distribution": plain(report.distribution), "causes": plain(report.causes),
        "elsewhere": [{"environment": plain(e.environment), "interpreter": plain(e.interpreter),
                       "name": e.name, "version": e.version} for e in report.elsewhere],
        "asked": plain(report.asked),
    }


def envs_result(answer: EnvsAnswer) -> dict[str, Any]:
    """Return the result of ``envs``."""
    listed = [{**plain(e.environment), "interpreter": plain(e.environment.interpreter),
               "used_by": list(e.used_by), "other_paths": list(e.other_paths), "size": e.size,
               "open_to_base": e.open_to_base} for e in answer.environments]
    return {"environments": listed, "interpreters": plain(answer.interpreters)}


def packages_result(answer: PackagesAnswer) -> dict[str, Any]:
    """Return the result of ``packages``."""
    return {"seat": plain(answer.seat), "layers": plain(answer.layers),
            "distributions": plain(answer.distributions), "findings": plain(answer.findings)}


def running_result(answer: RunningAnswer) -> dict[str, Any]:
    """Return the result of ``running``."""
    return {"processes": [{"ref": f"process:{p.pid}", **_picked(p, (
        "pid", "kind", "what", "argv", "folder", "interpreter", "environment", "connection_file",
        "notebook", "server", "started", "user", "findings"))} for p in answer.processes]}


def enrol_result(answer: EnrolAnswer) -> dict[str, Any]:
    """Return the result of ``enrol``."""
    proof = _proof(answer.proof)
    change = answer.change.to_json() if answer.change else None
    return {"kernel": _kernel(answer.kernel) if answer.kernel else None, "proof": proof,
            "change": change, "findings": plain(answer.findings)}


def enter_result(answer: EnterAnswer) -> dict[str, Any]:
    """Return the result of ``enter``."""
    return {"environment": plain(answer.environment), "shell": answer.shell_name,
            "lines": [answer.line] if answer.line else [], "leave": [answer.leave] if answer.leave else [],
            "findings": plain(answer.findings)}


def point_result(answer: PointAnswer) -> dict[str, Any]:
    """Return the result of ``point``."""
    return {"environment": plain(answer.environment),
            "files": [_picked(f, ("path", "key", "before", "after", "kernel")) for f in answer.files],
            "findings": plain(answer.findings), "change": answer.change.to_json() if answer.change else None}


def report_result(answer: ReportAnswer) -> dict[str, Any]:
    """Return the result of ``report``."""
    return {"path": answer.path, "bytes": answer.bytes, "findings": plain(answer.findings)}


def snapshot_result(answer: SnapshotAnswer) -> dict[str, Any]:
    """Return the result of ``snapshot``: the document itself."""
    return dict(answer.document)


def beacon_result(answer: BeaconAnswer) -> dict[str, Any]:
    """Return the result of ``beacon``."""
    return {"cell": answer.cell, "modules": list(answer.modules)}


def elsewhere_result(answer: ElsewhereAnswer) -> dict[str, Any]:
    """Return the result of ``here``, ``why`` or ``packages`` for places elsewhere: of several, what all of them say."""
    places = {"places": plain(answer.places)}
    found: list[Any] = [one for _, one in answer.answers]
    if answer.command == "packages":
        return {**packages_result(found[0]), **places}
    if answer.command == "why":
        return {"imports": [_import(r) for a in found for r in a.imports], "files": [], "comparisons": [],
                "groups": [], **places}
    groups = [g for a in found for g in plain(a.agreement.groups)]
    return {"folder": found[0].folder if found else "", "seats": [s for a in found for s in plain(a.seats)],
            "agreement": {"agree": len(found) == 1 and found[0].agreement.agree if found else None, "groups": groups},
            "findings": [f for a in found for f in plain(a.findings)], **places}


def contrast_result(answer: ContrastAnswer) -> dict[str, Any]:
    """Return the result of ``contrast``."""
    found = answer.differences
    paths = {"only_a": list(found.path_only_a), "only_b": list(found.path_only_b)}
    both = answer.a.search_path is not None and answer.b.search_path is not None
    return {"a": _picked(answer.a, ("ref", "kind", "label")), "b": _picked(answer.b, ("ref", "kind", "label")),
            "same": answer.same,
            "python": {"a": answer.a.python, "b": answer.b.python, "same": answer.same_python},
            "platform": {"a": answer.a.platform, "b": answer.b.platform, "same": answer.same_platform},
            "distributions": {"only_a": [_picked(d, ("name", "version")) for d in found.only_a],
                              "only_b": [_picked(d, ("name", "version")) for d in found.only_b],
                              "differ": plain(found.differ), "same": found.same},
            "search_path": paths if both else None,
            "variables": [{"name": n, "a": a, "b": b} for n, a, b in found.variables],
            "findings": plain(answer.findings), "remedies": plain(answer.remedies)}


def weigh_result(answer: WeighAnswer) -> dict[str, Any]:
    """Return the result of ``weigh``."""
    rows = [_picked(d, ("name", "version", "bytes", "files", "bytecode", "alone", "needed_by", "by_conda"))
            for d in answer.distributions]
    return {"environment": plain(answer.environment), "total": answer.total, "distributions": rows,
            "unowned": plain(answer.unowned), "shared": answer.shared, "could_go": list(answer.could_go),
            "remedies": plain(answer.remedies), "plot": answer.plot}


def weigh_envs_result(answer: WeighEnvsAnswer) -> dict[str, Any]:
    """Return the result of ``weigh --envs``."""
    return {"environments": plain(answer.environments), "shared": plain(answer.shared)}


def fit_result(answer: FitAnswer) -> dict[str, Any]:
    """Return the result of ``fit``."""
    needs = [{**_picked(n, ("module", "distribution", "specifier", "optional")),
              "asked_by": [_picked(p, ("path", "line")) for p in n.asked_by]} for n in answer.needs]
    environments = [{**_picked(e, ("environment", "interpreter", "kernels", "fits", "python_fits", "lacks", "proven")),
                     "used_here": bool(e.used_here), "breaks": list(e.breaks)} for e in answer.environments]
    return {"paths": list(answer.paths), "files": list(answer.files), "needs": needs, "python": plain(answer.python),
            "environments": environments, "best": answer.best.environment.path if answer.best else None,
            "remedies": plain(answer.remedies)}


def mend_result(answer: MendAnswer) -> dict[str, Any]:
    """Return the result of ``mend``."""
    rounds = [{**_picked(r, ("number", "finding", "remedy", "done", "why_not", "change")),
               "steps": plain(r.plan.steps), "breaks": plain(r.plan.breaks)} for r in answer.rounds]
    return {"asked": list(answer.asked), "rounds": rounds, "outcome": answer.outcome, "left": plain(answer.left)}


def put_result(answer: PutAnswer) -> dict[str, Any]:
    """Return the result of ``put``."""
    return {"seat": plain(answer.seat), "interpreter": plain(answer.seat.interpreter),
            "environment": plain(answer.seat.environment), "steps": plain(answer.steps), "done": answer.done,
            "findings": plain(answer.findings), "differs": list(answer.differs),
            "change": answer.change.to_json() if answer.change else None}


def make_result(answer: MakeAnswer) -> dict[str, Any]:
    """Return the result of ``make``."""
    enrolled = enrol_result(answer.enrolled) if answer.enrolled else None
    return {"folder": answer.folder, "python": plain(answer.interpreter), "asked": list(answer.asked),
            "environment": plain(answer.environment), "differs": list(answer.differs), "enrolled": enrolled,
            "installed": [{"name": n, "version": v} for n, v in answer.installed],
            "remedies": plain([answer.keep_out] if answer.keep_out else []),
            "change": answer.change.to_json() if answer.change else None}


def ask_result(answer: AskAnswer) -> dict[str, Any]:
    """Return the result of ``ask``."""
    return {"code": answer.code, "seats": plain(answer.seats)}


def kernels_result(answer: KernelsAnswer) -> dict[str, Any]:
    """Return the result of ``kernels``."""
    listed = [{**_kernel(k.kernel), "language": k.kernel.language, "hidden_by": k.hidden_by,
               "proof": _proof(k.proof)} for k in answer.kernels]
    return {"kernels": listed, "server": plain(answer.server)}


def retire_result(answer: RetireAnswer) -> dict[str, Any]:
    """Return the result of ``retire``."""
    return {"kernels": [_picked(k, ("name", "label", "spec")) for k in answer.plan.kernels],
            "environments": list(answer.plan.environments), "dry_run": answer.dry_run,
            "changes": [c.to_json() for c in answer.changes]}


def changes_result(answer: ChangesAnswer) -> dict[str, Any]:
    """Return the result of ``changes``, and that of ``undo``."""
    return {"changes": [c.to_json() for c in answer.changes]}


undo_result = changes_result


def _proof(proof: Proof | None) -> dict[str, Any] | None:
    if proof is None:
        return None
    return _picked(proof, ("asked", "answered", "executable", "prefix", "seconds", "pip", "trouble"))


def _kernel(kernel: Kernel) -> dict[str, Any]:
    return _picked(kernel, ("name", "label", "spec", "scope", "argv", "interpreter",
                            "environment", "findings"))
