"""A row of a table in which a project says what it needs."""

from __future__ import annotations

from kalyx.core.lean.record import record

__all__ = ["Row"]


@record
class Row:
    """What one row asks for: a distribution (PEP 508), or all that a list of pip's asks for.

    ``place`` is where the distribution is from, a URL or a path as it is written; ``marker`` says where alone it
    counts, beside what the requirement itself says of that. ``written`` is the name of a package of conda's.
    """

    requirement: str
    is_optional: bool = False
    by_conda: bool = False
    written: str = ""
    place: str = ""
    marker: str = ""
    pip_list: str = ""
