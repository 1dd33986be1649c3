"""Groups E and F: its code ran and raised, crashed, or never came to an end."""

from __future__ import annotations

import re

from kalyx.core.facts.search_path.modules import top_level
from kalyx.core.model import Edit, Evidence, Finding, Remedy
from kalyx.core.verdicts.catalogue import cause
from kalyx.core.verdicts.causes.own_code.slips import slip_in
from kalyx.core.verdicts.reading.asked_part import asked_part
from kalyx.core.verdicts.reading.failure import own_frames
from kalyx.core.verdicts.reading.frames import frame_evidence, place_of
from kalyx.core.verdicts.reading.generated_code import generated_for
from kalyx.core.verdicts.reading.variables import variable_not_set, variables_behind
from kalyx.core.verdicts.remedies import files
from kalyx.core.verdicts.remedies.advised import advised, where_to_look
from kalyx.core.verdicts.remedies.conflicts import outgrown_in_use
from kalyx.core.verdicts.remedies.pip import install
from kalyx.core.verdicts.remedies.versions import pinned

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.facts.imports.case import Case
    from kalyx.core.model import ObservedError
    from kalyx.core.verdicts.reading.failure import Failure

__all__ = ["raises"]

_NOT_ITSELF = re.compile(r"import of ([\w.]+) halted; None in sys\.modules|'([\w.]+)' is not a package")


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
    raised = _Raised(case, error)
    return Finding.error("raises", "certain", raised.because(), tuple(raised.evidence()), tuple(raised.remedies()))


class _Raised:
    """An exception that no other check explains, and what is known of it."""

    def __init__(self, case: Case, error: ObservedError) -> None:
        self.case = case
        self.error = error
        self.slipped = slip_in(case, error)
        self.unset = variable_not_set(error)
        self.variables = variables_behind(case, error)
        self.halted = _switched_off(case)
        files = [f.file for f in own_frames(error.frames)]
        self.generated = next((g for g in (generated_for(case, f) for f in reversed(files)) if g), None)
        self.message = error.message.strip().split("\n")[0]  # the rest stands in error.message
        if self.message.endswith(":"):
            self.message = " ".join(error.message.split())[:300]

    @property
    def place(self) -> str:
        """Where it was raised: the line that cannot be parsed, not the one that imports it."""
        if self.slipped is not None:
            return f"{self.slipped[0]}, line {self.slipped[1]}"
        frame = self.error.frames[-1] if self.error.is_syntax and self.error.frames else \
            place_of(self.case, self.error.frames)[0]
        return f"{frame.file}, line {frame.line}" if frame else self.case.obs.module

    def because(self) -> str:
        """Say what was raised, and by whose code."""
        says = self._says()
        says += "" if says.endswith((".", "!", "?")) else "."
        if self.halted is not None:
            says = f"{says[:-1]}: something that ran before put another thing into sys.modules in its place."
        return f"{says[:-1]}, as the variable {self.unset} is not set." if self.unset else says

    def _says(self) -> str:
        if self.slipped is not None:
            return f"{self.place}, {self.slipped[2].says}"
        if self.error.is_syntax and self.error.frames:
            return f"{self.place}, is not valid in {self.case.python.name}: {self.message}."
        said = f"{self.error.type}: {self.message}" if self.message else self.error.type
        ran = place_of(self.case, self.error.frames)[1] or "its code"
        if self.case.obs.later:
            return f"{ran[:1].upper()}{ran[1:]} raised {said}"
        return f"The import of {self.case.obs.module} ran {ran}, which raised {said}"

    def evidence(self) -> list[Evidence]:
        """Return the frames, what it arose from, and what is behind it."""
        case, found = self.case, frame_evidence(self.case, self.error.frames)
        if self.slipped is not None:
            found.append(Evidence(f"Python says of it: {self.message}", *self.slipped[:2]))
        asked = next((f for f in own_frames(self.error.frames)
                      if case.modules.layer_of_file(f.file) in ("start", "other")), None)
        if case.obs.later and asked is not None and all(e.path != asked.file for e in found):
            found.insert(0, Evidence(f"you called it: {case.modules.code_line(asked.file, asked.line)}",
                                     asked.file, asked.line))
        if self.unset:
            found.append(Evidence(f"{self.unset} was looked for among the variables, and is not there"))
        else:
            found += [_arose_from(e) for e in case.obs.chain[1:3]]
        found += [self.generated[1]] if self.generated else []
        found += [Evidence(f"the variable {name} is {shown}") for name, shown in self.variables]
        return found + (self.halted[0] if self.halted else [])

    def remedies(self) -> list[Remedy]:
        """Return what mends it where that is known, else where to read."""
        mended = list(self.slipped[2].remedies) if self.slipped else []
        found = [*(self.halted[1] if self.halted else ()), *mended]
        if self.unset:
            found.append(Remedy(f"Set {self.unset}, which {self.place} reads, where this seat is started.", "manual",
                                changes=f"the variable {self.unset}"))
        found += [Remedy(f"Unset {name}, or give it another value.", "manual", changes=f"the variable {name}")
                  for name, _ in self.variables]
        if self.generated is not None:
            found += install(self.case, self.generated[0], why=", for which the code was generated")
        else:
            found += advised(self.case, self.error)
        found += [*outgrown_in_use(self.case), *self._gone_since()]
        if re.search(r"\binstead\b", self.message):
            found.append(Remedy(f"Do as it says: {self.message}", "manual", changes="your code"))
        if not mended and not any(r.argv or r.edits for r in found):
            found.append(where_to_look(self.case, self.error, self.place))
        return found


    def _gone_since(self) -> list[Remedy]:
        """Return how the person's own code asks for what a package says it has not any more; a package's cannot."""
        case, frames = self.case, own_frames(self.error.frames)
        owner = case.distributions.of(frames[-1].file) if frames else None
        asker = next((f for f in reversed(frames) if case.distributions.of(f.file) != owner), None)
        if asker is not None and case.distributions.of(asker.file) is not None:
            return []
        part = asked_part(case, owner.name) if owner is not None else None
        back = install(case, pinned(case, part.versions), why=f", in a version that has {part.shown}") \
            if part is not None and owner is not None and part.went and part.lacks(owner.version) else ()
        return [*_moved(self.error.message), *back]


def _arose_from(error: ObservedError) -> Evidence:
    last = error.frames[-1] if error.frames else None
    return Evidence(f"it arose from {error.type}: {error.message}", last.file if last else None,
                    last.line if last else None)


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
