"""The folders that an interpreter imports from: sys.path, .pth files, what is in them."""
