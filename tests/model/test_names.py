"""Names of distributions, of requirements and of modules: what is the same, what is near, what is one."""

from __future__ import annotations

import re

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from packaging.requirements import InvalidRequirement, Requirement
from packaging.utils import canonicalize_name

from kalyx.core.model.names import normal_name, requirement_name
from kalyx.core.verdicts.reading.spelling import is_one_edit, near_names

EXAMPLES = settings(max_examples=300, deadline=None, derandomize=True)
NAMES = st.from_regex(re.compile(r"\A[A-Za-z0-9](?:[A-Za-z0-9._-]{0,8}[A-Za-z0-9])?\Z"))


@EXAMPLES
@given(name=NAMES)
def test_as_the_standard_has_it(name: str) -> None:
    """A name compares in the form that PEP 503 gives it."""
    assert normal_name(name) == canonicalize_name(name) == normal_name(normal_name(name))


@EXAMPLES
@given(name=NAMES, behind=st.sampled_from(("", ">=1", " >= 1", "[fast]", " [a,b]>=1", "; python_version < '3'",
                                           " @ https://host/x.whl", "==1.*", "~=1.0;os_name=='nt'")),
       before=st.sampled_from(("", " ", "  ")))
def test_at_the_head_of_a_requirement(name: str, behind: str, before: str) -> None:
    """Of every requirement the name is found as the reference has it."""
    try:
        expected = Requirement(before + name + behind).name
    except InvalidRequirement:
        return
    assert requirement_name(before + name + behind) == expected


@pytest.mark.parametrize(("text", "name"), [
    ("", ""), (">=1", ""), ("-e .", ""), ("./folder", ""), ("é", ""), ("a.", "a"), ("a-", "a"), ("a b", "a"),
    ("a;b", "a"), ("# a", "")])
def test_what_is_no_requirement(text: str, name: str) -> None:
    """What has no name has none, and what goes on oddly ends where a name does."""
    assert requirement_name(text) == name


@pytest.mark.parametrize(("name", "near"), [
    ("numpi", ["numpy"]), ("nmupy", ["numpy"]), ("numpyy", ["numpy"]), ("numy", ["numpy"]), ("Numpy", ["numpy"]),
    ("umpy", []), ("bumpy", []), ("pnadas", ["pandas"]), ("oandas", ["pandas"]), ("yaml", []), ("PIL", []),
    ("pil", ["PIL"]), ("os", []), ("oss", []), ("numpy", []), ("", []),
    ("csv2", ["csv"]), ("xsv", []), ("cvs", ["csv"])])
def test_near_names(name: str, near: list[str]) -> None:
    """What differs in case alone comes first; of short names few are near, of others what is one slip away."""
    assert near_names(name, ["numpy", "pandas", "PIL", "os", "csv", "requests"]) == near


@EXAMPLES
@given(word=st.text("abc", min_size=1, max_size=6), at=st.integers(0, 6), letter=st.sampled_from("abcd"),
       how=st.sampled_from(("insert", "drop", "change", "swap")))
def test_one_slip(word: str, at: int, letter: str, how: str) -> None:
    """Each kind of slip is one, in both directions; the same word is none, and two slips of length are none."""
    at = min(at, len(word) - 1)
    other = {"insert": word[:at] + letter + word[at:], "drop": word[:at] + word[at + 1:],
             "change": word[:at] + letter + word[at + 1:],
             "swap": word[:at] + word[at + 1:at + 2] + word[at:at + 1] + word[at + 2:]}[how]
    assert is_one_edit(word, other) is is_one_edit(other, word) is (word != other)
    assert not is_one_edit(word, word) and not is_one_edit(word, word + "zz")
