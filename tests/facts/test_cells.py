"""What notebooks' cells import: held against the shell that runs them, with every module of ours there."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

import pytest

from kalyx.core.facts.source_code.cell_magics import files_run, put_in, python_of
from kalyx.core.facts.source_code.imports import read_source
from kalyx.core.machine.local import RealMachine

CELLS = (  # modules whose names end in a digit are imported, those that are called `never` are not
    "import lost_1  # or another?\nimport lost_2  # 50% of it!", "x = ('%s'\n     % 3)\nimport lost_1",
    "s = '''\n%%bash\n!ls\nwhy?\n%s''' % 3\nimport lost_1", "y = [1,\n2\n% 3]\nimport lost_1",
    "z = 7 \\\n % 3\nimport lost_1", "!echo it's\nimport lost_1", "!true \\\n  import never\nimport lost_1",
    "d = {}\nd['x'] = !true\nimport lost_1", "r = %pwd\nimport lost_1", "x = 3 != 4\nimport lost_1",
    "x = {\n'a': 1,  # it's (\n}\n!true\nimport lost_1", "s = \"a'''b\"\n%time import lost_1",
    "f'{3:>10}'\n!true\nimport lost_1",
    "def f(a=3, *, b='='):\n    '''Why?\n    >>> import never\n    '''\nimport lost_1",
    "if True:\n    !true\n    import lost_1\n    %time import lost_2",
    "with open(__import__('os').devnull) as g:\n\t!true",
    "print?\nimport lost_1", "import never?", "?print\n??print\nprint??\nimport lost_1", "# import never?",
    "s = 'import never?'", "q = [1]\nq[0]?\nimport lost_1", "%time import lost_1", "%timeit -n 1 -r1 import lost_1",
    "r = %timeit -n1 -r1 -o import lost_1", "%time %time import lost_1", "%time !echo import never",
    "%time x = 3; import lost_1", "%prun -q -l 3 import lost_1", "%load_ext lost_1\n%reload_ext lost_2.part3",
    "%time %load_ext lost_9", "%load_ext autoreload\n%aimport lost_1, lost_2\n%aimport -never", "%matplotlib --list",
    "%%time\nimport lost_1", "%%capture out\n%%time\n\nimport lost_1", "%%timeit -n1 -r1 import lost_1\nimport lost_2",
    "%%bash\nimport never", "%%capture\n%%bash\nimport never", "%%writefile never.txt\nimport never",
    "\n\n%%time\nimport lost_1\n",
    "    import lost_1\n    import lost_2",
    ">>> import lost_1\n>>> if True:\n...     import lost_2\n",
    "In [3]: import lost_1\n   ...: import lost_2", "time import lost_1", "load_ext lost_8", "cd .\n",
    "pip --version",
    "time = 3", "ls -d . import never", ";print a b\n,print a b\n/print 3\nimport lost_1",
    "import lost_1\r\n!true\r\nimport lost_2",
    "", "%time", "!", "%", "%%", "?", "x = !true # import never",
    "try:\n    import lost_1\nexcept ImportError:\n    !true",
)
FAIL = (  # and what the shell cannot run: nothing of it is imported, and that is said
    "x = y = !true\nimport never", "x += 1; !true", "x = (!true)", "print('a',\n 'b')?", "if True: !true",
)
SHELL = """
import contextlib, importlib.abc, importlib.machinery, json, sys
from IPython.core.interactiveshell import InteractiveShell
class Finder(importlib.abc.MetaPathFinder, importlib.abc.Loader):
    asked = []
    def find_spec(self, name, path, target=None):
        if name.startswith(("lost_", "never")):
            self.asked.append(name)
            return importlib.machinery.ModuleSpec(name, self, is_package=True)
    def create_module(self, spec):
        return None
    def exec_module(self, module):
        module.load_ipython_extension = lambda shell: None
sys.meta_path.insert(0, Finder())
shell, found = InteractiveShell.instance(), []
shell.history_manager.enabled = False
for cell in json.load(sys.stdin):
    Finder.asked.clear()
    with contextlib.redirect_stdout(sys.stderr):
        done = shell.run_cell(cell)
    error = done.error_before_exec or done.error_in_exec
    found.append([sorted(set(Finder.asked)), isinstance(error, SyntaxError)])
    for name in [n for n in sys.modules if n.startswith(("lost_", "never"))]:
        del sys.modules[name]
print(json.dumps(found))
"""


def _read(folder: Path, cell: str) -> tuple[list[str], bool]:
    """Return what a cell imports, as read, and whether it is said that it cannot be."""
    path = folder / "a.ipynb"
    path.write_text(json.dumps({"cells": [{"cell_type": "code", "source": cell}], "metadata": {}, "nbformat": 4}))
    source = read_source(RealMachine(), str(path))
    names = {i.module for i in source.imports if i.module.startswith(("lost_", "never"))}
    return sorted(names), bool(source.trouble)


def test_cells_are_read_as_they_are_run(tmp_path: Path) -> None:
    """Magics are such only where a statement begins; what they import and run is read, and nothing besides."""
    pytest.importorskip("IPython")
    env = {**os.environ, "HOME": str(tmp_path), "IPYTHONDIR": str(tmp_path / "ipython")}
    done = subprocess.run([sys.executable, "-c", SHELL], input=json.dumps(CELLS + FAIL), capture_output=True, text=True,
                          cwd=tmp_path, env=env, check=True)
    ran = json.loads(done.stdout.splitlines()[-1])
    for cell, (asked, is_broken) in zip(CELLS + FAIL, ran, strict=True):
        names, trouble = _read(tmp_path, cell)
        assert trouble == is_broken == (cell in FAIL), cell
        if cell in CELLS:
            assert {name.partition(".")[0] for name in names} == {name.partition(".")[0] for name in asked}, cell
        assert "never" not in asked, cell


MEANT = {  # what is put in and run by magics, and what stands in their place
    "!pip install a 'b[x]>=1' -q -r more.txt": ["a", "b[x]>=1", "-r more.txt"],
    "%pip install --upgrade a": ["a"], "pip install a": ["a"], "!{sys.executable} -m pip install -U a b": ["a", "b"],
    "!apt-get -y install x && pip install a ; pip3 install b": ["a", "b"], "!sudo -H pip install a": [],
    "!sudo PIP_X=1 pip install a": ["a"], "!python -u -m pip -q install --index-url https://x.invalid a": ["a"],
    "!echo pip install a": [], "!pip uninstall a": [], "!pip install {name} $x": [], "# !pip install a": [],
    "%time !pip install a": ["a"], "!pip install a \\\n    b": ["a", "b"], "!C:\\py\\Scripts\\pip.exe install": [],
    "!pip install 'a": [], "x = !pip install a": ["a"], "s = '''\n!pip install a\n'''": [],
}
RUN = {
    "%run a.py": ["a.py"], "%run -i -t 'a b.py' x -m": ["a b.py"], "%run -N 3 sub\\a.py": ["sub\\a.py"],
    "%run -m a": [], "%run $x": [], "run a.py": ["a.py"], "%run -Z a.py": [], "x = %run a.py": ["a.py"], "%run": [],
    "s = '''\n%run a.py\n'''": [], "%time %run a.py": ["a.py"],
}


def test_what_magics_install_and_run() -> None:
    """Each command of a shell line counts, and what is run by a magic that times it; lines keep their numbers."""
    for cell, installed in MEANT.items():
        assert [word for word, _ in put_in(python_of(cell))] == installed, cell
    for cell, files in RUN.items():
        assert files_run(python_of(cell)) == files, cell
    for cell in (*CELLS, *FAIL, *MEANT, *RUN):
        assert len(python_of(cell).split("\n")) in (1, cell.count("\n") + 1), cell
    hostile = ("'''\n%x" * 9000, "(\n" * 30000, "!\\\n" * 30000, "%time " * 9000 + "!x",
               "x = '\\" * 30000, "[?\n" * 30000)
    for cell in hostile:
        assert isinstance(python_of(cell), str)
