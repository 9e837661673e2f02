"""The solver process and the link to it."""
