"""Group B: it is there, and the interpreter does not get to it."""
