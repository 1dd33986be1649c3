"""Pure functions from facts to findings. One cause, one function, one place."""
