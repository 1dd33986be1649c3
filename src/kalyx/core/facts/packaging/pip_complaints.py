"""What pip says when it fails: the reason, which often stands far above its last line."""

from __future__ import annotations

import re

from kalyx.core.lean.record import record
from kalyx.core.tables.system_libraries import build_packages

__all__ = ["Complaint", "read_complaint"]

MOST_READ = 400_000  # characters of what it said; a build can say much
_OTHER_PYTHONS = re.compile(r"Ignored the following versions that require a different python version: (.{1,4000})")
_ONE_VERSION = re.compile(r"(?<!\S)(\S{1,60}) Requires-Python ([^;]{1,100})")
_DIFFERENT = re.compile(r"Package '([^']{1,100})' requires a different Python: (\S{1,30}) not in '([^']{1,100})'")
_NOT_FOUND = re.compile(r"ERROR: Could not find a version that satisfies the requirement (.{1,300}?) \(from")
_UNREACHED = re.compile(
    r"\[Errno -?\d{1,6}\] [A-Z][\w ]{3,80}|CERTIFICATE_VERIFY_FAILED|Read timed out|Connection refused|"
    r"[Cc]onnection (?:to \S{1,200} )?timed out|Tunnel connection failed[^)'\"]{0,80}|Cannot connect to proxy")
_HOST = re.compile(r"host='([\w.-]{1,200})'")
_FOOTERS = ("note:", "hint:", "[end of output]", "╰─>", "×", "│", "[notice]")
_TOOLS = r"gcc|g\+\+|cc|clang|cmake|ninja|make|rustc|cargo|gfortran|swig|pkg-config|nasm"
# What a build lacks, by what the compiler or the build tool says; in this order
_LACKS = (
    (re.compile(r"fatal error: '?([\w./+-]{1,100}\.h(?:pp)?)'?:? (?:No such file|file not found)"), "header"),
    (re.compile(r"(?:cannot find|ld: library not found for) -l:?([\w+.-]{1,60})"), "library"),
    (re.compile(r"(?:unable to execute|command) '([\w./+-]{1,100})'(?: failed)?: No such file"), "tool"),
    (re.compile(rf"(?:error: |No such file or directory: )'?({_TOOLS})'?(?:$|[:' ])", re.MULTILINE), "tool"),
    (re.compile(r"(Microsoft Visual C\+\+ [\d.]{1,8})\s+(?:or greater )?is required"), "tool"),
    (re.compile(r"(Rust|CMake|Cargo)\b[^\n]{0,80}(?:is not installed|must be installed|not found|is required)"),
     "tool"),
    (re.compile(r"Package '?([\w+.-]{1,60})'?(?: was not found|, required by)|No package '([\w+.-]{1,60})' found"),
     "library"),
)


@record
class Complaint:
    """Why pip failed: ``reason`` in a sentence without its full stop; what else is known of it.

    ``pythons`` are the Requires-Python of the versions that there are, where none is for this Python; ``lacks`` is
    the header, library or tool that a build did not find, and ``package`` what brings it on Debian.
    """

    reason: str
    pythons: tuple[str, ...] = ()
    lacks: str = ""
    package: str = ""


def read_complaint(text: str) -> Complaint:
    """Read why pip failed out of what it printed on its error stream; the reason is empty where it said nothing."""
    text = text[-MOST_READ:].replace("\r\n", "\n")
    return (_for_other_pythons(text) or _unreached(text) or _conflicting(text) or _of_build(text)
            or Complaint(_last_error(text)))


def _for_other_pythons(text: str) -> Complaint | None:
    one = _DIFFERENT.search(text)
    if one is not None:
        return Complaint(f"{one[1]} is for Python {one[3]}, and this is Python {one[2]}", (one[3],))
    found, asked = _OTHER_PYTHONS.search(text), _NOT_FOUND.search(text)
    if found is None or asked is None:
        return None
    versions = _ONE_VERSION.findall(found[1])
    wanted = tuple(dict.fromkeys(need.strip() for _, need in versions))
    listed = "; ".join(f"{v} is for Python {need.strip()}" for v, need in versions[-3:])
    return Complaint(f"no version of {asked[1]} is for this Python: {listed}", wanted) if versions else None


def _unreached(text: str) -> Complaint | None:
    why = _UNREACHED.search(text)
    if why is None or not re.search(r"Retrying|Max retries exceeded|Could not fetch URL|ProxyError|ReadTimeout", text):
        return None
    host = _HOST.search(text)
    place = f"the index at {host[1]}" if host else "the index"
    return Complaint(f"{place} cannot be reached: {why[0].strip()}")


def _conflicting(text: str) -> Complaint | None:
    """Read whose requirements exclude each other: the lines under `The conflict is caused by`."""
    if "ResolutionImpossible" not in text and "conflicting dependencies" not in text:
        return None
    _, _, after = text.partition("The conflict is caused by:")
    lines = [line.strip() for line in after.split("\n\n")[0].split("\n") if line.strip()]
    first = next((ln for ln in text.split("\n") if "Cannot install" in ln), "").removeprefix("ERROR: ").strip()
    said = "; ".join(lines[:6]) if after else ""
    return Complaint(f"{first.rstrip('.')}: {said}" if first and said else said or first) if first or said else None


def _of_build(text: str) -> Complaint | None:
    """Read what a build stumbled over, above pip's own footer."""
    if "error: subprocess-exited-with-error" not in text and "Failed building wheel" not in text \
            and "metadata-generation-failed" not in text:
        return None
    for pattern, kind in _LACKS:
        found = pattern.search(text)
        if found is not None:
            name = found[1] or found[2]
            stem = name.rpartition("/")[2] if kind == "tool" else name
            what = {"header": "the header", "library": "the library", "tool": "the tool"}[kind]
            return Complaint(f"it has to be built here, and the build does not find {what} {name}", (), name,
                             build_packages().get(name, build_packages().get(stem, "")))
    lines = [ln.strip() for ln in text.split("\n")]
    said = [ln for ln in lines if re.match(r"^(?:[\w.]{1,60}(?:Error|Exception)\b|error|ERROR|CMake Error)[: ]", ln)
            and "subprocess-exited" not in ln and "Failed building" not in ln and "metadata-generation" not in ln
            and "exit code" not in ln]
    return Complaint(f"it has to be built here, and the build failed: {said[-1]}") if said else None


def _last_error(text: str) -> str:
    """Return the line that says most: of pip's errors the last but for its footers."""
    lines = [ln.strip() for ln in text.split("\n") if ln.strip()]
    lines = [ln for ln in lines if not ln.startswith(_FOOTERS)]
    errors = [ln.removeprefix("ERROR: ") for ln in lines if ln.startswith("ERROR:")]
    return (errors or lines or [""])[-1]
