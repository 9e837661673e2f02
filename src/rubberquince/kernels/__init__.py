"""Numba functions: arrays in, arrays out, no state."""

import os

# Threads that wait by spinning take the second core from whoever else runs; it must be said before
# Numba starts its threads.
os.environ.setdefault("OMP_WAIT_POLICY", "passive")

# How small functions are compiled that make no arrays.  Numba counts who holds an array, and a function that is given
# one counts itself in and out: for the closest points of two edges that took longer than finding them.
LEAN = {"cache": True, "nogil": True, "_nrt": False}
