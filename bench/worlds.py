"""Builds what the larger measurements need: an environment of many distributions, many environments."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

__all__ = ["lacking_package", "lived_in_folder", "many_distributions", "many_environments",
           "many_files", "many_kernels", "thirty_imports"]

BASE = getattr(sys, "_base_executable", None) or sys.executable


def make_venv(folder: Path, *options: str) -> Path:
    """Make an environment; return its site-packages."""
    subprocess.run([BASE, "-m", "venv", *options, folder], check=True, stdin=subprocess.DEVNULL)
    return next(folder.glob("lib/python*/site-packages"))


def many_distributions(folder: Path, count: int) -> str:
    """Make an environment with pip and `count` distributions; return its interpreter."""
    site = make_venv(folder / "crowded")
    description = "A line of a description that nobody reads.\n" * 60
    for number in range(count):
        name = f"made_up_{number}"
        info = site / f"{name}-1.{number}.dist-info"
        info.mkdir()
        (site / name).mkdir()
        (site / name / "__init__.py").touch()
        (info / "METADATA").write_text(f"Metadata-Version: 2.1\nName: {name}\nVersion: 1.{number}\n"
                                       f"Requires-Dist: made_up_{max(0, number - 1)}\n\n{description}")
        (info / "INSTALLER").write_text("pip\n")
        rows = [f"{name}/part_{n}.py,sha256=x,10" for n in range(40)]
        (info / "RECORD").write_text("\n".join([*rows, f"{info.name}/METADATA,,"]) + "\n")
    return str(folder / "crowded" / "bin" / "python")


def many_files(folder: Path, count: int) -> str:
    """Make an environment of about `count` files, as many distributions install them; return its interpreter."""
    site = make_venv(folder / "large", "--without-pip")
    for number in range(count // 400):
        name, rows = f"made_up_{number}", []
        info = site / f"{name}-1.0.dist-info"
        info.mkdir()
        for part in range(20):
            (site / name / f"p{part}" / "__pycache__").mkdir(parents=True)
            for module in range(10):
                for path in (f"{name}/p{part}/m{module}.py", f"{name}/p{part}/__pycache__/m{module}.cpython-311.pyc"):
                    (site / path).touch()
                    rows.append(f"{path},sha256={'x' * 43},0")
        (info / "METADATA").write_text(f"Metadata-Version: 2.1\nName: {name}\nVersion: 1.0\n")
        (info / "RECORD").write_text("\n".join(rows) + "\n")
    return str(folder / "large" / "bin" / "python")


def many_environments(folder: Path, count: int) -> None:
    """Make `count` environments below a folder: real files of a real one, linked."""
    model = folder / "model"
    make_venv(model, "--without-pip")
    packages = [f"made_up_{n}" for n in range(40)]
    config = (model / "pyvenv.cfg").read_text()
    short = next(model.glob("lib/python*")).name
    for number in range(count):
        env = folder / "envs" / f"e{number}"
        (env / "bin").mkdir(parents=True)
        site = env / "lib" / short / "site-packages"
        site.mkdir(parents=True)
        for name in packages:
            (site / name).mkdir()
            (site / f"{name}-1.0.dist-info").mkdir()
        (env / "pyvenv.cfg").write_text(config)
        (env / "bin" / "python").symlink_to((model / "bin" / "python").resolve())


THIRTY = [
    "argparse", "ast", "asyncio", "base64", "bz2", "calendar", "collections", "concurrent.futures",
    "csv", "datetime", "decimal", "difflib", "email.message", "fractions", "html.parser", "http.client",
    "inspect", "json", "logging.handlers", "lzma", "multiprocessing", "pathlib", "pickle", "sqlite3",
    "ssl", "statistics", "tarfile", "unittest.mock", "urllib.request", "xml.etree.ElementTree",
]


def thirty_imports(folder: Path) -> None:
    """Write a notebook and a script with the same thirty imports."""
    folder.mkdir(parents=True)
    lines = [f"import {name}\n" for name in THIRTY]
    (folder / "thirty.py").write_text("".join(lines))
    cell = {"cell_type": "code", "metadata": {}, "source": lines, "outputs": [], "execution_count": None}
    (folder / "thirty.ipynb").write_text(json.dumps(
        {"cells": [cell], "metadata": {}, "nbformat": 4, "nbformat_minor": 4}))


def thirty_notebooks(folder: Path) -> None:
    """Make a folder of thirty notebooks, each of ten cells with an import in it."""
    folder.mkdir()
    modules = sorted(sys.stdlib_module_names)
    for number in range(30):
        wanted = [modules[(number * 7 + n) % len(modules)] for n in range(10)]
        cells = [{"cell_type": "code", "metadata": {}, "execution_count": None, "outputs": [],
                  "source": [f"import {name}\n", "x = 1\n"]} for name in wanted]
        (folder / f"n{number:02d}.ipynb").write_text(json.dumps({
            "cells": cells, "metadata": {"kernelspec": {"name": "python3", "display_name": "Python 3"}}, "nbformat": 4,
            "nbformat_minor": 4}), encoding="utf-8")


def lacking_package(folder: Path) -> None:
    """Write a package that loads what packages usually load, and then something that is not there."""
    (folder / "lacking").mkdir(parents=True)
    (folder / "lacking" / "__init__.py").write_text(
        "import dataclasses, json, logging, pathlib, re, urllib.request\nfrom lacking.part import nothing\n")
    (folder / "lacking" / "part.py").write_text("import nope_at_all\n")


def many_kernels(folder: Path, count: int) -> str:
    """Make an environment and register it `count` times; return the data folder."""
    site = make_venv(folder / "env", "--without-pip")
    (site / "ipykernel_launcher.py").touch()
    for number in range(count):
        spec = folder / "data" / "kernels" / f"k{number}" / "kernel.json"
        spec.parent.mkdir(parents=True)
        spec.write_text(json.dumps({"argv": [str(folder / "env/bin/python"), "-m", "ipykernel_launcher", "-f",
                                             "{connection_file}"], "display_name": f"k{number}",
                                    "language": "python"}))
    return str(folder / "data")


def lived_in_folder(folder: Path) -> Path:
    """Make a project with an environment, settings, five kernels and notebooks; return it."""
    project = folder / "project"
    site = make_venv(project / ".venv", "--without-pip")
    (site / "ipykernel_launcher.py").touch()
    (project / ".vscode").mkdir()
    (project / ".vscode" / "settings.json").write_text(
        '{"python.defaultInterpreterPath": "${workspaceFolder}/.venv/bin/python"}')
    for number in range(5):
        spec = folder / "home" / ".local/share/jupyter/kernels" / f"k{number}" / "kernel.json"
        spec.parent.mkdir(parents=True)
        spec.write_text(json.dumps({"argv": [str(project / ".venv/bin/python"), "-m",
                                             "ipykernel_launcher", "-f", "{connection_file}"],
                                    "display_name": f"k{number}", "language": "python"}))
        (project / f"n{number}.ipynb").write_text(json.dumps(
            {"cells": [], "metadata": {"kernelspec": {"name": f"k{number}", "display_name": "K"}},
             "nbformat": 4, "nbformat_minor": 4}))
    return project


def large_project(folder: Path, count: int) -> None:
    """Make a project of so many modules, each a copy of one of the standard library's, in packages of fifty."""
    library = Path(os.__file__).parent
    sources = sorted(p for p in library.glob("*.py") if p.stat().st_size < 30_000)
    for number in range(count):
        package = folder / f"part{number // 50}"
        package.mkdir(parents=True, exist_ok=True)
        (package / "__init__.py").touch()
        (package / f"module{number}.py").write_bytes(sources[number % len(sources)].read_bytes())
