"""Conditions about Python and the system, as markers: they hold where Python itself says that they do."""

from __future__ import annotations

import ast
import json
import sys

from kalyx.core.facts.packaging.requirements import applies, marker_values
from kalyx.core.facts.source_code.conditions import joined, marker_of
from tests.support.build import World, other_pythons, run

SAID = (
    "sys.version_info >= (3, 8)", "sys.version_info > (3, 8)", "sys.version_info < (3, 11)",
    "(3, 9) <= sys.version_info",
    "sys.version_info <= (3, 8)", "sys.version_info >= (3,)", "sys.version_info < (3,)", "sys.version_info > (3,)",
    "sys.version_info >= (3, 8, 2)", "sys.version_info < (3, 12, 1)", "sys.version_info[0] == 3",
    "sys.version_info[0] != 3", "sys.version_info[0] >= 3", "sys.version_info[0] > 2", "sys.version_info[0] < 3",
    "sys.version_info.major <= 2", "sys.version_info.major == 2", "sys.version_info[:2] >= (3, 10)",
    "sys.version_info[:2] == (3, 9)", "sys.version_info[:2] != (3, 9)", "sys.version_info[:2] > (3, 9)",
    "sys.version_info[:2] <= (3, 9)", "not sys.version_info >= (3, 8)", "sys.platform == 'win32'",
    "sys.platform != 'win32'", "sys.platform.startswith('linux')", "sys.platform.startswith('win')",
    "sys.platform in ('linux', 'darwin', 'linux2')", "sys.platform not in ['win32', 'cygwin']", "os.name == 'nt'",
    "os.name != 'nt'", "platform.system() == 'Windows'", "platform.system() == 'Linux'",
    "platform.python_implementation() == 'PyPy'", "platform.python_implementation() == 'CPython'",
    "sys.version_info >= (3, 8) and sys.platform != 'win32'", "sys.version_info < (3, 8) or os.name == 'nt'",
    "not (sys.version_info < (3, 8) or sys.platform == 'win32')", "(3, 7) <= sys.version_info",
)
# What no marker says
UNSAID = (
    "sys.version_info == (3, 11)", "sys.version_info.minor >= 8", "sys.version_info >= x", "x", "os.environ", "1",
    "sys.version_info >= (3, 8) and x", "sys.platform == x", "sys.platform.startswith(('a', 'b'))", "sys.platform in x",
    "sys.version_info >= (3, 8, 0, 'final')", "(3, 6) <= sys.version_info < (3, 9)", "os.name == '\"'",
    "sys.maxsize > 2",
    "sys.version_info[1] >= 8", "sys.version_info[:2] >= (3,)", "not x", "sys.platform > 'a'", " or ".join(["x"] * 50),
)
EVALUATED = "import json, os, platform, sys\nprint(json.dumps([bool(eval(c)) for c in json.loads(sys.argv[1])]))"
ALWAYS = 'python_version >= "1"'
VERSION = "import platform; print(platform.python_version())"


def test_markers_hold_where_conditions_do(world: World) -> None:
    """Of each Python here a condition is as true as its marker, and the marker of its contrary as false."""
    for python in [sys.executable, *other_pythons().values()]:
        version = run([python, "-c", VERSION], env=world.env).stdout.strip()
        told = json.loads(run([python, "-c", EVALUATED, json.dumps(SAID)], env=world.env).stdout)
        implementation = "pypy" if told[SAID.index("platform.python_implementation() == 'PyPy'")] else "cpython"
        values = marker_values(version, implementation, sys.platform)
        for condition, holds in zip(SAID, told, strict=True):
            test = ast.parse(condition, mode="eval").body
            for negated in (False, True):
                marker = marker_of(test, negated=negated)
                assert marker and applies(f"x; {marker}", values) == (holds != negated), (version, condition, marker)
                assert applies(f"x; {joined(marker, ALWAYS)}", values) == (holds != negated)


def test_no_marker_says_more_than_its_condition() -> None:
    """What markers cannot say is not said."""
    for condition in UNSAID:
        for negated in (False, True):
            assert marker_of(ast.parse(condition, mode="eval").body, negated=negated) is None, condition
    assert joined("", "a") == joined("a", "") == joined("a", "a") == "a"
