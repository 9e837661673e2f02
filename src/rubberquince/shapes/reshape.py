"""Shapes that are bent, twisted, tapered, swollen or squashed along one of their axes (Barr 1984)."""

from dataclasses import dataclass

import numpy as np

THINNEST = 0.05             # of its width: no part is drawn in farther
STRAIGHT = 1e-6             # rad: what is bent by less is straight


@dataclass(frozen=True)
class Reshape:
    """How a shape is deformed along ``axis`` 0 .. 2; its lower end there stays where it is.

    squash : its length, of the one it had, with its volume kept.  taper : what its upper end is wider by, as a part;
    swell : the same of its middle.  twist, bend : rad, of the upper end against the lower.
    toward : rad, the way that it bends, about the axis.
    """

    axis: int
    bend: float = 0.0
    toward: float = 0.0
    twist: float = 0.0
    taper: float = 0.0
    swell: float = 0.0
    squash: float = 1.0


def reshaped(points: np.ndarray, size: np.ndarray, how: Reshape) -> np.ndarray:
    """Points (n, 3), m, of a shape of a ``size`` (3,), m, about its middle, deformed as ``how`` says."""
    a, b, c = how.axis, (how.axis + 1) % 3, (how.axis + 2) % 3
    length = max(float(size[a]), 1e-9)
    share = (points[:, a] + 0.5 * length) / length
    wide = np.maximum((1.0 + how.taper * share) * (1.0 + how.swell * 4.0 * share * (1.0 - share)), THINNEST)
    wide = wide / np.sqrt(how.squash)
    p, q = _turned(wide * points[:, b], wide * points[:, c], how.twist * share - how.toward)
    along, curve = how.squash * length * share, how.bend / (how.squash * length)
    turn = curve * along
    if abs(how.bend) > STRAIGHT:
        p, along = p * np.cos(turn) + (1.0 - np.cos(turn)) / curve, np.sin(turn) / curve - p * np.sin(turn)
    p, q = _turned(p, q, np.full(len(p), how.toward))
    out = np.empty_like(points)
    out[:, a], out[:, b], out[:, c] = along - 0.5 * length, p, q
    return out


def _turned(p: np.ndarray, q: np.ndarray, angle: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    cos, sin = np.cos(angle), np.sin(angle)
    return cos * p - sin * q, sin * p + cos * q
