"""Kalyx in real kernels."""
