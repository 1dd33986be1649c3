"""The newest Python that code may need by its syntax, as far as its text tells: no form in it is newer than that.

Each form that a tree can show has a sign here, which the text of whatever has the form has too. What has a sign and
not the form, as a comment may, is only looked at for nothing. A sign is a few plain characters, which are quickly
found; around them more is looked at.
"""

from __future__ import annotations

import re

from kalyx.core.facts.source_code.python_range import F_STRING_EQUALS, LAZY
from kalyx.core.facts.source_code.syntax import places_ended

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Iterator

__all__ = ["is_for_another_parser", "newest_sign"]

_GAP = r"(?:\s|\\\n|#[^\n]{0,200}\n){0,40}"  # between the parts of an expression
_TYPES = ("None", "int", "str", "float", "bytes", "bool", "complex", "object", "list", "dict", "set", "tuple", "type",
          "frozenset")
_LEFT = re.compile(rf"(?:\b(?:{'|'.join(_TYPES)})|\])[ \t)]{{0,20}}{_GAP}\Z")
_RIGHT = re.compile(rf"{_GAP}[( ]{{0,20}}(?:{'|'.join(_TYPES)})\b")
_NEAR = 60  # and where there are none
_BESIDE = 300  # characters on each side of a place that are looked at, where there are lines between
_MOST_PLACES = 200  # of an operator that are looked at
_LONGEST = 2000  # characters of a string in which braces are counted, and of a line before a place
_IN_BRACES = re.compile(r"\{[^{}]{0,2000}[\\#]")
# What begins a statement that is no match statement: ``match = ...``, ``match.group()``, ``match in ...``
_MATCH = re.compile(r"match(?:[ \t]+(?![=.,):]|(?:in|is|and|or|if|not[ \t]+in)\b)|(?=[(\[{'\"]))")
_ADORNS = re.compile("@")
_PLAIN_DECORATOR = re.compile(r"@[ \t]*[\w.]+[ \t]*(?:(?:#.*)?$|(\())", re.MULTILINE)
_ADORNED = re.compile(r"^[ \t]*(?:def|class|async|@)", re.MULTILINE)
_BEHIND_CALL = re.compile(r"\)[ \t\\]*[^\s,)\]}:#\\]")  # what goes on behind a bracket
_PARAMETERS = [re.compile(rf"{word}[ \t]+\w+[ \t]*[\[\\]") for word in ("def", "class", "type")]
_TYPE_STATEMENT = re.compile(r"type[ \t]+\w+[ \t]*[=\\]")
_WITH_BRACKETS = re.compile(r"with[ \t]*[(\\]")
_UNPACKED_TYPE = re.compile(r"\*\w+\s*:\s*\*")
_GIVES = re.compile(r"\b(?:return|yield|in)\b(.*)")
_INDEXED = re.compile(r"[\w\])]\[")
_BEFORE_SLASH = re.compile(r",[ \t]*\Z|(?:\A|\n)[ \t]*\Z")
# Strings with a letter before them, in small letters: by plain characters, which are quickly found. Behind a dot, a
# minus or a backslash none begins, nor a template behind another string.
_PREFIXED = {letter: [
    *(re.compile(rf"{letter}{q}(?:(?<![\w\\.-]{letter}{q})|(?<=r{letter}{q})(?<![\w\\.-]r{letter}{q}))"
                 + (rf"(?<!['\"]{letter}{q})(?<!['\"]r{letter}{q})" if letter == "t" else "")) for q in "'\""),
    *(re.compile(rf"r{q}(?<={letter}r{q})(?<![\w\\.-]{letter}r{q})") for q in "'\"")] for letter in "ft"}
# Forms of Python 2 by the word that each begins with: no Python 3 makes a tree of them
_PYTHON2 = [re.compile(form) for form in (
    r"print[ \t]+[\"'\w%(]", r"print[ \t]*>>", r"exec[ \t]+[\"'\w]", r"raise[ \t]+[\w.]+[ \t]*,",
    r"except[ \t]+(?:\([^()\n]*\)|[\w.]+)[ \t]*,")]
_UR = [re.compile(rf"ur{q}(?<!\wur{q})") for q in "'\""]


def newest_sign(text: str) -> str:
    """Return the newest version that a form of syntax may need of which a text has a sign; empty where it has none."""
    return next((since for since, may_have in _SIGNS if may_have(text)), "")


def is_for_another_parser(text: str) -> bool:
    """Whether a text may be of Python 2, or of two versions that were to become one: only parsing tells."""
    return any(True for form in _PYTHON2 for _ in _beginning(text, form)) or any(
        sign in text for sign in (" <> ", "\n<<<<<<< ", "\n>>>>>>> ")) or any(form.search(text) for form in _UR)


# -- where signs are -------------------------------------------------------------------------------
def _places(text: str, sign: str) -> Iterator[int]:
    """Yield all places of a text where a sign begins."""
    at = text.find(sign)
    while at >= 0:
        yield at
        at = text.find(sign, at + 1)


def _beginning(text: str, form: re.Pattern[str]) -> Iterator[int]:
    """Yield the places where a form may begin a statement."""
    for found in form.finditer(text):
        before = _before(text, found.start()).rstrip(" \t\f")
        if not before or before[-1] in ";:":
            yield found.start()


def _before(text: str, at: int) -> str:
    """Return what a line has before a place; of a very long one its last part."""
    first = max(0, at - _LONGEST)
    return text[max(text.rfind("\n", first, at) + 1, first):at]


def _strings(text: str, letter: str) -> Iterator[int]:
    """Yield where the quotes begin of strings that have a letter before them, and maybe an ``r``.

    The text has small letters alone.
    """
    for form in _PREFIXED[letter]:
        for found in form.finditer(text):
            yield found.end() - 1


# -- whether a text may have a form ----------------------------------------------------------------
def _may_have_template(text: str) -> bool:
    small = text.lower()
    return len(small) != len(text) or any(True for _ in _strings(small, "t"))


def _may_have_free_f_string(text: str) -> bool:
    """Whether an f-string may have in its braces what only PEP 701 lets stand there.

    Up to the first of its quotes such a string has braces that are still open, or a backslash or a ``#`` in them.
    """
    small = text.lower()
    if len(small) != len(text):  # there are letters of which the small ones are two
        return True
    for at in _strings(small, "f"):
        quote = text[at] * (3 if text.startswith(text[at] * 3, at) else 1)
        inside = text[at + len(quote):_end_of(text, at + len(quote), quote)]
        if len(quote) == 1:
            inside = inside.partition("\n")[0]  # one that goes on in the next line has open braces here
        if len(inside) > _LONGEST:
            return True
        if "{{" in inside or "}}" in inside:
            inside = inside.replace("{{", "").replace("}}", "")
        if inside.count("{") != inside.count("}") or (("\\" in inside or "#" in inside) and _IN_BRACES.search(inside)):
            return True
    return False


def _end_of(text: str, at: int, quote: str) -> int:
    """Return where the first quote stands behind a place that no backslash makes a plain character."""
    end = text.find(quote, at)
    while end >= 0 and _is_escaped(text, end):
        end = text.find(quote, end + 1)
    return end if end >= 0 else len(text)


def _is_escaped(text: str, at: int) -> bool:
    """Whether a backslash before a place is meant for what stands there, and not itself a character."""
    first = at
    while first > 0 and text[first - 1] == "\\":
        first -= 1
    return (at - first) % 2 == 1


def _may_be_star(text: str, at: int) -> bool:
    """Whether something may be unpacked by the star behind a place."""
    follows = text[at + 2:at + 3]
    return follows.isalnum() or follows in ("_", "(", "[")


def _stars(text: str) -> list[str]:
    """Return what the lines have before each star that may unpack something; of very long ones the last part."""
    return [_before(text, at + 1) for sign in (" *", ",*", "[*") for at in _places(text, sign)
            if _may_be_star(text, at)]


def _may_unpack_in_index(text: str) -> bool:
    """Whether something may be unpacked in an index."""
    for before in _stars(text):
        if len(before) >= _LONGEST:
            return True
        if _INDEXED.search(before):
            between = before[max(before.rfind("("), 0):]
            if _INDEXED.search(between) or "'" in before or '"' in before:  # what stands in a string closes nothing
                return True
    return False


def _may_give_unpacked(text: str) -> bool:
    """Whether something may be unpacked without brackets in what is returned or gone through."""
    found = [_GIVES.search(before) for before in _stars(text) if "return" in before or "yield" in before
             or "in" in before]
    return any("'" in one[1] or '"' in one[1] or one[1].count("(") <= one[1].count(")") for one in found if one)


def _may_be_union(text: str) -> bool:
    if "|" not in text or _has_lazy(text):
        return False
    has_generic = _may_be_generic(text)
    return any(number > _MOST_PLACES or _is_type_before(text, at, has_generic=has_generic) or _is_type_behind(text, at)
               for number, at in enumerate(_places(text, "|")))


def _is_type_before(text: str, at: int, *, has_generic: bool) -> bool:
    """Whether a type may stand before an operator, in its line or the one before."""
    before = text[max(0, at - _NEAR):at].rstrip(" \t)")
    if before and before[-1] != "\n":
        return before.endswith(_TYPES) or (has_generic and before[-1] == "]")
    left = _LEFT.search(text, max(0, at - _BESIDE), at)
    return left is not None and (has_generic or not left[0].startswith("]"))


def _is_type_behind(text: str, at: int) -> bool:
    behind = text[at + 1:at + _NEAR].lstrip(" \t(")
    return behind.startswith(_TYPES) or (behind[:1] in ("\n", "\\", "#", "") and _RIGHT.match(text, at + 1) is not None)


def _may_be_generic(text: str) -> bool:
    return not _has_lazy(text) and any(
        True for end, forms in (("t[", ("list[", "dict[", "set[")), ("e[", ("tuple[", "type[")))
        for _ in places_ended(text, end, forms))


def _has_lazy(text: str) -> bool:
    """Whether types are not evaluated where they stand."""
    return "__future__" in text and LAZY.search(text) is not None


def _is_free(text: str, at: int) -> bool:
    """Whether a decorator may be more than a dotted name or one call of it: all that Python before 3.9 takes."""
    plain = _PLAIN_DECORATOR.match(text, at)
    if plain is None or plain[1] is None:
        return plain is None
    end = _ADORNED.search(text, plain.end(), at + _LONGEST)
    return end is None or _BEHIND_CALL.search(text, plain.end(), end.start()) is not None


def _may_have_slash(text: str) -> bool:
    """Whether a slash may stand between parameters: behind a comma, or first in its line."""
    for at in _places(text, "/"):
        if text[at + 1:at + 40].lstrip(" \t")[:1] in ("", ",", ")", ":", "\n", "#", "\\") and _BEFORE_SLASH.search(
                text, max(0, at - 40), at):
            return True
    return False


def _may_have_equals(text: str) -> bool:
    for sign in ("=}", "=!", "=:"):
        for at in _places(text, sign):
            before = _before(text, at)
            if len(before) >= _LONGEST or F_STRING_EQUALS.search(
                    before + text[at:at + _BESIDE].partition("\n")[0]):
                return True
    return False


# By the version that brought a form, the newest first: whether a text may have it
_SIGNS: tuple[tuple[str, Callable[[str], bool]], ...] = (
    ("3.14", _may_have_template),
    ("3.13", lambda text: any(form.search(text) for form in _PARAMETERS)),  # with defaults; without them 3.12
    ("3.12", lambda text: any(True for _ in _beginning(text, _TYPE_STATEMENT))),
    ("3.12", _may_have_free_f_string),
    ("3.11", lambda text: "except*" in text or "except *" in text or "async for" in text),
    ("3.11", _may_unpack_in_index),
    ("3.11", lambda text: _UNPACKED_TYPE.search(text) is not None),
    ("3.10", lambda text: ":=" in text),
    ("3.10", lambda text: any(True for _ in _beginning(text, _MATCH))),
    ("3.10", _may_be_union),
    ("3.9", _may_be_generic),
    ("3.9", lambda text: any(_is_free(text, at) for at in _beginning(text, _ADORNS))),
    ("3.9", lambda text: any(True for _ in _beginning(text, _WITH_BRACKETS))),
    ("3.9", _may_give_unpacked),
    ("3.8", _may_have_slash),
    ("3.8", _may_have_equals),
    ("3.7", _has_lazy),
)
