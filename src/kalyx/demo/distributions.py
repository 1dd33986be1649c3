"""The made-up distributions of the demo, as wheels that pip finds in a folder."""

from __future__ import annotations

import json
import os

from kalyx.demo.wheels import build_wheel

__all__ = ["KERNEL_ARGS", "build_wheels"]

PAYLOAD = os.path.join(os.path.dirname(os.path.abspath(__file__)), "payload")
KERNEL_ARGS = ["-m", "sprigkernel", "-f", "{connection_file}"]


def build_wheels(folder: str, old_disk: str) -> None:
    """Build what pip can find, and beside it what somebody copied from an older computer."""
    with open(os.path.join(PAYLOAD, "sprigkernel.py"), encoding="utf-8") as file:
        kernel = file.read()
    spec = {"argv": ["python", *KERNEL_ARGS], "display_name": "Sprig", "language": "python"}
    build_wheel(folder, "sprigkernel", "1.0", {"sprigkernel.py": kernel},
                data={"share/jupyter/kernels/sprig/kernel.json": json.dumps(spec)})
    build_wheel(folder, "traygrid", "0.9.2", {
        "traygrid/__init__.py": '"""Positions on a germination tray."""\n\n'
        "def cells(rows, columns):\n"
        "    return [(r, c) for r in range(rows) for c in range(columns)]\n"})
    build_wheel(folder, "germkit", "2.1.0", {
        "germkit/__init__.py": '"""Germination trials."""\n\nfrom germkit.trial import Trial\n',
        "germkit/trial.py": "from traygrid import cells\n\n\n"
        "class Trial:\n    def __init__(self, rows, columns):\n"
        "        self.cells = cells(rows, columns)\n",
    }, requires=["traygrid>=0.9,<2"])
    build_wheel(folder, "humidlog", "1.3.0", {
        "humidlog/__init__.py": '"""Humidity of the seed vaults."""\n\n'
        "def mean(values):\n    return sum(values) / len(values)\n"})
    build_wheel(folder, "sporecount", "0.4.1", {
        "sporecount/__init__.py": '"""Counts spores."""\n\n'
        "def count(sample):\n    return len(sample)\n"})
    build_wheel(folder, "vaultmap", "2.2.0", {
        "vaultmap/__init__.py": '"""Where in the vaults a seed lot lies."""\n\n'
        "from vaultmap.shelves import SHELVES\n",
        "vaultmap/shelves.py": "SHELVES = {\n    'A': (1, 2, 3),\n    'B': (4, 5, 6),\n}\n"})
    build_wheel(folder, "springplan", "1.1.0", {
        "springplan/__init__.py": '"""What is sown in spring."""\n\nfrom springplan.beds import BEDS\n'
        "from bedmap import place\n",
        "springplan/beds.py": "from seedaxis import log_axis\n\nBEDS = {\n    'north': 12,\n    'south': 18,\n}\n",
    }, requires=["bedmap>=3", "seedaxis>=2"])
    build_wheel(folder, "bedmap", "3.0.1", {
        "bedmap/__init__.py": '"""A map of the beds."""\n\n\ndef place(bed):\n    return (0, bed)\n'})
    _build_versions(folder)
    _build_old_disk(folder, old_disk)


def _build_versions(folder: str) -> None:
    """Build what there are several versions of, and projects whose modules have the same name."""
    axes = '"""Axes for plots."""\n\n\ndef axis():\n    return [0, 1]\n'
    for version, code in (("1.4.0", axes), ("2.0.1", axes + "\n\ndef log_axis():\n    return [1, 10]\n")):
        build_wheel(folder, "seedaxis", version, {"seedaxis.py": code})
    build_wheel(folder, "driftplot", "0.8.0", {
        "driftplot.py": '"""Plots the drift of the climate chambers."""\n\nfrom seedaxis import log_axis\n',
    }, requires=["seedaxis>=2"])
    for version in ("0.4.0", "0.5.2"):
        build_wheel(folder, "dewpoint-client", version, {
            "dewpoint.py": f'"""Asks the weather mast for the dew point."""\n\nSINCE = {version!r}\n'})
    build_wheel(folder, "seedlots", "1.1.0", {"seedlots/__init__.py": '"""The lots of seeds."""\n'})
    build_wheel(folder, "skylog", "0.2.0", {
        "skylog.py": '"""Logs of night skies."""\n\n\ndef moons():\n    return 1\n'})
    build_wheel(folder, "greenhouse-skylog", "4.0.0", {
        "skylog/__init__.py": '"""Light over the greenhouse."""\n\n\n'
        "def daylight(hours):\n    return sum(hours)\n"})


def _build_old_disk(folder: str, old_disk: str) -> None:
    """Build a distribution, and its copy that was compiled for an older computer's Python."""
    init = '"""Reads images of seeds."""\n\nfrom seedscan._pixels import scan\n'
    build_wheel(folder, "seedscan", "3.0.0", {
        "seedscan/__init__.py": init,
        "seedscan/_pixels.py": "def scan(image):\n    return sorted(image)\n"})
    build_wheel(old_disk, "seedscan", "3.0.0", {
        "seedscan/__init__.py": init,
        "seedscan/_pixels.cpython-36m-x86_64-linux-gnu.so": b"\x7fELF made for another Python\n",
    }, tag="cp36-cp36m-linux_x86_64")
