"""Figures of the chosen piece at the shown frame."""
