"""Wrappers around interpreters: scripts that decide which one to start when they run."""

from __future__ import annotations

import re

from kalyx.core.facts.interpreters.command_words import first_line
from kalyx.core.facts.interpreters.path_lookup import find_on_path, read_head
from kalyx.core.model import TrailStep

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping

    from kalyx.core.facts.interpreters.trust import Trust
    from kalyx.core.machine.interface import Machine

__all__ = ["chosen_by", "why_not_wrapper"]


def why_not_wrapper(machine: Machine, trust: Trust, path: str, text: str, cwd: str, env: Mapping[str, str]) -> str:
    """Say what speaks against running a wrapper; empty when nothing does.

    It stands on the person's PATH, nobody else can have written it or what
    it names, and nothing in the folder that is looked at tells it what to start.
    """
    m, line = machine, first_line(text.encode("utf-8", "surrogateescape"))
    folders = [f for f in env.get("PATH", "").split(m.path_separator) if m.path.isabs(f)]
    if not any(m.same(f, m.path.dirname(path)) for f in folders):
        return "it is not on PATH"
    others = [f for f in folders if trust.is_foreign(m.real_path(f))]
    name = m.path.basename(path)
    if any(m.exists(m.path.join(f, name)) for f in others):
        return f"{name} stands in the folder that is looked at, too, and on PATH"
    misled = trust.misleading_file(cwd, re.findall(r"(?<![\w.$}])\.[a-z][\w.-]*", text))
    if misled:
        return f"{misled} tells it what to start"
    named = [path, *(w for w in re.findall(r"[\"'\s=](/[^\"'\s$*;|&<>(){}]+)", text) if m.is_file(w))]
    if line is not None:
        by_env = [w for w in line.rest.split() if not w.startswith("-") and "=" not in w] \
            if line.program.rsplit("/", 1)[-1] == "env" else []
        found = find_on_path(m, by_env[0], trust.safe_variables(env).get("PATH", ""), first_only=True) \
            if by_env else ()
        named += [line.program, *(f.path for f in found)]
    for word in dict.fromkeys(named):
        if trouble := trust.why_not(word):
            return trouble
    return ""


def chosen_by(machine: Machine, target: str, cwd: str, env: Mapping[str, str]) -> list[TrailStep]:
    """Find what made the wrapper choose: a variable or a version file that names it.

    Several version managers read ``.python-version`` upwards from the
    folder; a step is only given when what stands there is part of the path
    that answered.
    """
    m = machine
    parts = target.replace("\\", "/").split("/")
    for name, value in env.items():
        first = value.split(":")[0]
        if name.endswith("_VERSION") and "PY" in name and first and first in parts:
            return [TrailStep(0, f"the variable {name} is {value!r}, which names it", None,
                              None, target)]
    folder = cwd
    for _ in range(40):
        file = m.path.join(folder, ".python-version")
        if m.is_file(file):
            text = read_head(m, file).decode("utf-8", "replace")
            for number, line in enumerate(text.splitlines(), 1):
                word = line.strip()
                if word and any(p == word or p.startswith(word + ".") for p in parts):
                    return [TrailStep(0, f"{file} says {word}", file, number, target)]
            return []
        parent = m.path.dirname(folder)
        if parent == folder:
            return []
        folder = parent
    return []

# -- running ---------------------------------------------------------------------------
