"""Group F: the code itself."""
