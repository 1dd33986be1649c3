"""Seats: the places that start Python, found and followed to their interpreter."""
