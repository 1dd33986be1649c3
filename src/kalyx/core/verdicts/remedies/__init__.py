"""What to do, by what it changes."""
