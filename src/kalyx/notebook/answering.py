"""The process that answers a kernel: it is told what the kernel knows, and judges it as the commands do."""

from __future__ import annotations

import gc
import io
import json
import os
import sys

TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import Any

    from kalyx.show.page import Page

__all__ = ["main"]

COLUMNS = 100  # of the plain form: front ends do not wrap
LIMIT = 15.0   # seconds for an import that is tried to explain one that failed


def main() -> None:
    """Read the question, print the answer: text and HTML, both empty where there is nothing to add."""
    gc.disable()
    question = json.loads(sys.stdin.buffer.read())
    sys.argv[1:] = []
    out = sys.stdout.buffer
    said = sys.stdout = sys.stderr = io.TextIOWrapper(io.BytesIO(), "utf-8", "backslashreplace", write_through=True)
    pages = _answered(question)
    text = said.buffer.getvalue().decode("utf-8")
    html = ""
    if pages:
        from kalyx.show.html.fragment import fragment

        html = fragment(pages) if not text else ""
        text += "".join(map(_as_text, pages))
    out.write(json.dumps({"text": text.rstrip(), "html": html}).encode("ascii"))
    out.flush()
    from kalyx.__main__ import finish

    os._exit(finish(0))


def _answered(question: dict[str, Any]) -> list[Page]:
    """Return the pages of the answer; what went wrong is printed."""
    from kalyx.cli.within import begin_within
    from kalyx.core.facts.imports.kept_observation import live_python_of

    within = begin_within(live_python_of(question["live"]))
    if question["do"] == "failed":
        page = _of_failure(question)
        return [] if page is None else [page]
    import shlex

    from kalyx.cli import run

    try:
        words = shlex.split(str(question["words"]), posix=os.name != "nt")
    except ValueError as error:
        print(f"kalyx: {question['words']} cannot be read: {error}.")
        return []
    run([question["do"], *words])
    return within.pages


def _of_failure(question: dict[str, Any]) -> Page | None:
    """Return the page under the traceback of a cell; None where there is nothing to add."""
    from kalyx.cli.within import asked_within
    from kalyx.core.answers.this_machine import ASKING_LIMIT, PROBE_FOLDER, open_machine
    from kalyx.core.answers.why.live import answer_failed
    from kalyx.core.facts.seats.context import SeatContext
    from kalyx.show.pages import failed

    within = asked_within()
    assert within is not None
    machine, _ = open_machine()
    context = within.context(SeatContext(machine, machine.cwd, PROBE_FOLDER, ASKING_LIMIT, asks_when_read=False))
    told = {"chain": question["chain"], "loaded": question["loaded"]}
    answer = answer_failed(context, told, str(question["text"]), LIMIT)
    if answer is None:
        return None
    page = new_page()
    failed.lay_out(page, answer, within.live)
    return page if page.lines else None


def new_page() -> Page:
    """Return an empty page whose commands are lines of a cell."""
    from kalyx.core.quoting import name_of_shell
    from kalyx.show.page import Page

    page = Page(os.path.expanduser("~"), os.name == "nt", (), name_of_shell(sys.platform, os.environ))
    page.in_cell = True
    return page


def _as_text(page: Page) -> str:
    from kalyx.show.write import Writer

    stream = io.StringIO()
    writer = Writer(stream, "never")
    writer.columns, writer.unicode = COLUMNS, True
    writer.write(page)
    return stream.getvalue()
