"""Seats: from a reference to the interpreter that it runs, step by step."""

from __future__ import annotations

from kalyx.core.errors import AmbiguousName, NothingToJudge, WrongUsage
from kalyx.core.facts import shells
from kalyx.core.facts.interpreters import (
    Examined,
    Examiner,
    environment_of,
    is_environment,
    numbered,
    program_folder,
    python_in,
)
from kalyx.core.facts.launchers import find_on_path, is_python_name, parse_shebang, read_head
from kalyx.core.facts.places import config_files
from kalyx.core.machine import Machine
from kalyx.core.model import Environment, Interpreter, Kernel, Launch, Note, Seat, TrailStep
from kalyx.core.record import TYPE_CHECKING, dataclass, replace

if TYPE_CHECKING:  # loaded where they are used: each costs a part of every command's start
    from kalyx.core.facts import editors, notebooks
    from kalyx.core.facts.config import Config
    from kalyx.core.facts.environments import Surveyor

__all__ = ["KINDS", "SeatFacts", "SeatFinder"]

KINDS = ("shell", "editor", "kernel", "notebook", "script", "process", "python", "env")
MOST_SCRIPTS = 20
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
        from kalyx.core.facts import environments, kernelspecs

        if self._prefixes is None and self._kernels is not None:  # read already
            m = self.machine
            named = [m.path.dirname(m.path.dirname(k.argv[0])) for k in self._kernels
                     if k.argv and m.path.isabs(k.argv[0])]
            self._prefixes = self.surveyor.prefixes(named)
        if self._prefixes is None:
            folders = [f for _, f in kernelspecs.data_folders(self.machine, None)]
            self._prefixes = self.surveyor.prefixes(
                environments.prefixes_of_kernels(self.machine, folders))
        return self._prefixes

    def describe(self, prefix: str) -> Environment | None:
        """Read one of the known environments; None when the folder is none after all."""
        return self.surveyor.describe(prefix)

    def may_run(self, path: str) -> bool:
        """Whether the trust rule allows to run an interpreter."""
        return self.examiner.may_run(path)

    def server(self) -> tuple[Interpreter | None, str]:
        """Return the interpreter of the notebook server on PATH, and how it was found.

        Where PATH has no server the shell's python stands in: its prefix is
        searched for kernels, and the answer says so.
        """
        if self._server is None:
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
            alias = self._aliased_python()
            if alias is not None:
                return alias
            found = shells.find_python(self.machine)
            if found is None:
                return None
            name, place = found
            self._python = (name, self.examiner.examine(place.path, self.folder),
                            shells.path_step(name, place))
        return self._python

    def _aliased_python(self) -> tuple[str, Examined, TrailStep] | None:
        """Return what an alias of the interactive shell makes of python, when it was asked."""
        for known in self.shell_names or ():
            if known.kind != "alias" or known.name not in shells.PYTHON_NAMES[:2]:
                continue
            word = known.text.split()[0] if known.text.split() else ""
            path = self.machine.absolute(word)
            if "/" not in word:
                found = find_on_path(self.machine, word, first_only=True)
                if not found:
                    continue
                path = found[0].path
            step = TrailStep(0, f"your interactive shell has the alias {known.name}={known.text!r}",
                             None, None, path)
            self._python = known.name, self.examiner.examine(path, self.folder), step
            return self._python
        return None

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
        python = self.shell_python()
        scripts = []
        for name in shells.SCRIPT_NAMES:
            found = find_on_path(self.machine, name, first_only=True)
            if found:
                scripts.append(shells.read_script(self.examiner, name, found[0], self.folder,
                                                  python[1] if python else None))
        if python is None:
            seat = Seat("shell", "shell", "this shell", scripts=tuple(scripts))
            return SeatFacts(seat)
        name, examined, step = python
        said = [TrailStep(0, f"your interactive shell has a function {n.name}, which may run something "
                          "else") for n in self.shell_names or () if n.kind == "function"]
        said += shells.variable_steps(self.machine.env)
        seat = self._seat("shell", "shell", "this shell", examined, [*said, step],
                          Launch((step.leads_to or "",), self.machine.env, self.folder))
        return SeatFacts(replace(seat, scripts=tuple(scripts)), examined, python_name=name)

    def python(self, path: str) -> SeatFacts:
        """Return the seat of an interpreter that is named outright."""
        full = self.machine.absolute(path)
        if self.machine.path.sep not in path and not self.machine.exists(full):
            found = find_on_path(self.machine, path, first_only=True)
            full = found[0].path if found else full
        examined = self.examiner.examine(full, self.machine.cwd)
        seat = self._seat(f"python:{full}", "python", full, examined, [],
                          Launch((full,), self.machine.env, self.machine.cwd))
        return SeatFacts(seat, examined)

    def env(self, name: str) -> SeatFacts:
        """Return the seat of an environment, by path or name."""
        m = self.machine
        prefix = self.find_environment(name)
        program = python_in(m, prefix)
        examined = self.examiner.examine(program, m.cwd)
        step = TrailStep(0, f"the environment {prefix} starts {program}", prefix, None, program)
        seat = self._seat(f"env:{prefix}", "env", m.path.basename(prefix), examined, [step],
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

    def editor(self, file: str) -> SeatFacts:
        """Return the seat of an editor's settings file."""
        from kalyx.core.facts import editors

        m = self.machine
        path = m.absolute(file)
        known = editors.editor_for(m, path, self.config.editors)
        if known is None:
            names = ", ".join(e.files[0] for e in self.config.editors)
            raise NothingToJudge(f"{path} is not a settings file that Kalyx knows.",
                                 f"Known: {names}; kalyx.toml can add others.")
        if not m.exists(path):
            raise NothingToJudge(f"{path} does not exist.", "Check the path.")
        return self.from_setting(editors.read_setting(m, known[0], path, known[1]))

    def from_setting(self, setting: editors.EditorSetting) -> SeatFacts:
        """Return the seat that a settings file stands for."""
        ref = f"editor:{setting.file}"
        label = setting.editor.name
        if setting.program is None:
            return SeatFacts(Seat(ref, "editor", label), setting=setting)
        steps = [TrailStep(0, f"{setting.file} sets {setting.key} to {setting.value!r}",
                           setting.file, setting.line, setting.program)]
        steps += [TrailStep(0, f"it wins over {s.file}, which sets {s.key} to {s.value!r}", s.file,
                            s.line, s.program) for s in setting.loses]
        env, more = self._editor_variables(setting)
        examined = self.examiner.examine(setting.program, setting.root)
        seat = self._seat(ref, "editor", label, examined, [*steps, *more],
                          Launch((setting.program,), env, setting.root))
        return SeatFacts(seat, examined, setting=setting)

    def _editor_variables(self, setting: editors.EditorSetting) -> tuple[dict[str, str],
                                                                          list[TrailStep]]:
        """Return the variables that an editor adds: those of its env file, and its extra paths."""
        from kalyx.core.facts import settings_formats

        m, env, steps = self.machine, dict(self.machine.env), []
        if setting.env_file and setting.editor.family == "code":
            said = settings_formats.parse_env_file(m.read_text(setting.env_file, 262_144))
            env.update(said)
            steps.append(TrailStep(0, f"{setting.env_file} sets {', '.join(said) or 'nothing'}",
                                   setting.env_file))
        if setting.extra_paths:
            known = [env["PYTHONPATH"]] if env.get("PYTHONPATH") else []
            env["PYTHONPATH"] = m.path_separator.join([*known, *setting.extra_paths])
            steps.append(TrailStep(0, f"{setting.file} adds {', '.join(setting.extra_paths)} to the "
                                   "path", setting.file))
        return env, steps

    def kernel(self, name: str, notebook: notebooks.NotebookKernel | None = None) -> SeatFacts:
        """Return the seat of a registered kernel, by name."""
        if notebook is None and name.lower() not in {k.name for k in self.kernels()}:
            near = ", ".join(dict.fromkeys(k.name for k in self.kernels())) or "none"
            raise NothingToJudge(f"There is no kernel {name!r} registered here.",
                                 f"Registered: {near}.")
        return self._kernel_seat(name, f"kernel:{name.lower()}", "kernel", None, [])

    def _kernel_seat(self, name: str, ref: str, kind: str,
                     notebook: notebooks.NotebookKernel | None,
                     steps: list[TrailStep]) -> SeatFacts:
        m = self.machine
        same = [k for k in self.kernels() if k.name == name.lower()]
        label = m.path.basename(notebook.path) if notebook else name
        if not same:
            return SeatFacts(Seat(ref, kind, label, trail=numbered(steps)), notebook=notebook,
                             others=tuple(self.kernels()))
        return self._kernel_facts(same[0], ref, kind, str(label), notebook, steps, tuple(same[1:]))

    def kernel_as_registered(self, kernel: Kernel, others: list[Kernel]) -> SeatFacts:
        """Return the seat of one kernelspec, whether it is the first of its name or hidden behind one."""
        return self._kernel_facts(kernel, f"kernel:{kernel.name}", "kernel", kernel.name, None, [],
                                  tuple(others))

    def set_server(self, interpreter: Interpreter | None, how: str) -> None:
        """Look as the notebook server of this interpreter does."""
        self._server = interpreter, how
        self._kernels = None

    def _kernel_facts(self, kernel: Kernel, ref: str, kind: str, label: str,
                      notebook: notebooks.NotebookKernel | None, steps: list[TrailStep],
                      others: tuple[Kernel, ...]) -> SeatFacts:
        from kalyx.core.facts import kernelspecs

        m, server = self.machine, self.server()
        steps.append(TrailStep(0, f"the kernel {kernel.name} is registered ({kernel.scope} scope)"
                               f" as {kernel.label!r}", kernel.spec, None, kernel.spec))
        facts = SeatFacts(Seat(ref, kind, label, trail=numbered(steps)), kernel=kernel,
                          notebook=notebook, others=others)
        if kernel.trouble:
            return facts
        program = kernelspecs.program_of(m, kernel, server[0])
        if not program.is_python or program.path is None:
            return replace(facts, kernel_how=program.how)
        says = f"its program is {kernel.argv[0]}"
        if program.how == "server":
            says = (f"its program is the bare word {kernel.argv[0]}: the interpreter of the "
                    f"notebook server that starts it ({server[1]})")
        elif program.how == "PATH":
            says = f"its program {kernel.argv[0]} is looked up on PATH"
        steps.append(TrailStep(0, says, kernel.spec, None, program.path))
        cwd = m.path.dirname(notebook.path) if notebook else m.cwd
        examined = self.examiner.examine(program.path, cwd)
        launch = Launch((program.path, *program.flags),
                        kernelspecs.kernel_environment(kernel, m.env), cwd)
        seat = self._seat(ref, kind, label, examined, steps, launch)
        kernel = replace(kernel, interpreter=seat.interpreter, environment=seat.environment)
        return replace(facts, seat=seat, examined=examined, kernel=kernel, kernel_how=program.how)

    def notebook(self, file: str) -> SeatFacts:
        """Return the seat of a notebook: the kernel that it names."""
        from kalyx.core.facts import notebooks

        m = self.machine
        path = m.absolute(file)
        if not m.exists(path):
            raise NothingToJudge(f"{path} does not exist.", "Check the path.")
        named = notebooks.read_notebook(m, path)
        ref = f"notebook:{path}"
        if named.trouble or named.name is None:
            return SeatFacts(Seat(ref, "notebook", m.path.basename(path)), notebook=named)
        shown = f" ({named.label})" if named.label and named.label != named.name else ""
        step = TrailStep(0, f"{path} names the kernel {named.name!r}{shown}", path, named.line)
        return self._kernel_seat(named.name, ref, "notebook", named, [step])

    def process(self, number: str) -> SeatFacts:
        """Return the seat of a live process: its program, variables and folder.

        Raises:
            WrongUsage: it is not a number.
            NothingToJudge: there is no such process, or it runs no Python.
        """
        from kalyx.core.facts.processes import kind_of, program_of

        if not number.isdigit():
            raise WrongUsage(f"{number!r} is not a process number.", "Write process:1234.")
        raw = self.machine.process(int(number))
        if raw is None:
            raise NothingToJudge(f"There is no process {number}.", "kalyx running lists them.")
        if raw.closed:
            raise NothingToJudge(f"What process {number} runs may not be read by you.",
                                 "Ask its owner, or run kalyx as that user.")
        m, program = self.machine, program_of(raw, self.machine)
        if program is None or not (is_python_name(program) or is_python_name(raw.argv[0])):
            raise NothingToJudge(f"Process {number} runs {program or 'something'}, which is no Python.",
                                 "kalyx running lists those that are.")
        _, what, _ = kind_of(raw.argv)
        step = TrailStep(0, f"process {number} was started as {raw.argv[0]}, and runs {program}",
                         f"/proc/{number}/exe" if m.exists(f"/proc/{number}/exe") else None, None,
                         program)
        examined = self.examiner.examine(program, raw.folder)
        env = dict(raw.env) if raw.env is not None else dict(m.env)
        launch = Launch((program,), env, raw.folder or m.cwd)
        return SeatFacts(self._seat(f"process:{number}", "process", what, examined, [step], launch),
                         examined)

    def processes_here(self) -> list[SeatFacts]:
        """Return the seats of the live Python processes whose folder is here, Kalyx's own left out."""
        import os

        from kalyx.core.facts.processes import python_processes

        raws = {r.pid: r for r in python_processes(self.machine)}
        ours, pid = set(), os.getpid()
        while pid in raws and pid not in ours:
            ours.add(pid)
            pid = raws[pid].parent or 0
        return [self.process(str(r.pid)) for r in raws.values() if r.pid not in ours
                and r.folder is not None and self.machine.is_within(r.folder, self.folder)]

    def script(self, file: str) -> SeatFacts:
        """Return the seat of a script: its shebang when it is executable, else this shell's python."""
        m = self.machine
        path = m.absolute(file)
        if not m.is_file(path):
            raise NothingToJudge(f"{path} is not there, or is no file.", "Check the path.")
        ref, label = f"script:{path}", str(m.path.basename(path))
        start = m.path.dirname(m.real_path(path))
        shebang = parse_shebang(read_head(m, path))
        if m.is_executable(path) and shebang is not None and is_python_name(shebang.program):
            program, step = shells.resolve_shebang(m, shebang, path, m.env)
            flags = shebang.args if shebang.form != "sh" else ()
            if program is not None:
                examined = self.examiner.examine(program, m.cwd)
                steps = [step, *self._differs(program)]
                launch = Launch((program, *flags), m.env, m.cwd, start, path)
                seat = self._seat(ref, "script", label, examined, steps, launch)
                head = m.read_text(path).split("\n")[0].rstrip("\r")
                once = m.read_text(path).count(head) == 1
                return SeatFacts(seat, examined, script_head=head if once else "")
        python = self.shell_python()
        if python is None:
            return SeatFacts(Seat(ref, "script", label))
        name, examined, step = python
        first = TrailStep(0, f"{label} is started as: {name} {label}", path, None, step.leads_to)
        launch = Launch((step.leads_to or "",), m.env, m.cwd, start, path)
        return SeatFacts(self._seat(ref, "script", label, examined, [first, step], launch), examined)

    def scripts_here(self) -> list[str]:
        """Return the executable files of the folder whose first line asks for a Python."""
        m, found = self.machine, []
        for folder in (self.folder, *(m.path.join(self.folder, n) for n in ("bin", "scripts"))):
            if m.is_file(m.path.join(m.path.dirname(folder), "pyvenv.cfg")):
                continue  # the programs of an environment
            names = [n for n in m.scan(folder)[0] if "." not in n or n.endswith((".py", ".pyw"))]
            for path in (m.path.join(folder, n) for n in names):
                if m.is_executable(path) and m.platform != "win32":
                    head = parse_shebang(read_head(m, path))
                    if head is not None and is_python_name(head.program):
                        found.append(str(path))
        return found[:MOST_SCRIPTS]

    def _differs(self, program: str) -> list[TrailStep]:
        """Say when ``python FILE`` would run another environment than the shebang does."""
        python = self.shell_python()
        if python is None:
            return []
        one = self.examiner.examine(program, self.machine.cwd).interpreter
        two = python[1].interpreter
        if one.prefix == two.prefix:
            return []
        return [TrailStep(0, f"started as: {python[0]} FILE it would run {two.path} instead",
                          python[2].leads_to, None, None)]

    def _seat(self, ref: str, kind: str, label: str, examined: Examined, steps: list[TrailStep],
              launch: Launch) -> Seat:
        return Seat(ref, kind, label, examined.interpreter,
                    environment_of(self.machine, examined.interpreter)
                    if examined.interpreter.works else None,
                    numbered([*steps, *examined.steps]), launch=launch)

    def programs_folder(self, prefix: str) -> str:
        """Return the folder of an environment's programs."""
        return program_folder(self.machine, prefix)
