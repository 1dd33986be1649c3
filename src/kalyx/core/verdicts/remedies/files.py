"""Remedies that rename, remove or open files."""

from __future__ import annotations

from kalyx.core.model import Move, Remedy
from kalyx.core.tables import standard_library

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.files import Files
    from kalyx.core.facts.imports.case import Case

__all__ = ["make_readable", "remove_file", "rename", "rename_file", "restore_library", "set_aside"]


def restore_library(case: Case, folder: str, name: str) -> tuple[Remedy, ...]:
    """Return how to have a file or folder of the standard library in `folder` whole again."""
    m, version = case.files, case.python.version
    if case.python.base_prefix == "/usr" and m.exists("/usr/bin/apt-get"):
        known = standard_library.stdlib_history()["debian_packages"]
        package = known.get(name.split(".")[0], f"libpython{case.python.short_version}-stdlib")
        again = Remedy(f"Install the system's package {package} again.", "command",
                       argv=("apt-get", "install", "--reinstall", "-y", package),
                       changes=f"the files of {package} (needs root)")
    else:
        again = Remedy(f"Install Python {version} again into {case.python.base_prefix}.", "manual",
                       changes=f"the installation in {case.python.base_prefix}")
    for environment in case.elsewhere.known.environments:
        other = m.path.join(environment.path, "lib", m.path.basename(folder), name)
        if environment.kind == "base" and environment.python_version == version and m.platform != "win32" \
                and m.exists(other) and not m.same(other, m.path.join(folder, name)):
            copy = Remedy(f"Copy it from the Python {version} in {environment.path}.", "command",
                          argv=("cp", "-R", other, folder), changes=f"{name} in {folder}")
            return copy, again
    return (again,)


def set_aside(files: Files, path: str, why: str = "so that Python does not find it") -> Remedy:
    """Return how to give a file or folder an ending by which Python does not find it."""
    new, number = path + ".unused", 2
    while files.exists(new):
        new, number = f"{path}.unused-{number}", number + 1
    return Remedy(f"Set {path} aside, {why}.", "edit", moves=(Move(path, new),),
                  changes=f"renames {path} to {files.path.basename(new)}", undoable=True)


def remove_file(case: Case, path: str, why: str) -> Remedy:
    """Return the command that takes a file, or a folder, away."""
    is_folder = case.files.is_folder(path)
    argv: tuple[str, ...] = ("rm", "-r", path) if is_folder else ("rm", path)
    if case.files.platform == "win32":
        argv = ("cmd", "/c", "rmdir", "/s", "/q", path) if is_folder else ("cmd", "/c", "del", path)
    return Remedy(f"Take {path} away{why}.", "command", argv=argv, changes=f"removes {path}")


def make_readable(case: Case, path: str) -> Remedy:
    """Return how to let the seat's user read a file or folder: a command for whom it belongs to."""
    m = case.files
    info = m.stat(path)
    if m.platform == "win32":
        return Remedy(f"Give yourself the right to read {path}.", "command",
                      argv=("icacls", path, "/grant", f"{m.env.get('USERNAME', '')}:(OI)(CI)RX", "/T"),
                      changes=f"who may read {path}")
    argv = ("chmod", "-R", "u+rwX", path)
    if (info is not None and info.owner not in (m.user_id, 0)) or (
            info is not None and info.owner == 0 != m.user_id):
        return Remedy(f"Have its owner (user {info.owner}) let you read it: chmod -R a+rX {path}", "manual",
                      changes=f"who may read {path}")
    return Remedy("Let yourself read it again; it is yours.", "command", argv=argv,
                  changes=f"the permissions of {path}")


def rename(files: Files, path: str, new: str) -> Remedy:
    """Return how to give a file or folder a certain name, where nothing has that yet."""
    return Remedy(f"Give it the name {files.path.basename(new)}.", "edit", moves=(Move(path, new),),
                  changes=f"renames {path}", undoable=True)


def rename_file(files: Files, path: str) -> Remedy:
    """Return how to give a file or folder of the person's own another name."""
    m = files
    folder, name = m.path.dirname(path), m.path.basename(path)
    if name.startswith("__init__."):
        folder, name = m.path.dirname(folder), m.path.basename(folder)
        path = m.path.join(folder, name)
    stem, ending = m.path.splitext(name)
    new = m.path.join(folder, f"my_{stem}{ending}")
    number = 2
    while m.exists(new):
        new, number = m.path.join(folder, f"my_{stem}_{number}{ending}"), number + 1
    return Remedy(
        f"Give your own {name} another name, and use that name where your code imports it.",
        "edit", moves=(Move(path, new),), changes=f"renames {path} to {m.path.basename(new)}", undoable=True)
