"""Measures Kalyx as ratios, in one run, against what it cannot be quicker than."""
