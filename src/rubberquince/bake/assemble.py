"""From a scene to what the solver is told."""

from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache
from typing import cast

import numpy as np
from scipy.spatial import cKDTree

from rubberquince.bake.balls import balls_of
from rubberquince.bake.courses import course_of, frame_course, rest_course
from rubberquince.bake.fields import forces_at
from rubberquince.bake.goals import Within, amount_of, areas, goal_of
from rubberquince.bake.holding import grain_of, held_of, within_heights
from rubberquince.document.bodies import Meshes, local_points, piece_points, piece_triangles, unit_mesh
from rubberquince.document.lines import line_of
from rubberquince.document.scene import GROUND, MOVING, Piece, Role, Scene, Seam
from rubberquince.document.tracks import scene_at
from rubberquince.errors import RunError, ShapeError
from rubberquince.shapes.lattice import Lattice, box_lattice, build_lattice, cells_about
from rubberquince.shapes.links import braces_across, net_links
from rubberquince.shapes.polymesh import PolyMesh
from rubberquince.solver.carriers.rigid import equal_masses
from rubberquince.solver.own_air import try_out
from rubberquince.solver.specs import (
    LEAST_POISSON,
    MOST_POISSON,
    QUALITIES,
    AnyMaterial,
    BodySpec,
    ColliderSpec,
    Course,
    Dents,
    ForceSpec,
    Goal,
    Inflation,
    LedSpec,
    Links,
    Material,
    PelletSpec,
    RigidMaterial,
    RigidSpec,
    RunSpec,
    SeamSpec,
    ShellMaterial,
    ShellSpec,
    SolidSpec,
    Touch,
)
from rubberquince.solver.thinness import softened_where_bent

FLAT = 0.1                  # of its longest side: a cage is no thinner
GROUND_GAP = 1e-4           # m; the piece's own gap is what counts on the ground
DRAFT_CELLS, DRAFT_ACROSS = 10_000, 8   # of more than these, and across, draft takes cells twice as wide
_lattices: OrderedDict[str, Lattice] = OrderedDict()
_MOST_LATTICES = 16


@dataclass(frozen=True, eq=False)
class Assembly:
    """A run, and which pieces its bodies are: those that move by their ids, then colliders that keys lead, then those
    that stand still.

    The order of the line-up is for the eye only.
    """

    spec: RunSpec
    bodies: list[Piece]
    colliders: list[Piece]


def material_of(piece: Piece, scene: Scene, meshes: Meshes) -> AnyMaterial:
    """What the nodes of a piece are made of, by its values and their maps."""
    if piece.made_of_name == "rigid":
        rigid, room = piece.rigid, equal_masses(local_points(piece, meshes), piece_triangles(piece, meshes))[1]
        return RigidMaterial(rigid.density if rigid.mass is None else rigid.mass / room)
    if piece.role == "net":
        net = piece.net
        stretch, mass, length = (amount_of(f"net.{name}", getattr(net, name), piece, scene, meshes, None)
                                 for name in ("stretch", "mass", "length"))
        return ShellMaterial(stretch, net.squeeze, 0.0, mass, net.wobble_halves, brace=piece.braces.stiffness,
                             calms=piece.braces.damping, along=length)
    if piece.role == "shell":
        shell = piece.shell
        stretch, bend, mass, along, across = (
            amount_of(f"shell.{name}", getattr(shell, name), piece, scene, meshes, None)
            for name in ("stretch", "bend", "mass", "along", "across"))
        return ShellMaterial(stretch, shell.squeeze, bend, mass, shell.wobble_halves, most=shell.limit,
                             brace=piece.braces.stiffness, calms=piece.braces.damping, along=along, across=across)
    solid = piece.solid
    mapped = any(piece.map_of(f"solid.{name}") for name in ("stiffness", "density", "rest_size"))
    lattice = nodes_within(piece, meshes, scene.run.quality) if mapped else None
    stiffness, density, grown = (amount_of(f"solid.{name}", getattr(solid, name), piece, scene, meshes, lattice)
                                 for name in ("stiffness", "density", "rest_size"))
    poisson = LEAST_POISSON + solid.keeps_volume * (MOST_POISSON - LEAST_POISSON)
    dents = None if solid.yields is None else Dents(solid.yields, solid.flow_time, solid.stays)
    return Material(stiffness, poisson, density, solid.wobble_halves, grown, dents)


def goal_for(piece: Piece, scene: Scene, meshes: Meshes) -> Goal | None:
    """The goal of a piece as its values are now, None if it has none."""
    if piece.goal.to == "nothing":
        return None
    return goal_of(piece, scene, meshes, nodes_within(piece, meshes, scene.run.quality))[0]


def nodes_within(piece: Piece, meshes: Meshes, quality: str) -> Within | None:
    """The nodes of a piece that are not points of its skin; None where they are."""
    if piece.of_skin:
        return None
    if piece.role == "rigid":
        nodes, room = equal_masses(local_points(piece, meshes), piece_triangles(piece, meshes))
        return Within(nodes, np.full(4, room / 4.0))
    lattice = lattice_of(piece, meshes, quality)
    return Within(lattice.nodes, lattice.share)


def touch_of(piece: Piece, scene: Scene, meshes: Meshes) -> Touch:
    """How the skin of a piece touches, by its values and their maps."""
    contact = piece.contact
    gap, friction = (amount_of(f"contact.{name}", getattr(contact, name), piece, scene, meshes, None)
                     for name in ("gap", "friction"))
    if piece.role == "pellets" and isinstance(friction, np.ndarray):
        friction = balls_of(piece, meshes).means(friction)
    return Touch(gap, friction, contact.bounce, piece.role == "collider" and contact.sides == "outside")


def inflation_of(piece: Piece, scene: Scene, meshes: Meshes) -> Inflation:
    """What presses in a piece, by its values and their map."""
    values = piece.pressure
    pressure = amount_of("pressure.pressure", values.pressure, piece, scene, meshes, None)
    mean, spread = pressure, None
    if isinstance(pressure, np.ndarray):
        share = areas(local_points(piece, meshes), piece_triangles(piece, meshes))
        mean = float(share @ pressure / max(share.sum(), 1e-300))
        spread = pressure / mean if mean > 0.0 else None
    return Inflation(float(mean), values.frames / scene.run.fps, values.backing if values.kind == "gas" else None,
                     spread)


def cell_edge(piece: Piece, meshes: Meshes, quality: str) -> float:
    """Edge of a solid's or a cage's cells, m, at that quality: draft takes fewer where there are many."""
    side = min(piece.place.size) if piece.role != "cage" else max(min(piece.place.size), FLAT * max(piece.place.size))
    edge = side / piece.solid.cells
    if quality != "draft" or piece.solid.cells < DRAFT_ACROSS or cells_of_edge(piece, meshes, edge) < DRAFT_CELLS:
        return edge
    return 2.0 * edge


def cells_of_edge(piece: Piece, meshes: Meshes, edge: float) -> int:
    """About how many cells of ``edge``, m, a solid has, known before they are filled."""
    mesh, size = unit_mesh(piece.shape, meshes), np.array(piece.place.size)
    if piece.role == "cage":
        return round(12 * float(np.prod(np.ceil(np.maximum(size, edge) / edge))))
    return _cells_about(mesh, piece.place.size, edge)


@lru_cache(maxsize=256)
def _cells_about(mesh: PolyMesh, size: tuple[float, float, float], edge: float) -> int:
    return cells_about(mesh.points * np.array(size), mesh.triangles, edge)      # the sheet asks at each change


def carrier_key(piece: Piece, meshes: Meshes, quality: str) -> str:
    """What the nodes of a piece that moves depend on."""
    edge = f" {piece.role}" if not piece.in_cells else f" {piece.role} {cell_edge(piece, meshes, quality):.9g}"
    return f"{unit_mesh(piece.shape, meshes).key} {piece.place.size}{edge}"


def lattice_of(piece: Piece, meshes: Meshes, quality: str, stopped: Callable[[], bool] = lambda: False) -> Lattice:
    """The lattice of a solid, kept for the next run of the same shape, size and cells.

    Raises Stopped when ``stopped()`` says so on the way.
    """
    key = carrier_key(piece, meshes, quality)
    if key not in _lattices:
        mesh = unit_mesh(piece.shape, meshes)
        points, edge = mesh.points * np.array(piece.place.size), cell_edge(piece, meshes, quality)
        lattice = (box_lattice(points, mesh.triangles, edge, stopped) if piece.role == "cage"
                   else build_lattice(points, mesh.triangles, edge, stopped))
        _lattices[key] = softened_where_bent(lattice)
        while len(_lattices) > _MOST_LATTICES:
            _lattices.popitem(last=False)
    _lattices.move_to_end(key)
    return _lattices[key]


def cells_in(scene: Scene, meshes: Meshes) -> int:
    """About how many cells all solids have, known before they are filled."""
    count = 0
    for piece in by_id(scene, "solid", "cage"):
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
    scene = scene_at(scene, scene.run.first)
    things = by_id(scene, "collider")
    bodies, colliders = by_id(scene, *MOVING), [piece for piece in things if not piece.is_led]
    if not bodies:
        raise RunError("There is nothing to compute: no piece is a Solid or a Shell.")
    bodies += [piece for piece in things if piece.is_led]
    specs: list[BodySpec] = []
    collider_specs, run = [], scene.run
    for piece in bodies + colliders:
        try:
            if piece in colliders:
                collider_specs.append(ColliderSpec(piece_points(piece, meshes),
                                                   unit_mesh(piece.shape, meshes).triangles,
                                                   touch_of(piece, scene, meshes)))
            else:
                specs.append(BUILDERS[piece.role](piece, meshes, scene, stopped))
        except ShapeError as error:
            raise RunError(f"{piece.name}: {error}") from None
    ground = Touch(GROUND_GAP, run.ground_friction) if run.ground else None
    order = {piece.id: k for k, piece in enumerate(bodies)}
    seams = [SeamSpec(order[seam.one], order[seam.two], sewn_points(seam, scene, meshes), *drawn(seam, scene))
             for seam in scene.sewn()]
    return Assembly(RunSpec(specs, collider_specs, run.fps, run.gravity, ground, QUALITIES[run.quality], seams,
                            _apart(bodies + colliders), _forces(scene, bodies, colliders), not _values_change(scene),
                            run.pulls()), bodies, colliders)


def _values_change(scene: Scene) -> bool:
    """Do keys change what pieces are made of, or the scene?"""
    tracks = [track for piece in scene.pieces if piece.role != "force" for track in piece.tracks]
    return bool(scene.tracks) or any(not track.of.startswith("place.") for track in tracks)


def _forces(scene: Scene, bodies: list[Piece], colliders: list[Piece]) -> list[ForceSpec]:
    """Forces as they are at the start.  Raises RunError naming the one that cannot be."""
    try:
        forces = forces_at(scene, scene.run.first, bodies, colliders)
        for force in forces:
            if force.kind == "own":
                try_out(force)
        return forces
    except ShapeError as error:
        raise RunError(f"A force cannot take part: {error}") from None


def _apart(pieces: list[Piece]) -> list[tuple[int, int]]:
    """Pairs of numbers of pieces that pass through each other, by the word of either; the ground is the last.

    What a cage carries may be of any parts that stick in each other: it never touches itself.
    """
    number = {**{piece.id: k for k, piece in enumerate(pieces)}, GROUND: len(pieces)}
    return [(k, number[key]) for k, piece in enumerate(pieces)
            for key in (*piece.passes, *([piece.id] if piece.role == "cage" else [])) if key in number]


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
    goal, held = goal_of(piece, scene, meshes, Within(lattice.nodes, lattice.share))
    if piece.hold.what == "everything":                     # it has no outline
        held = held | within_heights(piece.hold, lattice.nodes @ rotation.T)
    return SolidSpec(
        unit_mesh(piece.shape, meshes).triangles, lattice, rotation, np.array(piece.place.position),
        cast(Material, material_of(piece, scene, meshes)), touch_of(piece, scene, meshes),
        held if held.any() else None, piece.solid.weight, inflation_of(piece, scene, meshes), goal,
        course_of(piece, scene, meshes, lattice.nodes) if held.any() else None,
        rest_of(piece, scene, meshes), piece.solid.stretching if piece.solid.yields is None else 1.0)


def _shell(piece: Piece, meshes: Meshes, scene: Scene, stopped: Callable[[], bool]) -> ShellSpec:
    mesh, place = unit_mesh(piece.shape, meshes), piece.place
    values, (goal, fixed) = piece.shell, goal_of(piece, scene, meshes, None)
    held = held_of(piece, meshes) | fixed
    return ShellSpec(
        mesh.points * np.array(place.size), mesh.triangles, place.rotation(), np.array(place.position),
        cast(ShellMaterial, material_of(piece, scene, meshes)), touch_of(piece, scene, meshes),
        held if held.any() else None, values.weight, inflation_of(piece, scene, meshes), values.flat,
        grain_of(piece, meshes), goal, _braces(piece, meshes), course=_course(piece, scene, meshes, held),
        rest=rest_of(piece, scene, meshes))


def _net(piece: Piece, meshes: Meshes, scene: Scene, stopped: Callable[[], bool]) -> ShellSpec:
    mesh, place, values = unit_mesh(piece.shape, meshes), piece.place, piece.net
    goal, fixed = goal_of(piece, scene, meshes, None)
    held, points = held_of(piece, meshes) | fixed, mesh.points * np.array(place.size)
    pairs, length, weight = net_links(points, mesh, values.rings, values.within)
    links = Links(pairs, length, weight)
    return ShellSpec(
        points, mesh.triangles, place.rotation(), np.array(place.position),
        cast(ShellMaterial, material_of(piece, scene, meshes)), touch_of(piece, scene, meshes),
        held if held.any() else None, values.weight, inflation_of(piece, scene, meshes),
        goal=goal, links=(links, *_braces(piece, meshes)), net=True,
        course=_course(piece, scene, meshes, held), rest=rest_of(piece, scene, meshes))


def rest_of(piece: Piece, scene: Scene, meshes: Meshes) -> Course | None:
    """Where the nodes of a piece want to be in its own frame; None where they stay at rest as they were made."""
    if not piece.rest_moves:
        return None
    within = nodes_within(piece, meshes, scene.run.quality)
    return rest_course(piece, scene, meshes, local_points(piece, meshes) if within is None else within.nodes)


def _course(piece: Piece, scene: Scene, meshes: Meshes, held: np.ndarray) -> Course | None:
    """Where the points of a skin are led, if some are held."""
    return course_of(piece, scene, meshes, local_points(piece, meshes)) if held.any() else None


def _led(piece: Piece, meshes: Meshes, scene: Scene, stopped: Callable[[], bool]) -> LedSpec:
    mesh, touch = unit_mesh(piece.shape, meshes), touch_of(piece, scene, meshes)
    deforms = piece.shape_moves or piece.reshapes
    whole = course_of(piece, scene, meshes, local_points(piece, meshes)) if deforms else None
    if whole is not None:
        return LedSpec(mesh.points, mesh.triangles, touch, whole, free=True)
    return LedSpec(mesh.points, mesh.triangles, touch, frame_course(piece, scene))


def _rigid(piece: Piece, meshes: Meshes, scene: Scene, stopped: Callable[[], bool]) -> RigidSpec:
    mesh, place = unit_mesh(piece.shape, meshes), piece.place
    within = nodes_within(piece, meshes, scene.run.quality)
    assert within is not None
    goal, fixed = goal_of(piece, scene, meshes, within)
    held = bool(fixed.any()) or piece.hold.what == "everything"
    return RigidSpec(
        mesh.points * np.array(place.size), mesh.triangles, place.rotation(), np.array(place.position),
        cast(RigidMaterial, material_of(piece, scene, meshes)), touch_of(piece, scene, meshes), held,
        piece.rigid.weight, goal, course_of(piece, scene, meshes, within.nodes) if held else None)


def _braces(piece: Piece, meshes: Meshes) -> tuple[Links, ...]:
    if not piece.braces.count:
        return ()
    pairs, length = braces_of(piece, meshes)
    return (Links(pairs, length, np.ones(len(pairs)), braces=True),)


def braces_of(piece: Piece, meshes: Meshes) -> tuple[np.ndarray, np.ndarray]:
    """Pairs (k, 2) of skin points that braces join, and their lengths (k,), m."""
    mesh, values = unit_mesh(piece.shape, meshes), piece.braces
    return braces_across(mesh.points * np.array(piece.place.size), mesh.triangles, values.count, values.longest,
                         values.spread, values.seed)


def _pellets(piece: Piece, meshes: Meshes, scene: Scene, stopped: Callable[[], bool]) -> PelletSpec:
    points, balls = piece_points(piece, meshes), balls_of(piece, meshes)
    middle = balls.middles(points)
    along = piece.place.rotation()[:, 1]
    turn = np.argsort(np.argsort(-(middle @ along), kind="stable"))         # whose turn it is
    release, run = piece.release, scene.run
    life = release.life if release.life > 0.0 else np.inf
    frames = max(release.first - run.first, 0) + release.frames * turn / max(len(turn) - 1, 1)
    return PelletSpec(
        middle, balls.radii(points), cast(RigidMaterial, material_of(piece, scene, meshes)),
        touch_of(piece, scene, meshes), frames / run.fps, release.speed * along, piece.hold.what == "everything",
        piece.rigid.weight, life / run.fps, (max(life, release.frames) + 1.0) / run.fps if release.again else np.inf)


BUILDERS: dict[Role, Callable[[Piece, Meshes, Scene, Callable[[], bool]], BodySpec]] = {
    "solid": _solid, "shell": _shell, "net": _net, "cage": _solid, "collider": _led, "rigid": _rigid,
    "pellets": _pellets}
