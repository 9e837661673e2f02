"""What every reader ends with: a checked mesh."""

import numpy as np

from rubberquince.errors import ShapeError
from rubberquince.shapes.polymesh import PolyMesh

NO_UVS = np.zeros((0, 2), np.float32)
NO_CORNERS = np.zeros(0, np.int64)
MOST_SIDES = 2000           # of a face: more is no polygon that anybody models


def tidy(points: np.ndarray, sizes: np.ndarray, corners: np.ndarray, uvs: np.ndarray = NO_UVS,
         uv_corners: np.ndarray = NO_CORNERS) -> PolyMesh:
    """A checked mesh: faces of fewer than three corners and points without a face are left out.

    points (n, 3); sizes (faces,) and corners (sum of sizes,) as in PolyMesh.  Raises ShapeError.
    """
    keep = np.repeat(sizes >= 3, sizes)
    if len(keep) != len(corners):
        raise ShapeError("The mesh is damaged: its faces do not add up.")
    corners, sizes = corners[keep], sizes[sizes >= 3]
    uv_corners = uv_corners[keep] if len(uv_corners) else uv_corners
    if not len(sizes):
        raise ShapeError("The mesh is empty: it needs at least one face.")
    if sizes.max() > MOST_SIDES:
        raise ShapeError(f"The mesh has a face of {sizes.max()} corners; {MOST_SIDES} are the most that can be used.")
    if corners.min() < 0 or corners.max() >= len(points):
        raise ShapeError("The mesh is damaged: a face names a point that does not exist.")
    used, index = np.unique(corners, return_inverse=True)
    has_uv = len(uvs) > 0 and len(uv_corners) > 0 and bool((uv_corners >= 0).all())
    return PolyMesh(points[used], sizes.astype(np.int32), index.reshape(-1).astype(np.int32),
                    uvs if has_uv else NO_UVS, (uv_corners if has_uv else NO_CORNERS).astype(np.int32))
