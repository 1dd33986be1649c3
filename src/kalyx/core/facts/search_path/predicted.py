"""sys.path as an interpreter will build it, from files: nothing of a site folder is run.

Follows the standard library's ``site`` module: the start entry, PYTHONPATH, the
standard library, then the site folders of the environment, of the user, and of
the base where the environment is open to it, each followed by what its .pth
files add. Debian's own folders are known.
"""

from __future__ import annotations

from kalyx.core.facts.interpreters.flags import has_flag
from kalyx.core.facts.search_path.layers import Layer, PathFacts, classify_path, pythonpath_of
from kalyx.core.facts.search_path.pth_files import link_lines
from kalyx.core.facts.search_path.site_folders import leaves_user_site_out, user_site
from kalyx.core.lean.record import record

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from kalyx.core.facts.files import Files
    from kalyx.core.facts.interpreters.pyvenv import VenvConfig
    from kalyx.core.facts.search_path.pth_files import LinkLine
    from kalyx.core.model import Interpreter

__all__ = ["SearchPath", "forbids_pip", "read_search_path", "usual_stdlib"]


@record
class SearchPath:
    """The layers in search order.

    ``links`` are the .pth lines that were read, those that run code among
    them; ``user_site`` is the user's folder where it is looked into.
    """

    layers: tuple[Layer, ...]
    links: tuple[LinkLine, ...] = ()
    user_site: str | None = None


def read_search_path(files: Files, interpreter: Interpreter, stdlib: Sequence[str],
                     config: VenvConfig | None, env: Mapping[str, str], *, start: str | None,
                     cwd: str, flags: Sequence[str] = (), start_behind: bool = False) -> SearchPath:
    """Return the search path of an interpreter started with `env` and `flags`.

    `stdlib` is the part that it names without site; where it was not asked,
    the usual folders stand in. With `start_behind` the start folder comes after it, whatever the flags say.
    """
    builder = _Builder(files, cwd)
    variables = {} if has_flag(flags, "EI") else env
    if start is not None and not start_behind and not has_flag(flags, "IP") and not (
            variables.get("PYTHONSAFEPATH") and _pair(interpreter) >= (3, 11)):
        builder.add(start)
    pythonpath = pythonpath_of(files, variables, cwd)
    for entry in [*pythonpath, *(stdlib or usual_stdlib(files, interpreter))]:
        builder.add(entry)
    if start is not None and start_behind:
        builder.add(start)
    user = None
    if not has_flag(flags, "S"):
        user = _user_folder(files, interpreter, config, variables, flags)
        for folder in site_order(files, interpreter, config, user):
            builder.add_site(folder)
    anyone = user_site(files, interpreter.version, interpreter.implementation or "cpython", env) \
        if interpreter.version else None  # a line may bring it in where it is not looked into
    facts = PathFacts(interpreter.prefix or "", interpreter.base_prefix or "", user or anyone, pythonpath,
                      start, start_behind)
    layers = classify_path(files, builder.path, facts)
    linked = set(builder.linked)
    named = [Layer("link", x.path) if x.path in linked and x.layer in ("other", "env")
             else x for x in layers]
    return SearchPath(tuple(named), tuple(builder.links), user)


def _pair(interpreter: Interpreter) -> tuple[int, int]:
    return interpreter.version_pair or (3, 0)


class _Builder:
    """Collects entries once each, as site does."""

    def __init__(self, files: Files, cwd: str) -> None:
        self.files = files
        self.cwd = cwd
        self.path: list[str] = []
        self.links: list[LinkLine] = []
        self.linked: list[str] = []
        self._seen: set[str] = set()

    def add(self, entry: str) -> None:
        entry = self.files.located(entry, self.cwd)
        key = self.files.path.normcase(entry)
        if key not in self._seen:
            self._seen.add(key)
            self.path.append(entry)

    def add_site(self, folder: str) -> None:
        if not self.files.is_folder(folder):
            if self.files.is_there(folder):
                self.files.report(folder, "it is no folder, or a link that leads nowhere")
            return
        self.add(folder)
        for line in link_lines(self.files, folder):
            self.links.append(line)
            if line.target and self.files.exists(line.target):
                if self.files.path.normcase(line.target) not in self._seen:
                    self.linked.append(line.target)
                self.add(line.target)


def forbids_pip(files: Files, interpreter: Interpreter) -> bool:
    """Whether a base installation asks pip to leave it alone, by the file that says so (PEP 668)."""
    m = files
    return interpreter.prefix == interpreter.base_prefix and any(
        m.is_file(m.path.join(f, "EXTERNALLY-MANAGED")) for f in usual_stdlib(m, interpreter))


def usual_stdlib(files: Files, interpreter: Interpreter) -> list[str]:
    """Return where the standard library of a base usually lies."""
    m, base = files, interpreter.base_prefix or ""
    if m.platform == "win32":
        pair = interpreter.version_pair or (3, 0)
        return [m.path.join(base, f"python{pair[0]}{pair[1]}.zip"), m.path.join(base, "DLLs"),
                m.path.join(base, "Lib"), base]
    name = ("pypy" if interpreter.implementation == "pypy" else "python") + interpreter.short_version
    places = [m.path.join(base, lib, name + tag) for lib in ("lib", "lib64") for tag in ("", "t")]
    folder = next((p for p in places if m.is_file(m.path.join(p, "os.py"))), places[0])
    if interpreter.implementation == "pypy":
        return [folder]
    zipped = m.path.join(m.path.dirname(folder), m.path.basename(folder).replace(".", "") + ".zip")
    if interpreter.version_pair and interpreter.version_pair < (3, 0):
        system = {"linux": "linux2"}.get(m.platform, m.platform)
        return [zipped, folder, *(m.path.join(folder, n) for n in (
            f"plat-{system}", "lib-tk", "lib-old", "lib-dynload"))]
    return [zipped, folder, m.path.join(folder, "lib-dynload")]


def _user_folder(files: Files, interpreter: Interpreter, config: VenvConfig | None,
                 env: Mapping[str, str], flags: Sequence[str]) -> str | None:
    """Return the user's site folder where this interpreter looks into it."""
    if interpreter.version is None or leaves_user_site_out(env, interpreter.version):
        return None
    if has_flag(flags, "sI"):
        return None
    if config is not None and not config.open_to_base:
        return None
    folder = user_site(files, interpreter.version, interpreter.implementation or "cpython", env,
                       framework="Python.framework" in (interpreter.base_prefix or ""))
    return folder if files.is_folder(folder) else None


def site_order(files: Files, interpreter: Interpreter, config: VenvConfig | None,
               user: str | None) -> list[str]:
    """Return the site folders in the order in which they are added."""
    prefix, base = interpreter.prefix or "", interpreter.base_prefix or ""
    own = site_of_prefix(files, interpreter, prefix, is_venv=config is not None)
    folders = list(own) if config is not None else []
    if user:
        folders.append(user)
    if config is None:
        folders += own
    elif config.open_to_base:
        folders += site_of_prefix(files, interpreter, base, is_venv=True)
    return folders


def site_of_prefix(files: Files, interpreter: Interpreter, prefix: str, *,
                   is_venv: bool) -> list[str]:
    """Return the site folders below one prefix, there or not."""
    m = files
    if m.platform == "win32":
        return [prefix, m.path.join(prefix, "Lib", "site-packages")]
    name = ("pypy" if interpreter.implementation == "pypy" and _pair(interpreter) >= (3, 8)
            else "python") + interpreter.short_version
    base = interpreter.base_prefix or ""
    debian = base == "/usr" and m.is_folder("/usr/lib/python3/dist-packages")
    if debian:
        found = [m.path.join(prefix, "lib", name, "site-packages")] if is_venv else []
        found += [m.path.join(prefix, "local", "lib", name, "dist-packages"),
                  m.path.join(prefix, "lib", "python3", "dist-packages")]
        last = [] if interpreter.implementation == "pypy" else [
            m.path.join(prefix, "lib", name, "dist-packages")]
        return found + last
    names = [name + "t", name] if m.is_folder(m.path.join(base, "lib", name + "t")) and not \
        m.is_folder(m.path.join(base, "lib", name)) else [name]
    folders = [m.path.join(prefix, "lib", n, "site-packages") for n in names]
    lib64 = m.path.join(prefix, "lib64", name, "site-packages")
    if m.is_folder(m.path.join(base, "lib64", name)) and not m.same(
            m.path.join(base, "lib64"), m.path.join(base, "lib")):
        folders.insert(0, lib64)
    return folders
