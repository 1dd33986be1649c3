"""``why --traceback`` of a test run in which two test files have one name."""

from __future__ import annotations

from kalyx.core.answers.why.module import WhyAnswer
from kalyx.core.model import Evidence, Finding, ImportReport, Note, Remedy, Seat
from kalyx.core.verdicts.remedies.files import rename

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.machine.interface import Machine

__all__ = ["clashing_tests"]


def clashing_tests(machine: Machine, module: str, loaded: str, wanted: str) -> WhyAnswer:
    """Explain that a test runner has a module of that name already, from another file."""
    m, message = machine, f"imported module {module!r} has the file {loaded}, and {wanted} was to be imported"
    here = m.is_file(wanted)
    gone = here and not m.exists(loaded)
    says = (f"{loaded} is gone, and what was compiled of it is still found as {module}" if gone else
            f"{loaded} and {wanted} are both imported as {module}, as no __init__.py tells their folders apart")
    if gone:
        todo = Remedy(f"Take away what was compiled of it, in {m.path.join(m.path.dirname(loaded), '__pycache__')}.",
                      "manual", changes="compiled files")
    elif here:
        stem, ending = m.path.splitext(wanted)
        todo = rename(m, wanted, f"{stem}_{m.path.basename(m.path.dirname(wanted))}{ending}")
    else:
        todo = Remedy(f"Give {wanted} another name.", "manual", changes=f"renames {wanted}")
    finding = Finding("hidden-by-file", "error", "certain" if here else "likely", f"{says}.",
                      (Evidence(f"the text says: {message}"),
                       *[Evidence(f"{p} is there", p) for p in (loaded, wanted) if here and m.is_file(p)]), (todo,))
    report = ImportReport(module, None, "text", None, "fails", {"type": "ImportError", "message": message},
                          causes=(finding,))
    note = Note("from-text", "This is concluded from the text" + (", and from the files as they are now." if here else
                                                                   " alone."))
    return WhyAnswer(Seat("text", "python", "the text"), (report,), (note,))
