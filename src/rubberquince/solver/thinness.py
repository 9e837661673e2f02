"""Thin parts: what bends over few cells is too stiff, what only stretches is not."""

from dataclasses import replace
from typing import Any

import numpy as np
from scipy.sparse import csr_array
from scipy.spatial import cKDTree

from rubberquince.kernels.octahedron import TETS
from rubberquince.shapes.lattice import Lattice, bending_scale
from rubberquince.solver.frequency import free_modes
from rubberquince.solver.specs import Material, SolidSpec, Touch

THIN = 6.0                  # cells through a part, below which it is asked how it bends: above, bending is right to 3 %
ENOUGH = 0.05               # share of a body that must be so thin, or its modes are not looked for
NEAR, NEIGHBOURS = 1.2, 27  # cells within which strain is taken to change evenly, and octahedra that there can be
AROUND, MANY = 2.0, 64      # cells over which both energies are summed, and octahedra that there can be
FOUND = 0.65                # fitted: the part of bending's energy that is found in beams of two cells across
SLOPES = 1e-3               # what is added to the fit of a slope, so that a single layer has none
USUAL = Material(1e4, 0.45, 1e3, 0.0)       # the share hardly depends on what it is made of


def softened_where_bent(lattice: Lattice) -> Lattice:
    """The lattice with ``scale`` taking off only as much as bending adds in its first modes; thick ones as they are.

    Of a strain that changes evenly across the thickness t, bending is t²/12 of the energy of its slope (Timoshenko,
    Woinowsky-Krieger 1959, ch. 4).
    """
    thin = lattice.across < THIN
    if thin.mean() < ENOUGH:
        return lattice
    solid = SolidSpec(np.zeros((0, 3), np.int32), lattice, np.eye(3), np.zeros(3), USUAL, Touch(1e-3, 0.0))
    modes, squares = free_modes(solid)
    share = _bending_share(lattice, modes, squares) if modes and squares[0] > 0.0 else np.ones(len(thin))
    return replace(lattice, scale=np.where(thin, bending_scale(lattice.across, share), lattice.scale))


def _bending_share(lattice: Lattice, modes: list[np.ndarray], squares: np.ndarray) -> np.ndarray:
    """The part (octahedra,) 0 .. 1 of the energy in ``modes`` that is bending, the lowest counting most."""
    filled = lattice.fill.sum(axis=1)
    tets = np.maximum(lattice.corner, 0)[:, TETS]
    real = lattice.fill > 0.0
    middle = (lattice.fill[:, :, None] * lattice.nodes[tets].mean(axis=2)).sum(axis=1) / filled[:, None]
    edges = np.where(real[:, :, None, None], lattice.nodes[tets[..., 1:]] - lattice.nodes[tets[..., :1]], np.eye(3))
    slope = np.linalg.inv(edges)
    tree = cKDTree(middle)
    (here, *slopes), around = _fits(tree, middle, filled, NEAR * lattice.cell), _sums(tree, AROUND * lattice.cell)
    thickness = lattice.across * lattice.cell
    bent, whole = np.zeros(len(middle)), np.zeros(len(middle))
    for mode, square in zip(modes, squares):
        gradient = slope @ np.where(real[:, :, None, None], mode[tets[..., 1:]] - mode[tets[..., :1]], 0.0)
        strain = 0.5 * (gradient + np.swapaxes(gradient, 2, 3))
        mean = ((lattice.fill[:, :, None, None] * strain).sum(axis=1) / filled[:, None, None]).reshape(-1, 9)
        whole += filled * _energy(here @ mean) / square
        bent += filled * thickness ** 2 / 12.0 * sum(_energy(along @ mean) for along in slopes) / square
    return np.minimum(around @ bent / np.maximum(FOUND * (around @ whole), 1e-300), 1.0)


def _weights(tree: cKDTree, most: int, weight: np.ndarray, reach: float) -> tuple[np.ndarray, np.ndarray]:
    """The octahedra (o, k) within ``reach`` of each, at most so many, and their weights, 0 where there are fewer."""
    distance, near = tree.query(tree.data, min(most, len(weight)), distance_upper_bound=reach)
    inside = np.isfinite(distance)
    near = np.where(inside, near, 0)
    return near, np.where(inside, weight[near], 0.0)


def _rows(near: np.ndarray, rows: np.ndarray) -> Any:
    """The sparse matrix that has ``rows`` (o, k) at columns ``near`` (o, k)."""
    start = np.arange(len(near) + 1) * near.shape[1]
    return csr_array((rows.reshape(-1), near.reshape(-1), start), shape=(len(near), len(near)))


def _sums(tree: cKDTree, reach: float) -> Any:
    """What takes values at octahedra to their sums around each."""
    return _rows(*_weights(tree, MANY, np.ones(tree.n), reach))


def _fits(tree: cKDTree, middle: np.ndarray, weight: np.ndarray, reach: float) -> list[Any]:
    """What takes values at octahedra to even fits around each: values there, and slopes along x, y and z, 1/m."""
    near, weights = _weights(tree, NEIGHBOURS, weight, reach)
    basis = np.concatenate([np.ones((*near.shape, 1)), (middle[near] - middle[:, None]) / reach], axis=2)
    moments = np.einsum("ok,oki,okj->oij", weights, basis, basis)
    moments += SLOPES * np.diag([0.0, 1.0, 1.0, 1.0]) * weights.sum(axis=1)[:, None, None]
    rows = np.einsum("oij,okj,ok->iok", np.linalg.inv(moments), basis, weights)
    return [_rows(near, row / unit) for row, unit in zip(rows, (1.0, reach, reach, reach))]


def _energy(strain: np.ndarray) -> np.ndarray:
    """Energy (n,) of strains (n, 9), by Hooke's law for the usual material, J/m³."""
    lam, mu = USUAL.lame
    return mu * (strain ** 2).sum(axis=1) + 0.5 * lam * strain[:, [0, 4, 8]].sum(axis=1) ** 2
