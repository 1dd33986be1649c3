"""Environments: where they are, what they hold, who uses them."""
