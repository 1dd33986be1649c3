"""Tracebacks in texts that people paste."""
