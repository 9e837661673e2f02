"""The outside of the cells that carry solids, as triangles to draw."""

from dataclasses import dataclass

import numpy as np

from rubberquince.bake.assemble import carrier_key, lattice_of
from rubberquince.document.bodies import Meshes
from rubberquince.document.scene import Piece
from rubberquince.kernels.octahedron import TETS
from rubberquince.shapes.lattice import Lattice

FACES = np.array([[0, 1, 2], [0, 3, 1], [0, 2, 3], [1, 3, 2]])


@dataclass(frozen=True, eq=False)
class Cells:
    """The nodes of a carrier (n, 3), m, about the centre of its piece, and its outside (t, 3) by node numbers."""

    carrier: str
    nodes: np.ndarray
    outside: np.ndarray


def cells_of(piece: Piece, meshes: Meshes, quality: str) -> Cells:
    """Fill a solid with its cells, which may take long.  Raises ShapeError when it cannot be."""
    lattice = lattice_of(piece, meshes, quality)
    return Cells(carrier_key(piece, meshes, quality), lattice.nodes, outside(lattice))


def outside(lattice: Lattice) -> np.ndarray:
    """Triangles (t, 3) of lattice nodes that only one filled tetrahedron has."""
    tets = np.concatenate([lattice.corner[lattice.fill[:, m] > 0][:, tet] for m, tet in enumerate(TETS)])
    faces = tets[:, FACES].reshape(-1, 3)
    _, first, count = np.unique(np.sort(faces, axis=1), axis=0, return_index=True, return_counts=True)
    return faces[first[count == 1]]


def surface(cells: Cells, piece: Piece, at_frame: tuple[str, np.ndarray] | None) -> np.ndarray | None:
    """Corners (n, 3, 3) float32 m of the cells' outside.

    at_frame : carrier key and places (n, 3), m, of the piece's nodes at a frame; without it the piece stands as it is
    placed.  None when the frame was computed with other cells: there is nothing true to show of it.
    """
    if at_frame is None:
        nodes = cells.nodes @ piece.place.rotation().T + np.array(piece.place.position)
    elif at_frame[0] == cells.carrier:
        nodes = at_frame[1]
    else:
        return None
    return nodes[cells.outside].astype(np.float32)
