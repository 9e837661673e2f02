"""Small bodies that tests of the solver need."""

from dataclasses import replace

import numpy as np
from numba import njit

from rubberquince.shapes import primitives
from rubberquince.shapes.lattice import build_lattice
from rubberquince.solver.specs import ColliderSpec, Material, ShellMaterial, ShellSpec, SolidSpec, Touch

JELLY = Material(stiffness=4000.0, poisson=0.44, density=1050.0, wobble_halves=0.3)


def make_solid(mesh, size, cells, at=(0.0, 0.0, 0.0), material=JELLY, touch=None, held=None, rotation=None):
    """A solid of a unit mesh scaled to ``size``, m, with ``cells`` cubes across its smallest side."""
    points = mesh.points * np.asarray(size)
    lattice = build_lattice(points, mesh.triangles, float(np.min(size)) / cells)
    return SolidSpec(mesh.triangles, lattice, np.eye(3) if rotation is None else rotation, np.asarray(at, float),
                     material, touch or Touch(1e-3, 0.5), None if held is None else held(lattice.nodes))


CANVAS = ShellMaterial(stretch=3000.0, squeeze=0.3, bend=1e-4, density=0.35, wobble_halves=0.15)


def make_shell(mesh, size, at=(0.0, 0.0, 0.0), material=CANVAS, touch=None, held=None, rotation=None, **more):
    """A shell of a unit mesh scaled to ``size``, m; ``held`` says which of its points (n, 3) never move."""
    points = mesh.points * np.asarray(size)
    return ShellSpec(points, mesh.triangles, np.eye(3) if rotation is None else rotation, np.asarray(at, float),
                     material, touch or Touch(1e-3, 0.5), None if held is None else held(points), **more)


def own_crossings(stepper):
    """How many edges of the skins of a stepper pass through what moves, or those of what moves through what stands."""
    skin, x = stepper.world.skin, stepper.contacts.all_skins(stepper.state.x)
    moving = skin.edges[(skin.edges < skin.moving).all(axis=1)]
    return sum(crossings(x, skin.edges if k < stepper.world.bodies else moving, triangles)
               for k, triangles in enumerate(skin.triangles))


def make_ring_with_a_slit(at, cell=0.016):
    """A soft bar bent nearly to a ring of 20 cm, its slit to the right: its own weight closes it."""
    mesh = primitives.block((26, 3, 6))
    angle, radius = 5.2 * mesh.points[:, 0] + np.pi / 2, 0.6 + 0.25 * mesh.points[:, 1]
    points = np.stack([radius * np.sin(angle), radius * np.cos(angle), 0.6 * mesh.points[:, 2]], axis=1)
    ring = mesh.placed(points / np.ptp(points, axis=0).max())
    solid = make_solid(ring, (0.2, 0.2, 0.2), 4, at, replace(JELLY, stiffness=1500.0), Touch(2e-3, 0.5))
    return replace(solid, lattice=build_lattice(0.2 * ring.points, ring.triangles, cell))


@njit
def crossings(points, edges, triangles):
    """How many edges (e, 2) pass through triangles (t, 3) that they share no point with (Möller, Trumbore 1997)."""
    count = 0
    low, high = np.empty((len(triangles), 3)), np.empty((len(triangles), 3))
    for t in range(len(triangles)):
        a, b, c = triangles[t]
        for i in range(3):
            low[t, i] = min(points[a, i], points[b, i], points[c, i])
            high[t, i] = max(points[a, i], points[b, i], points[c, i])
    for e in range(len(edges)):
        p, q = edges[e]
        along = points[q] - points[p]
        x0, x1 = min(points[p, 0], points[q, 0]), max(points[p, 0], points[q, 0])
        y0, y1 = min(points[p, 1], points[q, 1]), max(points[p, 1], points[q, 1])
        z0, z1 = min(points[p, 2], points[q, 2]), max(points[p, 2], points[q, 2])
        for t in range(len(triangles)):
            if (low[t, 0] > x1 or high[t, 0] < x0 or low[t, 1] > y1 or high[t, 1] < y0 or low[t, 2] > z1
                    or high[t, 2] < z0):
                continue
            a, b, c = triangles[t]
            if (triangles[t] == p).any() or (triangles[t] == q).any():
                continue
            u, v, s = points[b] - points[a], points[c] - points[a], points[p] - points[a]
            h, k = np.cross(along, v), np.cross(s, u)
            area = np.dot(u, h)
            if abs(area) > 1e-6 * np.sqrt((along @ along) * (u @ u) * (v @ v)):      # not in one plane
                one, two, at = np.dot(s, h) / area, np.dot(along, k) / area, np.dot(v, k) / area
                count += one >= 0.0 and two >= 0.0 and one + two <= 1.0 and 0.0 <= at <= 1.0
    return count


def make_block_collider(size, at, rotation=None, touch=None, cells=(4, 1, 4)):
    mesh = primitives.block(cells)
    points = mesh.points * np.asarray(size)
    if rotation is not None:
        points = points @ rotation.T
    return ColliderSpec(points + np.asarray(at), mesh.triangles, touch or Touch(1e-3, 0.5))
