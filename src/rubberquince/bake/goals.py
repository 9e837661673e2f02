"""Goals and weight maps on the nodes of a piece: what the solver is told of them."""

from dataclasses import dataclass
from typing import Literal

import igl
import numpy as np
from scipy.spatial import cKDTree

from rubberquince.bake.courses import course_of, spread_to
from rubberquince.document.bodies import Meshes, local_points, piece_points, unit_mesh
from rubberquince.document.scene import Piece, Scene
from rubberquince.document.weights import values_of
from rubberquince.errors import ShapeError
from rubberquince.shapes.surface import faded
from rubberquince.solver.specs import Amount, Course, Goal

FIRMNESS = 25.0             # N/m³, of the goal of a skin at a strength of one half
FIRMNESS_INSIDE = 1e5       # N/m⁴, of the goal of what is filled: of water it gives way as far as a skin of 250 g/m²
HELD = 0.9995               # strength from which on points are held
DRAWS: dict[str, Literal["points", "middle", "whole", "level"]] = {
    "every point": "points", "its middle": "middle", "as a whole": "whole", "its mean height": "level"}


@dataclass(frozen=True, eq=False)
class Within:
    """Nodes (n, 3), m, of a piece that are not points of its skin, in its own frame; ``share`` (n,) m³ of each."""

    nodes: np.ndarray
    share: np.ndarray


def goal_stiffness(strength: np.ndarray, share: np.ndarray, filled: bool) -> np.ndarray:
    """N/m of nodes with a ``share`` (n,) of area, m², or of volume, m³, that are drawn with a strength 0 .. 1 (n,).

    It goes as (s / (1 - s))², and does not depend on how finely a skin is divided.
    """
    firm = np.minimum(strength, HELD)
    return (FIRMNESS_INSIDE if filled else FIRMNESS) * (firm / (1.0 - firm)) ** 2 * share


def on_nodes(values: np.ndarray, piece: Piece, meshes: Meshes, lattice: Within | None, depth: float = 0.0,
             beyond: float = 0.0) -> np.ndarray:
    """Values (n,) of skin points at the nodes of the piece: within a Solid, those of the nearest point.

    They fade to what is ``beyond`` at a ``depth``, m, under the skin, if that is above 0.
    """
    if lattice is None:
        return values
    skin = unit_mesh(piece.shape, meshes).points * np.array(piece.place.size)
    within = values[cKDTree(skin).query(lattice.nodes)[1]]
    if depth <= 0.0:
        return within
    nodes, triangles = np.ascontiguousarray(lattice.nodes), unit_mesh(piece.shape, meshes).triangles.astype(np.int64)
    under = np.sqrt(igl.point_mesh_squared_distance(nodes, skin, triangles)[0])
    under[np.abs(igl.fast_winding_number(skin, triangles, nodes)) < 0.5] = 0.0          # nodes of cells that are cut
    return beyond + (within - beyond) * faded(under / depth)


def amount_of(path: str, even: float, piece: Piece, scene: Scene, meshes: Meshes, lattice: Within | None) -> Amount:
    """A value at the nodes of a piece, by its map; ``even`` where it has none."""
    values, a_map = values_of(path, piece, scene, meshes), piece.map_of(path)
    if values is None or a_map is None:
        return even
    return on_nodes(values, piece, meshes, lattice, a_map.depth, a_map.low)


def goal_of(piece: Piece, scene: Scene, meshes: Meshes, lattice: Within | None) -> tuple[Goal | None, np.ndarray]:
    """The goal of a piece, None if it has none, and which of its nodes (n,) bool it holds where they start.

    Raises ShapeError when the piece that it is drawn to is gone, or has not as many points.
    """
    values, mesh = piece.goal, unit_mesh(piece.shape, meshes)
    place = np.array(piece.place.position)
    nodes = mesh.points * np.array(piece.place.size) if lattice is None else lattice.nodes
    start = nodes @ piece.place.rotation().T + place
    if values.to == "nothing":
        return None, np.zeros(len(nodes), bool)
    strength = np.broadcast_to(amount_of("goal.strength", values.strength, piece, scene, meshes, lattice), len(nodes))
    share = areas(mesh.points * np.array(piece.place.size), mesh.triangles) if lattice is None else lattice.share
    target, course = start, course_of(piece, scene, meshes, nodes)
    if values.to == "another piece":
        target = start + _way_to(values.piece, piece, scene, meshes, nodes)
        course = _course_to(values.piece, piece, scene, meshes, nodes, start)
    draws = DRAWS[values.how]
    held = (strength >= HELD) & (target is start) & (draws == "points") & (piece.track_of("goal.strength") is None)
    calms = np.log(2.0) / values.settles if values.settles > 0.0 else 0.0
    return Goal(target, goal_stiffness(strength, share, lattice is not None), draws, calms,
                course), held


def goal_points(piece: Piece, scene: Scene, meshes: Meshes) -> np.ndarray | None:
    """Where the points of a piece's skin are drawn to, (n, 3), m; None where there is no such place."""
    start = piece_points(piece, meshes)
    if piece.goal.to == "its own shape":
        return start
    try:
        return start + _way_to(piece.goal.piece, piece, scene, meshes, local_points(piece, meshes))
    except ShapeError:
        return None


def _way_to(other_id: str, piece: Piece, scene: Scene, meshes: Meshes, nodes: np.ndarray) -> np.ndarray:
    """How far (n, 3), m, the nodes of a piece are from the same places of another, as both are placed."""
    other = next((p for p in scene.pieces if p.id == other_id and p.id != piece.id), None)
    if other is None:
        raise ShapeError("the piece that it is drawn to is gone; choose another under Goal")
    mine, its = piece_points(piece, meshes), piece_points(other, meshes)
    if len(mine) != len(its):
        raise ShapeError(f"it cannot be drawn to {other.name}, which has {len(its)} points and not {len(mine)}")
    return spread_to(local_points(piece, meshes), nodes)(its - mine)


def _course_to(other_id: str, piece: Piece, scene: Scene, meshes: Meshes, nodes: np.ndarray,
               start: np.ndarray) -> Course | None:
    """Where the places of another piece that nodes are drawn to are in time; None if it stays."""
    other = scene.piece(other_id)
    course = course_of(other, scene, meshes, local_points(other, meshes))
    if course is None:
        return None
    mine, spread = piece_points(piece, meshes), spread_to(local_points(piece, meshes), nodes)
    return lambda since: start + spread(course(since) - mine)


def areas(points: np.ndarray, triangles: np.ndarray) -> np.ndarray:
    """A third of the area, m², of the triangles at each point (n,)."""
    a, b, c = (points[triangles[:, k]] for k in range(3))
    third = np.linalg.norm(np.cross(b - a, c - a), axis=1) / 6.0
    return np.bincount(triangles.reshape(-1), np.repeat(third, 3), len(points))
