"""The pages of ``kernels``, ``retire``, ``changes`` and ``undo``."""

from __future__ import annotations

from kalyx.core.lean.record import TYPE_CHECKING
from kalyx.show.inventory_text import show_findings
from kalyx.show.page import Page

if TYPE_CHECKING:
    from kalyx.core.answers.changes import ChangesAnswer, RetireAnswer
    from kalyx.core.answers.kernels import KernelsAnswer, ListedKernel
    from kalyx.core.changes.journal import Change

__all__ = ["changes_page", "kernels_page", "retire_page", "undo_page"]

SCOPES = {"user": "registered for you", "env": "in the server's environment",
          "system": "registered for everyone", "path": "on JUPYTER_PATH"}


def kernels_page(page: Page, answer: KernelsAnswer, *, verbose: bool) -> None:
    """Lay out ``kernels``: the sum, each kernel, what ails them."""
    count, ill = len(answer.kernels), sum(any(f.is_problem for f in k.kernel.findings) for k in answer.kernels)
    kind = "stale kernel" if answer.filtered else "kernel"
    mute = sum(k.proof is not None and (not k.proof.answered or bool(k.proof.trouble)) for k in answer.kernels)
    page.title(answer.status, f"{count} {kind}{'s' if count != 1 else ''} "
               f"{'are' if count != 1 else 'is'} registered" + (
                   f", {ill} of them not well" if ill and not answer.filtered else "")
               + (f"; {mute} did not prove to be what it should" if mute else "") + ".")
    server = answer.server
    if server is not None:
        page.say(f"as seen by a notebook server in {server.prefix or server.path} ({answer.server_how}); "
                 f"the bare word python means {server.path} there", "quiet", 2)
    for item in answer.kernels:
        page.blank()
        _kernel(page, item)
    show_findings(page, tuple(f for k in answer.kernels for f in k.kernel.findings), verbose)


def _kernel(page: Page, item: ListedKernel) -> None:
    kernel = item.kernel
    mark = "!" if any(f.is_problem for f in kernel.findings) else " "
    interpreter, environment = kernel.interpreter, kernel.environment
    if kernel.language.lower() not in ("", "python"):
        runs = f"of the language {kernel.language}"
    elif interpreter is None:
        runs = "?"
    else:
        name = environment.name if environment else "?"
        runs = f"Python {interpreter.version or '?'}, {name}"
    page.say(f"{mark} {kernel.name:<22} {kernel.label:<30} {runs}", indent=2)
    page.whole(f"{kernel.spec}  ({SCOPES[kernel.scope]})", "path", 6)
    if interpreter is not None:
        page.whole(interpreter.path, "path", 6)
    if item.hidden_by:
        page.whole(f"hidden by {item.hidden_by}", "quiet", 6)
    proof = item.proof
    if proof is not None:
        page.say(f"it answered in {proof.seconds} s, as {proof.prefix}" if proof.answered and not proof.trouble
                 else f"it does not prove itself: {proof.trouble}", "quiet", 6)


def retire_page(page: Page, answer: RetireAnswer, *, verbose: bool) -> None:
    """Lay out ``retire``: what went, and how to bring it back."""
    plan = answer.plan
    if not plan.kernels:
        page.title("ok", "There is nothing to retire.")
        return
    what = [f"the kernel {k.name}" for k in plan.kernels] + [f"the environment {e}" for e in plan.environments]
    said = ", ".join(what)
    page.title("ok", f"This would take away {said}." if answer.dry_run else
               f"{said[0].upper()}{said[1:]} {'is' if len(what) == 1 else 'are'} gone, and kept aside.")
    page.part("the plan" if answer.dry_run else "because")
    for kernel in plan.kernels:
        page.say(f"{kernel.name} ({kernel.label}) was registered in" if not answer.dry_run else
                 f"{kernel.name} ({kernel.label}), registered in")
        page.whole(kernel.folder)
    for environment in plan.environments:
        page.say("the environment")
        page.whole(environment)
    for note in answer.notes:
        page.blank()
        page.say(note.message, "quiet", 2, "· ")
    if answer.changes:
        page.part("what to do")
        page.say("To have it back:", lead="a  ")
        for change in answer.changes:
            page.command((*page.own_command, "undo", str(change.number)))
        page.say("To delete it for good:", lead="b  ")
        for change in answer.changes:
            page.command((*page.own_command, "changes", "--forget", str(change.number)))


def changes_page(page: Page, answer: ChangesAnswer, *, verbose: bool) -> None:
    """Lay out ``changes``: the journal, the latest last."""
    count = len(answer.changes)
    page.title("ok", f"Kalyx made {count} change{'s' if count != 1 else ''}." if count else
               "Kalyx has changed nothing.")
    for change in answer.changes:
        page.blank()
        _change(page, change)
    for note in answer.notes:
        page.blank()
        page.say(note.message, "quiet", 2, "· ")


def _change(page: Page, change: Change) -> None:
    state = {"begun": "cut short; undo puts it right", "done": "", "undone": "taken back",
             "forgotten": "its remains were deleted"}.get(change.state, change.state)
    page.say(f"{change.number:<4} {change.what:<34}  {change.when}" + (f"  {state}" if state else ""), indent=2)
    for record in change.files:
        how = "created" if record["before"] is None else "replaced"
        page.whole(f"{how} {record['path']}", "path", 7)
    for move in change.moves:
        page.whole(f"{'made' if 'made' in move else 'moved aside'} {move['path']}", "path", 7)


def undo_page(page: Page, answer: ChangesAnswer, *, verbose: bool) -> None:
    """Lay out ``undo``: what is as it was."""
    change = answer.changes[0]
    page.title("ok", f"Change {change.number} ({change.what}) is taken back.")
    for record in change.files:
        page.whole(f"{'removed' if record['before'] is None else 'restored'} {record['path']}", "path", 4)
    for move in change.moves:
        page.whole(f"{'moved aside' if 'made' in move else 'restored'} {move['path']}", "path", 4)
