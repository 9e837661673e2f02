"""Sentences about what will not work in a scene, each with a change that mends it where there is one."""

from collections.abc import Callable
from dataclasses import dataclass

import igl
import numpy as np

from rubberquince.document.bodies import Meshes, piece_points, piece_triangles
from rubberquince.document.scene import Piece, Scene, changed
from rubberquince.errors import ShapeError
from rubberquince.shapes.polymesh import is_closed

LEAST_DEPTH = 1e-4          # m: less is touching, not overlapping
CLEARANCE = 1e-3            # m, left between pieces that were lifted apart
MOST_PROBES = 4000          # points of a piece that are looked at


@dataclass(frozen=True)
class Check:
    """``trouble`` False says that something is well.  ``mend`` gives the mended scene, ``button`` says how."""

    sentence: str
    trouble: bool
    piece: str | None = None
    button: str = ""
    mend: Callable[[Scene], Scene] | None = None


def checks_of(scene: Scene, meshes: Meshes) -> list[Check]:
    """All checks of a scene, troubles first."""
    found = [*_overlaps(scene, meshes), *_nothing_moves(scene)]
    return sorted(found, key=lambda check: not check.trouble)


def _nothing_moves(scene: Scene) -> list[Check]:
    solids = [p for p in scene.pieces if p.role == "solid"]
    if not scene.pieces:
        return [Check("The scene is empty: add a shape, import a mesh, or open the harvest fair.", True)]
    if not solids:
        first = scene.pieces[0]

        def make_solid(now: Scene) -> Scene:
            return now.with_piece(changed(now.piece(first.id), "role", "solid"))

        return [Check("Nothing will move: no piece is a Solid.", True, first.id, f"Make {first.name} a Solid",
                      make_solid)]
    if scene.run.gravity == 0.0:
        return [Check("Nothing will move: gravity is off and every Solid starts at rest.", True, None,
                      "Set gravity to 9.81 m/s²", lambda now: changed(now, "run.gravity", 9.81))]
    return []


def _overlaps(scene: Scene, meshes: Meshes) -> list[Check]:
    """Solids that start inside another piece or the ground, and by how much they must rise to be clear."""
    taking_part = [p for p in scene.pieces if p.role in ("solid", "collider")]
    points: dict[str, np.ndarray] = {}
    for piece in taking_part:
        try:
            points[piece.id] = piece_points(piece, meshes)
        except ShapeError as error:
            return [Check(f"{piece.name}: {error}", True, piece.id)]
    found = []
    for k, piece in enumerate(taking_part):
        if piece.role != "solid":
            continue
        if scene.run.ground and (sunk := -float(points[piece.id][:, 1].min())) > LEAST_DEPTH:
            found.append(_lift_check(piece, "the ground", sunk))
        for j, other in enumerate(taking_part):
            if j != k and not (other.role == "solid" and j < k):
                depth = _depth(piece, other, points, meshes)
                if depth > LEAST_DEPTH:
                    higher = other.role == "solid" and other.place.position[1] > piece.place.position[1]
                    upper, lower = (other, piece) if higher else (piece, other)
                    found.append(_lift_check(upper, lower.name, _rise(points[upper.id], points[lower.id])))
    if not found and any(p.role == "solid" for p in taking_part):
        found.append(Check("Nothing overlaps at the start.", False))
    return found


def _depth(one: Piece, two: Piece, points: dict[str, np.ndarray], meshes: Meshes) -> float:
    """How far points of either are inside the other, m; 0 when they are apart."""
    a, b = points[one.id], points[two.id]
    if (a.min(axis=0) > b.max(axis=0)).any() or (b.min(axis=0) > a.max(axis=0)).any():
        return 0.0
    return max(_deepest(a, b, piece_triangles(two, meshes)), _deepest(b, a, piece_triangles(one, meshes)))


def _deepest(probes: np.ndarray, points: np.ndarray, triangles: np.ndarray) -> float:
    within = ((probes >= points.min(axis=0)) & (probes <= points.max(axis=0))).all(axis=1)
    probes = probes[within]
    if not len(probes) or not is_closed(triangles):
        return 0.0
    probes = np.ascontiguousarray(probes[:: max(len(probes) // MOST_PROBES, 1)])
    inside = np.abs(igl.fast_winding_number(points, triangles.astype(np.int64), probes)) > 0.5
    if not inside.any():
        return 0.0
    buried = np.ascontiguousarray(probes[inside])
    squared = igl.point_mesh_squared_distance(buried, points, triangles.astype(np.int64))[0]
    return float(np.sqrt(squared.max()))


def _rise(one: np.ndarray, two: np.ndarray) -> float:
    return float(two[:, 1].max() - one[:, 1].min())


def _lift_check(piece: Piece, other: str, rise: float) -> Check:
    def lift(now: Scene) -> Scene:
        moved = now.piece(piece.id)
        x, y, z = moved.place.position
        return now.with_piece(changed(moved, "place.position", (x, y + rise + CLEARANCE + piece.contact.gap, z)))

    return Check(f"{piece.name} and {other} overlap at the start and would stay caught in each other.", True, piece.id,
                 f"Lift {piece.name} clear", lift)
