"""The window: one folder a zone, and what they share."""
