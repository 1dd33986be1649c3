"""A notebook as its reader sees it: a real front end in a real browser, without a screen."""

from __future__ import annotations

import base64
import json
import shutil
import subprocess
import sys
import time
import urllib.request
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest
import websocket

from tests.answers.test_kernels import _url_of
from tests.notebook.test_extension import LOAD, with_extension
from tests.support.build import World, site_of, write

FRONT_END = ("import sys\nsys.modules['rfc3987_syntax'] = None\nfrom jupyterlab.labapp import main\n"
             "sys.argv[1:] = ['--no-browser', '--port=0', '--ServerApp.token=seed', '--allow-root', "
             "'--expose-app-in-browser', '--ServerApp.root_dir=' + sys.argv[1], '--ServerApp.ip=127.0.0.1', "
             "'--LabApp.news_url=None', '--ServerApp.terminals_enabled=False']\nmain()")
CHROMIUM = ("--headless", "--no-sandbox", "--disable-gpu", "--no-first-run", "--disable-background-networking",
            "--disable-component-update", "--disable-sync", "--remote-debugging-port=0", "--remote-allow-origins=*",
            "--window-size=1280,800")


class Browser:
    """A page of a headless browser, driven by its debugging protocol."""

    def __init__(self, folder: Path) -> None:
        self.process = subprocess.Popen([shutil.which("chromium") or "", *CHROMIUM, f"--user-data-dir={folder}",
                                         "about:blank"], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        port = folder / "DevToolsActivePort"
        deadline = time.monotonic() + 60
        while not (port.exists() and port.read_text().strip()):
            assert time.monotonic() < deadline and self.process.poll() is None, "the browser did not start"
            time.sleep(0.1)
        with urllib.request.urlopen(f"http://127.0.0.1:{port.read_text().split()[0]}/json", timeout=30) as reply:
            page = next(p for p in json.load(reply) if p["type"] == "page")
        self.socket = websocket.create_connection(page["webSocketDebuggerUrl"], timeout=60)
        self.number = 0
        self.send("Emulation.setFocusEmulationEnabled", enabled=True)

    def send(self, method: str, **params: object) -> Any:
        """Send a command; return its result."""
        self.number += 1
        self.socket.send(json.dumps({"id": self.number, "method": method, "params": params}))
        while True:
            message = json.loads(self.socket.recv())
            if message.get("id") == self.number:
                return message.get("result", {})

    def evaluate(self, script: str) -> Any:
        """Run a script in the page; return its value."""
        found = self.send("Runtime.evaluate", expression=script, awaitPromise=True, returnByValue=True)
        return found.get("result", {}).get("value")

    def wait_for(self, script: str, seconds: float = 60) -> Any:
        """Wait until a script gives something; return that."""
        deadline = time.monotonic() + seconds
        while time.monotonic() < deadline:
            if value := self.evaluate(script):
                return value
            time.sleep(0.2)
        raise AssertionError(script)

    def picture(self, file: Path) -> None:
        """Save what the page looks like."""
        file.write_bytes(base64.b64decode(self.send("Page.captureScreenshot")["data"]))

    def end(self) -> None:
        """Close it."""
        self.socket.close()
        self.process.kill()
        self.process.wait(30)


@contextmanager
def front_end(world: World) -> Iterator[str]:
    """Run the front end's server in a world; give its address."""
    process = subprocess.Popen([sys.executable, "-W", "ignore", "-c", FRONT_END, str(world.project)], env={
        **world.env, "JUPYTER_RUNTIME_DIR": str(world.root / "runtime"), "IPYTHONDIR": str(world.root / "ipython"),
        "JUPYTER_CONFIG_DIR": str(world.root / "config")},
        stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    try:
        yield _url_of(world.root / "runtime", process)
    finally:
        process.terminate()
        process.wait(30)


READY = ("(app => { const w = app && [...app.shell.widgets('main')][0]; if (w) { app.shell.activateById(w.id); "
         "if (w.content) w.content.node.focus(); } return "
         "!!(w && w.sessionContext && w.sessionContext.session && app.shell.currentWidget === w && "
         "document.querySelector('.jp-Notebook .jp-Cell')) })(window.jupyterapp)")
RUN_ALL = "window.jupyterapp.commands.execute('notebook:run-all-cells').then(() => true)"
OUTPUTS = "[...document.querySelectorAll('.jp-OutputArea-output')].map(e => e.innerText)"


@pytest.mark.skipif(not shutil.which("chromium"), reason="no browser")
def test_answer_under_the_traceback(world: World) -> None:
    """Cells are run in the page: the answer stands under the traceback, whole, in the letters of the page."""
    world.wheels.install(world.wheels.add("germkit", "2.1.0", {
        "germkit/__init__.py": "from germkit import trial\n", "germkit/trial.py": "from traygrid import cells\n"},
        ["traygrid>=0.9"]), site_of(with_extension(world)))
    cells = [LOAD, "import germkit"]
    write(world.root / "config" / "labconfig" / "page_config.json", json.dumps(
        {"disabledExtensions": {"@jupyterlab/apputils-extension:announcements": True}}))  # it asks for news
    write(world.project / "trial.ipynb", json.dumps({
        "cells": [{"cell_type": "code", "execution_count": None, "id": f"c{n}", "metadata": {}, "outputs": [],
                   "source": code} for n, code in enumerate(cells)],
        "metadata": {"kernelspec": {"name": "lab", "display_name": "lab", "language": "python"}},
        "nbformat": 4, "nbformat_minor": 5}))
    with front_end(world) as url:
        browser = Browser(world.root / "browser")
        try:
            browser.send("Page.navigate", url=f"{url}lab/tree/trial.ipynb?token=seed")
            browser.wait_for(READY)
            browser.evaluate(RUN_ALL)  # it ends at the cell that fails
            shown = browser.wait_for(f"(x => x.length > 1 && x)({OUTPUTS})")
            browser.picture(world.root / "page.png")
            assert "ModuleNotFoundError: No module named 'traygrid'" in shown[0]
            assert "germkit 2.1.0 needs traygrid" in shown[1] and "-m pip install 'traygrid>=0.9'" in shown[1]
            style = browser.evaluate(
                "(e => { const s = getComputedStyle(e.querySelector('div')); return [s.borderLeftWidth, s.color, "
                "e.scrollWidth <= e.clientWidth + 1] })(document.querySelectorAll('.jp-OutputArea-output')[1])")
            assert style[0] != "0px" and style[2] is True
        finally:
            browser.end()
