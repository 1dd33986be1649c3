"""What shines into an environment from outside: found on the seat, with a remedy that takes it out."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import pytest

from tests.support.build import SHORT, World, carry_out, kernelspec, notebook, python_of, run, site_of, write

FAKE = ["-m", "ipykernel_launcher", "-f", "{connection_file}"]


def stash(world: World, version: str = "1") -> str:
    """Install an older copy of the kit into a folder of its own; return that."""
    folder = world.root / "stash"
    world.wheels.install(world.wheels.add("germkit", version), folder)
    return str(folder)


def of_kernel(world: World, lab: Path) -> str:
    world.wheels.install(world.wheels.add("ipykernel", "0", {"ipykernel_launcher.py": ""}), site_of(lab))
    kernelspec(world.home, "lab", [python_of(lab), *FAKE], env={"PYTHONPATH": stash(world)})
    notebook(world.project / "a.ipynb", "lab")
    return f"notebook:{world.project / 'a.ipynb'}"


def of_start_file(world: World, lab: Path) -> str:
    world.env["PYTHONPATH"] = stash(world)
    write(world.home / ".profile", f"umask 022\nexport PYTHONPATH={world.env['PYTHONPATH']}\n")
    return "shell"


def of_env_file(world: World, lab: Path) -> str:
    write(world.project / ".vscode/settings.json", json.dumps({"python.defaultInterpreterPath": python_of(lab)}))
    write(world.project / ".env", f"A=b\nPYTHONPATH={stash(world)}\n")
    return f"editor:{world.project / '.vscode/settings.json'}"


def of_extra_paths(world: World, lab: Path) -> str:
    write(world.project / ".vscode/settings.json", json.dumps({
        "python.defaultInterpreterPath": python_of(lab), "python.analysis.extraPaths": [stash(world), "src"]}))
    return f"editor:{world.project / '.vscode/settings.json'}"


def by_line(folder: Callable[[World, Path], Path]) -> Callable[[World, Path], str]:
    def build(world: World, lab: Path) -> str:
        place = folder(world, lab)
        world.wheels.install(world.wheels.add("seedling", "3"), place)
        write(site_of(lab) / "more.pth", f"# a line\n{place}\n")
        return "shell"
    return build


def users(world: World, lab: Path) -> Path:
    return world.home / ".local/lib" / f"python{SHORT}" / "site-packages"


# how it comes in: (what builds it and returns the seat, the severity)
LEAKS: dict[str, tuple[Callable[[World, Path], str], str]] = {
    "variable of a kernel": (of_kernel, "warning"), "start file of the shell": (of_start_file, "warning"),
    "editor's env file": (of_env_file, "warning"), "editor's extra paths": (of_extra_paths, "warning"),
    "line, another environment": (by_line(lambda w, e: site_of(w.venv("other"))), "note"),
    "line, the user site": (by_line(users), "note"),
}


@pytest.mark.parametrize("name", LEAKS)
def test_leak_is_found_and_taken_out(name: str, world: World, validate) -> None:
    """It stands on its seat in `here` and `packages`; the first remedy is an edit, and takes it out."""
    lab = world.venv("lab")
    world.activate(lab)
    world.wheels.install(world.wheels.add("germkit", "2"), site_of(lab))
    build, severity = LEAKS[name]
    ref = build(world, lab)
    document = world.answer("here")
    validate(document)
    seat = next(s for s in document["result"]["seats"] if s["ref"] == ref)
    found = [f for f in seat["findings"] if f["cause"] == "layer-leak"]
    assert [f["severity"] for f in found] == [severity], seat["findings"]
    assert severity == "note" or document["exit"] == 1
    packages = world.answer("packages", "--at", ref)
    validate(packages)
    assert [f["because"] for f in packages["result"]["findings"]] == [found[0]["because"]]
    carry_out(found[0]["remedies"][0], "edit", world)
    world.env.pop("PYTHONPATH", None)  # as a new shell has it
    seats = world.answer("here")["result"]["seats"]
    assert not [f for s in seats for f in s["findings"] if f["cause"] == "layer-leak"]


def test_import_that_a_line_lets_in(world: World, validate) -> None:
    """It works, and `why` notes where it comes from and the line that brings it; without the line it is gone."""
    lab, other = world.venv("lab"), world.venv("other")
    world.activate(lab)
    world.wheels.install(world.wheels.add("germkit"), site_of(other))
    write(site_of(lab) / "more.pth", f"{site_of(other)}\n")
    document = world.answer("why", "germkit")
    validate(document)
    report = document["result"]["imports"][0]
    found = report["causes"][0]
    assert (document["exit"], report["outcome"], report["layer"]) == (0, "imports", "link")
    assert (found["cause"], found["severity"]) == ("layer-leak", "note")
    carry_out(found["remedies"][0], "edit", world)
    assert world.answer("why", "germkit")["exit"] == 1


def test_layers_are_what_the_folders_are(world: World) -> None:
    """A line of a .pth file may bring in the base's or the user's folder: that is the layer then, and not editable."""
    lab = world.venv("lab")
    world.activate(lab)
    base = Path(run([python_of(lab), "-c", "import sys; print(sys.base_prefix)"]).stdout.strip())
    folders = {"base": base / "lib" / f"python{SHORT}" / "site-packages", "user": users(world, lab),
               "link": world.home / "src"}
    world.wheels.install(world.wheels.add("seedling", "3"), folders["user"])
    world.wheels.install(world.wheels.add("sprout", "1"), folders["link"])
    write(site_of(lab) / "more.pth", "\n".join(map(str, folders.values())) + "\n")
    result = world.answer("packages")["result"]
    assert {x["path"]: x["layer"] for x in result["layers"]} | {str(v): k for k, v in folders.items()} == {
        x["path"]: x["layer"] for x in result["layers"]}
    assert not [d for d in result["distributions"] if d["editable"]]


def test_health_is_said_wherever_the_seat_is(world: World, validate) -> None:
    """An environment that was copied: `here`, `kernels` and `packages` say so, as `envs` does."""
    lab = world.venv("lab", pip=True)
    world.activate(lab)
    moved = world.home / "moved"
    lab.rename(moved)
    world.env["PATH"] = world.env["PATH"].replace(str(lab), str(moved))
    world.env["VIRTUAL_ENV"] = str(moved)
    kernelspec(world.home, "moved", [python_of(moved), "-c", "pass"])
    for command in (("here",), ("packages",), ("kernels",)):
        document = world.answer(*command)
        validate(document)
        result = document["result"]
        holder = result["seats"][0] if command == ("here",) else result["seat"] if command == ("packages",) else \
            result["kernels"][0]
        assert [f["cause"] for f in holder["environment"]["findings"]] == ["env-moved"], command
        assert document["exit"] == 1 and "was moved from" in world.kalyx(*command).stdout, command


@pytest.mark.parametrize("command", [("packages",), ("ask",), ("put", "x", "--dry-run")])
def test_seat_that_cannot_run_is_an_answer(command: tuple[str, ...], world: World, validate) -> None:
    """A kernel whose interpreter is gone: the finding with evidence and remedies, and nothing else."""
    kernelspec(world.home, "gone", [str(world.home / "gone/bin/python"), *FAKE])
    where = ("kernel:gone",) if command == ("ask",) else ("--at", "kernel:gone")
    document = world.answer(*command, *where)
    validate(document)
    result = document["result"]
    findings = result["seats"][0]["findings"] if command == ("ask",) else result["seat"]["findings"]
    assert (document["status"], document["exit"], findings[0]["cause"]) == ("problem", 1, "kernel-interpreter-gone")
    assert findings[0]["evidence"] and findings[0]["remedies"]
    assert "what to do" in world.kalyx(*command, *where).stdout
    for key in ("layers", "distributions", "steps"):
        assert not result.get(key)
