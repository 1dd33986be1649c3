"""Which lines and branches of Kalyx the tests run, where ``KALYX_COVERAGE`` names a folder for what is found.

Of the runs of the command those are measured that are the first of their kind in a test, and one in some of the others:
it takes twice as long, and what most of them do, others do too. Of a test itself it is measured where it starts no
command and is not about made-up content, as that would be run hundreds of times.
``tools/coverage_of_rooms.py`` puts together what all processes have left there.
"""

from __future__ import annotations

import hashlib
import os
import uuid
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from coverage import Coverage

__all__ = ["RUNS", "SHARED", "VARIABLE", "is_first", "lines_of_this_process", "measured_here", "save"]

VARIABLE = "KALYX_COVERAGE"
SHARED = "KALYX_TESTS_SHARED"  # the variable that names what the processes of one run have in common
RUNS = "KALYX_COVERAGE_RUNS"  # the variable that says of how many other runs one is measured; 0: no run at all
NOT_MEASURED = ["*/kalyx/probe/*", "*/kalyx/demo/payload/*"]  # these run in other Pythons, each alone


def measured_here() -> list[str]:
    """Return the folder, and that of the project, where it is measured; else nothing."""
    folder = os.environ.get(VARIABLE)
    return [folder, str(Path(__file__).parents[2])] if folder else []


def lines_of_this_process() -> Coverage:
    """Return what notes, once it is started, which lines and branches are run."""
    from coverage import Coverage

    lines = Coverage(data_file=None, branch=True, source_pkgs=["kalyx"], omit=NOT_MEASURED, config_file=False,
                     messages=False)
    lines.set_option("run:disable_warnings", ["module-not-measured", "no-data-collected"])  # what is run later
    return lines


def is_first(*what: str) -> bool:
    """Whether nothing of a kind was asked about before, by any process of this run of the tests."""
    name = hashlib.sha256(repr(what).encode()).hexdigest()
    try:
        os.close(os.open(os.path.join(os.environ[SHARED], f"measured-{name}"), os.O_CREAT | os.O_EXCL))
    except FileExistsError:
        return False
    return True


def save(lines: Coverage, folder: str) -> None:
    """Leave what was noted in the folder."""
    with open(os.path.join(folder, uuid.uuid4().hex), "wb") as file:
        file.write(lines.get_data().dumps())
