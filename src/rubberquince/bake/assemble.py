"""From a scene to what the solver is told, and the keys that say what a frame depends on."""

import hashlib
import json
from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from rubberquince.document.bodies import Meshes, piece_points, unit_mesh
from rubberquince.document.scene import ImportedShape, Piece, Scene, SolidValues
from rubberquince.errors import RunError, ShapeError
from rubberquince.shapes.lattice import Lattice, build_lattice, cells_about
from rubberquince.solver.revision import revision
from rubberquince.solver.specs import (
    LEAST_POISSON,
    MOST_POISSON,
    QUALITIES,
    ColliderSpec,
    Material,
    RunSpec,
    SolidSpec,
    Touch,
)

GROUND_GAP = 1e-4           # m; the piece's own gap is what counts on the ground
DRAFT_CELLS, DRAFT_ACROSS = 10_000, 8   # of more than these, and across, draft takes cells twice as wide
_lattices: OrderedDict[str, Lattice] = OrderedDict()
_MOST_LATTICES = 16


@dataclass(frozen=True, eq=False)
class Assembly:
    """A run, and which pieces its bodies are: solids by their ids, then colliders by theirs.

    The order of the line-up is for the eye only.
    """

    spec: RunSpec
    solids: list[Piece]
    colliders: list[Piece]


def material_of(values: SolidValues) -> Material:
    poisson = LEAST_POISSON + values.keeps_volume * (MOST_POISSON - LEAST_POISSON)
    return Material(values.stiffness, poisson, values.density, values.wobble_halves)


def touch_of(piece: Piece) -> Touch:
    contact = piece.contact
    return Touch(contact.gap, contact.friction, contact.bounce,
                 piece.role == "collider" and contact.sides == "outside")


def cell_edge(piece: Piece, meshes: Meshes, quality: str) -> float:
    """Edge of a solid's cells, m, at that quality: draft takes fewer where there are many."""
    edge = min(piece.place.size) / piece.solid.cells
    if quality != "draft" or piece.solid.cells < DRAFT_ACROSS or cells_of_edge(piece, meshes, edge) < DRAFT_CELLS:
        return edge
    return 2.0 * edge


def cells_of_edge(piece: Piece, meshes: Meshes, edge: float) -> int:
    """About how many cells of ``edge``, m, a solid has, known before they are filled."""
    mesh = unit_mesh(piece.shape, meshes)
    return cells_about(mesh.points * np.array(piece.place.size), mesh.triangles, edge)


def carrier_key(piece: Piece, meshes: Meshes, quality: str) -> str:
    """What the lattice of a solid depends on."""
    return f"{unit_mesh(piece.shape, meshes).key} {piece.place.size} {cell_edge(piece, meshes, quality):.9g}"


def lattice_of(piece: Piece, meshes: Meshes, quality: str, stopped: Callable[[], bool] = lambda: False) -> Lattice:
    """The lattice of a solid, kept for the next run of the same shape, size and cells.

    Raises Stopped when ``stopped()`` says so on the way.
    """
    key = carrier_key(piece, meshes, quality)
    if key not in _lattices:
        mesh = unit_mesh(piece.shape, meshes)
        _lattices[key] = build_lattice(mesh.points * np.array(piece.place.size), mesh.triangles,
                                       cell_edge(piece, meshes, quality), stopped)
        while len(_lattices) > _MOST_LATTICES:
            _lattices.popitem(last=False)
    _lattices.move_to_end(key)
    return _lattices[key]


def cells_in(scene: Scene, meshes: Meshes) -> int:
    """About how many cells all solids have, known before they are filled."""
    count = 0
    for piece in by_id(scene, "solid"):
        try:
            count += cells_of_edge(piece, meshes, cell_edge(piece, meshes, scene.run.quality))
        except ShapeError:
            continue                        # it has no mesh, which is said when the run is assembled
    return count


def by_id(scene: Scene, role: str) -> list[Piece]:
    """The pieces of a role in the order of their ids."""
    return sorted((p for p in scene.pieces if p.role == role), key=lambda piece: piece.id)


def assemble(scene: Scene, meshes: Meshes, stopped: Callable[[], bool] = lambda: False) -> Assembly:
    """What the solver is told of a scene.

    Raises RunError naming the piece that cannot take part, and Stopped when ``stopped()`` says so on the way.
    """
    solids, colliders = by_id(scene, "solid"), by_id(scene, "collider")
    if not solids:
        raise RunError("There is nothing to compute: no piece is a Solid.")
    solid_specs, collider_specs, run = [], [], scene.run
    for piece in solids + colliders:
        try:
            mesh = unit_mesh(piece.shape, meshes)
            if piece.role == "solid":
                solid_specs.append(SolidSpec(
                    mesh.triangles, lattice_of(piece, meshes, run.quality, stopped), piece.place.rotation(),
                    np.array(piece.place.position), material_of(piece.solid), touch_of(piece),
                    weight=piece.solid.weight))
            else:
                collider_specs.append(ColliderSpec(piece_points(piece, meshes), mesh.triangles, touch_of(piece)))
        except ShapeError as error:
            raise RunError(f"{piece.name}: {error}") from None
    ground = Touch(GROUND_GAP, run.ground_friction) if run.ground else None
    return Assembly(RunSpec(solid_specs, collider_specs, run.fps, run.gravity, ground, QUALITIES[run.quality]),
                    solids, colliders)


def run_key(scene: Scene) -> int:
    """What every frame of the scene depends on, as a number above 1."""
    return _number(scene, values=True, run=scene.run.model_dump(exclude={"last"}))


def topology_key(scene: Scene) -> int:
    """What the arrays of a run depend on: while it stays, values can change in the running arrays."""
    return _number(scene, values=False, run=scene.run.model_dump(exclude={"last", "gravity", "ground_friction"}))


def _physics(piece: Piece, values: bool) -> dict[str, Any]:
    shape = piece.shape.model_dump(exclude={"name"})
    if isinstance(piece.shape, ImportedShape):
        shape = {"mesh": piece.shape.mesh}
    data: dict[str, Any] = {"id": piece.id, "role": piece.role, "shape": shape, "place": piece.place.model_dump()}
    if piece.role == "solid":
        data["cells"] = piece.solid.cells
    if values:
        data["contact"] = piece.contact.model_dump()
        if piece.role == "solid":
            data["solid"] = piece.solid.model_dump()
    return data


def _number(scene: Scene, values: bool, run: dict[str, Any]) -> int:
    pieces = [_physics(p, values) for role in ("solid", "collider") for p in by_id(scene, role)]
    data = {"solver": revision(), "pieces": pieces, "run": run}
    digest = hashlib.sha256(json.dumps(data, sort_keys=True).encode()).digest()
    return int.from_bytes(digest[:8], "little") % (2 ** 63 - 2) + 2
