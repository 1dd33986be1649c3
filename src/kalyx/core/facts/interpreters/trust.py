"""What may be run while looking: the rule, in one place.

A program is run to learn what its files do not say only where nobody else
could have put it there: the real file, each folder above it and each link on
the way belong to the system's administrator or the user and cannot be written
by others, and it does not lie in what is being looked at, which may have been
cloned or unpacked a moment ago.
"""

from __future__ import annotations

import re
import stat

from kalyx.core.errors import Unreadable

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping

    from kalyx.core.machine.interface import Machine
    from kalyx.core.machine.results import FileInfo

__all__ = ["Trust", "is_version_word"]

# What the root of a version-control checkout holds
CHECKOUT = (".git", ".hg", ".svn", ".bzr", ".jj", ".pijul", "_darcs", ".fslckout", "_FOSSIL_")
# What the root of a workspace holds, by name and by ending
WORKSPACE = (".vscode", ".idea", "pyproject.toml", "pyrightconfig.json", "kalyx.toml")
WORKSPACE_ENDINGS = (".code-workspace", ".sublime-project", ".sublime-build")
# Checkouts that are a person's own tools: version managers that are installed so, in the home folder or by variable
OWN_CHECKOUTS = ("~/.pyenv", "$PYENV_ROOT", "~/.asdf", "$ASDF_DIR", "$ASDF_DATA_DIR")
# Where the system, and tools that a person has installed, keep interpreters
INSTALLED = ("/usr", "/opt", "/bin", "/Library", "/System", "/snap", "/nix", "/gnu", "/home/linuxbrew", "~/.local",
             "~/.conda", "~/miniconda3", "~/anaconda3", "~/miniforge3", "~/mambaforge", "~/micromamba",
             *OWN_CHECKOUTS)
LEVELS_UP = 4  # folders above the one looked at, where settings are searched too
MOST_LINKS = 40
# Variables by which a program is made to load or run files before its own first line
LOADED_FROM = ("PATH", "LD_LIBRARY_PATH", "LD_PRELOAD", "LD_AUDIT", "DYLD_LIBRARY_PATH", "DYLD_INSERT_LIBRARIES",
               "DYLD_FRAMEWORK_PATH", "DYLD_FALLBACK_LIBRARY_PATH", "LIBPATH", "SHLIB_PATH", "BASH_ENV", "ENV",
               "GCONV_PATH", "LOCPATH")
# Folders of a standard library from which an interpreter loads files before a program's first line
LOADED_AT_START = ((), ("encodings",), ("__pycache__",), ("encodings", "__pycache__"))
SET_BY_LAUNCHERS = ("__PYVENV_LAUNCHER__", "PYTHONEXECUTABLE")  # they name another program than the one that is run
# Files in which version managers look for what to start, from the working folder upwards
VERSION_FILES = (".python-version", ".tool-versions")
# These can run programs
OPEN_VERSION_FILES = ("mise.toml", ".mise.toml", ".mise.local.toml", "mise.local.toml", ".rtx.toml",
                      ".config/mise.toml", ".mise/config.toml", "mise/config.toml", ".config/mise/config.toml")


def is_version_word(word: str) -> bool:
    """Whether a word can name an installed version, and no path: ``3.11.7``, ``lab``, ``pypy3.9-7.3``."""
    return re.fullmatch(r"[\w+:.-]+", word) is not None and ".." not in word


class Trust:
    """Decides what may be run while `folder` is looked at."""

    def __init__(self, machine: Machine, folder: str) -> None:
        """Trust nothing in `folder`, nor in the checkout or workspace that it belongs to."""
        self.machine = machine
        self._areas: list[str] = []
        self._whole: list[str] = []  # areas that hold the home folder: of them, checkouts are foreign
        self._steps: dict[str, tuple[str, str | None]] = {}
        self._libraries: dict[str, str] = {}
        self._checkouts: dict[str, str] = {}
        self._home = machine.real_path(machine.home)
        self.distrust(folder)

    # -- what is not trusted -----------------------------------------------------------------
    def distrust(self, folder: str) -> None:
        """Add a folder to what is not trusted, with the checkout or workspace around it."""
        m = self.machine
        for start in dict.fromkeys((m.absolute(folder), m.real_path(m.absolute(folder)))):
            for area in dict.fromkeys((start, self._outermost(start))):
                place = m.real_path(area)
                known = self._whole if m.is_within(self._home, place) else self._areas
                if place not in known:
                    known.append(place)

    def _outermost(self, folder: str) -> str:
        """Return the outermost checkout that a folder lies in, or workspace a few levels up; else itself."""
        m, found, here = self.machine, folder, folder
        for level in range(100):
            if m.is_within(self._home, m.real_path(here)):
                break
            if self._is_checkout(here) or (level <= LEVELS_UP and self._is_workspace(here)):
                found = here
            parent = m.path.dirname(here)
            if parent == here:
                break
            here = parent
        return found

    def _is_checkout(self, folder: str) -> bool:
        return any(self.machine.lstat(folder + self.machine.path.sep + name) for name in CHECKOUT)

    def _is_workspace(self, folder: str) -> bool:
        m = self.machine
        return any(m.lstat(folder + m.path.sep + name) for name in WORKSPACE) or any(
            name.endswith(WORKSPACE_ENDINGS) for name in m.scan(folder)[0])

    def is_foreign(self, path: str) -> bool:
        """Whether a path, as it is written, lies in what is looked at, or in a checkout not the system's."""
        m = self.machine
        if any(m.is_within(path, area) for area in self._areas):
            return True
        checkout = self._checkout_of(m.path.dirname(path))
        if not checkout or any(m.is_within(path, place) for place in self._places(OWN_CHECKOUTS)):
            return False
        if any(m.is_within(checkout, area) for area in (*self._whole, self._home)):
            return True
        info = m.lstat(checkout)  # elsewhere the system's may be one, too
        return info is not None and info.owner == m.user_id != 0

    def _checkout_of(self, folder: str) -> str:
        """Return the checkout that a folder lies in; empty for none. One that holds the home folder is one's own."""
        m, walked, here, found = self.machine, [], folder, ""
        while here not in self._checkouts and not m.is_within(self._home, here):
            walked.append(here)
            found = here if self._is_checkout(here) else ""
            if found or m.path.dirname(here) == here:
                break
            here = m.path.dirname(here)
        found = found or self._checkouts.get(here, "")
        self._checkouts.update(dict.fromkeys(walked, found))
        return found

    def is_installed(self, program: str) -> bool:
        """Whether a program lies where the system or a person's tools keep interpreters, or on the person's PATH.

        What a file of the folder names and lies elsewhere may have come with the folder.
        """
        m = self.machine
        real = m.real_path(program)
        folders = [f for f in m.env.get("PATH", "").split(m.path_separator) if m.path.isabs(f)]
        return m.platform == "win32" or any(m.is_within(real, p) for p in self._places(INSTALLED)) or any(
            m.same(m.path.dirname(real), f) for f in folders if not self.is_foreign(m.real_path(f)))

    def _places(self, named: Iterable[str]) -> list[str]:
        """Return the folders of a table that starts them at the home folder or a variable, by their real paths."""
        m, found = self.machine, []
        for place in named:
            if place.startswith("$"):
                place = m.env.get(place[1:], "")
            if place and (place.startswith("~") or m.path.isabs(place)):
                found.append(m.real_path(m.absolute(place)))
        return found

    # -- programs ------------------------------------------------------------------------------
    def why_not(self, path: str) -> str:
        """Say what speaks against running the file that `path` leads to; empty when nothing does."""
        m = self.machine
        real, trouble = self._follow(path)
        info = m.stat(real)
        if trouble or info is None or info.kind != "file":
            return trouble or f"{real} is not there"
        if info.mode & (stat.S_ISUID | stat.S_ISGID):
            return f"{real} runs with another user's rights"
        if self.is_foreign(real):
            return f"{real} lies in what is looked at"
        return ""

    def why_not_read(self, path: str) -> str:
        """Say what speaks against following what a file says; empty when only the user can have written it."""
        return self._follow(path)[1]

    def why_not_library(self, folder: str) -> str:
        """Say what speaks against a standard library, which runs with its interpreter; empty when nothing does."""
        if folder not in self._libraries:
            self._libraries[folder] = self._library(folder)
        return self._libraries[folder]

    def _library(self, folder: str) -> str:
        m = self.machine
        for parts in LOADED_AT_START:
            place = m.path.join(folder, *parts)
            if "__pycache__" in parts and m.lstat(place) is None:
                continue
            real, trouble = self._follow(place)
            if trouble or self.is_foreign(real):
                return trouble or f"{real} lies in what is looked at"
            for info, names in m.rights_in(real):
                names = [n for n in names if n not in ("site-packages", "dist-packages", "test")]
                if info.kind != "link" and not self._against(real, info):
                    continue  # of those that have the same rights one stands for all
                trouble = next(filter(None, (self._against_part(m.path.join(real, n), info) for n in names)), "")
                if trouble:
                    return trouble
        return ""

    def _against_part(self, path: str, info: FileInfo) -> str:
        """Say what speaks against a file, folder or link of a library; empty for one that is gone by now."""
        trouble = self._against(path, info)
        if info.kind == "link" and not trouble:
            end, trouble = self._follow(path)
            trouble = trouble or (f"{end} lies in what is looked at" if self.is_foreign(end) else "")
        return trouble if trouble and self.machine.exists(path) else ""

    def _follow(self, path: str) -> tuple[str, str]:
        """Return where a path really leads, and what speaks against a folder or link on the way."""
        m = self.machine
        if m.platform == "win32":
            return m.real_path(path), ""  # owners and rights are not in the mode there
        todo, real, links = list(reversed(path.split("/"))), "/", 0
        while todo:
            part = todo.pop()
            if part in ("", "."):
                continue
            if part == "..":
                real = m.path.dirname(real)
                continue
            here = m.path.join(real, part)
            trouble, target = self._step(here)
            if trouble:
                return here, trouble
            if target is None:
                real = here
                continue
            links += 1
            if links > MOST_LINKS:
                return here, f"{here} is a link that leads in a circle"
            real = "/" if target.startswith("/") else real
            todo += reversed(target.split("/"))
        return real, ""

    def _step(self, path: str) -> tuple[str, str | None]:
        """Return what speaks against one folder, file or link, and where a link leads; each looked at once."""
        if path not in self._steps:
            info = self.machine.lstat(path)
            if info is None:
                return f"{path} {self.machine.trouble_at(path)}", None
            target = self.machine.read_link(path) if info.kind == "link" else None
            self._steps[path] = self._against(path, info), target
        return self._steps[path]

    def _against(self, path: str, info: FileInfo | None) -> str:
        if info is None or self.machine.platform == "win32":
            return ""
        if info.owner not in (0, self.machine.user_id):
            return f"{path} belongs to another user"
        if info.kind == "link" or (info.kind == "folder" and info.mode & stat.S_ISVTX):
            return ""  # a link's rights are its folder's; in such a folder only one's own files can be replaced
        if info.mode & stat.S_IWOTH:
            return f"any user may write to {path}"
        if info.mode & stat.S_IWGRP and not self.machine.is_private_group(info.group):
            return f"other users of its group may write to {path}"
        return ""

    # -- what a program is led by ----------------------------------------------------------------
    def safe_variables(self, env: Mapping[str, str]) -> dict[str, str]:
        """Return variables without what leads a program to files in the folder that is looked at.

        An entry that is empty or relative starts at the working folder, and so goes as well.
        """
        m, safe = self.machine, {k: v for k, v in env.items() if k not in SET_BY_LAUNCHERS}
        for name in LOADED_FROM:
            if name in safe:
                separators = r"[\s:]" if name == "LD_PRELOAD" else re.escape(m.path_separator)
                entries = [e for e in re.split(separators, safe[name]) if m.path.isabs(e)
                           and not self.is_foreign(m.real_path(e))]
                safe[name] = m.path_separator.join(entries)
                if not entries and name != "PATH":
                    del safe[name]
        return safe

    def misleading_file(self, folder: str, named: Iterable[str] = ()) -> str:
        """Return the version file of a foreign folder, from `folder` upwards, that could lead a wrapper anywhere.

        `named` are further names that the wrapper itself reads.
        """
        m, here = self.machine, folder
        for _ in range(100):
            for name in dict.fromkeys((*VERSION_FILES, *OPEN_VERSION_FILES, *named)):
                file = m.path.join(here, name)
                if m.lstat(file) is not None and self.is_foreign(m.path.join(m.real_path(here), name)) \
                        and not self._names_versions(file, name):
                    return str(file)
            if m.path.dirname(here) == here:
                break
            here = m.path.dirname(here)
        return ""

    def _names_versions(self, file: str, name: str) -> bool:
        if name in OPEN_VERSION_FILES:
            return False
        try:
            text = self.machine.read_text(file, 65536)
        except Unreadable:
            return False
        return all(is_version_word(w) for line in text.splitlines() for w in line.partition("#")[0].split())
