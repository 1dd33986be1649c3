"""The Pythons that Windows' registry knows (PEP 514)."""

from __future__ import annotations

TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import Any

__all__ = ["read_registry"]


def read_registry() -> list[str]:
    r"""Read Software\Python\COMPANY\TAG\InstallPath of both hives and views (PEP 514)."""
    winreg: Any = __import__("winreg")
    found = []
    for hive in (winreg.HKEY_CURRENT_USER, winreg.HKEY_LOCAL_MACHINE):
        for view in (winreg.KEY_WOW64_64KEY, winreg.KEY_WOW64_32KEY):
            try:
                top = winreg.OpenKey(hive, r"Software\Python", 0, winreg.KEY_READ | view)
            except OSError:
                continue
            for company in _subkeys(winreg, top):
                for tag in _subkeys(winreg, winreg.OpenKey(top, company)):
                    try:
                        found.append(str(winreg.QueryValue(top, rf"{company}\{tag}\InstallPath")))
                    except OSError:  # an entry without a folder
                        continue
    return list(dict.fromkeys(found))


def _subkeys(winreg: Any, key: Any) -> list[str]:
    return [winreg.EnumKey(key, n) for n in range(winreg.QueryInfoKey(key)[0])]
