"""Seats: from a reference to the interpreter that it runs, step by step."""

from __future__ import annotations

from kalyx.core.errors import AmbiguousName, NothingToJudge, WrongUsage
from kalyx.core.facts.interpreters import (
    Examined,
    Examiner,
    environment_of,
    is_environment,
    numbered,
    python_in,
)
from kalyx.core.facts.launchers import find_on_path, is_python_name, parse_shebang, read_head
from kalyx.core.facts.places import config_files
from kalyx.core.machine import Machine
from kalyx.core.model import Environment, Interpreter, Kernel, Launch, Note, Seat, TrailStep
from kalyx.core.record import TYPE_CHECKING, dataclass

if TYPE_CHECKING:  # loaded where they are used: each costs a part of every command's start
    from collections.abc import Sequence

    from kalyx.core.facts import editors, notebooks, shells
    from kalyx.core.facts.config import Config
    from kalyx.core.facts.environments import Surveyor
    from kalyx.core.machine import RunResult

__all__ = ["KINDS", "SeatFacts", "SeatFinder"]

KINDS = ("shell", "editor", "kernel", "notebook", "script", "process", "python", "env")
SERVER_COMMANDS = ("jupyter-lab", "jupyter-notebook", "jupyter-server", "jupyter")


@dataclass(frozen=True)
class SeatFacts:
    """A seat as read, with what the verdicts need to judge it."""

    seat: Seat
    examined: Examined | None = None
    kernel: Kernel | None = None
    kernel_how: str = ""
    notebook: notebooks.NotebookKernel | None = None
    setting: editors.EditorSetting | None = None
    python_name: str = ""
    script_head: str = ""
    others: tuple[Kernel, ...] = ()


class SeatFinder:
    """Resolves seat references on one machine, seen from one folder."""

    def __init__(self, machine: Machine, folder: str, probe_folder: str, limit: float = 10.0,
                 roots: tuple[str, ...] = (), notes: tuple[Note, ...] = ()) -> None:
        self.machine = machine
        self.folder = machine.absolute(folder)
        self._config: Config | None = None
        self._notes = notes
        self.examiner = Examiner(machine, self.folder, probe_folder, limit)
        self._roots = roots
        self._surveyor: Surveyor | None = None
        self._python: tuple[str, Examined, TrailStep] | None = None
        self._server: tuple[Interpreter | None, str] | None = None
        self._kernels: list[Kernel] | None = None
        self._prefixes: list[str] | None = None
        self.shell_names: list[shells.ShellName] | None = None
        self.foreign_processes: dict[str, bool] = {}  # by reference: whether it is another user's
        self.anyway = False  # to be run though another user's

    def _configured_roots(self) -> tuple[str, ...]:
        """Return the places that configuration files add; without one, nothing is loaded."""
        return self.config.roots if config_files(self.machine, self.folder) else ()

    @property
    def config(self) -> Config:
        """What the configuration files say."""
        from kalyx.core.facts.config import read_config

        if self._config is None:
            self._config = read_config(self.machine, self.folder)
        return self._config

    @property
    def surveyor(self) -> Surveyor:
        """What finds the environments of the machine."""
        from kalyx.core.facts.environments import Surveyor

        if self._surveyor is None:
            self._surveyor = Surveyor(self.machine, self.examiner, self.folder,
                                      lambda: (*self._roots, *self._configured_roots()))
        return self._surveyor

    @property
    def notes(self) -> tuple[Note, ...]:
        """What is to be said beside any answer."""
        return (*self._notes, *self.config.notes)

    # -- the machine as a whole -------------------------------------------------------------
    def environments(self) -> list[Environment]:
        """Return the known environments, those that kernels run among them."""
        return self.surveyor.environments(self.prefixes())

    def bases(self) -> list[Interpreter]:
        """Return the interpreters that are no environment's, the newest last."""
        return self.surveyor.bases(self.prefixes())

    def prefixes(self) -> list[str]:
        """Return where the known environments are, without looking into them any further."""
        from kalyx.core.facts import environments, kernel_folders

        if self._prefixes is None and self._kernels is not None:  # read already
            m = self.machine
            named = [m.path.dirname(m.path.dirname(k.argv[0])) for k in self._kernels
                     if k.argv and m.path.isabs(k.argv[0])]
            self._prefixes = self.surveyor.prefixes(named)
        if self._prefixes is None:
            folders = [f for _, f in kernel_folders.data_folders(self.machine, None)]
            self._prefixes = self.surveyor.prefixes(
                environments.prefixes_of_kernels(self.machine, folders))
        return self._prefixes

    def describe(self, prefix: str) -> Environment | None:
        """Read one of the known environments; None when the folder is none after all."""
        return self.surveyor.describe(prefix)

    def run_isolated(self, interpreter: Interpreter, arguments: Sequence[str], limit: float) -> RunResult | None:
        """Run an interpreter with -I -S; None where the trust rule forbids it."""
        return self.examiner.run_isolated(interpreter, arguments, limit)

    def server(self) -> tuple[Interpreter | None, str]:
        """Return the interpreter of the notebook server on PATH, and how it was found.

        Where PATH has no server the shell's python stands in: its prefix is
        searched for kernels, and the answer says so.
        """
        if self._server is None:
            from kalyx.core.facts import shells

            for name in SERVER_COMMANDS:
                found = find_on_path(self.machine, name, first_only=True)
                if found:
                    python = self.shell_python()
                    script = shells.read_script(self.examiner, name, found[0], self.folder,
                                                python[1] if python else None)
                    if script.interpreter is not None and script.interpreter.works:
                        self._server = script.interpreter, f"{found[0].path} on PATH"
                        break
            else:
                python = self.shell_python()
                self._server = (python[1].interpreter if python else None,
                                "the shell's python, as PATH has no notebook server")
        return self._server or (None, "no notebook server found")

    def shell_python(self) -> tuple[str, Examined, TrailStep] | None:
        """Return the shell's Python: command name, what it is, the PATH step."""
        if self._python is None:
            from kalyx.core.facts.shell_seats import python_of_shell

            self._python = python_of_shell(self)
        return self._python

    def kernels(self) -> list[Kernel]:
        """Return every registered kernel in search order."""
        from kalyx.core.facts import kernelspecs

        if self._kernels is None:
            self._kernels = kernelspecs.read_kernels(self.machine, self.server()[0])
        return self._kernels

    # -- seats -----------------------------------------------------------------------------
    def resolve(self, ref: str) -> SeatFacts:
        """Return the seat that a reference or a bare word means.

        Raises:
            NothingToJudge: there is no such seat.
            AmbiguousName: the word can mean several.
            WrongUsage: the kind of seat is not known.
        """
        kind, colon, rest = ref.partition(":")
        if ref == "shell":
            return self.shell()
        if colon and kind in KINDS and not self.machine.exists(ref):
            if kind == "shell" or not rest:
                raise WrongUsage(f"{ref!r} is not a seat.", "Write shell, or kind:name.")
            resolved: SeatFacts = getattr(self, kind)(rest)
            return resolved
        return self._bare_word(ref)

    def resolve_to_run(self, ref: str) -> SeatFacts:
        """Return the seat that a reference means, for a command that runs code there.

        Raises:
            NothingToJudge: there is no such seat, or it is another user's process: running what its
                variables and folder say would be done with one's own rights.
        """
        facts = self.resolve(ref)
        if self.foreign_processes.get(facts.seat.ref) and not self.anyway:
            raise NothingToJudge(
                f"{facts.seat.ref} is another user's: what its variables and folder name would be run with your "
                "rights.", "Say --anyway if you trust that user.")
        return facts

    def _bare_word(self, word: str) -> SeatFacts:
        m = self.machine
        path = m.absolute(word)
        if m.is_folder(path) and is_environment(m, path):
            return self.env(word)
        if m.exists(path) and (m.path.sep in word or "/" in word or not m.is_folder(path)):
            from kalyx.core.facts import editors

            if word.endswith(".ipynb"):
                return self.notebook(word)
            if editors.editor_for(m, path, self.config.editors):
                return self.editor(word)
            if word.endswith((".py", ".pyw")):
                return self.script(word)
            if not m.is_folder(path) and m.is_executable(path):
                head = parse_shebang(read_head(m, path))
                if head is not None and is_python_name(head.program):
                    return self.script(word)
                return self.python(word)
        for fold in (str, str.lower):
            candidates = self._named(word, fold)
            if len(candidates) == 1:
                return self.resolve(candidates[0])
            if candidates:
                raise AmbiguousName(word, candidates)
        raise NothingToJudge(
            f"There is no seat {word!r}: no such file, environment or kernel.",
            "Name one as " + ", ".join(f"{k}:…" for k in KINDS[1:]) + " or shell.")

    def _named(self, word: str, fold: object) -> list[str]:
        f = fold if callable(fold) else str
        refs = [f"env:{e.path}" for e in self.environments() if f(e.name) == f(word)]
        refs += [f"kernel:{k}" for k in dict.fromkeys(k.name for k in self.kernels())
                 if f(k) == f(word)]
        return refs

    def shell(self) -> SeatFacts:
        """Return the shell seat of the folder."""
        from kalyx.core.facts.shell_seats import shell_seat

        return shell_seat(self)

    def python(self, path: str) -> SeatFacts:
        """Return the seat of an interpreter that is named outright."""
        full = self.machine.absolute(path)
        if self.machine.path.sep not in path and not self.machine.exists(full):
            found = find_on_path(self.machine, path, first_only=True)
            full = found[0].path if found else full
        self.examiner.trust.distrust(self.machine.path.dirname(full))
        examined = self.examiner.examine(full, self.machine.cwd)
        seat = self.seat_of(f"python:{full}", "python", full, examined, [],
                          Launch((full,), self.machine.env, self.machine.cwd))
        return SeatFacts(seat, examined)

    def env(self, name: str) -> SeatFacts:
        """Return the seat of an environment, by path or name."""
        m = self.machine
        prefix = self.find_environment(name)
        program = python_in(m, prefix)
        self.examiner.trust.distrust(prefix)
        examined = self.examiner.examine(program, m.cwd)
        step = TrailStep(0, f"the environment {prefix} starts {program}", prefix, None, program)
        seat = self.seat_of(f"env:{prefix}", "env", m.path.basename(prefix), examined, [step],
                          Launch((program,), m.env, m.cwd))
        return SeatFacts(seat, examined)

    def find_environment(self, name: str) -> str:
        """Return the prefix of the environment that a name or path means.

        Raises:
            NothingToJudge: there is none.
            AmbiguousName: several carry the name.
        """
        m = self.machine
        path = m.absolute(name)
        if m.is_file(path) and m.path.basename(m.path.dirname(path)).lower() in ("bin", "scripts"):
            path = m.path.dirname(m.path.dirname(path))
        if m.is_folder(path) and (is_environment(m, path) or m.exists(python_in(m, path))):
            return path
        for fold in (str, str.lower):
            hits = [e for e in self.environments() if fold(e.name) == fold(name)]
            hits = hits or [e for e in self.environments()
                            if fold(e.name.split("/")[0]) == fold(name) and "/" in e.name]
            if len(hits) == 1:
                return hits[0].path
            if hits:
                raise AmbiguousName(name, [f"env:{e.path}" for e in hits])
        if m.is_folder(path):
            raise NothingToJudge(f"{path} is a folder, but no environment: it has neither "
                                 "pyvenv.cfg nor conda-meta nor an interpreter.",
                                 "Name the environment's own folder.")
        raise NothingToJudge(f"There is no environment {name!r} among the "
                             f"{len(self.environments())} known here.",
                             "Give the path of its folder.")

    # -- seats whose kinds have modules of their own: each is loaded where it is asked for ---------
    def editor(self, file: str) -> SeatFacts:
        """Return the seat of an editor's settings file."""
        from kalyx.core.facts.editor_seats import editor_seat

        return editor_seat(self, file)

    def kernel(self, name: str) -> SeatFacts:
        """Return the seat of a registered kernel, by name."""
        from kalyx.core.facts.kernel_seats import kernel_seat

        return kernel_seat(self, name)

    def notebook(self, file: str) -> SeatFacts:
        """Return the seat of a notebook: the kernel that it names."""
        from kalyx.core.facts.kernel_seats import notebook_seat

        return notebook_seat(self, file)

    def process(self, number: str) -> SeatFacts:
        """Return the seat of a live process."""
        from kalyx.core.facts.process_seats import process_seat

        return process_seat(self, number)

    def script(self, file: str) -> SeatFacts:
        """Return the seat of a script."""
        from kalyx.core.facts.script_seats import script_seat

        return script_seat(self, file)

    def set_server(self, interpreter: Interpreter | None, how: str) -> None:
        """Look as the notebook server of this interpreter does."""
        self._server = interpreter, how
        self._kernels = None

    def seat_of(self, ref: str, kind: str, label: str, examined: Examined, steps: list[TrailStep],
              launch: Launch) -> Seat:
        """Return a seat whose interpreter was examined; its steps lead there."""
        return Seat(ref, kind, label, examined.interpreter,
                    environment_of(self.machine, examined.interpreter)
                    if examined.interpreter.works else None,
                    numbered([*steps, *examined.steps]), launch=launch)
