"""Kalyx's own settings and files."""
