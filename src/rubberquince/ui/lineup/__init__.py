"""The strip of cards, one a piece."""
