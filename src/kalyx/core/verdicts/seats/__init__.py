"""Group G: what is wrong with a seat, an environment, a kernel."""
