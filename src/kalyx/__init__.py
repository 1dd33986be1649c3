"""Kalyx: which Python is really used here, and why an import fails in it."""

__all__ = ["__version__"]

__version__ = "0.1.0"
