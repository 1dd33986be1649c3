"""One function for each command: reads the facts, has them judged, returns the answer."""
