"""A machine that is elsewhere: it gives the answers that were recorded of it, and no others.

What nobody asked when they were recorded is `NotRecorded`, and never "it is not there". What follows from
another answer is no new question: a name that a whole list of its folder has not is not there.
"""

from __future__ import annotations

import ntpath
import posixpath

from kalyx.core.errors import NotRecorded, Unreadable
from kalyx.core.machine.interface import READ_LIMIT, SCAN_LIMIT, Machine
from kalyx.core.machine.recorded_runs import question_of_run, run_of_data
from kalyx.core.machine.results import FileInfo, RunResult

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Mapping, Sequence
    from typing import Any

    from kalyx.core.model.process import RawProcess

__all__ = ["NO_FOLDER", "RecordedMachine"]

MOST_ABOVE = 40  # folders above a path that are looked at
NO_FOLDER = "it is a file, and no folder"  # why a thing that was looked at is not listed: nothing lies below it
_ASKED = {"line": "line {question}", "list": "what {question} holds", "scan": "what {question} holds",
          "real": "where {question} leads",
          "may write": "whether {question} may be written", "size": "how large {question} is",
          "kept": "what comes of: {question}", "found": "what there is to know of: {question}",
          "process": "process {question}"}
_OTHER_CASE = ("win32", "darwin")  # where a name may be spelt in other letters, and mean the same


class RecordedMachine(Machine):
    """Answers from what was recorded; nothing can be run on it, and nothing of this machine is looked at."""

    def __init__(self, said: Mapping[str, Any], answers: Mapping[str, Mapping[str, Any]],
                 contents: Mapping[str, tuple[bytes, int | None]], own_folder: str, *, links_known: bool = True
                 ) -> None:
        """Take up what was recorded.

        `said` has platform, cwd, home, user_id, env and own_command; `answers` what `RecordingMachine` kept of each
        kind; `contents` the bytes of files, and how many were asked for
        where they are not all of it. Without `links_known` what was not
        recorded as a link is taken for none.
        """
        self.platform, self.cwd, self.home = said["platform"], said["cwd"], said["home"]
        self.user_id, self.own_command = said["user_id"], tuple(said["own_command"])
        self.env = dict(said["env"])
        self._module = ntpath if self.platform == "win32" else posixpath
        self._answers, self._contents = answers, contents
        self._own_folder, self._links_known = own_folder, links_known
        self._there: dict[str, bool] = {}
        self._above: set[str] | None = None

    def _answer(self, kind: str, question: str) -> Any:
        """Return a recorded answer.

        Raises:
            NotRecorded: there is none.
        """
        try:
            return self._answers[kind][question]
        except KeyError:
            raise NotRecorded(_ASKED.get(kind, "{kind} {question}").format(kind=kind, question=question)) from None

    def _has(self, kind: str, question: str) -> bool:
        return question in self._answers.get(kind, ())

    # -- files ------------------------------------------------------------------------------
    def stat(self, path: str) -> FileInfo | None:
        if self._has("stat", path):
            return _info(self._answers["stat"][path])
        if not self._is_known_there(path):
            return None
        raise NotRecorded(f"what {path} is")

    def lstat(self, path: str) -> FileInfo | None:
        if self._has("lstat", path):
            return _info(self._answers["lstat"][path])
        if not self._links_known or (self._has("link", path) and self._answers["link"][path] is None):
            return self.stat(path)
        if not self._is_known_there(path):
            return None
        raise NotRecorded(f"what {path} itself is")

    def exists(self, path: str) -> bool:
        return self._is_known_there(path)

    def is_there(self, path: str) -> bool:
        if self._has("lstat", path):
            return self._answers["lstat"][path] is not None
        if self._answers.get("link", {}).get(path) is not None:
            return True
        folder, name = self._module.split(path)
        return name in (self._names(folder) or ()) or self._is_known_there(path)

    def is_file(self, path: str) -> bool:
        return self._kind(path) == "file"

    def is_folder(self, path: str) -> bool:
        return self._kind(path) == "folder"

    def _kind(self, path: str) -> str:
        """Return what a path leads to, as `FileInfo` names it; empty where there is nothing."""
        if self._has("kind", path):
            return str(self._answers["kind"][path])
        if path in self._contents:
            return "file"
        if self._names(path) is not None or path in self._folders_above():
            return "folder"
        info = self.stat(path)
        return info.kind if info is not None else ""

    def _is_known_there(self, path: str) -> bool:
        """Whether something is at a path, by what other answers say.

        Raises:
            NotRecorded: none of them says it.
        """
        if path not in self._there:
            found = self._concluded(path, MOST_ABOVE)
            if found is None:
                raise NotRecorded(f"whether {path} is there")
            self._there[path] = found
        return self._there[path]

    def _concluded(self, path: str, most: int) -> bool | None:
        """Return whether something is at a path; None where no answer says it."""
        if self._has("stat", path):
            return self._answers["stat"][path] is not None
        if self._has("there", path):
            return bool(self._answers["there"][path])
        if path in self._contents or self._names(path) is not None or self._has("kind", path):
            return True
        if path in self._folders_above():
            return True
        folder, name = self._module.split(path)
        if self._answers.get("list", {}).get(folder) == NO_FOLDER:
            return False
        names = self._names(folder) if name else None
        if names is not None:
            if name in names:
                if self._is_no_link(path, folder, name):
                    return True
            elif self.platform not in _OTHER_CASE or name.lower() not in {n.lower() for n in names}:
                return False
        if name and most > 0 and folder != path and self._concluded(folder, most - 1) is False:
            return False
        return None

    def _folders_above(self) -> set[str]:
        """Return the folders above all that is known to be there: they are there, too."""
        if self._above is None:
            self._above = set()
            known = [p for p, x in self._answers.get("stat", {}).items() if x] + list(self._contents)
            known += [p for kind in ("list", "kind") for p, x in self._answers.get(kind, {}).items()
                      if isinstance(x, list) or (kind == "kind" and x)]
            for path in known:
                while (folder := self._module.dirname(path)) not in self._above and folder != path:
                    self._above.add(folder)
                    path = folder
        return self._above

    def _is_no_link(self, path: str, folder: str, name: str) -> bool:
        """Whether what has a name in a folder is known to be no link, which may lead nowhere."""
        if self._has("link", path):
            return self._answers["link"][path] is None
        scanned = self._answers.get("scan", {}).get(f"{SCAN_LIMIT}:{folder}")
        return not self._links_known or bool(scanned and name in scanned[1])

    def _names(self, folder: str) -> list[str] | None:
        """Return the names in a folder where all of them are known."""
        listed = self._answers.get("list", {}).get(folder)
        if isinstance(listed, list):
            return listed
        scanned = self._answers.get("scan", {}).get(f"{SCAN_LIMIT}:{folder}")
        return scanned[0] if scanned and scanned[0] and not scanned[2] else None

    def read_link(self, path: str) -> str | None:
        if self._has("link", path):
            found: str | None = self._answers["link"][path]
            return found
        if not self._links_known or not self._is_known_there(path):
            return None
        raise NotRecorded(f"whether {path} is a link")

    def real_path(self, path: str) -> str:
        if self._has("real", path):
            return str(self._answers["real"][path])
        if not self._links_known:
            return str(self._module.normpath(path))
        folder, name = self._module.split(path)
        if name and folder != path and self._is_no_link(path, folder, name):
            return str(self._module.join(self.real_path(folder), name))
        return str(self._answer("real", path))

    def read_bytes(self, path: str, limit: int = READ_LIMIT) -> bytes:
        if path in self._contents:
            data, first = self._contents[path]
            if first is None or limit <= first:
                return data[:limit]
        elif self._has("unread", path):
            reason = str(self._answers["unread"][path])
            if self._has("stat", path) and self._answers["stat"][path] is not None:
                self.report(path, reason)
            raise Unreadable(path, reason)
        elif not self._is_known_there(path):
            raise Unreadable(path, "it does not exist")
        raise NotRecorded(f"what {path} says")

    def source_line(self, path: str, number: int) -> str:
        if path in self._contents:
            return super().source_line(path, number)
        return str(self._answer("line", f"{number}:{path}"))

    def around(self, path: str, mark: bytes, most: int = 1000) -> list[tuple[bytes, bytes]]:
        return [(bytes.fromhex(a), bytes.fromhex(b))
                for a, b in self._answer("around", f"{mark.hex()}:{most}:{path}")]

    def list_folder(self, path: str) -> list[str]:
        names = self._names(path)
        if names is not None:
            return sorted(names)
        if not self._has("list", path) and not self._is_known_there(path):
            raise Unreadable(path, "it does not exist")
        raise Unreadable(path, str(self._answer("list", path)))

    def scan(self, path: str, most: int = SCAN_LIMIT) -> tuple[list[str], list[str], bool]:
        if not self._has("scan", f"{most}:{path}"):
            if not self.exists(path):
                return [], [], False
            if not self._links_known and (listed := self._names(path)) is not None:
                kinds = self._answers.get("kind", {})
                return sorted(listed), sorted(n for n in listed if kinds.get(
                    self._module.join(path, n)) == "folder"), False
        names, folders, cut = self._answer("scan", f"{most}:{path}")
        return list(names), list(folders), bool(cut)

    def rights_in(self, path: str) -> list[tuple[FileInfo, list[str]]]:
        if not self._has("rights", path):  # an older document has each by itself
            return super().rights_in(path)
        return [(FileInfo(kind, mode, owner, 0, group=group), list(names))
                for kind, mode, owner, group, names in self._answers["rights"][path]]

    def has_one_folder(self, path: str) -> bool:
        return bool(self._answers.get("one folder", {}).get(path))  # where it is not known, the folder is listed

    def may_write(self, path: str) -> bool:
        return bool(self._answer("may write", path))

    def may_be_there(self, path: str) -> bool:
        if not self._has("may be there", path):
            try:
                return self.exists(path)
            except NotRecorded:
                return True
        return bool(self._answers["may be there"][path])

    def trouble_at(self, path: str) -> str:
        return str(self._answers.get("trouble", {}).get(path, "is not among what was recorded"))

    def digest(self, path: str, kind: str) -> str:
        return str(self._answers.get("digest", {}).get(f"{kind}:{path}", ""))

    def tree_size(self, path: str, most: int = 200_000) -> int:
        return int(self._answer("size", f"{most}:{path}"))

    # -- the system ----------------------------------------------------------------------------
    def is_private_group(self, group: int) -> bool:
        return bool(self._answer("private group", str(group)))

    def registered_pythons(self) -> list[str]:
        return list(self._answer("registry", "")) if self.platform == "win32" else []

    def processor(self) -> str:
        return str(self._answers.get("processor", {}).get("", ""))

    def processes(self) -> list[RawProcess]:
        raise NotRecorded("what runs there")

    def process(self, pid: int) -> RawProcess | None:
        from kalyx.core.model.process import RawProcess

        row = self._answer("process", str(pid))
        return None if row is None else RawProcess(**{**row, "argv": tuple(row["argv"])})

    # -- what was run --------------------------------------------------------------------------
    def found(self, question: str, find: Callable[[Any], Any]) -> Any:
        return self._answer("found", question)

    def kept(self, question: str) -> Any:
        return self._answer("kept", question)

    def run(self, argv: Sequence[str], *, env: Mapping[str, str] | None = None, cwd: str | None = None,
            limit: float = 10.0, judged: FileInfo | None = None) -> RunResult:
        row = self._answers.get("run", {}).get(question_of_run(argv, self._own_folder))
        if row is None:
            raise NotRecorded(f"what {' '.join(argv)[:200]} does")
        return run_of_data(row)

    def make_folder(self) -> str:
        raise NotRecorded("what is run there")


def _info(row: Sequence[Any] | None) -> FileInfo | None:
    return None if row is None else FileInfo(row[0], row[1], row[2], row[3], row[4], (row[5], row[6]), row[7])
