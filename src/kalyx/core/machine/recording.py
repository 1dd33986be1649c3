"""A machine whose answers are written down as it gives them, so that `RecordedMachine` can give them elsewhere."""

from __future__ import annotations

from kalyx.core.errors import Unreadable
from kalyx.core.machine.interface import READ_LIMIT, SCAN_LIMIT, Machine
from kalyx.core.machine.recorded_runs import question_of_run, run_as_data, run_of_data
from kalyx.core.machine.results import FileInfo

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Mapping, Sequence
    from typing import Any, TypeVar

    from kalyx.core.machine.results import Begun, RunResult
    from kalyx.core.model.process import RawProcess

    T = TypeVar("T")
    R = TypeVar("R")

__all__ = ["WHOLE_LIMIT", "RecordingMachine"]

WHOLE_LIMIT = 4 * 1024 * 1024  # bytes of one file that are kept; of what is larger, nothing is


class RecordingMachine(Machine):
    """Asks another machine, and keeps each question with its answer: the second time it gives the same one.

    ``answers`` has a mapping for each kind of question, of what was asked to the answer; ``contents`` the bytes that
    were read of each file, and how many were asked for.
    """

    def __init__(self, machine: Machine, own_folder: str, env: Mapping[str, str] | None = None) -> None:
        """Ask `machine`; `own_folder` is where Kalyx itself lies, which is elsewhere on another machine.

        `env` are its variables where not all of them are to be seen.
        """
        self._inner = machine
        self._own_folder = own_folder
        self.platform, self.cwd, self.home = machine.platform, machine.cwd, machine.home
        self.user_id, self.own_command = machine.user_id, machine.own_command
        self.env = dict(machine.env if env is None else env)
        self.answers: dict[str, dict[str, Any]] = {}
        self.contents: dict[str, tuple[bytes, int]] = {}
        self._scratch: list[str] = []

    def _ask(self, kind: str, question: str, ask: Callable[[], Any]) -> Any:
        known = self.answers.setdefault(kind, {})
        if question not in known:
            known[question] = ask()
        return known[question]

    @property
    def path(self) -> Any:
        return self._inner.path

    @property
    def troubles(self) -> dict[str, str]:
        return self._inner.troubles

    # -- files ------------------------------------------------------------------------------
    def stat(self, path: str) -> FileInfo | None:
        return _told(self._ask("stat", path, lambda: _as_list(self._inner.stat(path))))

    def lstat(self, path: str) -> FileInfo | None:
        return _told(self._ask("lstat", path, lambda: _as_list(self._inner.lstat(path))))

    def exists(self, path: str) -> bool:
        known = self.answers.get("stat", {}).get(path, self)  # what is there in full is more than that it is there
        if known is not self:
            return known is not None
        return bool(self._ask("there", path, lambda: self._inner.exists(path)))

    def read_link(self, path: str) -> str | None:
        found: str | None = self._ask("link", path, lambda: self._inner.read_link(path))
        return found

    def real_path(self, path: str) -> str:
        return str(self._ask("real", path, lambda: self._inner.real_path(path)))

    def read_bytes(self, path: str, limit: int = READ_LIMIT) -> bytes:
        if any(self.is_within(path, folder) for folder in self._scratch):
            return self._inner.read_bytes(path, limit)
        known = self.contents.get(path)
        if known is not None and (limit <= known[1] or len(known[0]) < known[1]):
            return known[0][:limit]
        refused = self.answers.setdefault("unread", {})
        if path in refused:
            raise Unreadable(path, refused[path])
        try:
            data = self._inner.read_bytes(path, limit)
        except Unreadable as error:
            refused[path] = error.reason
            raise
        self.contents[path] = (data, limit)
        return data

    def around(self, path: str, mark: bytes, most: int = 1000) -> list[tuple[bytes, bytes]]:
        found = self._ask("around", f"{mark.hex()}:{most}:{path}", lambda: [
            [a.hex(), b.hex()] for a, b in self._inner.around(path, mark, most)])
        return [(bytes.fromhex(a), bytes.fromhex(b)) for a, b in found]

    def list_folder(self, path: str) -> list[str]:
        found = self._ask("list", path, lambda: self._listed(path))
        if isinstance(found, str):
            raise Unreadable(path, found)
        return list(found)

    def _listed(self, path: str) -> list[str] | str:
        """Return the names in a folder, or why they cannot be read."""
        try:
            return self._without_scratch(path, self._inner.list_folder(path))
        except Unreadable as error:
            return error.reason

    def rights_in(self, path: str) -> list[tuple[FileInfo, list[str]]]:
        rows = self._ask("rights", path, lambda: [[i.kind, i.mode, i.owner, i.group, names]
                                                  for i, names in self._inner.rights_in(path)])
        return [(FileInfo(kind, mode, owner, 0, group=group), names) for kind, mode, owner, group, names in rows]

    def scan(self, path: str, most: int = SCAN_LIMIT) -> tuple[list[str], list[str], bool]:
        names, folders, cut = self._ask("scan", f"{most}:{path}", lambda: self._scanned(path, most))
        return list(names), list(folders), bool(cut)

    def _scanned(self, path: str, most: int) -> list[Any]:
        names, folders, cut = self._inner.scan(path, most)
        return [self._without_scratch(path, names), self._without_scratch(path, folders), cut]

    def _without_scratch(self, folder: str, names: list[str]) -> list[str]:
        """Return names without those of the folders that were made for children's results, and go again."""
        made = {self.path.basename(s) for s in self._scratch if self.path.dirname(s) == folder}
        return [n for n in names if n not in made] if made else names

    def has_one_folder(self, path: str) -> bool:
        return bool(self._ask("one folder", path, lambda: self._inner.has_one_folder(path)))

    def may_write(self, path: str) -> bool:
        return bool(self._ask("may write", path, lambda: self._inner.may_write(path)))

    def may_be_there(self, path: str) -> bool:
        return bool(self._ask("may be there", path, lambda: self._inner.may_be_there(path)))

    def trouble_at(self, path: str) -> str:
        return str(self._ask("trouble", path, lambda: self._inner.trouble_at(path)))

    def digest(self, path: str, kind: str) -> str:
        return str(self._ask("digest", f"{kind}:{path}", lambda: self._inner.digest(path, kind)))

    def tree_size(self, path: str, most: int = 200_000) -> int:
        return int(self._ask("size", f"{most}:{path}", lambda: self._inner.tree_size(path, most)))

    # -- the system ----------------------------------------------------------------------------
    def is_private_group(self, group: int) -> bool:
        return bool(self._ask("private group", str(group), lambda: self._inner.is_private_group(group)))

    def registered_pythons(self) -> list[str]:
        return list(self._ask("registry", "", self._inner.registered_pythons))

    def processor(self) -> str:
        return str(self._ask("processor", "", self._inner.processor))

    def processes(self) -> list[RawProcess]:
        """Ask, and keep nothing: what else runs on a machine is nobody's business elsewhere."""
        return self._inner.processes()

    def process(self, pid: int) -> RawProcess | None:
        from kalyx.core.lean.record import names_of

        found = self._inner.process(pid)
        self._ask("process", str(pid), lambda: None if found is None else {
            name: getattr(found, name) for name in names_of(found)})
        return found

    # -- what is run ---------------------------------------------------------------------------
    def run(self, argv: Sequence[str], *, env: Mapping[str, str] | None = None, cwd: str | None = None,
            limit: float = 10.0, judged: FileInfo | None = None) -> RunResult:
        known = self.answers.setdefault("run", {})
        question = question_of_run(argv, self._own_folder)
        row = known.get(question)
        if row is None or row["folder_closed"]:  # else it said already what it has to say
            known[question] = row = run_as_data(self._inner.run(argv, env=env, cwd=cwd, limit=limit, judged=judged))
        return run_of_data(row)

    def begin(self, argv: Sequence[str], *, env: Mapping[str, str] | None = None, cwd: str | None = None,
              limit: float = 10.0) -> Begun:
        """Start a child; what comes of it is kept by who asked for it (`keep`)."""
        return self._inner.begin(argv, env=env, cwd=cwd, limit=limit)

    def found(self, question: str, find: Callable[[Any], Any]) -> Any:
        return self._ask("found", question, lambda: find(self._inner))

    def keep(self, question: str, answer: Any) -> None:
        self.answers.setdefault("kept", {})[question] = answer

    def make_folder(self) -> str:
        folder = self._inner.make_folder()
        self._scratch.append(folder)
        return folder

    def remove_folder(self, folder: str) -> None:
        self._inner.remove_folder(folder)

    def in_parallel(self, ask: Callable[[T], R], items: Iterable[T]) -> list[R]:
        return self._inner.in_parallel(ask, items)


def _as_list(info: FileInfo | None) -> list[Any] | None:
    if info is None:
        return None
    return [info.kind, info.mode, info.owner, info.size, info.modified, *info.key, info.group]


def _told(row: list[Any] | None) -> FileInfo | None:
    return None if row is None else FileInfo(row[0], row[1], row[2], row[3], row[4], (row[5], row[6]), row[7])
