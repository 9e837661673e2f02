"""From a scene to what the solver is told, and the keys that say what a frame depends on."""

import hashlib
import json
from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, cast

import numpy as np
from scipy.spatial import cKDTree

from rubberquince.bake.goals import HELD, amount_of, goal_of
from rubberquince.bake.holding import grain_of, held_of, within_heights
from rubberquince.document.bodies import Meshes, piece_points, unit_mesh
from rubberquince.document.lines import line_of
from rubberquince.document.scene import GROUND, MOVING, ImportedShape, Piece, Role, Scene, Seam
from rubberquince.document.values import built
from rubberquince.errors import RunError, ShapeError
from rubberquince.shapes.lattice import Lattice, build_lattice, cells_about
from rubberquince.solver.revision import revision
from rubberquince.solver.specs import (
    LEAST_POISSON,
    MOST_POISSON,
    QUALITIES,
    AnyMaterial,
    BodySpec,
    ColliderSpec,
    Goal,
    Inflation,
    Material,
    RunSpec,
    SeamSpec,
    ShellMaterial,
    ShellSpec,
    SolidSpec,
    Touch,
)

GROUND_GAP = 1e-4           # m; the piece's own gap is what counts on the ground
DRAFT_CELLS, DRAFT_ACROSS = 10_000, 8   # of more than these, and across, draft takes cells twice as wide
_lattices: OrderedDict[str, Lattice] = OrderedDict()
_MOST_LATTICES = 16


@dataclass(frozen=True, eq=False)
class Assembly:
    """A run, and which pieces its bodies are: those that move by their ids, then colliders by theirs.

    The order of the line-up is for the eye only.
    """

    spec: RunSpec
    bodies: list[Piece]
    colliders: list[Piece]


def material_of(piece: Piece, scene: Scene, meshes: Meshes) -> AnyMaterial:
    """What the nodes of a piece are made of, by its values and their maps."""
    if piece.role == "shell":
        shell = piece.shell
        stretch, bend, mass = (amount_of(f"shell.{name}", getattr(shell, name), piece, scene, meshes, None)
                               for name in ("stretch", "bend", "mass"))
        return ShellMaterial(stretch, shell.squeeze, bend, mass, shell.wobble_halves, most=shell.limit)
    solid = piece.solid
    mapped = any(piece.map_of(f"solid.{name}") for name in ("stiffness", "density"))
    lattice = lattice_of(piece, meshes, scene.run.quality) if mapped else None
    stiffness, density = (amount_of(f"solid.{name}", getattr(solid, name), piece, scene, meshes, lattice)
                          for name in ("stiffness", "density"))
    poisson = LEAST_POISSON + solid.keeps_volume * (MOST_POISSON - LEAST_POISSON)
    return Material(stiffness, poisson, density, solid.wobble_halves)


def goal_for(piece: Piece, scene: Scene, meshes: Meshes) -> Goal | None:
    """The goal of a piece as its values are now, None if it has none."""
    if piece.goal.to == "nothing":
        return None
    lattice = lattice_of(piece, meshes, scene.run.quality) if piece.role == "solid" else None
    return goal_of(piece, scene, meshes, lattice)[0]


def touch_of(piece: Piece) -> Touch:
    contact = piece.contact
    return Touch(contact.gap, contact.friction, contact.bounce,
                 piece.role == "collider" and contact.sides == "outside")


def inflation_of(piece: Piece, fps: float) -> Inflation:
    values = piece.pressure
    return Inflation(values.pressure, values.frames / fps, values.backing if values.kind == "gas" else None)


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
    """What the nodes of a piece that moves depend on."""
    edge = f" {cell_edge(piece, meshes, quality):.9g}" if piece.role == "solid" else " skin"
    return f"{unit_mesh(piece.shape, meshes).key} {piece.place.size}{edge}"


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


def by_id(scene: Scene, *roles: Role) -> list[Piece]:
    """The pieces of some roles in the order of their ids."""
    return sorted((p for p in scene.pieces if p.role in roles), key=lambda piece: piece.id)


def assemble(scene: Scene, meshes: Meshes, stopped: Callable[[], bool] = lambda: False) -> Assembly:
    """What the solver is told of a scene.

    Raises RunError naming the piece that cannot take part, and Stopped when ``stopped()`` says so on the way.
    """
    bodies, colliders = by_id(scene, *MOVING), by_id(scene, "collider")
    if not bodies:
        raise RunError("There is nothing to compute: no piece is a Solid or a Shell.")
    specs: list[BodySpec] = []
    collider_specs, run = [], scene.run
    for piece in bodies + colliders:
        try:
            if piece.role == "collider":
                collider_specs.append(ColliderSpec(piece_points(piece, meshes),
                                                   unit_mesh(piece.shape, meshes).triangles, touch_of(piece)))
            else:
                specs.append(BUILDERS[piece.role](piece, meshes, scene, stopped))
        except ShapeError as error:
            raise RunError(f"{piece.name}: {error}") from None
    ground = Touch(GROUND_GAP, run.ground_friction) if run.ground else None
    order = {piece.id: k for k, piece in enumerate(bodies)}
    seams = [SeamSpec(order[seam.one], order[seam.two], sewn_points(seam, scene, meshes), *drawn(seam, scene))
             for seam in scene.sewn()]
    return Assembly(RunSpec(specs, collider_specs, run.fps, run.gravity, ground, QUALITIES[run.quality], seams,
                            _apart(bodies + colliders)), bodies, colliders)


def _apart(pieces: list[Piece]) -> list[tuple[int, int]]:
    """Pairs of numbers of pieces that pass through each other, by the word of either; the ground is the last."""
    number = {**{piece.id: k for k, piece in enumerate(pieces)}, GROUND: len(pieces)}
    return [(k, number[key]) for k, piece in enumerate(pieces) for key in piece.passes if key in number]


def sewn_points(seam: Seam, scene: Scene, meshes: Meshes) -> np.ndarray:
    """Pairs (k, 2) of each point of the seam's first line and the nearest of its second, as they are placed."""
    pieces = [scene.piece(key) for key in (seam.one, seam.two)]
    lines = [line_of(piece, along, meshes) for piece, along in zip(pieces, seam.along)]
    if not all(len(line) for line in lines):
        return np.zeros((0, 2), np.int64)
    places = [piece_points(piece, meshes)[line] for piece, line in zip(pieces, lines)]
    pairs = np.column_stack([lines[0], lines[1][cKDTree(places[1]).query(places[0])[1]]])
    return pairs[pairs[:, 0] != pairs[:, 1]] if seam.one == seam.two else pairs


def drawn(seam: Seam, scene: Scene) -> tuple[float, float]:
    """How strongly a seam draws, N/m, and in what time, s."""
    return seam.values.strength, seam.values.frames / scene.run.fps


def _solid(piece: Piece, meshes: Meshes, scene: Scene, stopped: Callable[[], bool]) -> SolidSpec:
    lattice, rotation = lattice_of(piece, meshes, scene.run.quality, stopped), piece.place.rotation()
    goal, held = goal_of(piece, scene, meshes, lattice)
    if piece.hold.what == "everything":                     # it has no outline
        held = held | within_heights(piece.hold, lattice.nodes @ rotation.T)
    return SolidSpec(
        unit_mesh(piece.shape, meshes).triangles, lattice, rotation, np.array(piece.place.position),
        cast(Material, material_of(piece, scene, meshes)), touch_of(piece), held if held.any() else None,
        piece.solid.weight, inflation_of(piece, scene.run.fps), goal)


def _shell(piece: Piece, meshes: Meshes, scene: Scene, stopped: Callable[[], bool]) -> ShellSpec:
    mesh, place = unit_mesh(piece.shape, meshes), piece.place
    values, (goal, fixed) = piece.shell, goal_of(piece, scene, meshes, None)
    held = held_of(piece, meshes) | fixed
    return ShellSpec(
        mesh.points * np.array(place.size), mesh.triangles, place.rotation(), np.array(place.position),
        cast(ShellMaterial, material_of(piece, scene, meshes)), touch_of(piece), held if held.any() else None,
        values.weight, inflation_of(piece, scene.run.fps), (values.along, values.across), values.flat,
        grain_of(piece, meshes), goal)


BUILDERS: dict[Role, Callable[[Piece, Meshes, Scene, Callable[[], bool]], BodySpec]] = {
    "solid": _solid, "shell": _shell}


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
    if piece.moves:
        data["built"] = built(piece.made_of), piece.hold.model_dump(), *(getattr(piece.made_of, name, None)
                                                                                   for name in ("flat", "grain_by"))
        data["goal"] = piece.goal.model_dump(include={"to", "piece", "how"})
        data["held by goal"] = _holding(piece)
        data["passes"] = sorted(piece.passes)
        data["curves"] = [curve.model_dump(exclude={"name"}) for curve in piece.curves]
    if values:
        data["maps"] = [one.model_dump() for one in piece.maps]
        data["goal"] = piece.goal.model_dump()
        data["contact"] = piece.contact.model_dump()
        if piece.moves:
            data["made of"] = piece.made_of.model_dump(exclude={"feel"}), piece.pressure.model_dump()
    return data


def _holding(piece: Piece) -> object:
    """What says which points a goal holds: with a map all of it, else whether its strength is whole."""
    a_map = piece.map_of("goal.strength")
    if a_map is not None and max(a_map.low, a_map.high) >= HELD:
        return a_map.model_dump()
    return piece.goal.strength >= HELD


def _number(scene: Scene, values: bool, run: dict[str, Any]) -> int:
    pieces = [_physics(p, values) for p in (*by_id(scene, *MOVING), *by_id(scene, "collider"))]
    seams = [(seam.one, seam.two, seam.along, seam.values.model_dump() if values else None) for seam in scene.sewn()]
    data = {"solver": revision(), "pieces": pieces, "seams": seams, "run": run}
    digest = hashlib.sha256(json.dumps(data, sort_keys=True).encode()).digest()
    return int.from_bytes(digest[:8], "little") % (2 ** 63 - 2) + 2
