"""Rubber Quince: a workbench for soft things."""

__version__ = "0.1.0"
