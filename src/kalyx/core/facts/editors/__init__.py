"""The settings files of editors, as a table, and how they are read."""
