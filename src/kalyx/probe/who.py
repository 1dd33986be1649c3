"""Says which interpreter runs it, as one line that ast.literal_eval reads.

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


def main():
    """Print the answer."""
    prefix = getattr(sys, "real_prefix", None) or getattr(sys, "base_prefix", sys.prefix)
    answer = {
        "kalyx": 1,
        "executable": sys.executable,
        "version": version(),
        "implementation": implementation(),
        "prefix": sys.prefix,
        "base_prefix": prefix,
    }
    sys.stdout.write("\n" + repr(answer) + "\n")
    sys.stdout.flush()


main()
