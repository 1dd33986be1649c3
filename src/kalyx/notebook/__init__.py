"""Kalyx in a notebook: what runs in the kernel, as little as possible, and the process of its own that answers."""
