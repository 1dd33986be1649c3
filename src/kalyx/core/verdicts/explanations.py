"""What each cause looks like, why it happens, how it is known, what to do: read from the checks themselves.

The text stands in the docstring of the check, beside the code that it
describes, so that neither is changed without the other in sight.
"""

from __future__ import annotations

import importlib
import inspect
import pkgutil
import re

from kalyx.core.errors import WrongUsage
from kalyx.core.lean.record import dataclass
from kalyx.core.verdicts.catalogue import CATALOGUE, Cause

__all__ = ["GROUPS", "Explanation", "all_explanations", "as_markdown", "explain_cause"]

GROUPS = {"A": "Absent here", "B": "Here, but not reachable", "C": "Made for another interpreter",
          "D": "Damaged", "E": "Its native side fails", "F": "Its own code",
          "G": "The interpreter or the seat"}
LABELS = {"looks_like": "Looks like", "why": "Why", "how_we_know": "How Kalyx knows",
          "what_to_do": "What to do"}


@dataclass(frozen=True)
class Explanation:
    """A cause in words."""

    cause: str
    group: str
    true_when: str
    looks_like: str
    why: str
    how_we_know: str
    what_to_do: str
    status: str = "ok"


def _load_all() -> None:
    import kalyx.core.verdicts as package

    for module in pkgutil.walk_packages(package.__path__, f"{package.__name__}."):
        importlib.import_module(module.name)


def _explanation(entry: Cause) -> Explanation:
    text = inspect.getdoc(entry.check) or ""
    parts = {}
    for key, label in LABELS.items():
        match = re.search(rf"^{label}: (.+?)(?=^(?:{'|'.join(LABELS.values())}): |\Z)", text, re.M | re.S)
        parts[key] = " ".join(match.group(1).split()) if match else ""
    return Explanation(entry.slug, entry.group, entry.when, **parts)


def all_explanations() -> list[Explanation]:
    """Return every cause in words, group by group, in the order in which they are judged."""
    _load_all()
    entries = sorted(CATALOGUE.values(), key=lambda c: (c.group, c.rank or 1000, c.slug))
    return [_explanation(e) for e in entries]


def explain_cause(slug: str) -> Explanation:
    """Return one cause in words.

    Raises:
        WrongUsage: there is no such cause.
    """
    import difflib

    _load_all()
    if slug not in CATALOGUE:
        near = difflib.get_close_matches(slug, CATALOGUE, 4, 0.4) or sorted(CATALOGUE)
        raise WrongUsage(f"There is no cause {slug!r}.",
                         f"Perhaps: {', '.join(near[:8])}. docs/causes.md has all.")
    return _explanation(CATALOGUE[slug])


def as_markdown() -> str:
    """Return docs/causes.md."""
    rows = ["# What Kalyx can conclude", "",
            "One short section for each cause. `kalyx why --explain CAUSE` prints it. This file is made from "
            "the checks themselves (`python tools/causes.py`).", ""]
    last = ""
    for item in all_explanations():
        if item.group != last:
            last = item.group
            rows += [f"## {last}. {GROUPS[last]}", ""]
        rows += [f"### {item.cause}", "", f"True when: {item.true_when}.", ""]
        rows += [f"- **{label}.** {getattr(item, key)}" for key, label in LABELS.items()]
        rows.append("")
    return "\n".join(rows)
