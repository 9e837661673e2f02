"""Work on many things alike, shared among threads."""

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from itertools import pairwise
from typing import TypeVar

import numpy as np
from numba import config

PARTS = 8           # that work is cut into, in any number of threads, as parts take unlike times

Result = TypeVar("Result")
_pool = ThreadPoolExecutor(config.NUMBA_NUM_THREADS)


def shared(work: Callable[[int, int], Result], count: int, few: int) -> list[Result]:
    """What ``work`` says of all of ``count`` things, asked from one to another of them; in their order.

    It must release the interpreter and write nowhere twice.  Up to a ``few`` things are not worth a thread.
    """
    if count <= few:
        return [work(0, count)]
    ends = np.linspace(0, count, PARTS + 1).astype(int).tolist()
    return list(_pool.map(lambda span: work(*span), pairwise(ends)))
