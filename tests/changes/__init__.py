"""What changes files, and takes it back."""
