"""What is carried from machine to machine: snapshots, what a beacon printed, and what of them is harmless."""
