"""What no file of the machine can tell, as data."""
