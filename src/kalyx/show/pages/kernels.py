"""The page of `kalyx kernels`."""

from __future__ import annotations

from kalyx.show.parts import can_mend, mend_line, notes, show_findings

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.answers.kernels import KernelsAnswer, ListedKernel
    from kalyx.show.page import Page

__all__ = ["lay_out"]

SCOPES = {"user": "yours", "env": "the server's", "system": "everyone's", "path": "on JUPYTER_PATH"}


def lay_out(page: Page, answer: KernelsAnswer, *, verbose: bool) -> None:
    """Lay out ``kernels``: the sum, each kernel, what ails them."""
    count, ill = len(answer.kernels), sum(any(f.is_problem for f in k.kernel.all_findings) for k in answer.kernels)
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
    page.blank()
    page.table([_row(item) for item in answer.kernels])
    for item in answer.kernels:
        _more(page, item, verbose=verbose)
    show_findings(page, tuple(f for k in answer.kernels for f in k.kernel.all_findings), verbose)
    for item in (k for k in answer.kernels if can_mend(page, k.kernel.all_findings)):
        mend_line(page, ("--at", f"kernel:{item.kernel.name}"), item.kernel.all_findings)
        break
    notes(page, answer.notes)


def _row(item: ListedKernel) -> list[str]:
    """Return the row of a kernel: the path of its interpreter stands last."""
    kernel = item.kernel
    mark = "!" if any(f.is_problem for f in kernel.all_findings) else " "
    interpreter, environment = kernel.interpreter, kernel.environment
    if kernel.language.lower() not in ("", "python"):
        runs = f"of the language {kernel.language}"
    elif interpreter is None:
        runs = "what it starts cannot be told"
    elif interpreter.known_by == "gone":
        runs = "its program is not there"
    else:
        runs = f"Python {interpreter.version or '?'}, {environment.name if environment else '?'}"
    return [mark, kernel.name, kernel.label if kernel.label != kernel.name else "", runs, SCOPES[kernel.scope],
            interpreter.path if interpreter is not None else kernel.spec]


def _more(page: Page, item: ListedKernel, *, verbose: bool) -> None:
    """Say of a kernel what its row has no room for: where it is registered, what hides it, how it proved itself."""
    kernel, proof = item.kernel, item.proof
    said = [f"registered in {kernel.spec}"] if verbose or item.hidden_by else []
    said += [f"hidden by {item.hidden_by}"] if item.hidden_by else []
    if proof is not None:
        said.append(f"it answered in {proof.seconds} s, as {proof.prefix}" if proof.answered and not proof.trouble
                    else f"it does not prove itself: {proof.trouble}")
    for line in said:
        page.say(f"{kernel.name}: {line}", "quiet", 4)
