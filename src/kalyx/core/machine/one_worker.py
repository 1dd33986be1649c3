"""What a process does that was started for a share of the work."""

from __future__ import annotations

import json
import os
from importlib import import_module

from kalyx.core.machine.local import RealMachine

__all__ = ["work"]


def work(folder: str) -> None:
    """Do the share that a folder describes, and write there what comes of it."""
    with open(os.path.join(folder, "asked.json"), encoding="utf-8") as file:
        asked = json.load(file)
    machine = RealMachine(cwd=asked["cwd"])
    function = getattr(import_module(asked["module"]), asked["function"])
    results = [function(machine, *part) for part in asked["parts"]]
    place = os.path.join(folder, "done")
    with open(place, "w", encoding="utf-8") as file:
        json.dump({"results": results, "troubles": machine.troubles}, file)
    os.replace(place, f"{place}.json")
