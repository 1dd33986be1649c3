"""Group C: it is made for another Python or system."""
