"""What can take the place of an interpreter or an environment that is gone."""

from __future__ import annotations

from kalyx.core.facts.interpreters.environment import USUAL_NAMES, program_folder, python_in
from kalyx.core.facts.interpreters.path_lookup import is_python_name
from kalyx.core.model import Remedy, version_pair

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

    from kalyx.core.facts.files import Files
    from kalyx.core.facts.interpreters.pyvenv import VenvConfig
    from kalyx.core.model import Environment, Interpreter

__all__ = ["get_pip", "nearest_environment", "own_environment", "remake"]


def own_environment(files: Files, root: str, environments: list[Environment]) -> Environment | None:
    """Return the working environment that lies in a project's own folder under one of the usual names."""
    usual = [files.path.join(root, name) for name in USUAL_NAMES]
    return next((e for place in usual for e in environments
                 if files.same(e.path, place) and e.interpreter is not None and e.interpreter.works), None)


def nearest_environment(files: Files, path: str,
                        environments: list[Environment]) -> Environment | None:
    """Return the environment whose interpreter's path is most like `path`."""
    usable = [e for e in environments if e.interpreter is not None and e.interpreter.works
              and e.kind != "base"]
    if not usable:
        return None

    import difflib

    def likeness(environment: Environment) -> float:
        return difflib.SequenceMatcher(
            None, path.split(files.path.sep),
            python_in(files, environment.path).split(files.path.sep)).ratio() + (
            difflib.SequenceMatcher(None, path, environment.path).ratio() / 4)

    best = max(usable, key=likeness)
    return best if likeness(best) > 0.6 else None


def remake(files: Files, config: VenvConfig, bases: Sequence[Interpreter]) -> tuple[Remedy, ...]:
    """Return how to have an environment run again whose base is gone; `bases` are the Pythons that are here.

    Under a base of the same minor version its packages stay as they are: only the links and pyvenv.cfg
    are made anew. Under another version compiled packages would not load, so all of it is made again.
    """
    wanted = version_pair(config.version)
    if wanted == (0, 0) or not bases:
        return ()
    same = [b for b in bases if b.version_pair == wanted]
    if same:
        return (_relink(files, config, same[-1]),)
    nearest = min(reversed(bases), key=lambda b: _distance(b.version_pair, wanted))
    return (_make_again(files, config.prefix, nearest),)


def _distance(version: tuple[int, int] | None, wanted: tuple[int, int]) -> tuple[int, int]:
    major, minor = version or (0, 0)
    return abs(major - wanted[0]), abs(minor - wanted[1])


def _relink(files: Files, config: VenvConfig, base: Interpreter) -> Remedy:
    import shlex

    m, prefix = files, config.prefix
    options = ["--upgrade", "--without-pip"]
    if config.open_to_base:
        options.append("--system-site-packages")
    prompt = config.keys.get("prompt", "").strip("'\"")
    if prompt and prompt != m.path.basename(prefix):
        options += ["--prompt", prompt]
    argv = (base.path, "-m", "venv", *options, prefix)
    folder = program_folder(m, prefix)
    stale = [m.path.join(folder, n) for n in sorted(m.entries(folder)) if is_python_name(n)]
    stale = [p for p in stale if m.read_link(p) is not None and not m.same(p, base.path)]
    if stale:  # venv leaves a link alone that is there, wherever it leads
        argv = ("sh", "-c", f"{shlex.join(['rm', *stale])} && {shlex.join(argv)}")
    return Remedy(
        f"Have it run on the Python {base.version} in {base.prefix}, which is the same minor version: its "
        "packages stay.", "command", argv=argv, changes=f"the links to Python and pyvenv.cfg in {prefix}")


def _make_again(files: Files, prefix: str, base: Interpreter) -> Remedy:
    return Remedy(f"Make it again with Python {base.version}, with the same packages; the old one is kept, and undo "
                  "brings it back.", "command",
                  argv=(*files.own_command, "make", prefix, "--python", base.path, "--anew"),
                  changes=f"{prefix}, and sets what is there aside", undoable=True)


def get_pip(files: Files, interpreter: Interpreter) -> Remedy:
    """Return how an interpreter gets a pip whose Python brings none along: by the distributor's package."""
    base, is_base = interpreter.base_prefix or "", interpreter.prefix == interpreter.base_prefix
    if base == "/usr" and files.exists("/usr/bin/apt-get"):
        package = "python3-pip" if is_base else "python3-venv"
        return Remedy(f"Install the system's package {package}" + (
            "." if is_base else f"; then make pip with: {interpreter.path} -m ensurepip"), "command",
            argv=("apt-get", "install", "-y", package), changes=f"adds {package} to the system (needs root)")
    for tool in ("dnf", "zypper", "apk"):
        if (base == "/usr" and files.exists(f"/usr/bin/{tool}")) or files.exists(f"/sbin/{tool}"):
            verb = ("add", "py3-pip") if tool == "apk" else ("install", "-y", "python3-pip")
            return Remedy("Install the system's package of pip.", "command", argv=(tool, *verb),
                          changes="adds pip to the system (needs root)")
    return Remedy(f"Install pip for {interpreter.path}: its Python was packaged without ensurepip.", "manual",
                  changes=f"adds pip to {interpreter.prefix}")
