"""Which lines and branches of Kalyx the tests run, where ``KALYX_COVERAGE`` names a folder for what is found.

The first run of each command in each file of tests is measured, as text and as JSON; in some files one in each test;
one in each case of the tables of causes; and all runs of tests that go through what is printed, or read. That takes
twice as long, and what the others do, those do too. Of a test itself it is measured where it starts no command
and is not about made-up content, as that would be run hundreds of times.
``tools/coverage_of_rooms.py`` puts together what all processes have left there.
"""

from __future__ import annotations

import hashlib
import importlib.util
import os
import re
import uuid
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from collections.abc import Sequence

    from coverage import Coverage

__all__ = ["SHARED", "VARIABLE", "is_first", "kind_of", "lines_of_this_process", "measured_here", "save"]

VARIABLE = "KALYX_COVERAGE"
SHARED = "KALYX_TESTS_SHARED"  # the variable that names what the processes of one run have in common
EACH_TEST = re.compile(r"^tests/(carried|cli)/"
                       r"|test_(beacon|contrast|fit|fit_code|fit_requirements|mend|package_lists|point|project|snapshot|why)\.py")
EACH_CASE = re.compile(r"test_(cause_and_remedy|slip|printed_here|odd_files|healthy_import_\w+)\[")
EACH_RUN = re.compile(r"^tests/show/|test_why_versions\.py|test_leaks\.py|test_point\.py|test_pythons_that_can_run_it")
NOT_MEASURED = ["*/kalyx/probe/*", "*/kalyx/demo/payload/*"]  # these run in other Pythons, each alone


def measured_here() -> list[str]:
    """Return the folder, and that of the project, where it is measured; else nothing."""
    folder = os.environ.get(VARIABLE)
    return [folder, str(Path(__file__).parents[2])] if folder else []


def lines_of_this_process() -> Coverage:
    """Return what notes, once it is started, which lines and branches are run."""
    from coverage import Coverage

    found = importlib.util.find_spec("kalyx")
    assert found is not None and found.submodule_search_locations
    # by its files, not as a source: what is not run in a process is not looked for in each, which takes long
    lines = Coverage(data_file=None, branch=True, include=[f"{found.submodule_search_locations[0]}/*"],
                     omit=NOT_MEASURED, config_file=False, messages=False)
    lines.set_option("run:disable_warnings", ["no-data-collected"])
    return lines


def kind_of(test: str, arguments: Sequence[str]) -> tuple[object, ...]:
    """Return what the runs of the command have in common that are alike, by the test's name and their arguments."""
    if EACH_RUN.search(test):
        return (uuid.uuid4().hex,)  # none is like another
    if EACH_CASE.search(test):
        return (test.rpartition(" (")[0],)
    return (test.partition("[" if EACH_TEST.search(test) else "::")[0], *arguments[:1], "--json" in arguments)


def is_first(*what: object) -> bool:
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
