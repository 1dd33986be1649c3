"""A visiting student's mail with what a beacon printed on her laptop: a made-up machine, told in a real block."""

from __future__ import annotations

import json
import zlib
from collections.abc import Mapping
from typing import Any

from kalyx.core.carried.blocks import SIGNS

__all__ = ["facts_told", "mail", "write_block"]

ROOT = "C:\\Users\\visitor\\AppData\\Local\\Programs\\Python\\Python312"
HOME = "C:\\Users\\visitor"
ROW = 55  # signs of a line


def write_block(facts: Mapping[str, Any], tag: str) -> str:
    """Return facts as a beacon prints them."""
    data = zlib.compress(json.dumps(facts).encode("ascii"), 9)
    quads = [int.from_bytes(data[n:n + 4].ljust(4, b"\0"), "big") for n in range(0, len(data), 4)]
    text = "".join(SIGNS[quad // 85 ** power % 85] for quad in quads for power in (4, 3, 2, 1, 0))
    rows = [f"{tag}.{n:04d}.{text[at:at + ROW]}" for n, at in enumerate(range(0, len(text), ROW))]
    checks = [sum(n * ord(char) for n, char in enumerate(row, 1)) % 7225 for row in rows]
    lines = [f"{row}.{SIGNS[c // 85]}{SIGNS[c % 85]}" for row, c in zip(rows, checks, strict=True)]
    begin = f"[kalyx beacon 1: {tag} begins, {len(rows)} lines, {len(data)} bytes]"
    return "\n".join([begin, *lines, f"[kalyx beacon {tag} ends]", ""])


def mail() -> str:
    """Return the mail, in which the block is quoted."""
    block = write_block(facts_told(), "k1f00d")
    quoted = "".join(f"> {line}\n" for line in block.splitlines())
    return ("From: a visiting student\nSubject: Re: germkit\n\nHere is what it printed. Does that help?\n\n" + quoted
            + "\nI am at the potting bench until four.\n")


def facts_told() -> dict[str, Any]:
    """Return what the beacon told: a Python 3.12 without germkit."""
    library, site = f"{ROOT}\\Lib", f"{ROOT}\\Lib\\site-packages"
    absent: dict[str, Any] = {"type": "ModuleNotFoundError", "message": "No module named 'germkit'", "name": "germkit",
                              "path": None, "lineno": None, "link": "", "frames": []}
    has = (("pip", "24.0", "pip"), ("dewpoint-client", "0.4.2", "dewpoint"))
    files = ["METADATA", "INSTALLER", "RECORD", "top_level.txt"]
    installed: list[dict[str, Any]] = [
        {"at": f"{site}\\{name}-{version}.dist-info", "by": "pip", "url": "", "tops": [module], "rows": [], "in": files,
         "heads": [f"Name: {name}", f"Version: {version}"]} for name, version, module in has]
    inside = [f"{n}/" for n in ("pip", "dewpoint")] + [one["at"].rpartition("\\")[2] for one in installed]
    around = (f"{HOME}\\trays", HOME, HOME.rpartition("\\")[0], site)
    absent_around = {f"{folder}\\{name}": False for folder in around for name in ("germkit", "germkit.py", "src")}
    return {
        "host": "potting-bench", "platform": "win32", "home": HOME, "cwd": f"{HOME}\\trays", "flags": "sys.flags()",
        "version": "3.12.1 (made up)", "implementation": "cpython", "executable": f"{ROOT}\\python.exe",
        "prefix": ROOT, "base_prefix": ROOT, "path": ["", f"{ROOT}\\DLLs", library, ROOT, site],
        "user_site": f"{HOME}\\AppData\\Roaming\\Python\\Python312\\site-packages", "env": {"PATH": ROOT},
        "builtin": ["sys", "builtins", "time", "nt", "zlib"], "stdlib": ["os", "sys", "json", "csv", "zlib"],
        "imports": [{"module": "germkit", "name": None, "chain": [absent], "loaded": {}}],
        "folders": {f"{HOME}\\trays": ["trays.py"], f"{ROOT}\\DLLs": ["_ssl.pyd"], library: ["os.py", "json/"],
                    ROOT: ["python.exe", "Lib/", "DLLs/", "Scripts/"], site: inside, f"{ROOT}\\lib": False,
                    f"{site}\\pip": ["__init__.py", "__main__.py"], **absent_around,
                    f"{HOME}\\AppData\\Roaming\\Python\\Python312\\site-packages": False},
        "real": {}, "files": {}, "installed": installed, "left": ""}
