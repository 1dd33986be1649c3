"""`kalyx why`: a module, a file or folder, without running, or from a traceback."""
