"""What Kalyx changes: planned first, written atomically, kept in a journal."""
