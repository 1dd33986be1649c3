"""Zip files and wheels on a search path: what is in them (PEP 273)."""

from __future__ import annotations

from kalyx.core.errors import NotRecorded, Unreadable

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.files import Files

__all__ = ["archive_names", "is_archive"]

MOST_NAMES = 20_000  # that are looked at in one archive


def archive_names(files: Files, file: str) -> set[str]:
    """Return the names in a zip file; none when it is no zip.

    Raises:
        NotRecorded: it is another machine's, and what it holds was not told.
    """
    import io
    import zipfile

    try:
        with zipfile.ZipFile(io.BytesIO(files.read_whole(file))) as archive:
            return set(archive.namelist()[:MOST_NAMES])
    except Unreadable:
        return set()
    except NotRecorded:
        raise
    except Exception as error:  # what is wrong with an archive has many names
        files.report(file, f"it is no zip file that can be read: {error}")
        return set()


def is_archive(data: bytes) -> bool:
    """Whether bytes are those of a zip file, its directory at the end included."""
    import io
    import zipfile

    return zipfile.is_zipfile(io.BytesIO(data))
