"""Which environments can run some code."""
