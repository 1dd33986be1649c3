"""Shared fixtures: a world apart, and the schemas that every answer must meet."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from jsonschema import Draft202012Validator
from referencing import Registry, Resource

from tests.support.build import World

SCHEMAS = Path(__file__).parent.parent / "docs" / "schema"


@pytest.fixture
def world(tmp_path: Path) -> World:
    """Return an empty world: home, project folder, wheelhouse, a plain PATH."""
    return World(tmp_path)


@pytest.fixture(scope="session")
def validate():
    """Return a function that checks a document against its command's schema."""
    contents = {p.name: json.loads(p.read_text()) for p in SCHEMAS.glob("*.json")}
    registry = Registry().with_resources(
        [(name, Resource.from_contents(content)) for name, content in contents.items()])

    def check(document: dict) -> None:
        document = {k: v for k, v in document.items() if k != "exit"}
        schema = contents[f"{document['command']}.json"]
        Draft202012Validator(schema, registry=registry).validate(document)

    return check
