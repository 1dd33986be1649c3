"""The demo: every step answers as it should, nothing of the user's is touched."""

from __future__ import annotations

import json
from pathlib import Path

from kalyx.demo.tour import STEPS
from tests.support.build import World, run

EXPECTED = [  # the first causes of each step
    {"seats-disagree", "pip-elsewhere", "setting-points-nowhere", "kernel-mislabelled"},
    {"installed-elsewhere"}, {"dependency-absent"}, {"hidden-by-file"}, {"foreign-abi"},
    {"file-corrupt"}, {"version-conflict"}, {"python-too-new"}, {"name-differs"}, {"not-installed"},
    {"interpreter-broken"},
    {"namespace-split"},
    {"installed-elsewhere"}, {"raises", "own-code-unreachable"}, {"installed-elsewhere"},
    {"dependency-absent"}, {"not-installed"}, {"dependency-absent"}, {"kernel-interpreter-gone"}, {"env-moved"},
    {"dependency-absent"}, set(),
    {"not-installed"}, set(), set(), {"kernel-interpreter-gone", "kernel-mislabelled"}, *[set()] * 11,
    {"pip-elsewhere"}, {"installed-elsewhere", "kernel-interpreter-gone"}, {"installed-elsewhere"},
    {"version-conflict", "own-code-unreachable", "kernel-interpreter-gone", "env-moved", "dependency-absent",
     "installed-elsewhere", "hidden-by-file", "not-installed", "pip-elsewhere"},
]


def causes_of(answer: dict) -> set[str]:
    """Return the causes of an answer: the primary one of each import, all of anything else."""
    result = answer["result"]
    found = [*result.get("findings", []), *[f for s in result.get("seats", [])
                                            for f in s.get("findings", [])]]
    found += [f for e in result.get("environments", []) if isinstance(e, dict) for f in e.get("findings", [])]
    found += [f for k in result.get("kernels", []) for f in k.get("findings", [])]
    found += [i["causes"][0] for i in result.get("imports", []) if i["causes"]
              and not any(p["guard"] == "try" for p in i["asked"])]
    return {f["cause"] for f in found if f["severity"] != "note"}


def test_tour(world: World, validate) -> None:
    """Each step's document is valid and says what the scenario was built to show."""
    document = world.answer("demo")
    validate(document)
    steps = document["result"]["steps"]
    assert len(steps) == len(STEPS) == len(EXPECTED)
    for step, expected in zip(steps, EXPECTED, strict=True):
        validate(step["answer"])
        assert causes_of(step["answer"]) == expected, step["says"]
        lacks = "fit" in step["argv"]  # what the notebook's package needs is nowhere, so that no environment fits
        taken = "snapshot" in step["argv"]  # it is for others to judge
        assert step["exit"] == (1 if (expected and not taken) or lacks else 0), step["says"]
    kernels = next(s for s in steps if "running" in s["argv"])["answer"]["result"]["processes"]
    assert "germination.ipynb" in json.dumps([k["notebook"] for k in kernels])
    assert not Path(document["result"]["folder"]).exists()
    assert [p.name for p in world.home.iterdir()] == ["project"]


def test_kept_and_entered(world: World) -> None:
    """--keep leaves the scenario, and the lines that it prints make a shell see it."""
    folder = world.root / "kept place"
    done = world.kalyx("demo", "--keep", str(folder))
    assert done.returncode == 0, done.stderr
    inside = run(["bash", "-c", done.stdout + "\nkalyx why humidlog --json; python -c 'import sys;"
                  "print(sys.prefix)'; pip --version"], env=world.env)
    text, _, rest = inside.stdout.partition("\n}\n")
    assert causes_of(json.loads(text + "}")) == {"installed-elsewhere"}
    assert str(folder / "home/envs/lab") in rest and "lab-old" in rest
    again = world.kalyx("demo", "--keep", str(folder))
    assert again.returncode == 1 and "not empty" in again.stderr
