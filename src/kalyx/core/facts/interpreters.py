"""What an executable is: which Python, which version, which prefix.

Files are read first. An interpreter is run only with -I -S (no site, .pth or
sitecustomize code), by its real path, and only where `trust` allows it: its
program, its standard library and all that leads there. What belongs to an
environment is read from the environment's own files.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

from kalyx.core.errors import Unreadable
from kalyx.core.facts.launchers import (
    Shebang,
    find_on_path,
    follow_links,
    hands_over,
    is_python_name,
    parse_shebang,
    parse_wrapper,
    read_head,
    version_in_name,
)
from kalyx.core.facts.pyvenv import VenvConfig, find_venv_config
from kalyx.core.facts.trust import Trust
from kalyx.core.machine import FileInfo, Machine, RunResult
from kalyx.core.model import Environment, Interpreter, TrailStep, python_version
from kalyx.core.record import TYPE_CHECKING, dataclass, replace

if TYPE_CHECKING:
    from typing import Any

__all__ = ["Examined", "Examiner", "environment_of", "is_environment", "name_of", "numbered",
           "program_folder", "python_in"]


@dataclass(frozen=True)
class Examined:
    """An interpreter, and the steps that led to it."""

    interpreter: Interpreter
    steps: tuple[TrailStep, ...] = ()
    config: VenvConfig | None = None
    wrapper: str | None = None
    stdlib: tuple[str, ...] = ()


def numbered(steps: list[TrailStep] | tuple[TrailStep, ...]) -> tuple[TrailStep, ...]:
    """Number the steps of a trail from 1."""
    return tuple(replace(step, step=i) for i, step in enumerate(steps, 1))


class Examiner:
    """Finds out what executables are, each once.

    ``folder`` is the one being looked at. With ``asks_when_read`` off, an
    interpreter of which the files say all is not asked as well: for callers
    that are about to run it anyway.
    """

    def __init__(self, machine: Machine, folder: str, probe_folder: str, limit: float = 10.0):
        self.machine = machine
        self.trust = Trust(machine, folder)
        self.probe_folder = probe_folder
        self.limit = limit
        self.asks_when_read = True
        self._known: dict[tuple[str, str, bool, bool], Examined] = {}
        self._answers: dict[str, RunResult | dict[str, Any]] = {}

    def examine(self, path: str, cwd: str | None = None, *, ask: bool = True,
                env: Mapping[str, str] | None = None, by_folder: bool = False) -> Examined:
        """Find out what `path` runs when started in `cwd`; never raises for what is there.

        `by_folder`: a file of the folder that is looked at names it.
        """
        path = self.machine.absolute(path)
        key = (path, cwd or self.machine.cwd, ask, by_folder)
        if env is None and not ask and (key[0], key[1], True, by_folder) in self._known:
            return self._known[key[0], key[1], True, by_folder]  # that says as much, and more
        if env is not None or key not in self._known:
            found = self._examine(path, cwd, ask, env, by_folder)
            if env is not None:
                return found
            self._known[key] = found
        return self._known[key]

    def _examine(self, path: str, cwd: str | None, ask: bool, env: Mapping[str, str] | None,
                 by_folder: bool) -> Examined:
        m = self.machine
        steps = [TrailStep(0, f"{link} is a symlink to {target}", link, None, target)
                 for link, target in follow_links(m, path)]
        real = m.real_path(path)
        info = m.stat(path)
        if info is None or info.kind != "file":
            last = steps[-1].leads_to if steps else path
            trouble = ("it is a folder, not a program" if info and info.kind == "folder"
                       else f"{path} is neither a file nor a folder" if info
                       else f"{last} {m.trouble_at(last or path)}")
            known_by = "broken" if "cannot be reached" in trouble else "gone"
            return Examined(Interpreter(path, real, known_by=known_by, trouble=trouble),
                            tuple(steps))
        if not m.is_executable(path):
            return Examined(Interpreter(path, real, known_by="broken",
                                        trouble="it may not be executed"), tuple(steps))
        head = read_head(m, path)
        if head.startswith(b"#!"):
            return self._examine_wrapper(path, head, steps, cwd, ask, env)
        return self._examine_binary(path, steps, ask, by_folder)

    # -- binaries --------------------------------------------------------------------------
    def _examine_binary(self, path: str, steps: list[TrailStep], ask: bool, by_folder: bool) -> Examined:
        config = find_venv_config(self.machine, path)
        program = base_program_of(self.machine, path, config)
        if not is_python(self.machine, program):
            return Examined(_no_python(self.machine, path), tuple(steps))
        facts = read_interpreter(self.machine, path, config)
        stdlib: tuple[str, ...] = ()
        ask = ask and (not by_folder or self.trust.is_installed(program))
        all_read = facts.version and facts.prefix and facts.base_prefix
        if ask and facts.works and (self.asks_when_read or not all_read) and not self.trust.why_not_read(path):
            answer = self._answer_of(program)
            if answer is not None:
                facts = self._merge(facts, answer)
            if isinstance(answer, dict):
                stdlib = _as_spelt(self.machine, answer, facts.base_prefix)
        if config is not None and not config.trouble:
            steps.append(TrailStep(
                0, f"{config.path} makes {config.prefix} an environment"
                + (f" on the base in {config.home}" if config.home else ""),
                config.path, config.lines.get("home"), config.prefix))
        return Examined(facts, tuple(steps), config, stdlib=stdlib)

    def _merge(self, read: Interpreter, answer: RunResult | dict[str, Any]) -> Interpreter:
        if isinstance(answer, RunResult):
            return replace(read, known_by="broken", trouble=explain_failure(answer, self.limit))
        prefix, base = read.prefix or answer["prefix"], read.base_prefix or answer["base_prefix"]
        return replace(read, version=answer["version"], implementation=answer["implementation"],
                       prefix=prefix, base_prefix=base, known_by="asked")

    # -- wrappers ----------------------------------------------------------------------------
    def _examine_wrapper(self, path: str, head: bytes, steps: list[TrailStep], cwd: str | None,
                         ask: bool, env: Mapping[str, str] | None) -> Examined:
        m = self.machine
        text = head.decode("utf-8", "replace")
        shebang = parse_shebang(head)
        language = shebang.program.rsplit("/", 1)[-1] if shebang else "shell"
        says = f"{path} is a wrapper: a {language} script that starts another program"
        target = parse_wrapper(text, path, m.home)
        if target is not None and not m.same(target, path):
            steps.append(TrailStep(0, f"{says} (read, not run)", path, 1, target))
            inner = self.examine(target, ask=ask)
            return Examined(inner.interpreter, (*steps, *inner.steps), inner.config, path, inner.stdlib)
        if not hands_over(text):
            return Examined(_no_python(m, path), tuple(steps))
        why_not = self._why_not_wrapper(path, text, shebang, cwd or m.cwd, env or m.env) if ask else "not asked"
        if why_not:
            steps.append(TrailStep(0, f"{says}; it was read, not run", path, 1))
            trouble = "it is a wrapper script, and was read, not run: it decides when it runs"
            return Examined(Interpreter(path, m.real_path(path), known_by="unknown", trouble=trouble),
                            tuple(steps), wrapper=path)
        return self._ask_wrapper(path, steps, says, cwd, env)

    def _ask_wrapper(self, path: str, steps: list[TrailStep], says: str, cwd: str | None,
                     env: Mapping[str, str] | None) -> Examined:
        m = self.machine
        variables = self.trust.safe_variables(env or m.env)
        answer = self._ask(path, cwd or m.cwd, variables, None)
        unknown = Interpreter(path, m.real_path(path))
        if isinstance(answer, RunResult):
            steps.append(TrailStep(0, says, path, 1))
            trouble = explain_failure(answer, self.limit)
            return Examined(replace(unknown, known_by="broken", trouble=trouble), tuple(steps), wrapper=path)
        target = answer["executable"]
        steps.append(TrailStep(0, f"{says}; asked in {cwd or m.cwd}, {target} answered", path, 1, target))
        steps += self._chosen_by(target, cwd or m.cwd, env)
        if m.same(target, path):  # it called itself by the wrapper's name
            config = find_venv_config(m, target)
            found = self._merge(replace(unknown, prefix=config.prefix if config else None), answer)
            return Examined(found, tuple(steps), config, path, tuple(answer.get("path", ())))
        inner = self.examine(target, cwd)
        found = inner.interpreter if inner.interpreter.version else replace(
            inner.interpreter, version=answer["version"])
        return Examined(found, (*steps, *inner.steps), inner.config, path, inner.stdlib)

    def _why_not_wrapper(self, path: str, text: str, shebang: Shebang | None, cwd: str,
                         env: Mapping[str, str]) -> str:
        """Say what speaks against running a wrapper; empty when nothing does.

        It stands on the person's PATH, nobody else can have written it or what
        it names, and nothing in the folder that is looked at tells it what to start.
        """
        m = self.machine
        folders = [f for f in env.get("PATH", "").split(m.path_separator) if m.path.isabs(f)]
        if not any(m.same(f, m.path.dirname(path)) for f in folders):
            return "it is not on PATH"
        others = [f for f in folders if self.trust.is_foreign(m.real_path(f))]
        name = m.path.basename(path)
        if any(m.exists(m.path.join(f, name)) for f in others):
            return f"{name} stands in the folder that is looked at, too, and on PATH"
        misled = self.trust.misleading_file(cwd, re.findall(r"(?<![\w.$}])\.[a-z][\w.-]*", text))
        if misled:
            return f"{misled} tells it what to start"
        named = [path, *(w for w in re.findall(r"[\"'\s=](/[^\"'\s$*;|&<>(){}]+)", text) if m.is_file(w))]
        if shebang is not None:
            found = find_on_path(m, shebang.program, self.trust.safe_variables(env).get("PATH", ""), first_only=True) \
                if shebang.form == "env" else ()
            named.append(found[0].path if found else shebang.program)
        for word in dict.fromkeys(named):
            if trouble := self.trust.why_not(word):
                return trouble
        return ""

    def _chosen_by(self, target: str, cwd: str, env: Mapping[str, str] | None) -> list[TrailStep]:
        """Find what made the wrapper choose: a variable or a version file that names it.

        Several version managers read ``.python-version`` upwards from the
        folder; a step is only given when what stands there is part of the path
        that answered.
        """
        m = self.machine
        parts = target.replace("\\", "/").split("/")
        for name, value in (env or m.env).items():
            first = value.split(":")[0]
            if name.endswith("_VERSION") and "PY" in name and first and first in parts:
                return [TrailStep(0, f"the variable {name} is {value!r}, which names it", None,
                                  None, target)]
        folder = cwd
        for _ in range(40):
            file = m.path.join(folder, ".python-version")
            if m.is_file(file):
                text = read_head(m, file).decode("utf-8", "replace")
                for number, line in enumerate(text.splitlines(), 1):
                    word = line.strip()
                    if word and any(p == word or p.startswith(word + ".") for p in parts):
                        return [TrailStep(0, f"{file} says {word}", file, number, target)]
                return []
            parent = m.path.dirname(folder)
            if parent == folder:
                return []
            folder = parent
        return []

    # -- running ---------------------------------------------------------------------------
    def why_not_run(self, program: str) -> str:
        """Say what speaks against running an interpreter's real program; empty when nothing does."""
        m = self.machine
        trouble = self.trust.why_not(program)
        if trouble:
            return trouble
        library = find_library(m, program)
        if library is None:
            return f"the standard library of {program} was not found"
        folder = m.path.dirname(program)
        for beside in ("pyvenv.cfg", "pybuilddir.txt", "../pyvenv.cfg",
                       *(n for n in m.entries(folder) if n.endswith("._pth"))):
            if m.lstat(m.path.normpath(m.path.join(folder, beside))) is not None:
                return f"{m.path.normpath(m.path.join(folder, beside))} says where its library is"
        for own in library_files(m, program, library[1]):
            if trouble := self.trust.why_not(own):
                return trouble
        return self.trust.why_not_library(library[1])

    def is_sound(self, path: str) -> bool:
        """Whether an interpreter would run a program and a standard library that may be run, by what is read."""
        m = self.machine
        config = find_venv_config(m, path)
        program = m.real_path(base_program_of(m, path, config))
        base = _base_of(m, program, config)
        own = find_library(m, program)
        return is_python(m, program) and own is not None and base is not None and m.same(base, own[0]) \
            and not self.why_not_run(program)

    def run_isolated(self, interpreter: Interpreter, arguments: Sequence[str], limit: float) -> RunResult | None:
        """Run an interpreter's real program with -I -S and some arguments; None where that may not be done."""
        m = self.machine
        program = m.real_path(base_program_of(m, interpreter.path, find_venv_config(m, interpreter.path)))
        if not is_python(m, program) or self.why_not_run(program):
            return None
        return m.run([program, "-I", "-S", *arguments], cwd=m.path.dirname(program), limit=limit,
                     env=self.trust.safe_variables(m.env), judged=m.stat(program))

    def _answer_of(self, program: str) -> RunResult | dict[str, Any] | None:
        """Ask an interpreter's real program who it is, once; None where it may not be run."""
        m = self.machine
        real = m.real_path(program)
        if real not in self._answers:
            if self.why_not_run(real):
                return None
            self._answers[real] = self._ask(real, m.path.dirname(real), self.trust.safe_variables(m.env),
                                            m.stat(real))
        return self._answers[real]

    def _ask(self, path: str, cwd: str, env: Mapping[str, str],
             judged: FileInfo | None) -> RunResult | dict[str, Any]:
        """Run the who probe; return its answer, or how the run failed."""
        probe = self.machine.path.join(self.probe_folder, "who.py")
        result = RunResult(None, b"", b"", False, 0.0)
        for flags in (("-I", "-S"), ("-E", "-s", "-S")):
            result = self.machine.run([path, *flags, probe], cwd=cwd, env=env, limit=self.limit, judged=judged)
            if result.folder_closed:
                result = self.machine.run([path, *flags, probe], env=env, limit=self.limit, judged=judged)
            answer = parse_answer(result.text())
            if answer is not None:
                return answer
            # Python 2 does not know -I; nothing else is worth a second try
            if result.status is None or result.timed_out or b"-I" not in result.err:
                break
        return result


def _no_python(machine: Machine, path: str) -> Interpreter:
    """Describe a program that is not shown to be a Python, by its file or by its text."""
    return Interpreter(path, machine.real_path(path), known_by="other", trouble=NO_PYTHON)


def _as_spelt(machine: Machine, answer: Mapping[str, Any], base: str | None) -> tuple[str, ...]:
    """Return the path that the real program answered, with its prefix as the interpreter spells it."""
    said, path = answer["base_prefix"], answer.get("path", ())
    if not base or said == base or not machine.same(said, base):
        return tuple(path)
    return tuple(base + p[len(said):] if machine.is_within(p, said) else p for p in path)


def parse_answer(text: str) -> dict[str, Any] | None:
    """Read what the who probe printed, among whatever else was printed."""
    import json

    for line in reversed(text.splitlines()):
        if line.startswith('{"kalyx"'):
            try:
                answer = json.loads(line)
            except ValueError:
                continue
            if _is_answer(answer):
                return answer  # type: ignore[no-any-return]
    return None


def _is_answer(answer: object) -> bool:
    """Whether it is what the who probe prints: all its keys, with texts, and a version that is one."""
    if not isinstance(answer, dict) or not isinstance(answer.get("path"), list):
        return False
    texts = [answer.get(k) for k in ("executable", "version", "implementation", "prefix", "base_prefix")]
    texts += answer["path"]
    return all(isinstance(t, str) for t in texts) and bool(answer["executable"]) \
        and python_version(answer["version"]) is not None


def explain_failure(result: RunResult, limit: float) -> str:
    """Say in a few words why an interpreter did not answer."""
    if result.timed_out:
        return f"it did not answer within {limit:g} s"
    if result.status is None:
        return f"it could not be started: {result.why_not}"
    complaint = result.complaint().rstrip(".")
    if result.status < 0:
        return f"it died of signal {-result.status}"
    return f"it ended with status {result.status}" + (f": {complaint}" if complaint else
                                                      " without an answer")


# -- reading, without running --------------------------------------------------------------
NO_PYTHON = "it is no Python that can be read"
# What the file of a program of Python's holds somewhere: its interface, its library's name, its own
_MARKS = (b"Py_", b"python", b"Python", b"pypy")
_PROGRAMS = (b"\x7fELF", b"MZ", b"\xcf\xfa", b"\xce\xfa", b"\xfe\xed", b"\xca\xfe")  # ELF, PE, Mach-O, universal


def base_program_of(machine: Machine, path: str, config: VenvConfig | None) -> str:
    """Return the program of the base that an interpreter is: links of the file followed, and a copy's original.

    An environment may hold a copy of its base's program, which takes its
    library from the base that pyvenv.cfg names: that one's own program counts.
    """
    m = machine
    steps = follow_links(m, path)
    program = str(steps[-1][1] if steps else path)
    if config is None or not config.home or config.prefix not in (
            m.path.dirname(program), m.path.dirname(m.path.dirname(program))):
        return program
    home = m.path.join(config.prefix, config.home)
    names = ["python.exe"] if m.platform == "win32" else dict.fromkeys(
        (m.path.basename(program), *(f"python{v}" for v in (config.short_version, "3", "") if v is not None)))
    for name in names:
        original = m.path.join(home, name)
        if m.is_file(original) and not m.same(original, program):
            end = follow_links(m, original)
            return str(end[-1][1] if end else original)
    return program


def is_python(machine: Machine, program: str) -> bool:
    """Whether a file is shown to be a Python: by its name, by what it holds, and by a library that is its own."""
    m = machine
    real = m.real_path(program)
    if not is_python_name(real) or not m.is_executable(real):
        return False
    if find_library(m, program) is None and find_library(m, real) is None and not _had_library(m, real):
        return False
    return read_head(m, real).startswith(_PROGRAMS) and (
        m.platform != "linux" or any(m.around(real, mark, 1) for mark in _MARKS))


def _had_library(machine: Machine, program: str) -> bool:
    """Whether what else an installation holds is there, though not its standard library."""
    m, name = machine, machine.path.basename(program)
    prefix = m.path.dirname(m.path.dirname(program))
    return m.platform != "win32" and "." in (version_in_name(name) or "") and any(
        m.exists(m.path.join(prefix, *parts)) for parts in (
            ("include", name), ("lib", name), ("lib", f"lib{name}.so"), ("lib", f"lib{name}.so.1.0"),
            ("bin", f"{name}-config")))


def read_interpreter(machine: Machine, path: str, config: VenvConfig | None) -> Interpreter:
    """Read from files what can be known of an interpreter without running it."""
    m = machine
    real = m.real_path(path)
    program = base_program_of(m, path, config)
    base = _base_of(m, program, config)
    if config is not None and config.trouble:
        return Interpreter(path, real, read_version(m, base, program) if base else None, "cpython", config.prefix,
                           base, known_by="broken", trouble=f"its {config.path} cannot be read: {config.trouble}")
    implementation = "pypy" if "pypy" in m.path.basename(real).lower() else "cpython"
    if base is None:
        return Interpreter(path, real, None, implementation, known_by="broken", trouble=(
            f"its standard library is gone: there is no os.py for it in or above {m.path.dirname(program)}"))
    version = read_version(m, base, program)
    prefix = config.prefix if config else base
    origin = m.path.join(m.path.dirname(m.path.dirname(path)), "lib", "python2.7", "orig-prefix.txt")
    if config is None and m.is_file(origin):  # an environment of Python 2's time
        prefix = m.path.dirname(m.path.dirname(path))
        base = m.read_text(origin, 4096).strip()
        version = version or read_version(m, base, program)
    if config is not None and version is None:
        version = config.version
    return Interpreter(path, real, version, implementation, prefix, base)


def _base_of(machine: Machine, program: str, config: VenvConfig | None) -> str | None:
    """Return the base prefix as the interpreter works it out: from ``home``, else from its own place."""
    m = machine
    if config is not None and config.home:
        home = m.path.join(config.prefix, config.home)
        found = find_library(m, m.path.join(home, m.path.basename(program)), m.path.basename(m.real_path(program)))
        if found is not None:
            return found[0]
    found = find_library(m, program, m.path.basename(m.real_path(program)))
    return found[0] if found else None


def find_library(machine: Machine, program: str, name: str = "") -> tuple[str, str] | None:
    """Search upwards for the standard library, as the interpreter itself does at start.

    `name` is the file name of the real program, which tells its version.
    Returns the prefix and the library's folder; None when there is none.
    """
    m = machine
    wanted = name or m.path.basename(m.real_path(program))
    library = wanted.removesuffix("t") if "." in (version_in_name(wanted) or "") else None
    if library is None and (match := re.search(r"(python|pypy)(\d+\.\d+)", wanted)):
        library = match.group(0)
    folder = m.path.dirname(program)
    for _ in range(12):
        for place in _library_places(m, folder, library):
            if m.is_file(m.path.join(place, "os.py")):
                return str(folder), place
        parent = m.path.dirname(folder)
        if parent == folder:
            return None
        folder = parent
    return None


def _library_places(machine: Machine, folder: str, library: str | None) -> list[str]:
    m = machine
    if m.platform == "win32":
        return [m.path.join(folder, "Lib")]
    if library:
        return [m.path.join(folder, lib, library + tag) for lib in ("lib", "lib64") for tag in ("", "t")]
    return [m.path.join(folder, "lib", n) for n in m.names_in(m.path.join(folder, "lib"))
            if "." in (version_in_name(n) or "")]


def library_files(machine: Machine, program: str, folder: str) -> list[str]:
    """Return what an interpreter loads beside its standard library: a zipped one, and its shared library."""
    m = machine
    name = m.path.basename(folder)
    names = [f"lib{name}.so", f"lib{name}.so.1.0", f"lib{name}t.so.1.0", f"lib{name}.dylib", "libpypy3-c.so",
             name.replace(".", "") + ".zip"]
    found = [m.path.join(m.path.dirname(folder), n) for n in names]
    found += [m.path.join(m.path.dirname(program), n) for n in ("libpypy3-c.so", "libpypy-c.so")]
    return [f for f in dict.fromkeys(found) if m.exists(f)]


def read_version(machine: Machine, base: str, program: str) -> str | None:
    """Read the full version from the installation's own header or package record."""
    m = machine
    name = m.path.basename(program)
    short = version_in_name(name)
    if short is None:
        match = re.search(r"(?<!\d)\d+\.\d+", name)
        short = match.group(0) if match else ""
    for record in m.names_in(m.path.join(base, "conda-meta")):
        if record.startswith("python-") and record.endswith(".json") and (said := python_version(record[7:])):
            return said
    include = m.path.join(base, "include")
    folders = [m.path.join(include, n) for n in m.names_in(include)
               if n.startswith("python" + short)] if m.platform != "win32" else [
               m.path.join(base, "Include")]
    for folder in folders:
        try:
            text = m.read_beginning(m.path.join(folder, "patchlevel.h"), 8192)
        except Unreadable:
            continue
        said = next((ln for ln in text.splitlines() if ln.split()[:2] == ["#define", "PY_VERSION"]), "")
        if '"' in said:
            return python_version(said.split('"')[1])
    return _version_within(m, base, program, short)


def _version_within(machine: Machine, base: str, program: str, short: str) -> str | None:
    """Read the version that a program, or its shared library, was compiled with."""
    m = machine
    if "." not in short:
        found = find_library(m, program)
        short = version_in_name(m.path.basename(found[1])) or "" if found else ""
    if "." not in short:
        return None
    library = m.path.join(base, "lib")
    shared = [m.path.join(library, n) for n in m.entries(library) if n.startswith(f"libpython{short}")
              and ".so" in n]
    for file in (m.real_path(program), *shared):
        for before, after in m.around(file, f"{short}.".encode()):
            hit = re.match(rb"(?<!\d)\d{1,4}(?:(?:a|b|rc)\d{1,4})?(?=\+?\0)", after)
            if hit and not before.isdigit() and before != b".":  # "1.3.11.7" would be something else's
                return f"{short}.{hit.group(0).decode()}"
    return None


# -- environments --------------------------------------------------------------------------
USUAL_NAMES = (".venv", "venv", "env", ".env", "virtualenv", ".virtualenv")


def name_of(machine: Machine, prefix: str) -> str:
    """Name an environment: its folder, with the parent's before the usual ``.venv``."""
    base = machine.path.basename(prefix.rstrip(machine.path.sep)) or prefix
    if base in USUAL_NAMES:
        parent = machine.path.basename(machine.path.dirname(prefix))
        return f"{parent}/{base}" if parent else str(base)
    return str(base)


def is_environment(machine: Machine, folder: str) -> bool:
    """Whether a folder is an environment: pyvenv.cfg or conda-meta, and not just the name."""
    inside = folder + machine.path.sep
    return machine.exists(inside + "pyvenv.cfg") or machine.exists(inside + "conda-meta")


def environment_of(machine: Machine, interpreter: Interpreter | None) -> Environment | None:
    """Describe the environment that an interpreter runs in; None when its prefix is unknown."""
    if interpreter is None or interpreter.prefix is None:
        return None
    m, prefix = machine, interpreter.prefix
    if prefix != interpreter.base_prefix or m.is_file(m.path.join(prefix, "pyvenv.cfg")):
        kind = "venv"
    elif m.is_folder(m.path.join(prefix, "conda-meta")):
        kind = "conda"
    else:
        kind = "base"
    return Environment(prefix, name_of(m, prefix), kind, interpreter.base_prefix,
                       interpreter.version, (), interpreter)


def program_folder(machine: Machine, prefix: str) -> str:
    """Return the folder of an environment's programs."""
    if machine.platform == "win32":
        return str(machine.path.join(prefix, "Scripts"))
    return str(machine.path.join(prefix, "bin"))


def python_in(machine: Machine, prefix: str) -> str:
    """Return the path that an environment's interpreter has, whether it is there or not."""
    m = machine
    if m.platform == "win32":
        inside = m.path.join(prefix, "Scripts", "python.exe")
        return str(inside if m.exists(inside) or m.is_file(m.path.join(prefix, "pyvenv.cfg"))
                   else m.path.join(prefix, "python.exe"))
    for name in ("python", "python3", "pypy3"):
        path = m.path.join(prefix, "bin", name)
        if m.read_link(path) is not None or m.exists(path):
            return str(path)
    return str(m.path.join(prefix, "bin", "python"))
