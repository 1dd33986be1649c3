"""Groups E and F: its code ran and raised, crashed, or never came to an end."""

from __future__ import annotations

import re

from kalyx.core.errors import Unreadable
from kalyx.core.facts.cases import Case
from kalyx.core.facts.modules import top_level
from kalyx.core.model import Edit, Evidence, Finding, Frame, Place, Remedy
from kalyx.core.patterns import pattern
from kalyx.core.verdicts import remedies
from kalyx.core.verdicts.catalogue import cause
from kalyx.core.verdicts.failure import Failure, own_frames
from kalyx.core.verdicts.requirements import outgrown_in_use
from kalyx.core.verdicts.slips import slip_in
from kalyx.core.verdicts.variables import variable_not_set, variables_behind
from kalyx.core.verdicts.written import change_line

__all__ = ["circular_import", "crash", "died_by_its_word", "hang", "installed_as", "raises",
           "relative_import_alone", "will_have"]

_NOT_ITSELF = pattern(r"import of ([\w.]+) halted; None in sys\.modules|'([\w.]+)' is not a package")


def _place(case: Case, frames: tuple[Frame, ...]) -> tuple[Frame | None, str]:
    """Return the innermost frame that is not the standard library's, and whose file it is."""
    files = own_frames(frames)
    chosen = next((f for f in reversed(files)
                   if case.layer_of_file(f.file) not in ("stdlib", None)), None)
    chosen = chosen or (files[-1] if files else None)
    if chosen is None:
        return None, ""
    owner = case.distribution_of(chosen.file)
    if owner is not None:
        return chosen, f"the code of {owner.name} {owner.version}"
    if case.layer_of_file(chosen.file) == "stdlib":
        return chosen, "Python's own standard library"
    if case.layer_of_file(chosen.file) in ("env", "base", "user"):
        return chosen, f"the installed {installed_as(case, chosen.file)}"
    return chosen, "your own code"


def installed_as(case: Case, file: str) -> str:
    """Return the top-level name under which a file lies in a site folder."""
    folder = max((x.path for x in case.layers if case.machine.is_within(file, x.path)), key=len)
    rest = case.machine.path.relpath(file, folder)
    return str(rest.replace("\\", "/").split("/")[0].removesuffix(".py"))


def _frame_evidence(case: Case, frames: tuple[Frame, ...]) -> list[Evidence]:
    shown = own_frames(frames)[-4:]
    found = []
    for frame in shown:
        line = case.code_line(frame.file, frame.line)
        found.append(Evidence(f"in {frame.function}: {line}" if line else f"in {frame.function}",
                              frame.file, frame.line))
    return found


@cause("crash", "E", "the child died during the import, of a signal or by ending itself", rank=80)
def crash(case: Case, failure: Failure | None) -> Finding | None:
    """Name the signal, and what was being loaded.

    Looks like: Python, or the kernel, dies: `Segmentation fault`, `Kernel died`.
    Why: Native code of a package ended the process, or the code itself did.
    How Kalyx knows: The child that tried the import ended by a signal or by itself; its last frames
        were written down.
    What to do: Look at the place that is named; install that package again, or another version.
    """
    if case.obs.outcome != "crash":
        return None
    import signal

    status = case.obs.status or 0
    try:
        how = (f"died of {signal.Signals(-status).name}" if status < 0
               else f"ended itself with status {status}")
    except ValueError:
        how = f"died of signal {-status}"
    by = case.obs.ended_by
    if by == "a signal to its parent":
        how = "sent a signal that was to end the process that had started it"
    elif by and not how.endswith(by):
        how += f", by {by}"
    frame, whose = _place(case, case.obs.stack)
    where = f", in {whose}" if frame else ""
    return Finding(
        "crash", "error", "certain",
        f"Python {how} while it imported {case.obs.module}{where}.",
        (Evidence(f"{case.python} {how}", case.python),
         Evidence("what was being imported", case.file_of(case.obs.module)),
         *_frame_evidence(case, case.obs.stack)),
        (Remedy(f"Look at {frame.file}, line {frame.line}: it ends the process." if by and frame else
                "Look at the place named above: the code there ends the process, or a compiled "
                "part it loads does.", "manual", changes="nothing"),))


def died_by_its_word(said: str, frames: tuple[Frame, ...]) -> Finding:
    """Conclude from the last words of an interpreter alone where it died."""
    shown = own_frames(frames) or list(frames)
    last = shown[-1]
    return Finding(
        "crash", "error", "likely", f"Python died ({said}) in {last.function}, {last.file}, line {last.line}.",
        tuple(Evidence(f"in {f.function}", f.file, f.line) for f in shown[-4:]),
        (Remedy(f"Install again the package to which {last.file} belongs, or another version of it: native "
                "code that it calls ended the process.", "manual", changes="that package"),))


@cause("hang", "E", "no answer within the limit", rank=82)
def hang(case: Case, failure: Failure | None) -> Finding | None:
    """Name what was being loaded when the time was up.

    Looks like: The import never ends.
    Why: The code waits: for a lock, a network, an input that does not come.
    How Kalyx knows: The time limit passed; the frame at that moment is named.
    What to do: Look at the place that is named; give it longer with --timeout if it is only slow.
    """
    if case.obs.outcome != "hang":
        return None
    frame, whose = _place(case, case.obs.stack)
    where = f"; it was in {whose} ({frame.file}, line {frame.line})" if frame else ""
    return Finding(
        "hang", "error", "certain",
        f"The import of {case.obs.module} did not end within {case.obs.seconds:.0f} s{where}.",
        tuple(_frame_evidence(case, case.obs.stack)) or (
            Evidence(f"it was ended after {case.obs.seconds:.0f} s; where it was is not known", case.python),),
        (Remedy("Look at the place named above; give it longer with --timeout if it is only slow.",
                "manual", changes="nothing"),))


@cause("circular-import", "F", "partially initialised module", rank=66)
def circular_import(case: Case, failure: Failure | None) -> Finding | None:
    """Show the ring, file by file with the lines that import.

    Looks like: `cannot import name ... from partially initialized module`.
    Why: Modules import each other in a ring, and one is asked for a name before it has come to it.
    How Kalyx knows: The ring, file by file, with the lines that import.
    What to do: Move one of the imports into the function that needs it, or what both need into a third
        module.
    """
    error = next((e for e in case.obs.chain if "partially initialized module" in e.message), None)
    if error is not None:
        match = re.search(r"partially initialized module '([\w.]+)'", error.message)
        half_made = match.group(1) if match else ""
    elif failure is not None and failure.name is not None and case.version < (3, 8):
        error, half_made = failure.error, failure.module  # it says no more than that a name is missing
    else:
        return None
    file = case.file_of(half_made) if half_made else None
    if failure is not None and failure.name and not will_have(case, half_made, failure.name):
        return None
    ring = [f for f in own_frames(error.frames) if f.function == "<module>"]
    start = next((n for n, f in enumerate(ring) if file and case.machine.same(f.file, file)), None)
    if start is None or start == len(ring) - 1:
        return None  # the half-made module asked for a part of its own: no ring, something missing
    around = ring[start:]
    names = " imports ".join(_module_name(case, f.file) for f in (*around, around[0]))
    return Finding(
        "circular-import", "error", "certain",
        f"The modules import each other in a ring: {names}.",
        tuple(Evidence(case.code_line(f.file, f.line) or f"in {f.function}", f.file, f.line)
              for f in around),
        (Remedy(f"Move the import in {around[-1].file}, line {around[-1].line}, into the function that "
                "needs it, or what both need into a third module.", "manual",
                changes=around[-1].file),))


def will_have(case: Case, module: str, name: str) -> bool:
    """Whether a module that is not yet run to its end would have a name then: else no ring is to blame."""
    from kalyx.core.facts.definitions import binds

    file = case.file_of(module)
    if not file or not file.endswith(".py"):
        return True
    try:
        text = case.machine.read_text(file)
    except Unreadable:
        return True
    if case.part_elsewhere([f"{module.replace('.', '/')}/{name}"]):
        return False  # a file of its own, which is lost here
    if "import *" in text and not name.startswith("_"):  # a star brings no private names
        return True
    if re.search(r"__getattr__|globals\(\)|\bexec\(|setattr\(", text) or binds(text, name):
        return True
    parts = [n for folder in case.search_folders(module) for n in case.finder.names(folder)]
    return any(n.split(".")[0] == name for n in parts)


def _module_name(case: Case, file: str) -> str:
    m = case.machine
    name = str(m.path.basename(file))
    return f"{m.path.basename(m.path.dirname(file))}/{name}" if name == "__init__.py" else name


@cause("relative-import-alone", "F", "a file of a package run as a script", rank=68)
def relative_import_alone(case: Case, failure: Failure | None) -> Finding | None:
    """Name the package's root and the way to start its module.

    Looks like: `attempted relative import with no known parent package`.
    Why: A file of a package was run as a script, so that Python does not know its package.
    How Kalyx knows: The package's root, found by its `__init__.py` files.
    What to do: Run it as a module: `python -m package.module` from the folder that holds the package.
    """
    error = case.obs.error
    if error is None or "relative import" not in error.message:
        return None
    if not error.frames:
        return _without_package(case, case.asked[0]) if case.asked else None
    frame = own_frames(error.frames)[-1]
    if "beyond" in error.message:
        return _beyond_top(case, frame)
    m = case.machine
    package, folder = [m.path.splitext(m.path.basename(frame.file))[0]], m.path.dirname(frame.file)
    while m.is_file(m.path.join(folder, "__init__.py")):
        package.insert(0, m.path.basename(folder))
        folder = m.path.dirname(folder)
    if len(package) == 1:
        return _without_package(case, Place(frame.file, frame.line,
                                            text=case.code_line(frame.file, frame.line)))
    dotted = ".".join(package)
    return Finding(
        "relative-import-alone", "error", "certain",
        f"{frame.file} is part of the package {package[0]} and uses a relative import, but was loaded "
        "on its own, without its package.",
        (Evidence(case.code_line(frame.file, frame.line), frame.file, frame.line),
         Evidence(f"the package {package[0]} lies in {folder}", folder)),
        (Remedy(f"Run it as a module of its package, from {folder}.", "command",
                argv=(case.python, "-m", dotted), cwd=folder, changes="nothing"),
         Remedy(f"In code: import {dotted}, with {folder} on the path.", "manual",
                changes="the import")))


def _without_package(case: Case, place: Place) -> Finding | None:
    """A relative import of a notebook, or of a file that lies in no package: what is beside it needs no dot."""
    match = re.match(r"from\s+(\.+)([\w.]*)\s+import\s*(\(?\s*(\w*).*)", place.text)
    if match is None:
        return None
    m = case.machine
    folder = m.path.dirname(place.path)
    for _ in match[1][1:]:
        folder = m.path.dirname(folder)
    wanted = m.path.join(folder, *(match[2] or match[4]).split("."))
    there = next((p for p in (wanted + ".py", m.path.join(wanted, "__init__.py")) if m.is_file(p)), None)
    plain = f"from {match[2]} import" if match[2] else "import"
    beside = there is not None and len(match[1]) == 1 and (match[2] or "(" not in match[3])
    edit = change_line(case, place, f"{plain} {match[3]}") if beside else None
    todo = [Remedy(f"Write the import without dots: {plain} {match[3]}.", "edit", edits=(edit,),
                   changes=f"line {place.line} of {place.path}")] if edit else []
    stem, above = m.path.splitext(m.path.basename(place.path))[0], m.path.dirname(folder)
    if place.path.endswith(".ipynb"):
        why = "a notebook never is"
        todo.append(Remedy(f"Write the import without dots: {plain} {match[3]}, with {folder} on the search "
                           "path.", "manual", changes="the import"))
    else:
        why = f"{folder} has no __init__.py, and the file was loaded by itself"
        todo.append(Remedy(f"Run it as a module of a package, from {above}.", "command", cwd=above,
                           argv=(case.python, "-m", f"{m.path.basename(folder)}.{stem}"), changes="nothing"))
    return Finding(
        "relative-import-alone", "error", "certain",
        f"{place.path} uses a relative import, and is part of no package: {why}.",
        (Evidence(place.text, place.path, place.line),
         *[Evidence(f"what it asks for is {there}", there) for _ in [0] if there]), tuple(todo))


def _beyond_top(case: Case, frame: Frame) -> Finding | None:
    """A relative import with more dots than the package has levels, as Python was started."""
    m = case.machine
    line = case.code_line(frame.file, frame.line)
    match = re.match(r"from\s+(\.+)([\w.]*)\s+import\s+(\w+)", line)
    if match is None:
        return None
    folder = m.path.dirname(frame.file)
    for _ in match.group(1)[1:]:
        folder = m.path.dirname(folder)
    wanted = m.path.join(folder, *filter(None, match.group(2).split(".")))
    there = [p for p in (wanted + ".py", m.path.join(wanted, "__init__.py")) if m.is_file(p)]
    if not there and not (match.group(2) == "" and case.finder.find_in(folder, match.group(3))):
        return None
    top, above = m.path.basename(folder), m.path.dirname(folder)
    inside = m.path.relpath(m.path.splitext(frame.file)[0], above).replace(m.path.sep, ".")
    return Finding(
        "relative-import-alone", "error", "certain",
        f"{frame.file} imports from {folder}, above the topmost package that Python knows, as it was started "
        f"inside {folder}: {top} itself has to be the package.",
        (Evidence(line, frame.file, frame.line),
         *[Evidence(f"what it asks for is {p}", p) for p in there[:1]]),
        (Remedy(f"Start it from {above}, as part of {top}.", "command",
                argv=(case.python, "-m", inside), cwd=above, changes="nothing"),
         Remedy(f"Or write the import without dots: {match.group(2) or match.group(3)} lies in {folder}.",
                "manual", changes=frame.file)))


@cause("raises", "F", "anything else: its code ran and raised", rank=99)
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
    frame, whose = _place(case, error.frames)
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
    if error.type in ("SyntaxError", "IndentationError", "TabError") and error.frames:
        frame = error.frames[-1]  # the line that cannot be parsed, not the one that imports it
        place = f"{frame.file}, line {frame.line}"
        because = f"{place}, is not valid in {case.this_python}: {message}."
    slipped = slip_in(case, error)
    if slipped is not None:
        place = f"{slipped[0]}, line {slipped[1]}"
        because = f"{place}, {slipped[2].says}."
    evidence = _frame_evidence(case, error.frames)
    evidence += [Evidence(f"Python says of it: {message}", slipped[0], slipped[1])] if slipped else []
    asked = next((f for f in own_frames(error.frames)
                  if case.layer_of_file(f.file) in ("start", "other")), None)
    if case.obs.later and asked is not None and all(e.path != asked.file for e in evidence):
        evidence.insert(0, Evidence(f"you called it: {case.code_line(asked.file, asked.line)}", asked.file,
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
    if match is None or (match.group(2) and not case.search_folders(name)):
        return None
    from kalyx.core.facts.start_code import code_lines

    evidence = [Evidence(f"{name} is here; sys.modules[{name!r}] held something else", case.file_of(name))]
    found = [x for x in code_lines(case.machine, [x.path for x in case.layers])
             if "sys.modules" in x.text and top_level(name) in x.text]
    if len(found) != 1:
        return evidence, []
    code = found[0]
    evidence.append(Evidence("it is run at every start, and names it", code.file, code.line or None))
    if code.line:
        return evidence, [Remedy(f"Switch that line of {code.file} off.", "edit",
                                 edits=(Edit(code.file, code.text, f"# {code.text}"),), changes=code.file)]
    return evidence, [remedies.set_aside(case.machine, code.file, "so that the import is left alone")]


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
