"""The rigid motion that comes nearest to how points moved."""

import numpy as np


def rigid_move(before: np.ndarray, after: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Turn (3, 3) and shift (3,), m, that take points ``before`` (n, 3), m, nearest to where they are ``after``.

    ``before @ turn.T + shift`` has the least sum of squares (Kabsch 1976); it never mirrors.
    """
    was, now = before.mean(axis=0), after.mean(axis=0)
    left, _, right = np.linalg.svd((after - now).T @ (before - was))
    flip = np.array([1.0, 1.0, np.sign(np.linalg.det(left @ right))])
    turn = (left * flip) @ right
    return turn, now - turn @ was
