"""Pages of HTML: one file each, that loads nothing."""
