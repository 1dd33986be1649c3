"""One import, tried at one seat, and what may be asked about it."""
