"""What replaces modules of the standard library whose import would take longer than all else."""
