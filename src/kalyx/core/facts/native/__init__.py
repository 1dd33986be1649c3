"""Compiled files, and the loader that brings them in."""
