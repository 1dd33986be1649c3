"""How two sets of packages differ, and which of the differences matter."""
