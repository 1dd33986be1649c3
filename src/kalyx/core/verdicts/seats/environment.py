"""The health of environments: moved, base gone, packages of another version."""

from __future__ import annotations

import re

from kalyx.core.facts.environments.activation import place_named
from kalyx.core.facts.interpreters.environment import python_in
from kalyx.core.facts.interpreters.path_lookup import follow_links
from kalyx.core.facts.interpreters.pyvenv import find_venv_config
from kalyx.core.model import Evidence, Finding, Remedy
from kalyx.core.verdicts.catalogue import cause
from kalyx.core.verdicts.known import as_known
from kalyx.core.verdicts.remedies.environments import remake

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable

    from kalyx.core.facts.files import Files
    from kalyx.core.facts.interpreters.pyvenv import VenvConfig
    from kalyx.core.model import Environment, Interpreter

__all__ = ["env_base_gone", "env_moved", "env_version_skew", "judge_environment"]


def judge_environment(environment: Environment, files: Files,
                      bases: Callable[[], list[Interpreter]]) -> list[Finding]:
    """Return what is wrong with an environment; a healthy one has no findings."""
    config = find_venv_config(files, python_in(files, environment.path))
    checks = (lambda: env_base_gone(environment, files, config, bases),
              lambda: own_program_gone(environment, files, config, bases),
              lambda: env_moved(environment, files), lambda: env_version_skew(environment, files))
    found = [as_known(files, check, None) for check in checks]
    return [f for f in found if f is not None]


@cause("env-base-gone", "its base interpreter is gone",
       brief="an environment's base interpreter is gone")
def env_base_gone(environment: Environment, files: Files, config: VenvConfig | None,
                  bases: Callable[[], list[Interpreter]]) -> Finding | None:
    """Find an environment whose interpreter leads nowhere.

    Looks like: `python: No such file or directory` in an environment, after an upgrade of the system.
    Why: An environment uses the interpreter that it was made with, and that one was removed.
    How Kalyx knows: The environment's interpreter is a link that leads nowhere.
    What to do: Put it on another Python of the same minor version, where one is there; else make it again.
    """
    interpreter = environment.interpreter
    if interpreter is None or interpreter.known_by != "gone" or _base_is_there(interpreter, files, config):
        return None
    m, program = files, interpreter.path
    links = follow_links(m, program)
    evidence = [Evidence(f"{a} is a symlink to {b}", a) for a, b in links]
    evidence.append(Evidence(interpreter.trouble, links[-1][1] if links else program))
    if config is not None and config.home:
        evidence.append(Evidence(f"it was made on the base in {config.home}", config.path,
                                 config.lines.get("home")))
    version = (config.version if config else None) or environment.python_version
    return Finding.error(
        "env-base-gone", "certain",
        f"{environment.path} cannot run: {interpreter.trouble}.", tuple(evidence),
        (config is not None and remake(m, config, bases())) or (Remedy(
            f"Make it again with a Python{' ' + version if version else ''} that is there, and "
            "install its packages again.", "manual", changes=environment.path),))


def own_program_gone(environment: Environment, files: Files, config: VenvConfig | None,
                     bases: Callable[[], list[Interpreter]]) -> Finding | None:
    """Find an environment whose own program was deleted or renamed, while its base is there."""
    interpreter = environment.interpreter
    if interpreter is None or interpreter.known_by != "gone" or config is None or not _base_is_there(
            interpreter, files, config):
        return None
    return Finding.error(
        "interpreter-gone", "certain",
        f"{environment.path} has no interpreter of its own any more: {interpreter.trouble}.",
        (Evidence(interpreter.trouble, interpreter.path),
         Evidence(f"its base in {config.home} is there", config.path, config.lines.get("home"))),
        remake(files, config, bases()) or (Remedy(
            f"Have its base put it back: run {config.home} with -m venv --upgrade {environment.path}", "manual",
            changes=environment.path),))


def _base_is_there(interpreter: Interpreter, files: Files, config: VenvConfig | None) -> bool:
    """Whether the base that an environment was made from still has an interpreter of its version."""
    m = files
    if config is None or not config.home:
        return False
    links = follow_links(m, interpreter.path)
    if links and not m.is_within(links[-1][1], config.prefix):
        return False  # that is where the base's own program was
    names = (f"python{config.short_version}", "python.exe") if config.short_version else ("python", "python3")
    return any(m.is_executable(m.path.join(config.prefix, config.home, n)) for n in names)


@cause("env-moved", "the environment was moved or copied: its scripts and activation still "
       "name the old place", brief="an environment was moved or copied")
def env_moved(environment: Environment, files: Files) -> Finding | None:
    """Compare the place that activation and scripts name with where the environment is.

    Looks like: Scripts such as `pip` fail, or install somewhere else, in an environment whose folder
        was renamed or copied.
    Why: Activation and scripts hold the path at which the environment was made.
    How Kalyx knows: They name another folder than the one that they are in.
    What to do: Start the interpreter by its path, with -m; or make the environment anew.
    """
    if environment.kind != "venv":
        return None
    m, prefix = files, environment.path
    named = place_named(m, prefix)
    if named is None:
        return None
    old, evidence = named
    if m.same(old, prefix):
        return None
    what = "was copied from" if m.exists(old) else "was moved from"
    python = python_in(m, prefix)
    return Finding.warning(
        "env-moved", "certain",
        f"{prefix} {what} {old}: its scripts and its activation still name the old place.",
        (evidence, Evidence(f"{old} {'is another folder' if m.exists(old) else m.trouble_at(old)}",
                            old)),
        (Remedy(f"Start its interpreter by its own path, {python}; its scripts with "
                f"{python} -m NAME.", "manual", changes="nothing"),
         Remedy("Or make it anew in its new place, with its packages; the old one is kept, and undo brings it back.",
                "command", argv=(*m.own_command, "make", prefix, "--anew", *_by(environment)), undoable=True,
                changes=f"{prefix}, and sets what is there aside")))


def _by(environment: Environment) -> tuple[str, ...]:
    """Return the option that names the base of an environment, where it has one that works."""
    interpreter = environment.interpreter
    return ("--python", interpreter.real_path) if interpreter is not None and interpreter.works else ()


@cause("env-version-skew", "the environment's packages stand under another Python version's "
       "folder than its interpreter looks in", brief="an environment's packages are for another Python", group="C")
def env_version_skew(environment: Environment, files: Files) -> Finding | None:
    """Find packages under lib/pythonX.Y where the interpreter is another X.Y.

    Looks like: An environment looks empty after Python was upgraded.
    Why: Its packages stand under the folder of the Python version that it was made with, and its
        interpreter is another version now.
    How Kalyx knows: The packages are found under lib/pythonX.Y of another version.
    What to do: Install the packages again, or make the environment anew.
    """
    m, interpreter = files, environment.interpreter
    if environment.kind != "venv" or interpreter is None or not interpreter.version:
        return None
    if interpreter.implementation != "cpython" or m.platform == "win32":
        return None
    mine = "python" + interpreter.short_version
    library = m.path.join(environment.path, "lib")
    others = []
    for name in m.names_in(library):
        folder = m.path.join(library, name, "site-packages")
        if re.fullmatch(r"python\d\.\d+", name) and name != mine and any(
                n.endswith((".dist-info", ".egg-info")) for n in m.names_in(folder)):
            others.append(folder)
    if not others or any(n.endswith(".dist-info") for n in m.names_in(
            m.path.join(library, mine, "site-packages"))):
        return None
    return Finding.error(
        "env-version-skew", "certain",
        f"The packages of {environment.path} lie in {others[0]}, and its interpreter is Python "
        f"{interpreter.version}, which looks in {m.path.join(library, mine, 'site-packages')}.",
        (Evidence(f"{environment.path} runs {interpreter.real_path}", interpreter.path),
         Evidence(f"packages lie in {', '.join(others)}", others[0])),
        (Remedy(f"Make it anew with its interpreter's version, with the packages that it had for "
                f"{m.path.basename(m.path.dirname(others[0]))}; the old one is kept, and undo brings it back.",
                "command", argv=(*m.own_command, "make", environment.path, "--anew", *_by(environment)), undoable=True,
                changes=f"{environment.path}, and sets what is there aside"),))
