"""The page with everything about the chosen piece."""
