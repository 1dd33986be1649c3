"""Installed distributions, their metadata, and what projects ask for."""
