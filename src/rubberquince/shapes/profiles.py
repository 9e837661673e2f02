"""Profiles of common revolved shapes: (radius, height, flute depth), bottom to top."""

import numpy as np

Profile = tuple[tuple[float, float, float], ...]


def capsule(aspect: float = 2.0) -> Profile:
    """A cylinder with round ends, ``aspect`` times as high as wide."""
    angle = np.linspace(0.0, np.pi / 2, 13)
    low = np.stack([0.5 * np.sin(angle), 0.5 - 0.5 * np.cos(angle)], axis=1)
    high = np.stack([low[::-1, 0], aspect - low[::-1, 1]], axis=1)
    return _profile(np.concatenate([low, high]))


def disc(roundness: float = 0.5) -> Profile:
    """A flat round pad; ``roundness`` 0 .. 1 is how much of its height the rounded edge takes."""
    angle = np.linspace(-np.pi / 2, np.pi / 2, 13)
    edge = 0.1 * roundness
    middle = np.where(angle < 0, edge, 0.2 - edge)
    rim = np.stack([1.0 - edge + edge * np.cos(angle), middle + edge * np.sin(angle)], axis=1)
    return _profile(np.concatenate([[[0.0, 0.0]], rim, [[0.0, 0.2]]]))


def bell() -> Profile:
    """A handful of points that make a round-bellied bell, to be dragged into another form."""
    return ((0.0, 0.0, 0.0), (0.5, 0.0, 0.0), (0.56, 0.12, 0.0), (0.42, 0.42, 0.0), (0.34, 0.72, 0.0), (0.2, 0.98, 0.0),
            (0.0, 1.0, 0.0))


def rod() -> Profile:
    """A long thin rod with flat ends."""
    return ((0.0, 0.0, 0.0), (0.02, 0.0, 0.0), (0.02, 2.0, 0.0), (0.0, 2.0, 0.0))


def arrow() -> Profile:
    """An arrow that points along y."""
    return ((0.0, 0.0, 0.0), (0.07, 0.0, 0.0), (0.07, 0.62, 0.0), (0.2, 0.62, 0.0), (0.0, 1.0, 0.0))


def _profile(points: np.ndarray) -> Profile:
    points[[0, -1], 0] = 0.0
    return tuple((float(r), float(h), 0.0) for r, h in np.round(points, 5))
