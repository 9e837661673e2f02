"""Rubber Quince: a workbench for soft things."""

import os

# A run must come to the same bits on any number of processors, but NumPy's linear algebra adds up long vectors in
# another order in each number of threads.  It heeds this only if it is said before NumPy is loaded.
os.environ["OPENBLAS_NUM_THREADS"] = "1"

__version__ = "0.1.0"
