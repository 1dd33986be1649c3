"""What source files say: imports, definitions, syntax."""
