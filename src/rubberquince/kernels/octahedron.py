"""The octahedron of four tetrahedra that lattices are made of; see kernels.elasticity."""

import numpy as np

# Tetrahedron m joins both centres with face corners m and m+1; local numbers ascend.
TETS = np.array([[0, 1, 2, 3], [0, 1, 3, 4], [0, 1, 4, 5], [0, 1, 2, 5]])


def octahedron_corners(axis: int) -> np.ndarray:
    """Rest positions (6, 3) of an octahedron along ``axis`` with cube edge 1, first centre at 0."""
    along = np.eye(3)[axis]
    side, up = np.eye(3)[(axis + 1) % 3] / 2, np.eye(3)[(axis + 2) % 3] / 2
    face = [-side - up, side - up, side + up, -side + up]
    return np.array([0 * along, along, *(along / 2 + f for f in face)])


def _gradient_table() -> np.ndarray:
    table = np.zeros((3, 4, 4, 3))
    for axis in range(3):
        x = octahedron_corners(axis)
        for m, tet in enumerate(TETS):
            edges = (x[tet[1:]] - x[tet[0]]).T
            inverse = np.linalg.inv(edges)
            table[axis, m, 1:] = inverse
            table[axis, m, 0] = -inverse.sum(axis=0)
    return table


GRADIENT = _gradient_table()                    # (axis, tet, corner, 3): shape gradients, 1/cube edge
