"""The document of ``snapshot``: what people read first, then the recorded answers that it is judged by elsewhere."""

from __future__ import annotations

import json

from kalyx import __version__
from kalyx.core.answers.snapshots import FORMAT
from kalyx.core.carried.recorded_data import recorded_as_data
from kalyx.core.masks import masked_document
from kalyx.show.as_json import kernels_result, plain, why_result

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping
    from typing import Any

    from kalyx.core.answers.snapshot import SnapshotAnswer
    from kalyx.core.redaction import Redactor

__all__ = ["snapshot_document", "written"]


def snapshot_document(answer: SnapshotAnswer, redactor: Redactor | None = None) -> dict[str, Any]:
    """Return the document, with the recorded answers under ``recorded``; docs/schema/snapshot.json describes it."""
    launch, packages = answer.seat.launch, answer.packages
    found: dict[str, Any] = masked_document({
        "snapshot": FORMAT, "kalyx": __version__, "host": answer.host, "taken": answer.taken,
        "ref": answer.seat.ref, "folder": answer.folder, "seat": plain(answer.seat),
        "flags": list(launch.argv[1:]) if launch else [], "variables": answer.variables,
        "search_path": [{"layer": x.layer, "path": x.path} for x in packages.layers] if packages else [],
        "distributions": [{**plain(d), "requires": list(d.requires)} for d in packages.distributions]
        if packages else [], "kernels": kernels_result(answer.kernels)["kernels"],
        "imports": why_result(answer.why)["imports"] if answer.why else []})
    whole = found if redactor is None else redactor.document(found)
    return {**whole, "recorded": recorded_as_data(answer.machine, redactor)}


def written(document: Mapping[str, Any]) -> str:
    """Return the document as text, in ASCII: each of its keys on a line of its own."""
    rows = [f"{json.dumps(key)}: {json.dumps(value)}" for key, value in document.items()]
    return "{\n" + ",\n".join(rows) + "\n}"
