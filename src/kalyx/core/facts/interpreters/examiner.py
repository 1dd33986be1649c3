"""What an executable is: which Python, which version, which prefix.

Files are read first. An interpreter is run only with -I -S (no site, .pth or
sitecustomize code), by its real path, and only where `trust` allows it: its
program, its standard library and all that leads there. What belongs to an
environment is read from the environment's own files.
"""

from __future__ import annotations

from kalyx.core.facts.interpreters.alike import Alike
from kalyx.core.facts.interpreters.command_words import first_line, follow_script, hands_over, wrapped_python
from kalyx.core.facts.interpreters.flags import flags_of
from kalyx.core.facts.interpreters.installation import (
    base_of,
    base_program_of,
    find_library,
    is_python,
    library_files,
    no_python,
    read_interpreter,
)
from kalyx.core.facts.interpreters.path_lookup import (
    is_python_name,
    read_head,
)
from kalyx.core.facts.interpreters.pyvenv import find_venv_config
from kalyx.core.facts.interpreters.trust import Trust
from kalyx.core.facts.interpreters.variables import VARIABLES
from kalyx.core.facts.interpreters.who_answer import explain_failure, parse_answer
from kalyx.core.facts.interpreters.wrappers import chosen_by, why_not_wrapper
from kalyx.core.lean.record import field, record, replace
from kalyx.core.machine.results import RunResult
from kalyx.core.machine.threads import Once
from kalyx.core.model import Interpreter, TrailStep

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence
    from typing import Any

    from kalyx.core.facts.interpreters.pyvenv import VenvConfig
    from kalyx.core.machine.interface import Machine
    from kalyx.core.machine.results import FileInfo
    from kalyx.core.model import Launch
    from kalyx.core.model.kinds import KnownBy

__all__ = ["Examined", "Examiner", "numbered"]


@record
class Examined:
    """An interpreter, and the steps that led to it.

    ``flags``, ``variables`` (None: taken away) and ``folder`` are what the text of a ``wrapper`` adds to its start;
    of one that was asked, what it adds is not known.
    """

    interpreter: Interpreter
    steps: tuple[TrailStep, ...] = ()
    config: VenvConfig | None = None
    wrapper: str | None = None
    stdlib: tuple[str, ...] = ()
    flags: tuple[str, ...] = ()
    variables: Mapping[str, str | None] | None = field(default_factory=dict)
    folder: str | None = None

    def launched(self, launch: Launch) -> Launch:
        """Return how the interpreter itself is started, by a wrapper that is started so."""
        env = {**launch.env, **(self.variables or {})}
        return replace(launch, argv=(self.interpreter.path, *self.flags, *launch.argv[1:]),
                       env={k: v for k, v in env.items() if v is not None}, cwd=self.folder or launch.cwd)


@record
class _Start:
    """How something is started that is examined: `through` are the wrappers in front of it."""

    folder: str
    env: Mapping[str, str] | None
    ask: bool
    by_folder: bool
    through: tuple[str, ...] = ()


def numbered(steps: list[TrailStep] | tuple[TrailStep, ...]) -> tuple[TrailStep, ...]:
    """Number the steps of a trail from 1."""
    return tuple(replace(step, step=i) for i, step in enumerate(steps, 1))


class Examiner:
    """Finds out what executables are, each once.

    ``folder`` is the one being looked at. With ``asks_when_read`` off, an
    interpreter of which the files say all is not asked as well: for callers
    that are about to run it anyway.
    """

    def __init__(self, machine: Machine, folder: str, probe_folder: str, limit: float = 10.0,
                 asks_when_read: bool = True, trust: Trust | None = None):
        self.machine = machine
        self.folder = folder
        self.trust = trust or Trust(machine, folder)
        self.probe_folder = probe_folder
        self.limit = limit
        self.asks_when_read = asks_when_read
        self._pythons: dict[str, bool] = {}
        self._known: dict[tuple[str, str, bool, bool], Examined] = {}
        self._answers = Once()
        self._read = Once()  # what was read on the way: hundreds of environments may have one base
        self._configs: dict[str, VenvConfig | None] = {}
        self._alike = Alike(machine)

    def but(self, asks_when_read: bool) -> Examiner:
        """Return one that asks otherwise, and trusts the same."""
        return Examiner(self.machine, self.folder, self.probe_folder, self.limit, asks_when_read, self.trust)

    def config_of(self, path: str) -> VenvConfig | None:
        """Return the pyvenv.cfg that an interpreter obeys, as it was when first asked for."""
        if path not in self._configs:
            self._configs[path] = find_venv_config(self.machine, path)
        return self._configs[path]

    def base_of(self, path: str) -> str | None:
        """Return the base prefix of an environment's interpreter, as it is read; None where it has none."""
        m, config = self.machine, self.config_of(path)
        return self._alike.base(path, config, lambda: base_of(
            m, base_program_of(m, path, config), config, self._read)) if config else None

    def read(self, path: str) -> Interpreter:
        """Return what an interpreter is by its files alone, of a path that is whole and normalised.

        Without the steps that led there hundreds are soon read.
        """
        if (path, self.machine.cwd, True, False) not in self._known:
            known = self._alike.interpreter(path, self.config_of(path))
            if known is not None:
                return known
        return self.examine(path, ask=False).interpreter

    def examine(self, path: str, cwd: str | None = None, *, ask: bool = True,
                env: Mapping[str, str] | None = None, by_folder: bool = False) -> Examined:
        """Find out what `path` runs when started in `cwd`; never raises for what is there.

        `by_folder`: a file of the folder that is looked at names it.
        """
        return self._known_or_examined(path, _Start(cwd or self.machine.cwd, env, ask, by_folder))

    def _known_or_examined(self, path: str, start: _Start) -> Examined:
        path = self.machine.absolute(path)
        key = (path, start.folder, start.ask, start.by_folder)
        keys = [key] if start.ask else [(*key[:2], True, key[3]), key]  # the first says as much, and more
        known = next((self._known[k] for k in keys if k in self._known), None)
        if known is None or (known.wrapper and start.env is not None):
            known = self._examine(path, start)
            if start.env is None or not known.wrapper:
                self._known[key] = known
        return known

    def _examine(self, path: str, start: _Start) -> Examined:
        m = self.machine
        steps = [TrailStep(0, f"{link} is a symlink to {target}", link, None, target)
                 for link, target in self._alike.links_of(path)]
        config = self.config_of(path)
        known = self._alike.interpreter(path, config) if config and not start.ask else None
        if known is not None:
            return Examined(known, (*steps, *_steps_of(config)), config)
        real = m.real_path(path)
        info = m.stat(path)
        if info is None or info.kind != "file":
            last = steps[-1].leads_to if steps else path
            trouble = ("it is a folder, not a program" if info and info.kind == "folder"
                       else f"{path} is neither a file nor a folder" if info
                       else f"{last} {m.trouble_at(last or path)}")
            known_by: KnownBy = "broken" if info is None and m.may_be_there(last or path) else "gone"
            return Examined(Interpreter(path, real, known_by=known_by, trouble=trouble),
                            tuple(steps))
        if not m.is_executable(path):
            return Examined(Interpreter(path, real, known_by="broken",
                                        trouble="it may not be executed"), tuple(steps))
        head = read_head(m, path)
        if head.startswith(b"#!"):
            return self._examine_wrapper(path, head, steps, start)
        return self._examine_binary(path, steps, start.ask, start.by_folder)

    # -- binaries --------------------------------------------------------------------------
    def _examine_binary(self, path: str, steps: list[TrailStep], ask: bool, by_folder: bool) -> Examined:
        config = self.config_of(path)
        program = base_program_of(self.machine, path, config)
        if program not in self._pythons:  # hundreds of environments may have one base
            self._pythons[program] = is_python(self.machine, program)
        if not self._pythons[program]:
            return Examined(no_python(self.machine, path), tuple(steps))
        facts = read_interpreter(self.machine, path, config, self._read)
        stdlib: tuple[str, ...] = ()
        by_folder = by_folder or any(self.trust.is_foreign(self._placed(p)) for p in (path, *(s.where for s in steps)))
        ask = ask and (not by_folder or self.trust.is_installed(program))
        all_read = facts.version and facts.prefix and facts.base_prefix
        if ask and facts.works and (self.asks_when_read or not all_read) and not self.trust.why_not_read(path):
            answer = self._answer_of(program)
            if answer is not None:
                facts = self._merge(facts, answer)
            if isinstance(answer, dict):
                stdlib = _as_spelt(self.machine, answer, facts.base_prefix)
        if not ask:
            self._alike.keep(path, config, facts)
        return Examined(facts, (*steps, *_steps_of(config)), config, stdlib=stdlib)

    def _placed(self, path: str | None) -> str:
        """Return where a file or link itself lies, by the real path of its folder."""
        m = self.machine
        return str(m.path.join(m.real_path(m.path.dirname(path or "")), m.path.basename(path or "")))

    def _merge(self, read: Interpreter, answer: RunResult | dict[str, Any]) -> Interpreter:
        if isinstance(answer, RunResult):
            return replace(read, known_by="broken", trouble=explain_failure(answer, self.limit))
        prefix, base = read.prefix or answer["prefix"], read.base_prefix or answer["base_prefix"]
        return replace(read, version=answer["version"], implementation=answer["implementation"],
                       prefix=prefix, base_prefix=base, known_by="asked")

    # -- wrappers ----------------------------------------------------------------------------
    def _examine_wrapper(self, path: str, head: bytes, steps: list[TrailStep], start: _Start) -> Examined:
        m, folder, env = self.machine, start.folder, start.env
        text = head.decode("utf-8", "replace")
        line = first_line(head)
        language = line.program.rsplit("/", 1)[-1] if line else "shell"
        if line is not None and language == "env":
            language = next((w for w in line.rest.split() if not w.startswith("-") and "=" not in w), "shell")
        says = f"{path} is a wrapper: a {language} script that starts another program"
        if line is not None and line.program.startswith("/") and m.platform != "win32" and not m.is_there(line.program):
            return _broken(m, path, steps, f"its first line names {line.program}, which is not there")
        given = {"HOME": m.home, **(env or m.env)}
        started = wrapped_python(m, path, given, folder)
        if started is not None:
            target, flags = started.words[0], flags_of(started.words[1:])
            if any(m.same(target, p) for p in (*start.through, path)):
                return _broken(m, path, steps, f"it is a wrapper that starts {target}, and that starts it again"
                               if start.through else "it is a wrapper that starts itself again")
            steps.append(TrailStep(0, f"{says} (read, not run)", path, 1, target))
            sets = {k: started.env.get(k) for k in {*given, *started.env} if given.get(k) != started.env.get(k)}
            steps += [TrailStep(0, f"it runs {words} before, and what that sets is not known", path)
                      for words in started.unread]
            steps += [TrailStep(0, f"it activates {p}", path, None, p) for p in started.entered]
            steps += _added(path, started.line, [*flags, *(
                f"{k}={sets[k]}" if sets[k] is not None else f"no {k}" for k in VARIABLES if k in sets)])
            # a text may have come with what is looked at, or read what did
            inner = self._known_or_examined(target, _Start(started.folder, started.env, start.ask, True,
                                                           (*start.through, path)))
            return replace(inner, steps=(*steps, *inner.steps), wrapper=path, flags=(*flags, *inner.flags),
                           variables=None if inner.variables is None else {**sets, **inner.variables},
                           folder=inner.folder or (started.folder if started.folder != folder else None))
        if not hands_over(text):
            return Examined(no_python(m, path), tuple(steps))
        why_not = why_not_wrapper(m, self.trust, path, text, folder, env or m.env) if start.ask else "not asked"
        if why_not:
            steps.append(TrailStep(0, f"{says}; it was read, not run", path, 1))
            told = follow_script(m, path, (), given, folder)
            trouble = "it is a wrapper script, which was read, not run: " + (
                told.trouble if told is not None and told.trouble else "it decides when it runs")
            return Examined(Interpreter(path, m.real_path(path), known_by="unknown", trouble=trouble),
                            tuple(steps), wrapper=path)
        return self._ask_wrapper(path, steps, says, start)

    def _ask_wrapper(self, path: str, steps: list[TrailStep], says: str, start: _Start) -> Examined:
        m, env, cwd = self.machine, start.env, start.folder
        variables = self.trust.safe_variables(env or m.env)
        answer = self._ask(path, cwd, variables, None)
        unknown = Interpreter(path, m.real_path(path))
        if isinstance(answer, RunResult):
            steps.append(TrailStep(0, says, path, 1))
            trouble = explain_failure(answer, self.limit)
            return Examined(replace(unknown, known_by="broken", trouble=trouble), tuple(steps), wrapper=path,
                            variables=None)
        target = answer["executable"]
        steps.append(TrailStep(0, f"{says}; asked in {cwd}, {target} answered", path, 1, target))
        steps += chosen_by(m, target, cwd, env or m.env)
        if m.same(target, path):  # it called itself by the wrapper's name
            config = find_venv_config(m, target)
            found = self._merge(replace(unknown, prefix=config.prefix if config else None), answer)
            return Examined(found, tuple(steps), config, path, tuple(answer.get("path", ())), variables=None)
        inner = self.examine(target, cwd)
        found = inner.interpreter if inner.interpreter.version else replace(
            inner.interpreter, version=answer["version"])
        return Examined(found, (*steps, *inner.steps), inner.config, path, inner.stdlib, variables=None)

    def why_not_run(self, program: str) -> str:
        """Say what speaks against running an interpreter's real program; empty when nothing does."""
        m = self.machine
        trouble = self.trust.why_not(program)
        if trouble or not is_python_name(program):
            return trouble or f"{program} has not the name of a Python"
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
        base = base_of(m, program, config)
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
        if self._answers.known(real) is None and self.why_not_run(real):
            return None
        return self._answers.get(real, lambda: self._ask(
            real, m.path.dirname(real), self.trust.safe_variables(m.env), m.stat(real)))

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


def _broken(machine: Machine, path: str, steps: list[TrailStep], trouble: str) -> Examined:
    """Return what cannot start."""
    return Examined(Interpreter(path, machine.real_path(path), known_by="broken", trouble=trouble), tuple(steps))


def _added(wrapper: str, line: int, what: Sequence[str]) -> list[TrailStep]:
    """Say what a wrapper adds to how the interpreter is started."""
    return [TrailStep(0, f"it adds {', '.join(what)}", wrapper, line)] if what else []


def _steps_of(config: VenvConfig | None) -> list[TrailStep]:
    """Return the step that a pyvenv.cfg is on the way to an interpreter."""
    if config is None or config.trouble:
        return []
    base = f" on the base in {config.home}" if config.home else ""
    return [TrailStep(0, f"{config.path} makes {config.prefix} an environment{base}", config.path,
                      config.lines.get("home"), config.prefix)]


def _as_spelt(machine: Machine, answer: Mapping[str, Any], base: str | None) -> tuple[str, ...]:
    """Return the path that the real program answered, with its prefix as the interpreter spells it."""
    said, path = answer["base_prefix"], answer.get("path", ())
    if not base or said == base or not machine.same(said, base):
        return tuple(path)
    return tuple(base + p[len(said):] if machine.is_within(p, said) else p for p in path)
