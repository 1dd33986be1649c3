"""Files that run inside other interpreters: standard library only, Python 2.7 and 3.4 onwards."""
