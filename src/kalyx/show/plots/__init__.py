"""Pictures, drawn with Matplotlib (the extra `plot`)."""
