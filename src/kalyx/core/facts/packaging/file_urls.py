"""Paths as URLs, and back (RFC 8089)."""

from __future__ import annotations

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.files import Files

__all__ = ["path_of_url", "url_of"]


def url_of(files: Files, path: str) -> str:
    """Return the URL of a path."""
    from urllib.parse import quote

    plain = path.replace("\\", "/") if files.platform == "win32" else path
    return "file://" + quote(plain if plain.startswith("/") else f"/{plain}")


def path_of_url(files: Files, url: str) -> str:
    """Return the path that a URL of a file means; empty for any other."""
    if not url.startswith("file://"):
        return ""
    from urllib.parse import unquote, urlsplit

    parts = urlsplit(url)
    path = unquote(parts.path)
    if files.platform != "win32":
        return path
    return (f"//{parts.netloc}{path}" if parts.netloc else path.lstrip("/")).replace("/", "\\")
