"""Group D: what was installed is not whole."""
