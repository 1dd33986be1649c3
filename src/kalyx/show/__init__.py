"""What a person or a program reads: text and JSON."""
