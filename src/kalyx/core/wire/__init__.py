"""The kernel messaging protocol, as a client."""
