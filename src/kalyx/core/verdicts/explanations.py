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
from kalyx.core.lean.record import record
from kalyx.core.verdicts.catalogue import CATALOGUE, CHECKS
from kalyx.core.verdicts.precedence import in_order, silenced_by

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.verdicts.catalogue import Cause, Check

__all__ = ["GROUPS", "Explanation", "all_explanations", "as_markdown", "explain_cause"]

GROUPS = {"A": "Absent here", "B": "Here, but not reachable", "C": "Made for another interpreter",
          "D": "Damaged", "E": "Its native side fails", "F": "Its own code",
          "G": "The interpreter or the seat"}
LABELS = {"looks_like": "Looks like", "why": "Why", "how_we_know": "How Kalyx knows",
          "what_to_do": "What to do"}


@record
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
    judged = [check.cause for check in in_order(CHECKS)]
    last = len(judged)
    entries = sorted(CATALOGUE.values(), key=lambda c: (
        c.group, judged.index(c.slug) if c.slug in judged else last, c.slug))
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
    return "\n".join([*rows, *_the_order()])


def _the_order() -> list[str]:
    """Return the order of the checks of an import, with the reason of each place."""
    rows = ["## The order of judgement", "",
            "The first that is true is the primary cause. Each check says of itself after which others it is asked "
            "and beside which it is silent; the list is computed from that.", ""]
    for number, check in enumerate(in_order(CHECKS), 1):
        says = [f"{number}. **{_title(check)}**: {check.why_here}."]
        if check.not_beside:
            says.append(f"Silent beside {', '.join(silenced_by(check, CHECKS))}.")
        rows.append(" ".join(says))
    return [*rows, ""]


def _title(check: Check) -> str:
    """Name a check: its cause, and the function where that has several."""
    several = sum(c.cause == check.cause for c in CHECKS) > 1
    return f"{check.cause} ({check.function})" if several else check.cause


def as_index() -> str:
    """Return the text of `kalyx.core.verdicts.index`: what is known of each check before its module is loaded."""
    _load_all()
    checks = in_order(CHECKS)
    rows = [f"    IndexedCheck({_quoted(c.cause)}, {_quoted(c.function)}, "
            f"{_quoted(c.module.removeprefix('kalyx.core.verdicts.causes.'))},\n                 "
            f"{_quoted(c.asks)}, {c.last_resort}, {_quoted(c.also_when_it_imports)},"
            f"{_tuple(silenced_by(c, checks))})," for c in checks]
    briefs = [f"    {_quoted(slug)}: {_quoted(CATALOGUE[slug].brief)}," for slug in sorted(CATALOGUE)]
    return _INDEX.format(rows="\n".join(rows), briefs="\n".join(briefs))


def _quoted(text: str) -> str:
    return '"' + text + '"'


def _tuple(words: list[str]) -> str:
    if not words:
        return " ()"
    return "\n                 (" + "\n                  ".join(f'"{w}",' for w in words) + ")"


_INDEX = '''"""The checks of an import in their order, and a word for each cause: written by tools/causes.py.

What is here is known before the module of a check is loaded: most runs need few of them.
"""

from kalyx.core.lean.record import record

__all__ = ["BRIEFS", "CHECKS", "IndexedCheck"]


@record
class IndexedCheck:
    """A check, by the name of its function in a module of `causes`, and when it is worth asking."""

    cause: str
    function: str
    module: str
    asks: str
    last_resort: bool
    also_when_it_imports: str
    silent_beside: tuple[str, ...]


CHECKS = (
{rows}
)

# By cause: a clause that names the trouble in a list of several
BRIEFS = {{
{briefs}
}}
'''
