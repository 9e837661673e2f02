"""The document: a scene of pieces, its history, and its file."""
