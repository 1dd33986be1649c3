"""What an exception, a loader's message, a line of code says."""
