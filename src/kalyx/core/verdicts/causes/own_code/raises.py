"""Groups E and F: its code ran and raised, crashed, or never came to an end."""

from __future__ import annotations

import re

from kalyx.core.facts.imports.case import Case
from kalyx.core.facts.search_path.modules import top_level
from kalyx.core.lean.patterns import pattern
from kalyx.core.model import Edit, Evidence, Finding, Remedy
from kalyx.core.verdicts.catalogue import cause
from kalyx.core.verdicts.causes.own_code.slips import slip_in
from kalyx.core.verdicts.reading.failure import Failure, own_frames
from kalyx.core.verdicts.reading.frames import frame_evidence, place_of
from kalyx.core.verdicts.reading.variables import variable_not_set, variables_behind
from kalyx.core.verdicts.remedies import files
from kalyx.core.verdicts.remedies.conflicts import outgrown_in_use

__all__ = ["raises"]

_NOT_ITSELF = pattern(r"import of ([\w.]+) halted; None in sys\.modules|'([\w.]+)' is not a package")


@cause("raises", "anything else: its code ran and raised",
       asks="anything", last_resort=True, after=("hidden-by-path:stdlib_hidden",),
       why_here="the honest rest")
def raises(case: Case, failure: Failure | None) -> Finding | None:
    """Say honestly what was raised, where, and whose code that is.

    Looks like: Any other exception; a syntax error in your own file among them.
    Why: The module's code ran and raised it. Of a syntax error the reason is often something that stands
        there by mistake: a merge that was not finished, a prompt, a command for the terminal, typographic
        quotes, tabs between blanks, another encoding.
    How Kalyx knows: The frames, and whether the file is yours or a package's; the line itself.
    What to do: Read the line that is named; what stands there by mistake is mended by the command or edit
        that is given.
    """
    error = case.obs.error
    if error is None:
        return None
    frame, whose = place_of(case, error.frames)
    unset = variable_not_set(error)
    message = error.message.strip().split("\n")[0]  # the rest stands in error.message
    if message.endswith(":"):
        message = " ".join(error.message.split())[:300]
    said = f"{error.type}: {message}" if message else error.type
    ran = whose or "its code"
    because = f"{ran[:1].upper()}{ran[1:]} raised {said}" if case.obs.later else \
        f"The import of {case.obs.module} ran {ran}, which raised {said}"
    if not because.endswith((".", "!", "?")):
        because += "."
    place = f"{frame.file}, line {frame.line}" if frame else case.obs.module
    if error.is_syntax and error.frames:
        frame = error.frames[-1]  # the line that cannot be parsed, not the one that imports it
        place = f"{frame.file}, line {frame.line}"
        because = f"{place}, is not valid in {case.python.name}: {message}."
    slipped = slip_in(case, error)
    if slipped is not None:
        place = f"{slipped[0]}, line {slipped[1]}"
        because = f"{place}, {slipped[2].says}."
    evidence = frame_evidence(case, error.frames)
    evidence += [Evidence(f"Python says of it: {message}", slipped[0], slipped[1])] if slipped else []
    asked = next((f for f in own_frames(error.frames)
                  if case.modules.layer_of_file(f.file) in ("start", "other")), None)
    if case.obs.later and asked is not None and all(e.path != asked.file for e in evidence):
        evidence.insert(0, Evidence(f"you called it: {case.modules.code_line(asked.file, asked.line)}", asked.file,
                                    asked.line))
    evidence += [Evidence(f"it arose from {e.type}: {e.message}",
                          e.frames[-1].file if e.frames else None,
                          e.frames[-1].line if e.frames else None)
                 for e in case.obs.chain[1:3] if not unset]
    halted = _switched_off(case)
    if halted is not None:
        because = f"{because[:-1]}: something that ran before put another thing into sys.modules in its place."
    variables = variables_behind(case, error)
    if unset:
        because = f"{because[:-1]}, as the variable {unset} is not set."
        evidence.append(Evidence(f"{unset} was looked for among the variables, and is not there"))
    evidence += [Evidence(f"the variable {name} is {shown}") for name, shown in variables]
    return Finding(
        "raises", "error", "certain", because, (*evidence, *(halted[0] if halted else ())),
        (*(halted[1] if halted else ()), *(slipped[2].remedies if slipped else ()),
         *[Remedy(f"Set {unset}, which {place} reads, where this seat is started.", "manual",
                  changes=f"the variable {unset}") for _ in [0] if unset],
         *[Remedy(f"Unset {name}, or give it another value.", "manual", changes=f"the variable {name}")
           for name, _ in variables],
         *outgrown_in_use(case), *_moved(error.message),
         *[Remedy(f"Do as it says: {message}", "manual", changes="your code")
           for _ in re.findall(r"\binstead\b", message)[:1]],
         *[Remedy(f"Read {place}: that is where it was raised.", "manual", changes="nothing")
           for _ in [0] if not (slipped and slipped[2].remedies)]))


def _switched_off(case: Case) -> tuple[list[Evidence], list[Remedy]] | None:
    """Find what puts something else into sys.modules than a module that is there: None switches it off."""
    match = next((m for e in case.obs.chain if (m := _NOT_ITSELF.search(e.message))), None)
    name = (match.group(1) or match.group(2)) if match else ""
    if match is None or (match.group(2) and not case.modules.search_folders(name)):
        return None
    from kalyx.core.facts.search_path.startup_code import code_lines

    evidence = [Evidence(f"{name} is here; sys.modules[{name!r}] held something else", case.modules.file_of(name))]
    found = [x for x in code_lines(case.files, case.modules.folders)
             if "sys.modules" in x.text and top_level(name) in x.text]
    if len(found) != 1:
        return evidence, []
    code = found[0]
    evidence.append(Evidence("it is run at every start, and names it", code.file, code.line or None))
    if code.line:
        return evidence, [Remedy(f"Switch that line of {code.file} off.", "edit",
                                 edits=(Edit(code.file, code.text, f"# {code.text}"),), changes=code.file)]
    return evidence, [files.set_aside(case.files, code.file, "so that the import is left alone")]


def _moved(message: str) -> list[Remedy]:
    """Read from a package's message that something went to another one."""
    match = re.search(r"(?<!\w)(\w+)[`'\"]? (?:has been|was|is now) (?:moved|split off) (?:in)?to the [`'\"]?"
                      r"([\w.-]+)[`'\"]? (?:package|distribution|project)", message)
    if match is None:
        return []
    name, project = match.groups()
    line = f"from {project.replace('-', '_')} import {name}"
    return [Remedy(f"Put {project} into the same environment, and write: {line}", "manual",
                   changes="the import in your code; adds a package")]
