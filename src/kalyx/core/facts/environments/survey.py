"""The environments of this machine: where to look, and what lies there."""

from __future__ import annotations

import re

from kalyx.core.errors import Unreadable
from kalyx.core.facts.configuration.own_files import RETIRED
from kalyx.core.facts.interpreters.environment import USUAL_NAMES, environment_of, is_environment, name_of, python_in
from kalyx.core.facts.interpreters.path_lookup import read_head, split_path, version_in_name
from kalyx.core.model import Environment

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Iterable

    from kalyx.core.facts.interpreters.examiner import Examiner
    from kalyx.core.machine.interface import Machine
    from kalyx.core.model import Interpreter
    from kalyx.core.model.kinds import EnvironmentKind

__all__ = ["PLACES", "Surveyor", "is_installation", "program_names", "version_key"]

# Folders whose sub-folders are environments or installations, as data:
# (platforms, folder); ~ is the home folder, $NAME a variable.
PLACES: tuple[tuple[str, str], ...] = (
    ("all", "$WORKON_HOME"),
    ("all", "~/.virtualenvs"),
    ("all", "~/virtualenvs"),
    ("all", "~/.venvs"),
    ("all", "~/venvs"),
    ("all", "~/envs"),
    ("all", "~/.conda/envs"),
    ("all", "~/.pyenv/versions"),
    ("all", "$PYENV_ROOT/versions"),
    ("all", "~/.local/share/virtualenvs"),
    ("all", "~/.local/share/uv/python"),
    ("all", "~/.local/share/pipx/venvs"),
    ("linux", "~/.cache/pypoetry/virtualenvs"),
    ("darwin", "~/Library/Caches/pypoetry/virtualenvs"),
    ("darwin", "/Library/Frameworks/Python.framework/Versions"),
    ("all", "~/miniconda3/envs"),
    ("all", "~/anaconda3/envs"),
    ("all", "~/miniforge3/envs"),
    ("all", "~/mambaforge/envs"),
    ("all", "~/micromamba/envs"),
    ("posix", "/opt/conda/envs"),
    ("posix", "/opt"),
    ("win32", "$LOCALAPPDATA/Programs/Python"),
    ("win32", "$LOCALAPPDATA/pypoetry/Cache/virtualenvs"),
    ("win32", "~/scoop/apps"),
)
# Folders that are an environment themselves
SINGLE: tuple[tuple[str, str], ...] = (
    ("all", "~/miniconda3"), ("all", "~/anaconda3"), ("all", "~/miniforge3"),
    ("all", "~/mambaforge"), ("posix", "/opt/conda"), ("all", "$VIRTUAL_ENV"),
    ("all", "$CONDA_PREFIX"),
)
MOST_CHILDREN = 2000
SMALL_FOLDER = 8192  # bytes of the folder itself: some hundred names at most
DEEPEST = 4  # folders below one that was named


def version_key(version: str) -> list[int]:
    """Return what orders versions of Python."""
    return [int(n) for n in re.findall(r"\d+", version)]


def is_installation(machine: Machine, folder: str) -> bool:
    """Whether a folder holds an interpreter's own installation."""
    m = machine
    if m.platform == "win32":
        return m.is_file(m.path.join(folder, "python.exe")) and m.is_folder(
            m.path.join(folder, "Lib"))
    program = python_in(m, folder)
    return m.is_executable(program) and any(
        version_in_name(n) for n in m.entries(m.path.join(folder, "lib")))


def program_names(machine: Machine) -> list[str]:
    """Return the names that interpreters have on PATH, of every version that there may be."""
    ending = ".exe" if machine.platform == "win32" else ""
    minors = [f"3.{n}" for n in range(4, 25)]
    names = [f"python{v}" for v in ("", "2", "2.7", "3", *minors)] + [f"python{v}t" for v in minors[9:]]
    names += [f"pypy{v}" for v in ("", "2", "2.7", "3", *minors[:12])]
    return sorted(n + ending for n in names)


class Surveyor:
    """Finds the environments of the machine. Reads only; runs nothing."""

    def __init__(self, machine: Machine, examiner: Examiner, folder: str,
                 roots: Callable[[], Iterable[str]] = tuple, below: Iterable[str] = ()) -> None:
        """Look from `folder`, in the places of `roots` too, and in and below the folders of `below`."""
        self.machine = machine
        self.examiner = examiner
        self.folder = folder
        self.roots = roots
        self.twins: dict[str, list[str]] = {}
        self._wrappers: set[bytes] = set()
        self.programs: list[str] = []  # interpreters that PATH names
        self._programs: dict[str, str] = {}  # by the prefix that each is the interpreter of
        self.closed: list[tuple[str, str]] = []  # folders that were named and cannot be looked into
        self._found: list[Environment] | None = None
        self._prefixes: list[str] | None = None
        self._described: dict[str, Environment | None] = {}
        self._below = tuple(below)

    def environments(self, extra: Iterable[str] = ()) -> list[Environment]:
        """Return every environment found, each real folder once."""
        if self._found is None:
            found = (self.describe(prefix) for prefix in self.prefixes(extra))
            self._found = [e for e in found if e is not None]
        return self._found

    def prefixes(self, extra: Iterable[str] = ()) -> list[str]:
        """Return where environments are, each real folder once; none is looked into any further."""
        if self._prefixes is None:
            self._prefixes = self._survey(list(extra))
        return self._prefixes

    def bases(self, extra: Iterable[str] = ()) -> list[Interpreter]:
        """Return the CPythons that are no environment's, each once, the newest last."""
        found: dict[str, Interpreter] = {}
        known = self.environments(extra)
        prefixes = [e.path for e in known if e.kind == "base"] + [e.base for e in known if e.base]
        for prefix in dict.fromkeys(prefixes):  # the bases of environments are there too
            one = self.examiner.examine(python_in(self.machine, prefix), ask=False).interpreter
            if one.works and one.version and one.implementation == "cpython" \
                    and (one.version_pair or (0, 0)) >= (3, 3):
                found.setdefault(self.machine.key(one.path), one)
        return sorted(found.values(), key=lambda i: version_key(i.version or "0"))

    def _named(self) -> list[str]:
        """The folders that were named, and what lies below them to a small depth."""
        found: list[str] = []
        for folder in self._below:
            queue = [(folder, 0)]
            while queue and len(found) < MOST_CHILDREN:
                here, depth = queue.pop()
                found.append(here)
                if depth < DEEPEST and not is_environment(self.machine, here):
                    queue += [(child, depth + 1) for child in self._folders_in(here)]
        return found

    def _folders_in(self, folder: str) -> list[str]:
        m = self.machine
        return [m.path.join(folder, n) for n in m.scan(folder)[1][:MOST_CHILDREN]
                if "." not in n[1:] or n in USUAL_NAMES]

    def _survey(self, extra: list[str]) -> list[str]:
        seen: dict[str, str] = {}
        told = [self.machine.absolute(p) for p in (*self._conda(), *self.machine.registered_pythons())]
        for prefix in (*map(self.machine.absolute, extra), *self._named(), *self._near(), *self._usual(),
                       *self._on_path(), *told):
            key = self.machine.key(prefix)
            if RETIRED in prefix and RETIRED in self.machine.path.basename(prefix):
                continue  # retired: it is there to be brought back
            if key in seen:
                others = self.twins.setdefault(key, [])
                if prefix != seen[key] and prefix not in others:
                    others.append(prefix)
            else:
                seen[key] = prefix
        for prefix in list(seen.values()):
            base = self.examiner.base_of(self._program_of(prefix))
            if base is not None:
                seen.setdefault(self.machine.key(base), base)
        return list(seen.values())

    def _program_of(self, prefix: str) -> str:
        if prefix not in self._programs:
            self._programs[prefix] = python_in(self.machine, prefix)
        return self._programs[prefix]

    def describe(self, prefix: str) -> Environment | None:
        """Read one environment or installation; None when the folder is neither."""
        if prefix not in self._described:
            self._described[prefix] = self._describe(prefix)
        return self._described[prefix]

    def _describe(self, prefix: str) -> Environment | None:
        m = self.machine
        config = self.examiner.config_of(self._program_of(prefix))
        is_one = config is not None and config.prefix == prefix
        if not is_one and not is_environment(m, prefix) and not is_installation(m, prefix):
            file = m.path.join(prefix, "pyvenv.cfg")
            if m.may_be_there(file):
                self.closed.append((prefix, m.trouble_at(file)))
            return None
        interpreter = self.examiner.read(self._program_of(prefix))
        environment = environment_of(m, interpreter)
        if environment is None or not m.same(environment.path, prefix):
            kind: EnvironmentKind = "conda" if m.is_folder(m.path.join(prefix, "conda-meta")) else "venv"
            environment = Environment(prefix, name_of(m, prefix), kind, None, None, (), interpreter)
        return environment

    def _near(self) -> list[str]:
        """The folder, its parents, their children, and children's children of the folder."""
        m = self.machine
        folders = [self.folder]
        parent = m.path.dirname(self.folder)
        for _ in range(3):
            if parent in folders or parent == m.path.dirname(parent):
                break
            folders.append(parent)
            parent = m.path.dirname(parent)
        found = [f for f in folders if is_environment(m, f)]
        for folder in folders:
            start = folder.rstrip(m.path.sep) + m.path.sep
            names, inside, _ = m.scan(folder)
            real, sep = set(inside), m.path.sep
            links = [n for n in names if n not in real and m.read_link(start + n)]
            for name in (*inside, *links)[:MOST_CHILDREN]:
                child = start + name
                if is_environment(m, child):
                    found.append(child)
                elif folder in folders[:2]:
                    deeper = [f"{child}{sep}{n}" for n in (".venv", "venv", "env")]
                    found += [c for c in deeper if m.exists(c) and is_environment(m, c)]
        return found

    def _usual(self) -> list[str]:
        m = self.machine
        candidates = [p for p in (self._expand(*row) for row in SINGLE) if p]
        for root in (*filter(None, (self._expand(*row) for row in PLACES)), *self.roots()):
            start = root.rstrip(m.path.sep) + m.path.sep
            candidates += [start + n for n in m.scan(root)[0][:MOST_CHILDREN]]
        return [c for c in candidates if is_environment(m, c) or is_installation(m, c)]

    def _expand(self, platforms: str, place: str) -> str | None:
        m = self.machine
        wanted = {"all": True, "posix": m.platform != "win32"}.get(
            platforms, m.platform.startswith(platforms))
        if not wanted:
            return None
        first, _, rest = place.partition("/")
        if first.startswith("$"):
            value = m.env.get(first[1:])
            if not value:
                return None
            return str(m.absolute(m.path.join(value, *rest.split("/")) if rest else value))
        return str(m.absolute(place))

    def _on_path(self) -> list[str]:
        m = self.machine
        prefixes = []
        known = program_names(m)
        seen: set[str] = set()
        folders = {m.key(f): f for f in reversed(split_path(m, m.env.get("PATH", "")))}
        for folder in reversed(folders.values()):  # /bin may be /usr/bin by another name
            start = folder.rstrip(m.path.sep) + m.path.sep
            names = self._programs_in(folder, start, known)
            near = bool(names) and m.is_file(m.path.join(m.path.dirname(folder), "pyvenv.cfg"))
            for name in names:
                program = m.path.join(folder, name)
                place = m.key(program) + (folder if near else "")
                if place in seen:
                    continue
                seen.add(place)
                self.programs.append(program)
                prefix = self._prefix_of(program)
                if prefix:
                    prefixes.append(prefix)
        return prefixes

    def _programs_in(self, folder: str, start: str, known: list[str]) -> list[str]:
        """Return which of the known names a folder of programs has: listed where that is the sooner way."""
        m = self.machine
        info = m.stat(folder)
        if info is None:
            return []
        if info.size <= SMALL_FOLDER:  # /usr/bin takes longer to list than to ask for each name
            return sorted(set(known).intersection(m.entries(folder)))
        return [n for n in known if m.exists(start + n)]

    def _prefix_of(self, program: str) -> str | None:
        """Return the prefix of a program on PATH; wrappers of the same text are read once."""
        head = read_head(self.machine, program)
        if head.startswith(b"#!"):
            if head in self._wrappers:
                return None
            self._wrappers.add(head)
        return self.examiner.examine(program, ask=False).interpreter.prefix

    def _conda(self) -> list[str]:
        """Conda's own list of environments, a text file in the home folder."""
        m = self.machine
        try:
            text = m.read_text(m.path.join(m.home, ".conda", "environments.txt"), 1_048_576)
        except Unreadable:
            return []
        return [line.strip() for line in text.splitlines() if line.strip()]
