"""The one door to the outside: files, variables, processes, children."""
