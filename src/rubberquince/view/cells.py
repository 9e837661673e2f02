"""The outside of the cells that carry solids, as triangles to draw."""

from collections import OrderedDict

import numpy as np

from rubberquince.bake.assemble import carrier_key, lattice_of
from rubberquince.document.bodies import Meshes
from rubberquince.document.scene import Scene
from rubberquince.errors import ShapeError
from rubberquince.kernels.octahedron import TETS
from rubberquince.shapes.lattice import Lattice

FACES = np.array([[0, 1, 2], [0, 3, 1], [0, 2, 3], [1, 3, 2]])
MOST_KEPT = 8
_kept: "OrderedDict[Lattice, np.ndarray]" = OrderedDict()


def outside(lattice: Lattice) -> np.ndarray:
    """Triangles (t, 3) of lattice nodes that only one filled tetrahedron has."""
    if lattice not in _kept:
        tets = np.concatenate([lattice.corner[lattice.fill[:, m] > 0][:, tet] for m, tet in enumerate(TETS)])
        faces = tets[:, FACES].reshape(-1, 3)
        _, first, count = np.unique(np.sort(faces, axis=1), axis=0, return_index=True, return_counts=True)
        _kept[lattice] = faces[first[count == 1]]
        while len(_kept) > MOST_KEPT:
            _kept.popitem(last=False)
    return _kept[lattice]


def cell_surfaces(scene: Scene, meshes: Meshes, nodes: dict[str, tuple[str, np.ndarray]]) -> dict[str, np.ndarray]:
    """Corners (n, 3, 3) float32 m of the cells' outside, by piece id.

    nodes : carrier key and places (n, 3), m, of each piece's nodes at a frame.  What is not among them stands as it
    is placed; what was computed with other cells is left out: there is nothing true to show of it.
    """
    surfaces = {}
    for piece in scene.pieces:
        if piece.role != "solid":
            continue
        try:
            lattice = lattice_of(piece, meshes)
        except ShapeError:
            continue
        if piece.id not in nodes:
            at = lattice.nodes @ piece.place.rotation().T + np.array(piece.place.position)
        elif nodes[piece.id][0] == carrier_key(piece, meshes):
            at = nodes[piece.id][1]
        else:
            continue
        surfaces[piece.id] = at[outside(lattice)].astype(np.float32)
    return surfaces
