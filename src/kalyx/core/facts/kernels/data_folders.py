"""Where kernelspecs lie: the published search order of a notebook server."""

from __future__ import annotations

from kalyx.core.facts.interpreters.pyvenv import find_venv_config
from kalyx.core.facts.search_path.site_folders import leaves_user_site_out, visible_sites

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.files import Files
    from kalyx.core.model import Interpreter

__all__ = ["data_folders", "user_data_folder"]


_NO = ("no", "n", "false", "off", "0", "0.0")  # of a variable that is a switch


def user_data_folder(files: Files) -> str:
    """Return the user's data folder for notebook kernels on this platform; variables are taken to the letter."""
    m = files
    if m.env.get("JUPYTER_DATA_DIR"):
        return m.located(m.env["JUPYTER_DATA_DIR"])
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
    is searched too, before the user's folder where it is an environment that the
    user owns, or where JUPYTER_PREFER_ENV_PATH says so.
    """
    m = files
    named = m.env.get("JUPYTER_PATH", "")
    folders = [("path", m.located(entry)) for entry in named.split(m.path_separator) if named]
    user = [("user", user_data_folder(m)), *_user_base(m, server)]
    env = [("env", m.path.join(server.prefix, "share", "jupyter"))] if server and server.prefix \
        else []
    folders += env + user if _prefers_environment(m, server) else user + env
    if m.platform == "win32":
        if m.env.get("PROGRAMDATA"):
            folders.append(("system", m.path.join(m.env["PROGRAMDATA"], "jupyter")))
    else:
        folders += [("system", m.path.join(place, "jupyter")) for place in _system_places(m)]
    found = [(scope, m.path.join(folder, "kernels")) for scope, folder in folders]
    if _has_module(m, server, "IPython"):
        own = m.env.get("IPYTHONDIR")
        found.append(("user", m.path.join(m.absolute(own) if own else m.path.join(m.home, ".ipython"), "kernels")))
    unique: dict[str, tuple[str, str]] = {}
    for scope, folder in found:
        unique.setdefault(folder, (scope, folder))
    return list(unique.values())


def _system_places(m: Files) -> list[str]:
    """Return the folders of data for all users: fixed ones, or those of the platform where that is asked for."""
    if m.env.get("JUPYTER_PLATFORM_DIRS", "no").lower() in _NO or m.platform != "linux":
        return ["/usr/local/share", "/usr/share"]
    named = m.env.get("XDG_DATA_DIRS") or "/usr/local/share:/usr/share"
    return [place.rstrip("/") for place in named.split(":") if place.strip()]


def _user_base(m: Files, server: Interpreter | None) -> list[tuple[str, str]]:
    """Return the user's own data folder of the server's Python, where that one looks into the user site."""
    if server is None or m.platform == "win32" or leaves_user_site_out(m.env, server.version):
        return []
    config = find_venv_config(m, server.path)
    if config is not None and not config.open_to_base:
        return []
    base = m.env.get("PYTHONUSERBASE") or m.path.join(m.home, ".local")
    return [("user", m.path.join(base, "share", "jupyter"))]


def _has_module(m: Files, server: Interpreter | None, name: str) -> bool:
    """Whether a server can import a module; without one it is not known, and taken for granted."""
    if server is None or not server.prefix:
        return True
    return any(m.exists(m.path.join(folder, name)) for folder in visible_sites(m, server))


def _prefers_environment(m: Files, server: Interpreter | None) -> bool:
    said = m.env.get("JUPYTER_PREFER_ENV_PATH")
    if said is not None:
        return said.lower() not in _NO
    if server is None or server.prefix is None:
        return False
    active = m.env.get("CONDA_PREFIX", "")
    in_conda = bool(active) and server.prefix.startswith(active) and m.env.get("CONDA_DEFAULT_ENV", "base") != "base"
    if server.prefix == server.base_prefix and not in_conda:
        return False
    owner = m.stat(server.prefix)
    return owner is not None and owner.owner == m.user_id
