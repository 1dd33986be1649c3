"""The Python processes that run."""
