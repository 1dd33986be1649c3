"""``enrol``: an environment becomes a notebook kernel, and proves it."""

from __future__ import annotations

import ast
import json
import time
from typing import Any

from kalyx.core.answers.pip_changes import run_watched
from kalyx.core.changes.files import place_to_write
from kalyx.core.changes.journal import Journal
from kalyx.core.errors import NothingToJudge, Refused, WrongUsage
from kalyx.core.facts.environments.activation import activation_variables
from kalyx.core.facts.environments.neighbours import Neighbours
from kalyx.core.facts.interpreters.environment import environment_of, program_folder
from kalyx.core.facts.kernels import data_folders, kernelspecs
from kalyx.core.facts.packaging.pip_lines import isolated_pip, own_pip
from kalyx.core.facts.search_path.site_folders import visible_sites
from kalyx.core.facts.seats.environment import env_seat
from kalyx.core.lean.record import field, record, replace
from kalyx.core.model import Evidence, Finding, Kernel, Proof, Remedy
from kalyx.core.verdicts.seats.interpreter import interpreter_broken, interpreter_gone
from kalyx.core.wire.client import KernelFailed, StartedKernel

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping

    from kalyx.core.changes.entry import Change, Entry
    from kalyx.core.facts.seats.context import SeatContext
    from kalyx.core.model import Environment, Interpreter

__all__ = ["SCOPES", "EnrolAnswer", "EnrolOptions", "answer_enrol", "prove"]

DEFAULT_COMMAND = ("-m", "ipykernel_launcher", "-f", "{connection_file}")
QUESTIONS = {"executable": "__import__('sys').executable", "prefix": "__import__('sys').prefix"}
WHICH_PIP = "__import__('shutil').which('pip')"  # what a cell's !pip would run
SCOPES = ("me", "env", "everyone")


@record
class EnrolOptions:
    """What is asked of ``enrol`` beyond the environment.

    ``scope`` is me, env or everyone; ``into`` names a data folder instead.
    ``variables`` are set for the kernel; ``bare`` leaves activation out.
    """

    name: str | None = None
    label: str | None = None
    scope: str = "me"
    into: str | None = None
    variables: Mapping[str, str] = field(default_factory=dict)
    bare: bool = False
    overwrite: bool = False
    dry_run: bool = False
    with_package: bool = False


@record
class EnrolAnswer:
    """What was registered and what it said of itself; ``findings`` say why not."""

    kernel: Kernel | None
    proof: Proof | None
    change: Change | None
    findings: tuple[Finding, ...] = ()
    text: str = ""
    dry_run: bool = False

    @property
    def status(self) -> str:
        """Whether the kernel is registered and proven (or would be)."""
        proven = self.proof is not None and self.proof.answered and not self.proof.trouble
        return "ok" if (proven or self.dry_run) and not self.findings else "problem"


def answer_enrol(context: SeatContext, name_of_env: str, wanted: EnrolOptions, limit: float,
                 entry: Entry | None = None) -> EnrolAnswer:
    """Register an environment as a kernel, start it, and compare what it says.

    It is a change of its own, or a part of the `entry` that is being made.

    Raises:
        NothingToJudge: there is no such environment.
        WrongUsage: the kernel's name is not allowed.
        Refused: the name is taken.
    """
    facts = env_seat(context, name_of_env)
    neighbours = Neighbours(context.machine, context)
    broken = interpreter_gone(facts, context.machine) or interpreter_broken(facts, context.machine)
    interpreter, environment = facts.seat.interpreter, facts.seat.environment
    if broken is not None:
        return EnrolAnswer(None, None, None, (broken,))
    if interpreter is None or environment is None:
        why = f"{interpreter.path}: {interpreter.trouble}" if interpreter else "it has no interpreter"
        raise NothingToJudge(f"{name_of_env} cannot be enrolled: {why}.",
                             "Name an environment with a Python of its own.")
    environment = replace(environment, interpreter=interpreter)
    command = find_kernel_command(context, interpreter, neighbours)
    planned = _plan(context, environment, interpreter, command or DEFAULT_COMMAND, wanted)
    _refuse_taken(context, planned, wanted.overwrite)
    if command is None and not wanted.with_package:
        return EnrolAnswer(None, None, None, (_no_kernel_package(context, environment),))
    if wanted.dry_run:
        kernel = _plan(context, environment, interpreter, command or DEFAULT_COMMAND, wanted)
        return EnrolAnswer(kernel, None, None, text=spec_text(kernel), dry_run=True)
    with Journal(context.machine).change(f"enrol {planned.name}", entry) as made:
        if command is None:
            failed = _put_kernel_package(context, environment, limit, made)
            if failed is not None:
                return EnrolAnswer(None, None, None, (failed,))
            command = find_kernel_command(context, interpreter, Neighbours(context.machine, context))
        if command is None:
            return EnrolAnswer(None, None, None, (_no_kernel_package(context, environment),))
        kernel = _plan(context, environment, interpreter, command, wanted)
        _refuse_taken(context, kernel, wanted.overwrite)  # another Kalyx may have been quicker
        answer = _write_and_prove(context, kernel, spec_text(kernel), limit, made)
    return replace(answer, change=made.change) if answer.change is not None else answer


def _write_and_prove(context: SeatContext, kernel: Kernel, text: str, limit: float, entry: Entry) -> EnrolAnswer:
    entry.write_text(kernel.spec, text)
    written = kernelspecs.read_kernel(context.machine, kernel.spec, kernel.scope)
    proof = prove(context, written, kernel.interpreter, limit)
    kernel = replace(kernel, argv=written.argv, label=written.label)
    if proof.answered and not proof.trouble:
        return EnrolAnswer(kernel, proof, entry.change, text=text)
    entry.take_back_last()
    finding = Finding.error(
        "kernel-cannot-start", "certain",
        f"The kernel was registered and started, and {proof.trouble}. The registration was taken "
        "back.", (Evidence(f"its command: {' '.join(kernel.argv)}", kernel.argv[0]),
                  Evidence(proof.trouble)),
        (Remedy("Install the kernel package afresh in the environment.", "command",
                argv=own_pip(kernel.argv[0]).install("ipykernel", over="replaced"),
                changes=f"replaces it in {kernel.environment.path if kernel.environment else ''}"),
         ))
    return EnrolAnswer(kernel, proof, None, (finding,), text)


# -- the kernel package ------------------------------------------------------------------------
def find_kernel_command(context: SeatContext, interpreter: Interpreter,
                        neighbours: Neighbours) -> tuple[str, ...] | None:
    """Return the arguments that start a kernel in this environment; None when it has none.

    A kernel package ships a kernelspec of its own in the prefix's data folder,
    with the bare word python as its program: that says how it is started.
    """
    m = context.machine
    folders = visible_sites(context.machine, interpreter)
    shipped = m.path.join(interpreter.prefix or "", "share", "jupyter", "kernels")
    for name in m.names_in(shipped):
        spec = m.path.join(shipped, name, "kernel.json")
        if not m.is_file(spec):
            continue
        kernel = kernelspecs.read_kernel(m, spec, "env")
        if kernel.trouble or not kernelspecs.BARE_PYTHON.match(m.path.basename(kernel.argv[0])):
            continue
        module = _module_of(kernel.argv)
        if module and neighbours.any_holds(folders, module):
            return kernel.argv[1:]
    if neighbours.any_holds(folders, "ipykernel_launcher"):
        return DEFAULT_COMMAND
    return None


def _module_of(argv: tuple[str, ...]) -> str | None:
    if "-m" not in argv[:-1]:
        return None
    return argv[argv.index("-m") + 1].split(".")[0]


def _no_kernel_package(context: SeatContext, environment: Environment) -> Finding:
    interpreter = environment.interpreter
    assert interpreter is not None
    folders = visible_sites(context.machine, interpreter)
    return Finding.error(
        "kernel-cannot-start", "certain",
        f"{environment.name} ({environment.path}) has no kernel package, so nothing can answer a "
        "notebook from it.",
        tuple(Evidence(f"ipykernel is not in {f}", f) for f in folders),
        (Remedy("Put the kernel package into this environment, then enrol it again.", "command",
                argv=own_pip(interpreter.path).install("ipykernel"),
                changes=f"adds ipykernel, and what it requires, to {environment.path}"),))


# -- the plan ------------------------------------------------------------------------------------
def _plan(context: SeatContext, environment: Environment, interpreter: Interpreter,
          command: tuple[str, ...], wanted: EnrolOptions) -> Kernel:
    m = context.machine
    name = wanted.name or kernelspecs.derive_name(environment)
    if not kernelspecs.NAME.match(name):
        raise WrongUsage(f"{name!r} is not a kernel name.",
                         "A name holds letters, digits, dots, dashes and underscores only.")
    name = name.lower()
    shown = environment.name.split("/")[0] if environment.kind != "base" else "base"
    label = wanted.label or f"{shown} (Python {interpreter.short_version})"
    scope, data = _data_folder(context, environment, wanted)
    variables = {**({} if wanted.bare else activation_variables(m, environment)), **wanted.variables}
    return Kernel(name, label, m.path.join(data, "kernels", name, "kernel.json"), scope,
                  (interpreter.path, *command), variables, "python", interpreter,
                  environment_of(m, interpreter))


def _data_folder(context: SeatContext, environment: Environment, wanted: EnrolOptions) -> tuple[str, str]:
    """Return scope and data folder that a kernel is registered in."""
    m = context.machine
    if wanted.into is not None:
        return "path", place_to_write(m, wanted.into)
    if wanted.scope == "env":
        return "env", m.path.join(environment.path, "share", "jupyter")
    if wanted.scope == "everyone":
        system = m.path.join(m.env.get("PROGRAMDATA", r"C:\ProgramData"), "jupyter") \
            if m.platform == "win32" else "/usr/local/share/jupyter"
        return "system", system
    return "user", data_folders.user_data_folder(m)


def _put_kernel_package(context: SeatContext, environment: Environment, limit: float,
                        entry: Entry) -> Finding | None:
    """Install the kernel package into the environment with its own pip; say why when that fails."""
    interpreter = environment.interpreter
    assert interpreter is not None
    line = isolated_pip(interpreter.path).install("ipykernel")
    ran, _ = run_watched(context.machine, entry, environment, None,
                         lambda: context.machine.run(line, limit=max(limit, 600.0)))
    if ran.status == 0:
        return None
    said = ran.complaint() or ran.why_not or ran.text().strip().split("\n")[-1]
    finding = _no_kernel_package(context, environment)
    return replace(finding, because=f"The kernel package could not be put into {environment.path}: {said}",
                   evidence=(Evidence(said, interpreter.path), *finding.evidence))


def _refuse_taken(context: SeatContext, kernel: Kernel, overwrite: bool) -> None:
    if kernel.name in kernelspecs.SERVER_DEFAULTS:
        raise Refused(f"The name {kernel.name!r} is what notebook servers call their own default "
                      "kernel, which this one would hide.", "Choose another with --name.")
    folder = kernel.folder
    if not context.machine.exists(folder) or overwrite:
        return
    there = kernelspecs.read_kernel(context.machine, kernel.spec, kernel.scope)
    what = f"starts {there.argv[0]}" if there.argv else "cannot be read"
    same = there.argv[:1] == kernel.argv[:1]
    raise Refused(
        f"The kernel name {kernel.name!r} is taken: {folder} {what}"
        + (", the very same interpreter." if same else "."),
        "Choose another with --name, or replace it with --overwrite.")


def spec_text(kernel: Kernel) -> str:
    """Return the text of kernel.json."""
    content: dict[str, Any] = {"argv": list(kernel.argv), "display_name": kernel.label,
                               "language": "python"}
    if kernel.env:
        content["env"] = dict(kernel.env)
    content["metadata"] = {"debugger": "ipykernel_launcher" in kernel.argv}
    return json.dumps(content, indent=1, ensure_ascii=False) + "\n"


# -- the proof -----------------------------------------------------------------------------------
def prove(context: SeatContext, kernel: Kernel, expected: Interpreter | None,
          limit: float) -> Proof:
    """Start a registered kernel, ask it who it is, and compare."""
    asked = ", ".join(q.replace("__import__('sys')", "sys") for q in QUESTIONS.values())
    if kernel.trouble:
        return Proof(asked, False, trouble=f"{kernel.spec}: {kernel.trouble}")
    argv = [a.replace("{resource_dir}", kernel.folder) for a in kernel.argv]
    env = kernelspecs.kernel_environment(kernel, context.machine.env)
    began = time.monotonic()
    try:
        with StartedKernel(argv, env, context.machine.cwd, limit) as started:
            said = {k: _unquoted(v) for k, v in started.evaluate({**QUESTIONS, "pip": WHICH_PIP}).items()}
            seconds = time.monotonic() - began
    except KernelFailed as error:
        return Proof(asked, False, seconds=round(time.monotonic() - began, 3), trouble=str(error))
    pip = said["pip"] if said["pip"] != "None" else None
    return Proof(asked, True, said["executable"], said["prefix"], round(seconds, 3),
                 _compare(context, said, expected) or _pip_elsewhere(context, kernel, said["prefix"], pip), pip)


def _pip_elsewhere(context: SeatContext, kernel: Kernel, prefix: str, pip: str | None) -> str:
    """Say when a cell's pip is another environment's, though this one has a pip and its PATH was set."""
    m = context.machine
    own = m.path.join(program_folder(m, prefix), "pip.exe" if m.platform == "win32" else "pip")
    if pip is None or "PATH" not in kernel.env or not m.exists(own) or m.same(pip, own):
        return ""
    return f"pip in a cell is {pip} and not {own}"


def _unquoted(shown: str) -> str:
    try:
        value = ast.literal_eval(shown)
    except (ValueError, SyntaxError):
        return shown
    return value if isinstance(value, str) else shown


def _compare(context: SeatContext, said: dict[str, str], expected: Interpreter | None) -> str:
    if expected is None or expected.prefix is None:
        return ""
    if context.machine.same(said["prefix"], expected.prefix):
        return ""
    return (f"it answered from {said['prefix']} ({said['executable']}) and not from "
            f"{expected.prefix}")
