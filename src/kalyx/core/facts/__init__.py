"""Reads the machine into the model. Draws no conclusions."""
