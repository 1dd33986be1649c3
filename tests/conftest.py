"""Shared fixtures: a world apart, and the schemas that every answer must meet."""

from __future__ import annotations

import json
import os
import shutil
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import hypothesis
import pytest

from tests.support.build import KALYX, World
from tests.support.forked import Forked
from tests.support.measured import SHARED, VARIABLE, lines_of_this_process, measured_here, save

LINES: list[Any] = []  # what notes the lines of this process
SCHEMAS = Path(__file__).parent.parent / "docs" / "schema"


# Modules of tests that are about how Kalyx is started and ended; single ones are marked `real`
REAL = {"test_ending", "test_printed"}


# What says nothing of how much is run: hundreds of the same, or only what the source looks like; and what `coverage`
# cannot be in (there is a number on sys.path)
UNMEASURED = {"test_house", "test_unread", "test_where_kalyx_lies"}


# What takes no built environment and few processes: `-m quick`, for while one works
QUICK = {"test_causes", "test_house", "test_machine", "test_parsers", "test_platforms", "test_precedence",
         "test_record", "test_show", "test_silence", "test_why_platforms"}


# How long an example takes, or to make one, says nothing here: machines are busy
hypothesis.settings.register_profile("kalyx", deadline=None, suppress_health_check=[hypothesis.HealthCheck.too_slow])
hypothesis.settings.load_profile("kalyx")


# What takes ten seconds and more, the longest first
LONG = ("test_tour", "test_sessions_are_what_is_printed", "test_under_a_traceback",
        "test_from_nothing_to_a_proven_kernel", "test_answer_under_the_traceback", "test_nothing_is_left_half_made",
        "test_remedies_make_it_run", "test_secrets_reach_nobody", "test_crowds_and_odd_names",
        "test_every_module_of_every_interpreter", "test_many_at_once", "test_put_into_what_the_seat_uses",
        "test_a_real_project", "test_public_names_are_as_listed", "test_megabytes_take_no_minutes",
        "test_an_environment_made_anew", "test_the_picture", "test_no_expression_takes_for_ever",
        "test_under_a_real_server", "test_random_damage", "test_wheel_and_source", "test_in_a_real_browser")


def pytest_configure(config: pytest.Config) -> None:
    """Make the folder that the processes of this run share: the first of them, for those that it starts."""
    if SHARED not in os.environ:
        os.environ[SHARED] = tempfile.mkdtemp(prefix="kalyx-tests-")
        config.add_cleanup(lambda: shutil.rmtree(os.environ.pop(SHARED), True))
    if measured_here():
        LINES.append(lines_of_this_process())


def pytest_xdist_auto_num_workers(config: pytest.Config) -> int:
    """Return how many processes run tests: four more than there are processors, as some tests wait."""
    return (os.cpu_count() or 1) + 4


@pytest.fixture(scope="session", autouse=True)
def _measured() -> Iterator[None]:
    """Note which lines this process runs, where that is asked for."""
    yield
    if LINES:
        save(LINES[0], os.environ[VARIABLE])


@pytest.hookimpl(wrapper=True)
def pytest_runtest_call(item: pytest.Item) -> Iterator[None]:
    """Leave out of what is measured the tests that run the command, and those that run the same hundreds of times."""
    left_out = "world" in getattr(item, "fixturenames", ()) or {item.path.stem, item.name} & UNMEASURED or getattr(
        getattr(item, "obj", None), "is_hypothesis_test", False)
    if LINES and not left_out:
        LINES[0].start()
    try:
        return (yield)
    finally:
        if LINES and not left_out:
            LINES[0].stop()


@pytest.hookimpl(trylast=True)
def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    """Mark what is quick, and have each process begin with some of what takes longest: none is left to the end."""
    for item in items:
        if isinstance(item, pytest.Function) and item.module.__name__.rpartition(".")[2] in QUICK:
            item.add_marker("quick")
    long = [item for item in items if getattr(item, "originalname", "") in LONG]
    others = [item for item in items if getattr(item, "originalname", "") not in LONG]
    count = pytest_xdist_auto_num_workers(config)
    size = -(-len(others) // count)
    items[:] = [item for n in range(count) for item in (*long[n::count], *others[n * size:(n + 1) * size])]


@pytest.fixture(scope="session", autouse=True)
def forked() -> Iterator[Forked]:
    """Return what runs the command without starting an interpreter for it each time; begun before any test."""
    one = Forked(KALYX)
    yield one
    one.end()


@pytest.fixture
def world(tmp_path: Path, request: pytest.FixtureRequest) -> World:
    """Return an empty world: home, project folder, wheelhouse, a plain PATH."""
    if request.module.__name__.rpartition(".")[2] in REAL or request.node.get_closest_marker("real"):
        return World(tmp_path)
    return World(tmp_path, request.getfixturevalue("forked"))


@pytest.fixture(scope="session")
def validate():
    """Return a function that checks a document against its command's schema."""
    sys.modules.setdefault("rfc3987_syntax", None)  # type: ignore[arg-type] # a format unused here, 2 s to load
    from jsonschema import Draft202012Validator
    from referencing import Registry, Resource

    contents = {p.name: json.loads(p.read_text()) for p in SCHEMAS.glob("*.json")}
    registry = Registry().with_resources(
        [(name, Resource.from_contents(content)) for name, content in contents.items()])

    def check(document: dict) -> None:
        document = {k: v for k, v in document.items() if k != "exit"}
        schema = contents[f"{document['command']}.json"]
        Draft202012Validator(schema, registry=registry).validate(document)

    return check
