"""What calls import later: libraries read, not run, to tell what a call asks for beyond the import."""
