"""``pyvenv.cfg``: which base an environment was made from (PEP 405)."""

from __future__ import annotations

import re
from functools import lru_cache

from kalyx.core.errors import Unreadable
from kalyx.core.facts.interpreters.path_lookup import follow_links
from kalyx.core.lean.record import field, record
from kalyx.core.model import python_version

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.files import Files

__all__ = ["VenvConfig", "find_venv_config", "parse_venv_config", "program_behind"]


NO_TEXT = "it is not text in UTF-8: the byte at {} is 0x{:02x} ({})"


@record
class VenvConfig:
    """The keys of a pyvenv.cfg, in small letters, and the line that each stands on."""

    path: str
    prefix: str
    keys: dict[str, str] = field(default_factory=dict)
    lines: dict[str, int] = field(default_factory=dict)
    trouble: str = ""
    is_text: bool = True  # in UTF-8, as it has to be

    @property
    def home(self) -> str | None:
        """The folder of the base interpreter."""
        return self.keys.get("home") or None

    @property
    def open_to_base(self) -> bool:
        """Whether the base installation's packages are visible."""
        return self.keys.get("include-system-site-packages", "").lower() == "true"

    @property
    def version(self) -> str | None:
        """The Python version that the environment was made with, as the file says."""
        text = self.keys.get("version") or self.keys.get("version_info", "")
        return python_version(text)

    @property
    def short_version(self) -> str | None:
        """``3.11`` of that."""
        return ".".join(self.version.split(".")[:2]) if self.version else None


def parse_venv_config(text: str, path: str, prefix: str) -> VenvConfig:
    """Read ``key = value`` lines as the standard library's site module does."""
    return VenvConfig(path, prefix, *_keys_and_lines(text))


@lru_cache(maxsize=64)
def _keys_and_lines(text: str) -> tuple[dict[str, str], dict[str, int]]:
    """Return the keys of a text and their lines; hundreds of environments may have the same one."""
    keys: dict[str, str] = {}
    lines: dict[str, int] = {}
    for number, line in enumerate(re.split("\r\n?|\n", text), 1):
        key, equals, value = line.partition("=")
        key = key.strip().lower()
        if equals and not (key == "home" and key in keys):  # the interpreter takes its first, site the last of all else
            keys[key] = value.strip()
            lines[key] = number
    return keys, lines


def program_behind(files: Files, executable: str) -> str | None:
    """Return an environment's own program that a link from elsewhere leads to, and that is not obeyed.

    An interpreter looks for pyvenv.cfg beside the link that it was started by, and not beside what that leads
    to: started by such a link it runs as its base. None where there is no such environment.
    """
    m = files
    if find_venv_config(m, executable) is not None:
        return None
    for _, target in follow_links(m, executable):
        config = find_venv_config(m, target)
        if config is not None:
            return target
    return None


def find_venv_config(files: Files, executable: str) -> VenvConfig | None:
    """Find the pyvenv.cfg that an interpreter started as `executable` obeys.

    It is looked for beside the executable and one folder up, as written: the
    interpreter does not follow a symlink before it looks (PEP 405).
    """
    folder = files.path.dirname(executable)
    prefix = files.path.dirname(folder)
    for place in (folder, prefix):
        candidate = files.path.join(place, "pyvenv.cfg")
        if place == folder and not files.exists(candidate):  # as nearly always
            continue
        try:
            text = files.read_whole(candidate, 65536).decode("utf-8")
        except Unreadable as error:
            if files.is_there(candidate):
                return VenvConfig(candidate, prefix, trouble=error.reason)
        except UnicodeDecodeError as error:
            trouble = NO_TEXT.format(error.start, error.object[error.start], error.reason)
            return VenvConfig(candidate, prefix, trouble=trouble, is_text=False)
        else:
            return parse_venv_config(text, candidate, prefix)
    return None
