"""Places elsewhere that an answer is about: those that say the same are one."""

from __future__ import annotations

from kalyx.core.lean.record import record

__all__ = ["Places", "hosts_label"]

MOST_NAMED = 4  # hosts


@record
class Places:
    """The hosts that said the same: the first of them, how to call them together, and how many they are."""

    host: str
    label: str
    count: int


def hosts_label(hosts: list[str]) -> str:
    """Call hosts together: by their names, of which many are counted; one that was told several times is said once."""
    names = list(dict.fromkeys(hosts))
    shown = [f"{n} ({hosts.count(n)} times)" if hosts.count(n) > 1 else n for n in names[:MOST_NAMED]]
    more = len(names) - len(shown)
    return ", ".join(shown) + (f" and {more} more" if more else "")
