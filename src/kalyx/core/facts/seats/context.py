"""What is known of a seat, and what finding one needs."""

from __future__ import annotations

from kalyx.core.facts.configuration.own_files import config_files
from kalyx.core.facts.interpreters.environment import environment_of, is_environment, prefix_of
from kalyx.core.facts.interpreters.examiner import Examiner, numbered
from kalyx.core.facts.interpreters.path_lookup import find_on_path
from kalyx.core.facts.seats.started_with import started_with
from kalyx.core.lean.record import record
from kalyx.core.machine.threads import Once
from kalyx.core.model import Seat

TYPE_CHECKING = False
if TYPE_CHECKING:  # loaded where they are used: each costs a part of every command's start
    from collections.abc import Sequence
    from typing import Any

    from kalyx.core.facts.configuration.kalyx_toml import Config
    from kalyx.core.facts.editors import settings
    from kalyx.core.facts.environments.survey import Surveyor
    from kalyx.core.facts.interpreters.examiner import Examined
    from kalyx.core.facts.interpreters.pyvenv import VenvConfig
    from kalyx.core.facts.kernels import notebooks
    from kalyx.core.facts.shells import commands
    from kalyx.core.machine.interface import Machine
    from kalyx.core.machine.results import RunResult
    from kalyx.core.model import Environment, Interpreter, Kernel, Launch, LivePython, Note, RunningPython, TrailStep
    from kalyx.core.model.kinds import SeatKind

__all__ = ["SeatContext", "SeatFacts"]

MOST_NEIGHBOURS = 200  # entries of a folder that is taken for one of environments
SERVER_COMMANDS = ("jupyter-lab", "jupyter-notebook", "jupyter-server", "jupyter")


@record
class SeatFacts:
    """A seat as read, with what the verdicts need to judge it.

    ``foreign``: it is a process of another user. ``kernel_word`` is the program that a kernelspec starts in the end,
    as it is written, ``kernel_command`` that with its arguments. ``cannot_start`` says why a script's first line leads
    nowhere, ``untold`` why what it starts cannot be told. ``ran`` is what its interpreter said of itself as it ran,
    where it was told elsewhere, and ``live`` what a running process told of itself.
    """

    seat: Seat
    examined: Examined | None = None
    kernel: Kernel | None = None
    kernel_how: str = ""
    kernel_word: str = ""
    kernel_command: tuple[str, ...] = ()
    cannot_start: str = ""
    untold: str = ""
    notebook: notebooks.NotebookKernel | None = None
    setting: settings.EditorSetting | None = None
    python_name: str = ""
    script_head: str = ""
    others: tuple[Kernel, ...] = ()
    foreign: bool = False
    ran: RunningPython | None = None
    live: LivePython | None = None

    @property
    def why_untold(self) -> str:
        """Why what it runs cannot be told; empty where it can, or where it is known to run nothing."""
        one = self.seat.interpreter
        return self.untold or (f"of {one.path}, {one.trouble}" if one and one.known_by in ("unknown", "other") else "")


class SeatContext:
    """What finding a seat needs: the machine, seen from one folder, each part of it read once.

    Nothing of it is changed after it was made; `but` returns another one.
    """

    def __init__(self, machine: Machine, folder: str, probe_folder: str, limit: float = 10.0, *,
                 roots: tuple[str, ...] = (), notes: tuple[Note, ...] = (), asks_when_read: bool = True,
                 anyway: bool = False, shell_names: Sequence[commands.ShellName] = (),
                 server: tuple[Interpreter | None, str] | None = None, below: tuple[str, ...] = (),
                 given: SeatFacts | None = None, live: SeatFacts | None = None,
                 examiner: Examiner | None = None) -> None:
        """Look from `folder`.

        `limit` is in seconds, for each interpreter that is asked; `roots` are further places of
        environments, and `below` folders that are searched for some. With `asks_when_read` off an
        interpreter of which the files say all is not asked as well; with `anyway` code is run as another
        user's process says. `shell_names` are aliases and functions of the interactive shell, where it was
        asked; `server` is the interpreter of the notebook server, and how it was found, where it is given.
        `given` is the one seat of a machine of which no more is known; `live` the seat of the process in
        which Kalyx was asked.
        """
        self._given: dict[str, Any] = {
            "roots": roots, "notes": notes, "asks_when_read": asks_when_read, "anyway": anyway,
            "shell_names": shell_names, "server": server, "below": below, "given": given, "live": live}
        self.machine = machine
        self.folder = machine.absolute(folder)
        self.anyway = anyway
        self.shell_names = shell_names
        self._once = Once()
        self._asking = (probe_folder, limit, asks_when_read)
        self._examiner = examiner
        if given is None:
            self._examiner = self.examiner

    @property
    def examiner(self) -> Examiner:
        """What finds out what executables are, each once."""
        if self._examiner is None:
            self._examiner = Examiner(self.machine, self.folder, *self._asking)
        return self._examiner

    def but(self, **changes: Any) -> SeatContext:
        """Return the same with other options; what was found out not to be trusted stays so."""
        given = {**self._given, **changes}
        examiner = self._examiner
        if examiner is not None and given["asks_when_read"] != self._given["asks_when_read"]:
            examiner = examiner.but(given["asks_when_read"])
        return SeatContext(self.machine, self.folder, *self._asking[:2], examiner=examiner, **given)

    def beside(self, seat_ref: str) -> SeatContext:
        """Return the same, which also looks where an environment that is named by its path has its neighbours."""
        kind, _, path = seat_ref.partition(":")
        m, path = self.machine, self.machine.absolute(path or kind)
        prefix = path if is_environment(m, path) else prefix_of(m, path)
        above = m.path.dirname(prefix)
        if kind not in ("env", "python") or not m.path.isabs(prefix) or above in (m.home, m.path.dirname(above)) \
                or not is_environment(m, prefix) or len(m.entries(above)) > MOST_NEIGHBOURS:
            return self
        return self.but(roots=(*self._given["roots"], above))

    @property
    def probe_folder(self) -> str:
        """Where the programs lie that run inside other interpreters."""
        return self._asking[0]

    @property
    def given(self) -> SeatFacts | None:
        """The one seat of a machine of which no more is known; None where seats are looked for."""
        found: SeatFacts | None = self._given["given"]
        return found

    @property
    def live(self) -> SeatFacts | None:
        """The seat of the process in which Kalyx was asked; None where that is no Python."""
        found: SeatFacts | None = self._given["live"]
        return found

    @property
    def config(self) -> Config:
        """What the configuration files say."""
        from kalyx.core.facts.configuration.kalyx_toml import read_config

        return self._once.get("config", lambda: read_config(self.machine, self.folder))

    @property
    def notes(self) -> tuple[Note, ...]:
        """What is to be said beside any answer."""
        return (*self._given["notes"], *self.config.notes)

    # -- the machine as a whole -------------------------------------------------------------
    @property
    def surveyor(self) -> Surveyor:
        """What finds the environments of the machine."""
        from kalyx.core.facts.environments.survey import Surveyor

        return self._once.get("surveyor", lambda: Surveyor(
            self.machine, self.examiner, self.folder,
            lambda: (*self._given["roots"], *self._configured_roots()), self._given["below"]))

    def _configured_roots(self) -> tuple[str, ...]:
        """Return the places that configuration files add; without one, nothing is loaded."""
        return self.config.roots if config_files(self.machine, self.folder) else ()

    def environments(self) -> list[Environment]:
        """Return the known environments, those that kernels run among them."""
        if self.given is not None:
            return []
        return self.surveyor.environments(self.prefixes())

    def bases(self) -> list[Interpreter]:
        """Return the interpreters that are no environment's, the newest last."""
        if self.given is not None:
            return []
        return self.surveyor.bases(self.prefixes())

    def prefixes(self) -> list[str]:
        """Return where the known environments are, without looking into them any further."""
        if self.given is not None:
            return []
        return self._once.get("prefixes", lambda: self.surveyor.prefixes(
            [*self._prefixes_of_kernels(), *self._named_prefixes()]))

    def _named_prefixes(self) -> list[str]:
        from kalyx.core.facts.editors.table import EDITORS
        from kalyx.core.facts.seats.named import named_prefixes

        editors = self.config.editors if config_files(self.machine, self.folder) else EDITORS
        return named_prefixes(self.machine, self.folder, editors)

    def _prefixes_of_kernels(self) -> list[str]:
        from kalyx.core.facts.kernels import data_folders, kernelspecs

        m, read = self.machine, self._once.known("kernels")
        if read is not None:
            return [p for k in read if k.argv for p in kernelspecs.prefix_of_kernel(m, k)]
        folders = [f for _, f in data_folders.data_folders(m, None)]
        return kernelspecs.prefixes_of_kernels(m, folders)

    def describe(self, prefix: str) -> Environment | None:
        """Read one of the known environments; None when the folder is none after all."""
        return self.surveyor.describe(prefix)

    def config_of(self, path: str) -> VenvConfig | None:
        """Return the pyvenv.cfg that an interpreter obeys, as it was when first asked for."""
        return self.examiner.config_of(path)

    def run_isolated(self, interpreter: Interpreter, arguments: Sequence[str], limit: float) -> RunResult | None:
        """Run an interpreter with -I -S; None where the trust rule forbids it."""
        return self.examiner.run_isolated(interpreter, arguments, limit)

    # -- what several seats share ------------------------------------------------------------
    def server(self) -> tuple[Interpreter | None, str]:
        """Return the interpreter of the notebook server on PATH, and how it was found.

        Where PATH has no server the shell's python stands in: its prefix is
        searched for kernels, and the answer says so.
        """
        return self._given["server"] or self._once.get("server", self._find_server)

    def _find_server(self) -> tuple[Interpreter | None, str]:
        from kalyx.core.facts.shells import commands

        python = self.shell_python()
        for name in SERVER_COMMANDS:
            found = find_on_path(self.machine, name, first_only=True)
            if found:
                script = commands.read_script(self.examiner, name, found[0], self.folder,
                                              python[1] if python else None)
                if script.interpreter is not None and script.interpreter.works:
                    return script.interpreter, f"{found[0].path} on PATH"
        return python[1].interpreter if python else None, "the shell's python, as PATH has no notebook server"

    def shell_python(self) -> tuple[str, Examined, TrailStep] | None:
        """Return the shell's Python: command name, what it is, the PATH step; None where PATH has none."""
        from kalyx.core.facts.shells.python import python_of_shell

        return self._once.get("python", lambda: python_of_shell(
            self.machine, self.examiner, self.folder, self.shell_names))

    def kernels(self) -> list[Kernel]:
        """Return every registered kernel in search order."""
        if self.given is not None:
            return []
        from kalyx.core.facts.kernels import kernelspecs

        return self._once.get("kernels", lambda: kernelspecs.read_kernels(self.machine, self.server()[0]))

    def facts_of(self, ref: str, kind: SeatKind, label: str, examined: Examined, steps: list[TrailStep],
                 launch: Launch, *, is_led: bool = True) -> SeatFacts:
        """Return the facts of a seat whose interpreter was examined; its steps lead there.

        Without `is_led`, the variables of its start do not lead it to another standard library.
        """
        examined = started_with(self.machine, examined, launch) if is_led else examined
        environment = environment_of(self.machine, examined.interpreter) if examined.interpreter.works else None
        return SeatFacts(Seat(ref, kind, label, examined.interpreter, environment,
                              numbered([*steps, *examined.steps]), launch=launch), examined)
