"""Numba functions: arrays in, arrays out, no state."""
