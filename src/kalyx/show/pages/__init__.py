"""One page for each command, named as the command: what a person reads of its answer."""
