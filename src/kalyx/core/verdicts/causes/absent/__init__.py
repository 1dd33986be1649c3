"""Group A: what is asked for is not there."""
