"""Where kernelspecs lie: the published search order of a notebook server."""

from __future__ import annotations

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.files import Files
    from kalyx.core.model import Interpreter

__all__ = ["data_folders", "user_data_folder"]


def user_data_folder(files: Files) -> str:
    """Return the user's data folder for notebook kernels on this platform."""
    m = files
    if m.env.get("JUPYTER_DATA_DIR"):
        return str(m.absolute(m.env["JUPYTER_DATA_DIR"]))
    if m.platform == "darwin":
        return str(m.path.join(m.home, "Library", "Jupyter"))
    if m.platform == "win32":
        roaming = m.env.get("APPDATA")
        return str(m.path.join(roaming, "jupyter") if roaming
                   else m.path.join(m.home, ".jupyter", "data"))
    base = m.env.get("XDG_DATA_HOME") or m.path.join(m.home, ".local", "share")
    return str(m.path.join(base, "jupyter"))


def data_folders(files: Files, server: Interpreter | None) -> list[tuple[str, str]]:
    """Return (scope, folder) in the order in which a server looks for kernels.

    `server` is the interpreter that the notebook server runs in: its own prefix
    is searched too, before the user's folder when it is a virtual environment
    that the user owns, or when JUPYTER_PREFER_ENV_PATH says so.
    """
    m = files
    folders = [("path", m.absolute(entry))
               for entry in m.env.get("JUPYTER_PATH", "").split(m.path_separator) if entry]
    user = [("user", user_data_folder(m))]
    env = [("env", m.path.join(server.prefix, "share", "jupyter"))] if server and server.prefix \
        else []
    folders += env + user if _prefers_environment(m, server) else user + env
    if m.platform == "win32":
        if m.env.get("PROGRAMDATA"):
            folders.append(("system", m.path.join(m.env["PROGRAMDATA"], "jupyter")))
    else:
        folders += [("system", "/usr/local/share/jupyter"), ("system", "/usr/share/jupyter")]
    found = [(scope, m.path.join(folder, "kernels")) for scope, folder in folders]
    found.append(("user", m.path.join(m.env.get("IPYTHONDIR") or m.path.join(m.home, ".ipython"),
                                      "kernels")))
    unique: dict[str, tuple[str, str]] = {}
    for scope, folder in found:
        unique.setdefault(folder, (scope, folder))
    return list(unique.values())


def _prefers_environment(m: Files, server: Interpreter | None) -> bool:
    said = m.env.get("JUPYTER_PREFER_ENV_PATH")
    if said is not None:
        return said.lower() not in ("no", "n", "false", "off", "0", "0.0")
    if server is None or server.prefix is None or server.prefix == server.base_prefix:
        return False
    owner = m.stat(server.prefix)
    return owner is not None and owner.owner == m.user_id
