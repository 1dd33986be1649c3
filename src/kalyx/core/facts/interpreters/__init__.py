"""Interpreters: what an executable is, and what may be run to learn it."""
