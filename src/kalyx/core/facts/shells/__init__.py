"""What a shell makes of a word, and what runs it."""
