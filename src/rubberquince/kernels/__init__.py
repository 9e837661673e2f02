"""Numba functions: arrays in, arrays out, no state."""

import os

# Threads that wait by spinning take the second core from whoever else runs; it must be said before
# Numba starts its threads.
os.environ.setdefault("OMP_WAIT_POLICY", "passive")
