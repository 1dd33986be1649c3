"""Workspaces of several folders, variables of editors, tables of interpreters: what a setting means, and where."""

from __future__ import annotations

import json

import pytest

from tests.support.build import World, make_venv, write

PROJECT = ('<project version="4">\n  <component name="ProjectRootManager" project-jdk-name="Python 3 (lab)" '
           'project-jdk-type="Python SDK"/>\n</project>\n')
TABLE = ('<application><component name="ProjectJdkTable"><jdk version="2"><name value="NAME" />'
         '<homePath value="PATH" /></jdk></component></application>')
# what the workspace sets, the folder that is looked at, and the environment meant; or the cause, or the note
VALUES: dict[str, tuple[str, str, str]] = {
    "plain, in the first": ("${workspaceFolder}/.venv/bin/python", "one", "one/.venv"),
    "plain, in the second": ("${workspaceFolder}/.venv/bin/python", "deep/two", "deep/two/.venv"),
    "plain, below the second": ("${workspaceFolder}/.venv/bin/python", "deep/two/src", "deep/two/.venv"),
    "plain, beside them": ("${workspaceFolder}/.venv/bin/python", "", "one/.venv"),
    "relative": (".venv/bin/python", "deep/two", "deep/two/.venv"),
    "by name": ("${workspaceFolder:Second}/.venv/bin/python", "one", "deep/two/.venv"),
    "by its folder's name": ("${workspaceFolder:one}/.venv/bin/python", "deep/two", "one/.venv"),
    "by a name that none has": ("${workspaceFolder:third}/.venv/bin/python", "one", "setting-points-nowhere"),
    "editor's own": ("${command:python.interpreterPath}", "one", "seat-untold"),
    "variable that is not set": ("${env:NOT_SET_HERE}/bin/python", "one", "seat-untold"),
    "variable that is set": ("${env:LAB}/bin/python", "one", "one/.venv"),
}


@pytest.mark.parametrize("name", VALUES)
def test_workspace_of_several_folders(name: str, world: World, validate) -> None:
    """A member folder's own environment is meant, from wherever one looks; what the editor alone knows is a note."""
    value, folder, expected = VALUES[name]
    top = world.project
    for place in ("one", "deep/two"):
        make_venv(top / place / ".venv")
    (top / "deep/two/src").mkdir()
    world.env["LAB"] = str(top / "one" / ".venv")
    write(top / "all.code-workspace", json.dumps({
        "folders": [{"path": "one"}, {"path": "deep/two", "name": "Second"}],
        "settings": {"python.defaultInterpreterPath": value}}))
    document = world.answer("here", str(top / folder))
    validate(document)
    editor = next(s for s in document["result"]["seats"] if s["kind"] == "editor")
    if expected == "seat-untold":
        assert [n["note"] for n in document["notes"]] == [expected] and editor["findings"] == []
        assert editor["interpreter"] is None
    elif "/" in expected:
        assert editor["environment"]["path"] == str(top / expected) and editor["findings"] == []
    else:
        assert [f["cause"] for f in editor["findings"]] == [expected]


@pytest.mark.parametrize(("name", "cause", "note"), [
    ("Python 3 (lab)", None, None), ("Python 3 (renamed)", "setting-points-nowhere", None), (None, None, "seat-untold"),
    ("<", None, "file-unreadable")])
def test_project_folder_and_its_table(name: str | None, cause: str | None, note: str | None, world: World,
                                      validate) -> None:
    """What a project folder names is looked up in the user's table; where that cannot be, it is said."""
    lab = world.venv("lab")
    write(world.project / ".idea" / "misc.xml", PROJECT)
    if name is not None:
        text = TABLE.replace("NAME", name).replace("PATH",
                                                   str(lab / "bin" / "python")) if name != "<" else "<application"
        write(world.home / ".config/JetBrains/Tool2026.1/options/jdk.table.xml", text)
    document = world.answer("here")
    validate(document)
    editor = next(s for s in document["result"]["seats"] if s["kind"] == "editor")
    assert [f["cause"] for f in editor["findings"]] == ([cause] if cause else [])
    assert (editor["environment"] is not None) == (name == "Python 3 (lab)")
    if note:
        assert {"seat-untold"} <= {n["note"] for n in document["notes"]}
