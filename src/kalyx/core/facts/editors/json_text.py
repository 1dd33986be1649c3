"""JSON with comments (and trailing commas) as text: what it holds, where each value stands, one written anew.

All that is not the value that is written stays as it is, to the byte.
"""

from __future__ import annotations

import json
import re

TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import Any

    Key = str | int

__all__ = ["JsonText"]

# Each takes whole texts between quotes as one, so that nothing in them counts; one that is not closed ends
# with its line. Whatever stands there, no place is looked at twice.
_COMMENTS = re.compile(r'"(?:[^"\\\n]|\\.)*"?|//[^\n]*|/\*(?:[^*]|\*(?!/))*(?:\*/)?')
_COMMAS = re.compile(r'"(?:[^"\\\n]|\\.)*"?|,(?=\s*[}\]])')
UNIT = "    "


class JsonText:
    """A text of JSON. ``content`` is what it holds; an empty one holds an empty object."""

    def __init__(self, text: str) -> None:
        """Read it.

        Raises:
            ValueError: it is no JSON, comments and trailing commas allowed; the message says where.
        """
        self.text = text
        self._plain = _blanked(text)
        self._root: Any = None
        try:
            self.content: Any = json.loads(self._plain) if self._plain.strip() else {}
        except RecursionError:
            raise ValueError("it is nested too deeply") from None
        except ValueError as error:
            raise ValueError(f"it is not JSON: {error}") from None

    def place(self, *path: Key) -> tuple[int, int] | None:
        """Return where a value begins and ends; None where there is none. Of keys that stand twice, the last counts."""
        found = self._at_once(path)
        if found is not None:
            return found
        node = self._node(path)
        return (self._char(node.start_byte), self._char(node.end_byte)) if node is not None else None

    def line(self, *path: Key) -> int | None:
        """Return the line that a value begins on, from one."""
        place = self.place(*path)
        return self.text.count("\n", 0, place[0]) + 1 if place is not None else None

    def with_value(self, value: Any, *path: Key) -> str:
        """Return the text with another value there, or with the keys that were missing.

        Raises:
            ValueError: there is no object to put the key into.
        """
        place = self.place(*path)
        if place is not None:
            return self.text[:place[0]] + _written(value) + self.text[place[1]:]
        for depth in range(len(path) - 1, -1, -1):
            above = self._node(path[:depth])
            if above is None and depth:
                continue
            if any(isinstance(key, int) for key in path[depth:]):
                raise ValueError("there is no such place in a list")
            for key in reversed(path[depth + 1:]):
                value = {str(key): value}
            if above is None:
                return self._with_first(str(path[0]), value)
            if above.type != "object":
                raise ValueError(f"{'.'.join(map(str, path[:depth])) or 'it'} is no object")
            return self._with_member(above, str(path[depth]), value, depth)
        raise ValueError("it holds no object")

    def _at_once(self, path: tuple[Key, ...]) -> tuple[int, int] | None:
        """Return the place of a value whose key stands in the text but once: to load the grammar takes longer."""
        value: Any = self.content
        for key in path:
            value = value.get(key) if isinstance(value, dict) else None
        quoted = json.dumps(path[-1], ensure_ascii=False) if path and isinstance(path[-1], str) else ""
        if value is None or not quoted or self._plain.count(quoted) != 1 or "/" in quoted or "\\" in quoted or (
                "\\u" in self._plain):  # it may stand elsewhere in another spelling
            return None
        after = self._plain[self._plain.index(quoted) + len(quoted):].lstrip()
        if not after.startswith(":"):
            return None
        start = len(self._plain) - len(after[1:].lstrip())
        return start, json.JSONDecoder().raw_decode(self._plain, start)[1]

    # -- the tree ----------------------------------------------------------------------------
    def _node(self, path: tuple[Key, ...]) -> Any:
        if self._root is None:
            import tree_sitter
            import tree_sitter_json

            self._data = self._plain.encode("utf-8", "surrogatepass")
            self._is_ascii = len(self._data) == len(self._plain)
            tree = tree_sitter.Parser(tree_sitter.Language(tree_sitter_json.language())).parse(self._data)
            self._root = tree.root_node
        node = next(iter(self._root.named_children), None)
        for key in path:
            node = self._inside(node, key)
        return node

    def _inside(self, node: Any, key: Key) -> Any:
        if node is None:
            return None
        if node.type == "array" and isinstance(key, int):
            return next(iter(node.named_children[key:key + 1]), None)
        found = None
        for pair, name in self._members(node):
            if name == key:
                found = pair.child_by_field_name("value")
        return found

    def _members(self, node: Any) -> list[tuple[Any, str]]:
        if node.type != "object":
            return []
        pairs = [p for p in node.named_children if p.type == "pair"]
        return [(p, json.loads(self._data[(k := p.child_by_field_name("key")).start_byte:k.end_byte])) for p in pairs]

    def _char(self, byte: int) -> int:
        return byte if self._is_ascii else len(self._data[:byte].decode("utf-8", "surrogatepass"))

    # -- a key that was missing ----------------------------------------------------------------
    @property
    def _line_end(self) -> str:
        return "\r\n" if "\r\n" in self.text else "\n"

    def _indent_at(self, place: int) -> str:
        """Return the blanks that the line of a place begins with."""
        begin = self.text.rfind("\n", 0, place) + 1
        return self.text[begin:begin + len(self.text[begin:]) - len(self.text[begin:].lstrip(" \t"))]

    def _with_first(self, key: str, value: Any) -> str:
        """Return the text with an object behind what it has, which is blanks and comments at most."""
        end, before = self._line_end, self.text.rstrip()
        member = f"{json.dumps(key)}: {_written(value, UNIT, UNIT, end)}"
        return f"{before}{end if before else ''}{{{end}{UNIT}{member}{end}}}{end}"

    def _with_member(self, node: Any, key: str, value: Any, depth: int) -> str:
        members = self._members(node)
        if not members:
            return self._into_empty(node, key, value)
        begin, end = self._char(node.start_byte), self._char(node.end_byte)
        one_line = "\n" not in self.text[begin:self._char(members[0][0].start_byte)]
        before = _neighbour([name for _, name in members], key)
        pair = members[max(before, 0)][0]
        indent = self._indent_at(self._char(pair.start_byte))
        unit = indent[:len(indent) // (depth + 1)] or UNIT
        member = f"{json.dumps(key, ensure_ascii=False)}: " + (
            _written(value) if one_line else _written(value, indent, unit, self._line_end))
        if before < 0:
            at = self._char(pair.start_byte)
            return self.text[:at] + member + ("," + (" " if one_line else self._line_end + indent)) + self.text[at:]
        at = self._char(pair.end_byte)
        return self._behind(at, end, member, " " if one_line else self._line_end + indent)

    def _behind(self, at: int, end: int, member: str, gap: str) -> str:
        """Return the text with a member behind the one that ends at a place, in an object that ends at another."""
        behind = _without_comments(self.text[at:end])
        has_comma = behind.lstrip().startswith(",")
        after = at + behind.index(",") + 1 if has_comma else at
        line = self.text[after:end].split("\n")[0]
        is_rest = "\n" in gap and "\n" in self.text[after:end] and not _without_comments(line).strip() and (
            line.count("/*") == line.count("*/"))  # one that goes on in the next line is no place for a member
        place = after + len(line.removesuffix("\r")) if is_rest else after
        between = self.text[after:place]
        return f"{self.text[:at]}{self.text[at:after] if has_comma else ','}{between}{gap}{member}" \
               f"{',' if has_comma else ''}{self.text[place:]}"

    def _into_empty(self, node: Any, key: str, value: Any) -> str:
        start, end = self._char(node.start_byte) + 1, self._char(node.end_byte) - 1
        indent, nl = self._indent_at(start), self._line_end
        inner = indent + UNIT
        if "\n" in self.text[start:end].strip():
            inner = self._indent_at(end) + UNIT
        member = f"{json.dumps(key, ensure_ascii=False)}: {_written(value, inner, UNIT, nl)}"
        kept = self.text[start:end].rstrip()
        return f"{self.text[:start]}{kept}{nl}{inner}{member}{nl}{indent}{self.text[end:]}"


def _neighbour(names: list[str], key: str) -> int:
    """Return behind which member a person would put a key: its kin by the dotted name, or by the alphabet, or last."""
    kin = [n for n, name in enumerate(names) if "." in key and name.split(".")[0] == key.split(".")[0]]
    if kin:
        return kin[-1]
    if len(names) > 1 and names == sorted(names):
        return sum(name < key for name in names) - 1
    return len(names) - 1


def _written(value: Any, indent: str = "", unit: str = "", line_end: str = "\n") -> str:
    """Write a value as JSON; its inner lines are indented where a unit is given."""
    if not unit:
        return json.dumps(value, ensure_ascii=False)
    return json.dumps(value, ensure_ascii=False, indent=unit).replace("\n", line_end + indent)


def _without_comments(text: str) -> str:
    """Return JSON with blanks in the place of its comments: every character stays where it stands."""
    return _COMMENTS.sub(_blank_comment, text) if "/" in text else text


def _blanked(text: str) -> str:
    """Return JSON as the standard has it, with blanks for comments and trailing commas."""
    return _COMMAS.sub(lambda match: " " if match.group() == "," else match.group(), _without_comments(text))


def _blank_comment(match: re.Match[str]) -> str:
    found = match.group()
    return found if found[0] == '"' else re.sub(r"[^\n]", " ", found)
