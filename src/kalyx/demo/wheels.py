"""Builds small wheels (PEP 427) with proper metadata and RECORD."""

from __future__ import annotations

import base64
import hashlib
import os
import zipfile
from collections.abc import Mapping, Sequence

__all__ = ["build_wheel"]


def build_wheel(folder: str, name: str, version: str, files: Mapping[str, str | bytes],
                requires: Sequence[str] = (), extras: Mapping[str, Sequence[str]] | None = None,
                tag: str = "py3-none-any", data: Mapping[str, str] | None = None,
                requires_python: str = "") -> str:
    """Write a wheel into `folder` and return its path.

    `files` maps paths below site-packages to their content, `data` paths below
    the prefix.
    """
    stem = f"{name.replace('-', '_')}-{version}"
    info = f"{stem}.dist-info"
    lines = ["Metadata-Version: 2.1", f"Name: {name}", f"Version: {version}",
             *[f"Requires-Python: {requires_python}"][:bool(requires_python)],
             *[f"Requires-Dist: {r}" for r in requires]]
    for extra, needed in (extras or {}).items():
        lines.append(f"Provides-Extra: {extra}")
        lines += [f'Requires-Dist: {r} ; extra == "{extra}"' for r in needed]
    content: dict[str, bytes] = {k: v.encode() if isinstance(v, str) else v
                                 for k, v in files.items()}
    content |= {f"{stem}.data/data/{k}": v.encode() for k, v in (data or {}).items()}
    content[f"{info}/METADATA"] = ("\n".join(lines) + "\n").encode()
    pure = "true" if tag.endswith("-any") else "false"
    content[f"{info}/WHEEL"] = (f"Wheel-Version: 1.0\nGenerator: kalyx-demo\n"
                                f"Root-Is-Purelib: {pure}\nTag: {tag}\n").encode()
    rows = [f"{path},sha256={_digest(body)},{len(body)}" for path, body in content.items()]
    content[f"{info}/RECORD"] = "\n".join([*rows, f"{info}/RECORD,,", ""]).encode()
    path = os.path.join(folder, f"{stem}-{tag}.whl")
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
        for name_in, body in content.items():
            archive.writestr(name_in, body)
    return path


def _digest(body: bytes) -> str:
    return base64.urlsafe_b64encode(hashlib.sha256(body).digest()).rstrip(b"=").decode()
