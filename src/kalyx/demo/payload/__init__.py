"""Files that the demo packs into wheels; they run in the demo's own environments."""
