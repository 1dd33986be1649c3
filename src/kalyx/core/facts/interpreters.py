"""What an executable is: which Python, which version, which prefix.

Files are read first. An interpreter is run only with -I -S (no site, .pth or
sitecustomize code), and only where it can be trusted: it belongs to root or
the user, others may not write it, and it does not lie inside the folder that
is being looked at.
"""

from __future__ import annotations

import re
from collections.abc import Mapping

from kalyx.core.errors import Unreadable
from kalyx.core.facts.launchers import (
    follow_links,
    parse_shebang,
    parse_wrapper,
    read_head,
    version_in_name,
)
from kalyx.core.facts.pyvenv import VenvConfig, find_venv_config
from kalyx.core.machine import Machine, RunResult
from kalyx.core.model import Environment, Interpreter, TrailStep
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
        self.folder = machine.real_path(folder)
        self.probe_folder = probe_folder
        self.limit = limit
        self.asks_when_read = True
        self._known: dict[tuple[str, str, bool], Examined] = {}

    def examine(self, path: str, cwd: str | None = None, *, ask: bool = True,
                env: Mapping[str, str] | None = None) -> Examined:
        """Find out what `path` runs when started in `cwd`; never raises for what is there."""
        path = self.machine.absolute(path)
        key = (path, cwd or self.machine.cwd, ask)
        if env is None and not ask and (key[0], key[1], True) in self._known:
            return self._known[key[0], key[1], True]  # that says as much, and more
        if env is not None or key not in self._known:
            found = self._examine(path, cwd, ask, env)
            if env is not None:
                return found
            self._known[key] = found
        return self._known[key]

    def _examine(self, path: str, cwd: str | None, ask: bool,
                 env: Mapping[str, str] | None) -> Examined:
        m = self.machine
        steps = [TrailStep(0, f"{link} is a symlink to {target}", link, None, target)
                 for link, target in follow_links(m, path)]
        real = m.real_path(path)
        info = m.stat(path)
        if info is None or info.kind != "file":
            last = steps[-1].leads_to if steps else path
            trouble = ("it is a folder, not a program" if info and info.kind == "folder"
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
        return self._examine_binary(path, steps, cwd, ask, env)

    # -- binaries --------------------------------------------------------------------------
    def _examine_binary(self, path: str, steps: list[TrailStep], cwd: str | None, ask: bool,
                        env: Mapping[str, str] | None) -> Examined:
        config = find_venv_config(self.machine, path)
        facts = read_interpreter(self.machine, path, config)
        all_read = facts.version and facts.prefix and facts.base_prefix
        stdlib: tuple[str, ...] = ()
        if ask and (self.asks_when_read or not all_read) and self.may_run(path):
            answer = self._ask(path, cwd, env)
            facts = self._merge(facts, answer, config)
            stdlib = tuple(answer.get("path", ())) if isinstance(answer, dict) else ()
        if config is not None and not config.trouble:
            steps.append(TrailStep(
                0, f"{config.path} makes {config.prefix} an environment"
                + (f" on the base in {config.home}" if config.home else ""),
                config.path, config.lines.get("home"), config.prefix))
        return Examined(facts, tuple(steps), config, stdlib=stdlib)

    def _merge(self, read: Interpreter, answer: RunResult | dict[str, Any],
               config: VenvConfig | None) -> Interpreter:
        if isinstance(answer, RunResult):
            return replace(read, known_by="broken", trouble=explain_failure(answer, self.limit))
        prefix, base = answer["prefix"], answer["base_prefix"]
        if config is not None and answer["version"] >= "3":
            prefix = config.prefix  # site would set it; under -S it does not run
        elif read.prefix and read.base_prefix and read.prefix != read.base_prefix:
            prefix, base = read.prefix, read.base_prefix
        return replace(read, version=answer["version"], implementation=answer["implementation"],
                       prefix=prefix, base_prefix=base, known_by="asked")

    # -- wrappers ----------------------------------------------------------------------------
    def _examine_wrapper(self, path: str, head: bytes, steps: list[TrailStep], cwd: str | None,
                         ask: bool, env: Mapping[str, str] | None) -> Examined:
        m = self.machine
        shebang = parse_shebang(head)
        language = shebang.program.rsplit("/", 1)[-1] if shebang else "shell"
        wrapper = m.path.join(m.path.dirname(path), m.path.basename(path))
        says = f"{path} is a wrapper: a {language} script that starts another program"
        unknown = Interpreter(path, m.real_path(path))
        if not ask or not self.may_run(path):
            return self._read_wrapper(path, head, steps, says)
        answer = self._ask(path, cwd, env)
        if isinstance(answer, RunResult):
            trouble = explain_failure(answer, self.limit)
            steps.append(TrailStep(0, says, path, 1))
            return Examined(replace(unknown, known_by="broken", trouble=trouble), tuple(steps),
                            wrapper=wrapper)
        target = answer["executable"]
        steps.append(TrailStep(0, f"{says}; asked in {cwd or m.cwd}, {target} answered",
                               path, 1, target))
        steps += self._chosen_by(target, cwd or m.cwd, env)
        if m.same(target, path):  # it called itself by the wrapper's name
            config = find_venv_config(m, target)
            return Examined(self._merge(unknown, answer, config), tuple(steps), config, wrapper,
                            tuple(answer.get("path", ())))
        inner = self.examine(target, cwd)
        return Examined(inner.interpreter, (*steps, *inner.steps), inner.config, wrapper,
                        inner.stdlib)

    def _read_wrapper(self, path: str, head: bytes, steps: list[TrailStep], says: str) -> Examined:
        target = parse_wrapper(head.decode("utf-8", "replace"))
        if target is None or target == path:
            steps.append(TrailStep(0, f"{says}; it was read, not run", path, 1))
            real = self.machine.real_path(path)
            trouble = "it is a wrapper script, and was read, not run: it decides when it runs"
            return Examined(Interpreter(path, real, known_by="unknown", trouble=trouble),
                            tuple(steps), wrapper=path)
        steps.append(TrailStep(0, f"{says} (read, not run)", path, 1, target))
        inner = self.examine(target, ask=False)
        return Examined(inner.interpreter, (*steps, *inner.steps), inner.config, path)

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
    def may_run(self, path: str) -> bool:
        """Whether the trust rule allows to run this file."""
        m = self.machine
        real = m.real_path(path)
        info = m.stat(real)
        if info is None or info.others_may_write or info.owner not in (0, m.user_id):
            return False
        inside = m.is_within(real, self.folder) and not m.is_within(m.real_path(m.home), self.folder)
        above = m.stat(m.path.dirname(real))
        return not inside and not (above is not None and above.others_may_write)

    def _ask(self, path: str, cwd: str | None,
             env: Mapping[str, str] | None) -> RunResult | dict[str, Any]:
        """Run the who probe; return its answer, or how the run failed."""
        probe = self.machine.path.join(self.probe_folder, "who.py")
        result = RunResult(None, b"", b"", False, 0.0)
        for flags in (("-I", "-S"), ("-E", "-s", "-S")):
            result = self.machine.run([path, *flags, probe], cwd=cwd, env=env, limit=self.limit)
            if result.folder_closed:
                result = self.machine.run([path, *flags, probe], env=env, limit=self.limit)
            answer = parse_answer(result.text())
            if answer is not None:
                return answer
            # Python 2 does not know -I; nothing else is worth a second try
            if result.status is None or result.timed_out or b"-I" not in result.err:
                break
        return result


def parse_answer(text: str) -> dict[str, Any] | None:
    """Read what the who probe printed, among whatever else was printed."""
    import json

    for line in reversed(text.splitlines()):
        if line.startswith('{"kalyx"'):
            try:
                answer = json.loads(line)
            except ValueError:
                continue
            if isinstance(answer, dict) and answer.get("executable"):
                return answer
    return None


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
def read_interpreter(machine: Machine, path: str, config: VenvConfig | None) -> Interpreter:
    """Read from files what can be known of an interpreter without running it."""
    m = machine
    real = m.real_path(path)
    base_program = real
    if config is not None and config.home:
        named = m.path.join(config.home, m.path.basename(path))
        if m.platform == "win32":
            base_program = m.path.join(config.home, "python.exe")
        elif m.exists(named) and m.same(named, real):
            base_program = m.real_path(named)
    base = read_base_prefix(m, base_program)
    implementation = "pypy" if "pypy" in m.path.basename(real).lower() else "cpython"
    version = read_version(m, base, base_program) if base else None
    prefix = config.prefix if config else base
    origin = m.path.join(m.path.dirname(m.path.dirname(path)), "lib", "python2.7",
                         "orig-prefix.txt")
    if config is None and m.is_file(origin):  # an environment of Python 2's time
        prefix = m.path.dirname(m.path.dirname(path))
        base = m.read_text(origin, 4096).strip()
        version = version or read_version(m, base, base_program)
    if config is not None and version is None:
        version = config.version
    return Interpreter(path, real, version, implementation if base else None, prefix, base)


def read_base_prefix(machine: Machine, program: str) -> str | None:
    """Search upwards for the standard library, as the interpreter itself does at start."""
    m = machine
    wanted = m.path.basename(program)
    library = wanted.removesuffix("t") if "." in (version_in_name(wanted) or "") else None
    if library is None and (match := re.search(r"(python|pypy)(\d+\.\d+)", wanted)):
        library = match.group(0)
    folder = m.path.dirname(program)
    for _ in range(12):
        if m.platform == "win32":
            if m.is_file(m.path.join(folder, "Lib", "os.py")):
                return str(folder)
        elif library and any(m.is_file(m.path.join(folder, lib, library + tag, "os.py"))
                             for lib in ("lib", "lib64") for tag in ("", "t")):
            return str(folder)
        elif not library:
            for name in m.names_in(m.path.join(folder, "lib")):
                if "." in (version_in_name(name) or "") and m.is_file(
                        m.path.join(folder, "lib", name, "os.py")):
                    return str(folder)
        parent = m.path.dirname(folder)
        if parent == folder:
            return None
        folder = parent
    return None


def read_version(machine: Machine, base: str, program: str) -> str | None:
    """Read the full version from the installation's own header or package record."""
    m = machine
    name = m.path.basename(program)
    short = version_in_name(name)
    if short is None:
        match = re.search(r"\d+\.\d+", name)
        short = match.group(0) if match else ""
    for record in m.names_in(m.path.join(base, "conda-meta")):
        hit = re.fullmatch(r"python-(\d+\.\d+\.\d+\w*)-.*\.json", record)
        if hit:
            return hit.group(1)
    include = m.path.join(base, "include")
    folders = [m.path.join(include, n) for n in m.names_in(include)
               if n.startswith("python" + short)] if m.platform != "win32" else [
               m.path.join(base, "Include")]
    for folder in folders:
        try:
            text = m.read_text(m.path.join(folder, "patchlevel.h"), 8192)
        except Unreadable:
            continue
        said = next((ln for ln in text.splitlines() if ln.split()[:2] == ["#define", "PY_VERSION"]), "")
        if '"' in said:
            return said.split('"')[1].rstrip("+")
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
