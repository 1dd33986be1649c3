"""The extension of a notebook's kernel: ``%load_ext kalyx``.

What it does in the kernel is to remember and to tell; a process of its own judges that and answers. So nothing that
cells have changed, hidden or broken changes the answer, and no answer changes the kernel.
"""

from __future__ import annotations

import os
import sys
from json import loads  # these by their names: a cell may put something else into their modules
from subprocess import PIPE, Popen, TimeoutExpired
from traceback import format_exception

from kalyx.notebook.loaded import LoadedModules, version_of
from kalyx.probe import observe as probe

TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import Any

__all__ = ["Extension", "load_ipython_extension", "unload_ipython_extension"]

PATIENCE = 20.0     # seconds for the answer under a traceback
MOST_TEXT = 200_000  # characters of a traceback
MAGICS = ("why", "here", "packages")
# Starts the process that answers: isolated from the folder and the variables, Kalyx's own installation behind it
BOOT = ("import sys\nsys.path += [p for p in sys.argv[1:] if p not in sys.path]\n"
        "from kalyx.notebook.answering import main\nmain()")
observe: Any = probe
_extensions: dict[int, Extension] = {}


def load_ipython_extension(shell: Any) -> None:
    """Give a kernel ``%why``, ``%here``, ``%packages`` and ``%kalyx``, and the answer after a failed import."""
    if id(shell) not in _extensions:
        _extensions[id(shell)] = Extension(shell)


def unload_ipython_extension(shell: Any) -> None:
    """Take all of it away again."""
    extension = _extensions.pop(id(shell), None)
    if extension is not None:
        extension.remove()


class Extension:
    """What Kalyx is in one kernel."""

    def __init__(self, shell: Any) -> None:
        self.shell = shell
        self.answers = True
        self._path_then = [p for p in sys.path if isinstance(p, str)]
        self._own_path = _installation()
        self._loaded = LoadedModules()
        for name in MAGICS:
            shell.register_magic_function(self._magic(name), "line", name)
        shell.register_magic_function(self._switch, "line", "kalyx")
        shell.events.register("post_run_cell", self._after_cell)

    def remove(self) -> None:
        """Take the magics and the hook away."""
        self.shell.events.unregister("post_run_cell", self._after_cell)
        for name in (*MAGICS, "kalyx"):
            self.shell.magics_manager.magics["line"].pop(name, None)

    def _switch(self, line: str) -> None:
        """``%kalyx off`` and ``%kalyx on``: whether there is an answer after a cell that failed to import."""
        word = line.strip()
        if word in ("on", "off"):
            self.answers = word == "on"
        elif word:
            print(f"kalyx: {word!r} is neither on nor off.\n       Write %kalyx off or %kalyx on.", file=sys.stderr)
            return
        print("After a cell that failed to import, Kalyx says why." if self.answers else
              "Kalyx says nothing of its own accord; %why MODULE asks it.")

    def _magic(self, name: str) -> Any:
        def magic(line: str) -> None:
            self._show(self._ask({"do": name, "words": line}, None))

        magic.__doc__ = f"Answer as ``kalyx {name}`` does, for this kernel; %{name} --help says what may follow."
        return magic

    # -- after a cell ---------------------------------------------------------------------------
    def _after_cell(self, result: Any) -> None:
        """Answer under the traceback of a cell that failed to import; of all others only remember what they loaded."""
        try:
            self._loaded.look()
            error = getattr(result, "error_in_exec", None)
            if error is not None and self.answers and self._is_of_import(error):
                answer = self._ask({"do": "failed", **self._told(error)}, PATIENCE)
                self._show(answer if answer and answer.get("html") else None)
        except (Exception, KeyboardInterrupt):  # the traceback is there; no answer is not worth another one
            pass

    def _is_of_import(self, error: BaseException) -> bool:
        """Whether an exception is an import's: by its kind, that of its cause, or as it came while code was loaded."""
        cause: BaseException | None = error
        while cause is not None:
            if isinstance(cause, ImportError):
                return True
            cause = cause.__cause__
        if isinstance(error, SyntaxError) and os.path.isfile(str(error.filename)):  # of a module, and no cell's
            return True
        traceback = error.__traceback__
        while traceback is not None:
            frame = traceback.tb_frame
            if frame.f_code.co_name == "<module>" and frame.f_globals is not self.shell.user_ns \
                    and frame.f_globals.get("__spec__") is not None and frame.f_globals.get("__name__") != "__main__":
                return True
            traceback = traceback.tb_next
        return False

    def _told(self, error: BaseException) -> dict[str, Any]:
        """Return an exception as the probe describes one, and its traceback as text, both from the cell on."""
        start = traceback = error.__traceback__
        while traceback is not None:  # the last frame that is a cell's: what called it is no matter
            start = traceback if traceback.tb_frame.f_globals is self.shell.user_ns else start
            traceback = traceback.tb_next
        chain = observe.chain_of(error, start)
        for entry in chain:
            entry["frames"] = [{"file": f, "line": n, "function": w} for f, n, w in entry["frames"]]
        named = {str(entry["name"]) for entry in chain if entry["name"]}
        loaded = observe.loaded_since(set(), {part for name in named for part in observe.parents_of(name)})
        return {"chain": chain, "loaded": loaded,
                "text": "".join(format_exception(type(error), error, start))[-MOST_TEXT:]}

    # -- asking, in a process of its own -----------------------------------------------------------
    def _ask(self, question: dict[str, Any], limit: float | None) -> dict[str, str] | None:
        """Return the answer as text and as HTML; None where there is none."""
        self._loaded.look()
        live = {"pid": os.getpid(), "python": observe.who(), "path_then": self._path_then,
                "changed": self._loaded.changed(),
                "loaded": {name: [observe.text_or_none(observe.attributes(module).get("__file__")), version_of(module)]
                           for name, module in list(sys.modules.items())
                           if isinstance(name, str) and "." not in name and module is not None}}
        asked = observe.dump({**question, "live": live}).encode("ascii")
        if not sys.executable:
            return _trouble("This kernel does not know which Python it is (sys.executable is empty).")
        argv = [sys.executable, "-I", "-c", BOOT, *self._own_path]
        try:
            with Popen(argv, stdin=PIPE, stdout=PIPE, stderr=PIPE) as child:
                try:
                    out, err = child.communicate(asked, limit)
                except BaseException:  # too late, or interrupted
                    child.kill()
                    raise
            answer = loads(out)
        except TimeoutExpired:
            return None
        except OSError as error:
            return _trouble(f"{sys.executable} cannot be started: {error.strerror or error}.")
        except ValueError:
            return _trouble(f"There is no answer: {err.decode('utf-8', 'replace').strip().split(chr(10))[-1]}")
        return answer if isinstance(answer, dict) else None

    def _show(self, answer: dict[str, str] | None) -> None:
        """Show an answer: rich where the front end can, as text everywhere else."""
        if not answer or not answer.get("text"):
            return
        if not answer.get("html"):
            print(answer["text"], file=sys.stderr if answer["text"].startswith("kalyx: ") else sys.stdout)
            return
        display: Any = __import__("IPython.display", fromlist=["display"]).display
        display({"text/plain": answer["text"], "text/html": answer["html"]}, raw=True)


def _trouble(says: str) -> dict[str, str]:
    return {"text": f"kalyx: {says}", "html": ""}


def _installation() -> list[str]:
    """Return where Kalyx and what it needs lie; neither the notebook's folder nor what cells put on the path."""
    own = os.path.dirname(os.path.dirname(os.path.dirname(os.path.abspath(__file__))))
    folder = os.getcwd()
    rest = [p for p in sys.path if isinstance(p, str) and os.path.isabs(p) and p not in (own, folder)
            and os.path.basename(p) in ("site-packages", "dist-packages")]
    return [own, *rest]
