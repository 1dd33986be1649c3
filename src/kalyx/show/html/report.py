"""The page of ``kalyx report``: one HTML file, read without script, that loads nothing from elsewhere."""

from __future__ import annotations

import base64
import hashlib
import os

from kalyx import __version__
from kalyx.core.masks import masked_document
from kalyx.core.squares import divided
from kalyx.show import as_json
from kalyx.show.page import Page
from kalyx.show.parts import human_size

TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import Any

    from kalyx.core.answers.report import Gathered
    from kalyx.core.answers.weigh import WeighAnswer
    from kalyx.core.model import Finding
    from kalyx.core.redaction import Redactor

__all__ = ["render"]

FOLDER = os.path.dirname(os.path.abspath(__file__))
WIDE, HIGH = 960, 420  # of a plot, in its own units
SMALL = 0.012          # of the whole: what is smaller is gathered into one
# dark enough for white letters (contrast of 4.5 and more)
COLORS = ("#1d4e68", "#1f5b6d", "#26665f", "#3a5f36", "#5b5420", "#6a4a1c", "#6b3a26")
GATHERED = "#565a5e"


def render(found: Gathered, own_command: tuple[str, ...], home: str, when: str, redactor: Redactor | None) -> str:
    """Return the page; with a redactor without the names that it knows."""
    from jinja2 import Environment, FileSystemLoader, StrictUndefined

    page = Page(home, os.name == "nt", own_command)
    content = masked_document(_shortened(_content(found, page), page))
    content = redactor.document(content) if redactor is not None else content
    with open(os.path.join(FOLDER, "report.css"), encoding="utf-8") as file:
        style = file.read()
    sign = base64.b64encode(hashlib.sha256(style.encode()).digest()).decode()
    environment = Environment(loader=FileSystemLoader(FOLDER), autoescape=True, undefined=StrictUndefined,
                              trim_blocks=True, lstrip_blocks=True)
    return environment.get_template("report.html").render(
        **content, style=style, sign=sign, when=when, version=__version__, size=human_size)


def _shortened(value: Any, page: Page) -> Any:
    """Return what the page shows, the home folder as ``~``, and visible what is not seen; edits stay as they are."""
    if isinstance(value, str):
        return page.short(value)
    if isinstance(value, dict):
        return {k: v if k == "edits" else _shortened(v, page) for k, v in value.items()}
    return [_shortened(v, page) for v in value] if isinstance(value, (list, tuple)) else value


def _content(found: Gathered, page: Page) -> dict[str, Any]:
    """Return all that the page shows, as what JSON has."""
    code = as_json.why_result(found.code) if found.code is not None else {"imports": [], "files": []}
    return {
        "folder": found.folder,
        "verdict": _verdict(found),
        "findings": [_finding(f, page) for f in found.findings],
        "seats": as_json.here_result(found.here)["seats"],
        "agree": found.here.agreement.agree,
        "files": code["files"],
        "imports": code["imports"],
        "kernels": as_json.kernels_result(found.kernels)["kernels"],
        "environments": as_json.envs_result(found.envs)["environments"],
        "packages": [{**as_json.packages_result(p), "layers": _layers(as_json.packages_result(p))}
                     for p in found.packages],
        "plots": [_plot(w) for w in found.weights],
        "notes": as_json.plain(found.notes),
    }


def _verdict(found: Gathered) -> str:
    from kalyx.show.pages.here import here_sentence

    count = len(found.findings)
    if count > 1:
        return f"{count} things are wrong here."
    return found.findings[0].because if count else here_sentence(found.here)


def _finding(finding: Finding, page: Page) -> dict[str, Any]:
    """Return a finding with its remedies as they are typed."""
    remedies = []
    for remedy in finding.remedies:
        lines = [*remedy.typed.split("\n")] if remedy.typed else []
        lines += [page.quote(remedy.argv)] if remedy.argv else []
        lines += [page.quote(("mv", m.path, m.to)) for m in remedy.moves]
        edits = [{"path": e.path, "before": e.before, "after": e.after} for e in remedy.edits]
        remedies.append({"do": remedy.do, "lines": lines, "edits": edits})
    return {"because": finding.because, "cause": finding.cause, "severity": finding.severity, "remedies": remedies,
            "evidence": as_json.plain(finding.evidence)}


def _layers(result: dict[str, Any]) -> list[dict[str, Any]]:
    """Return the layers that hold something, each with its distributions by name."""
    found = []
    for layer in result["layers"]:
        rows = [d for d in result["distributions"] if d["location"] == layer["path"]]
        if rows:
            found.append({**layer, "rows": sorted(rows, key=lambda d: str(d["name"]).lower())})
    return found


def _plot(answer: WeighAnswer) -> dict[str, Any]:
    """Return the rectangles of an environment's weights: areas are true, small ones are gathered."""
    parts = [(d.name, d.bytes) for d in answer.distributions if d.bytes > 0]
    parts += [("of no distribution", answer.unowned.bytes)] if answer.unowned.bytes else []
    small = [b for _, b in parts if b < SMALL * answer.total]
    parts = sorted((p for p in parts if p[1] >= SMALL * answer.total), key=lambda p: -p[1])
    parts += [(f"{len(small)} smaller ones", sum(small))] if small else []
    parts.sort(key=lambda p: -p[1])
    cells = []
    for number, ((name, size), place) in enumerate(zip(parts, divided([p[1] for p in parts], (0, 0, WIDE, HIGH)),
                                                       strict=True)):
        left, top, wide, high = (round(n, 1) for n in place)
        room = int(wide / 8.2)
        cells.append({"name": name, "size": human_size(size), "left": left, "top": top, "wide": wide, "high": high,
                      "shown": name if len(name) <= room else name[:max(0, room - 1)] + "…" if room > 5 else "",
                      "fill": GATHERED if name.endswith(("smaller ones", "of no distribution")) else
                      COLORS[number % len(COLORS)], "fits": high > 20 and wide > 44, "fits_size": high > 40})
    return {"name": answer.environment.name, "path": answer.environment.path, "total": human_size(answer.total),
            "cells": cells, "wide": WIDE, "high": HIGH,
            "rows": [{"name": n, "size": human_size(b)} for n, b in parts]}
