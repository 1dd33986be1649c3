"""Puts together what the processes of a test run have noted in a folder, and prints how much of each room it is.

    KALYX_COVERAGE=FOLDER python -m pytest && python tools/coverage_of_rooms.py FOLDER

A room is a folder of the source. Lines and branches count, as `coverage` has them. Fails where less than 80% of a
room is run.
"""

from __future__ import annotations

import argparse
import json
import os
import sys
import tempfile
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

from coverage import Coverage, CoverageData

LEAST = 80.0  # percent of a room
SOURCE = Path(__file__).parent.parent / "src" / "kalyx"


def put_together(folder: Path, file: Path) -> None:
    """Write all that was noted in a folder into one file."""
    arcs: dict[str, set[tuple[int, int]]] = {}
    with ProcessPoolExecutor() as processes:  # there are thousands
        for found in processes.map(noted_in, sorted(folder.iterdir()), chunksize=50):
            for name, of_it in found.items():
                arcs.setdefault(name, set()).update(of_it)
    whole = CoverageData(str(file))
    whole.add_arcs(arcs)
    whole.write()


def noted_in(file: Path) -> dict[str, list[tuple[int, int]]]:
    """Return the steps from line to line that one process has noted, of each file."""
    one = CoverageData(no_disk=True)
    one.loads(file.read_bytes())
    return {name: one.arcs(name) or [] for name in one.measured_files()}


def by_file(file: Path) -> dict[str, tuple[int, int]]:
    """Return how many lines and branches of each file were run, and how many there are."""
    sources = sorted(str(f) for f in SOURCE.rglob("*.py") if not {"probe", "payload"}.intersection(f.parts))
    count = os.cpu_count() or 1
    found: dict[str, tuple[int, int]] = {}
    with ProcessPoolExecutor(count) as processes:  # most of the time is that of reading the sources
        for some in processes.map(of_sources, [file] * count, [sources[n::count] for n in range(count)]):
            found.update(some)
    return found


def of_sources(file: Path, sources: list[str]) -> dict[str, tuple[int, int]]:
    """Return that of some files."""
    lines = Coverage(data_file=str(file), branch=True, source=[str(SOURCE)], config_file=False, messages=False)
    lines.load()
    report = file.with_suffix(f".{os.getpid()}.json")
    lines.json_report(morfs=sources, outfile=str(report))
    found = {}
    for name, said in json.loads(report.read_text())["files"].items():
        s = said["summary"]
        found[str(Path(name).resolve().relative_to(SOURCE.resolve()))] = (
            s["covered_lines"] + s["covered_branches"], s["num_statements"] + s["num_branches"])
    return found


def main() -> int:
    """Print a line for each room and one for all; return 1 where a room is below the least."""
    parser = argparse.ArgumentParser(description=__doc__.split("\n", maxsplit=1)[0])
    parser.add_argument("folder", type=Path)
    parser.add_argument("--files", action="store_true", help="show each file, too")
    parser.add_argument("--least", type=float, default=LEAST, metavar="PERCENT", help="what each room has to have")
    options = parser.parse_args()
    with tempfile.TemporaryDirectory() as place:
        file = Path(place) / "whole"
        put_together(options.folder, file)
        files = by_file(file)
    rooms: dict[str, list[int]] = {}
    for name, (run, all_of_it) in sorted(files.items()):
        if options.files:
            print(f"{100 * run / (all_of_it or 1):6.1f}%  {all_of_it:6}  {name}")
        sums = rooms.setdefault(str(Path(name).parent), [0, 0])
        sums[0], sums[1] = sums[0] + run, sums[1] + all_of_it
    rooms = {name: sums for name, sums in rooms.items() if sums[1]}
    for name, (run, all_of_it) in rooms.items():
        print(f"{100 * run / all_of_it:6.1f}%  of {all_of_it:6} lines and branches  {name}")
    run, all_of_it = (sum(sums[n] for sums in rooms.values()) for n in (0, 1))
    print(f"{100 * run / (all_of_it or 1):6.1f}%  of {all_of_it:6} in all")
    below = [name for name, (some, total) in rooms.items() if 100 * some / total < options.least]
    if below:
        print(f"less than {options.least:g}%: {', '.join(below)}", file=sys.stderr)
    return 1 if below or not rooms else 0


if __name__ == "__main__":
    sys.exit(main())
