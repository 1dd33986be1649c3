"""Kernelspecs, the folders that hold them, and the notebooks that name them."""
