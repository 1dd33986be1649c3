"""What takes the disk space, and what would go with what."""
