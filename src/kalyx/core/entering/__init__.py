"""How a shell comes to use an environment, and how it gets back to what it was."""
