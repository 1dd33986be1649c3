"""Group E: compiled parts and the libraries that they need."""
