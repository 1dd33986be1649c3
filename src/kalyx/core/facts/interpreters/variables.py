"""The variables that decide which Python runs and what it imports."""

from __future__ import annotations

__all__ = ["VARIABLES"]

VARIABLES = ("PYTHONPATH", "PYTHONHOME", "PYTHONUSERBASE", "PYTHONNOUSERSITE", "PYTHONSAFEPATH",
             "PYTHONPLATLIBDIR", "PYTHONEXECUTABLE", "__PYVENV_LAUNCHER__")
