"""Says which interpreter runs it, as one line of JSON in ASCII.

Run with -I -S (on Python 2: -E -s -S), so that no code of a site folder runs.
"""
import sys


def version():
    """Return the version as PEP 440 writes it."""
    info = sys.version_info
    short = {"alpha": "a", "beta": "b", "candidate": "rc"}.get(info[3], "")
    return "%d.%d.%d" % tuple(info[:3]) + (short + str(info[4]) if short else "")


def implementation():
    """Return cpython, pypy and so on, in small letters."""
    known = getattr(sys, "implementation", None)
    if known is not None:
        return known.name
    return "pypy" if hasattr(sys, "pypy_version_info") else "cpython"


def quote(text):
    """Write a string as JSON, in ASCII."""
    if isinstance(text, bytes):
        text = text.decode("utf-8", "replace")
    out = ""
    for char in text:
        code = ord(char)
        if 32 <= code < 127 and char not in '"\\':
            out += char
        elif code > 0xFFFF:
            code -= 0x10000
            out += "\\u%04x\\u%04x" % (0xD800 + (code >> 10), 0xDC00 + (code & 0x3FF))
        else:
            out += "\\u%04x" % code
    return '"' + out + '"'


def main():
    """Print the answer."""
    base = getattr(sys, "real_prefix", None) or getattr(sys, "base_prefix", sys.prefix)
    answer = (("kalyx", "1"), ("executable", sys.executable or ""), ("version", version()),
              ("implementation", implementation()), ("prefix", sys.prefix), ("base_prefix", base))
    pairs = ", ".join(quote(key) + ": " + quote(value) for key, value in answer)
    here = __file__.replace("\\", "/").rsplit("/", 1)[0]  # on the path where -I is not known
    path = ", ".join(quote(p) for p in sys.path if p.replace("\\", "/") != here)
    sys.stdout.write("\n{" + pairs + ', "path": [' + path + "]}\n")
    sys.stdout.flush()


main()
