"""Places for balls that do not touch: inside a skin, or on it."""

import igl
import numpy as np
from scipy.spatial import cKDTree

from rubberquince.errors import ShapeError
from rubberquince.shapes.primitives import close_packed

MOST = 5000                 # balls
APART = 1.02                # of their width, from middle to middle
TRIES = 40                  # places on a skin for each ball that it could hold


def inside(points: np.ndarray, triangles: np.ndarray, radius: float) -> np.ndarray:
    """Middles (k, 3), m, of balls of a ``radius`` side by side inside a skin.

    Raises ShapeError when none fits, or they would be too many.
    """
    low, high = points.min(axis=0), points.max(axis=0)
    step = 2.0 * APART * radius / np.sqrt(2.0)
    half = np.ceil(0.5 * (high - low) / step) + 1.0
    if half.prod() > 100 * MOST:
        raise ShapeError(_too_many(radius))
    place = close_packed(half.astype(np.int64)) * step + 0.5 * (low + high)
    place = np.ascontiguousarray(place[((place > low) & (place < high)).all(axis=1)])
    return _that_fit(place, points, triangles, radius, filled=True)


def upon(points: np.ndarray, triangles: np.ndarray, radius: float, seed: int) -> np.ndarray:
    """Middles (k, 3), m, of balls of a ``radius`` that lie on the outside of a skin, at random (Bridson 2007's darts).

    Raises ShapeError when none fits, or they would be too many.
    """
    a, b, c = (points[triangles[:, k]] for k in range(3))
    normal = np.cross(b - a, c - a)
    area = 0.5 * np.linalg.norm(normal, axis=1)
    holds = area.sum() / (np.sqrt(12.0) * radius ** 2)          # of them side by side
    if not 0.0 < holds < 10 * MOST:
        raise ShapeError(_too_many(radius) if holds else "It has no skin to lie on.")
    rng = np.random.default_rng(seed)
    face = rng.choice(len(area), int(TRIES * holds) + TRIES, p=area / area.sum())
    u, v = rng.uniform(size=(2, len(face), 1))
    u, v = np.where(u + v > 1.0, 1.0 - u, u), np.where(u + v > 1.0, 1.0 - v, v)
    out = normal[face] / np.maximum(np.linalg.norm(normal[face], axis=1, keepdims=True), 1e-300)
    place = a[face] + u * (b - a)[face] + v * (c - a)[face] + APART * radius * out
    place = _that_fit(np.ascontiguousarray(place), points, triangles, radius, filled=False)
    tree, taken, kept = cKDTree(place), np.zeros(len(place), bool), []
    for k in range(len(place)):
        if not taken[k]:
            kept.append(k)
            taken[tree.query_ball_point(place[k], 2.0 * APART * radius)] = True
    if len(kept) > MOST:
        raise ShapeError(_too_many(radius))
    return place[kept]


def _that_fit(place: np.ndarray, points: np.ndarray, triangles: np.ndarray, radius: float, filled: bool) -> np.ndarray:
    """Those of the places (k, 3) that are a radius from the skin, inside it if it is to be ``filled``, else outside."""
    faces, fits = triangles.astype(np.int64), np.zeros(len(place), bool)
    if len(place):
        far = np.sqrt(igl.point_mesh_squared_distance(place, points, faces)[0])
        within = np.abs(igl.fast_winding_number(points, faces, place)) > 0.5
        fits = (far >= radius) & (within == filled)
    if not fits.any():
        raise ShapeError(f"No ball {2000.0 * radius:.3g} mm wide fits there; make them smaller.")
    if filled and fits.sum() > MOST:
        raise ShapeError(_too_many(radius))
    return place[fits]


def _too_many(radius: float) -> str:
    return f"Balls {2000.0 * radius:.3g} mm wide would be more than {MOST:,} there; make them larger.".replace(",", " ")
