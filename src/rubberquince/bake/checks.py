"""Sentences about what will not work in a scene, each with a change that mends it where there is one."""

from collections.abc import Callable
from functools import partial

import igl
import numpy as np

from rubberquince.bake.assemble import cell_edge
from rubberquince.bake.check import Check, set_value
from rubberquince.bake.checks_of_motion import FORCE_LOOKS, goes_nowhere, keeps_its_rest, not_round
from rubberquince.bake.checks_of_places import lines_off, lost_layers, not_carried
from rubberquince.bake.goals import goal_points
from rubberquince.bake.holding import held_of
from rubberquince.document.bodies import Meshes, piece_points, piece_triangles, unit_mesh
from rubberquince.document.remaking import refined, with_holes_closed
from rubberquince.document.scene import GROUND, BlockShape, Piece, Role, Scene, SheetShape, changed
from rubberquince.document.tracks import scene_at
from rubberquince.errors import ShapeError
from rubberquince.kernels.crossing import count_crossings
from rubberquince.shapes.lattice import cells_about
from rubberquince.shapes.polymesh import edges_of, is_closed, rims
from rubberquince.shapes.rays import nearest_hits
from rubberquince.shapes.repair import holes

LEAST_DEPTH = 1e-4          # m: less is touching, not overlapping
CLEARANCE = 1e-3            # m, left between pieces that were lifted apart
THICKNESS = 0.005           # m, that a sheet is given
LEAST_ACROSS, GOOD_ACROSS = 1.5, 3.0        # cells through a part: below, it hardly bends; from here on it does
MOST_ACROSS, MOST_CELLS = 60, 150_000       # of what a button may choose
MOST_RAYS = 200             # through a piece, to find its thin parts
COARSE = 1.2                # edges longer than so much of a fold's width cannot show it
SKIN_COARSE = 2.0           # cells: longer edges of a skin show little of what these do
GAP_OF_EDGE = 0.5
MOST_REFINED = 20_000       # triangles: a button makes no more than four times as many
MOST_PROBES = 4000          # points of a piece that are looked at


def checks_of(scene: Scene, meshes: Meshes) -> list[Check]:
    """All checks of a scene, troubles first."""
    scene = scene_at(scene, scene.run.first)
    found = [*_overlaps(scene, meshes), *_nothing_moves(scene, meshes)]
    for piece in scene.pieces:
        try:
            looks = (*LOOKS[piece.role], goes_nowhere, keeps_its_rest, lost_layers, lines_off)
            found += [check for look in looks for check in look(piece, scene, meshes)]
        except ShapeError:
            continue                        # its mesh is missing, which has been said
    return sorted(found, key=lambda check: not check.trouble)


def _open(piece: Piece, scene: Scene, meshes: Meshes) -> list[Check]:
    """A Solid needs a closed skin."""
    mesh = unit_mesh(piece.shape, meshes)
    if is_closed(mesh.triangles):
        return []
    shape, place = piece.shape, piece.place
    sentence, button = f"{piece.name} is open, and a Solid needs an inside.", "Close its openings"
    loops = holes(mesh)
    spot = piece_points(piece, meshes)[max(loops, key=len)].mean(axis=0) if loops else None
    if isinstance(shape, SheetShape):
        block = BlockShape(divisions=(shape.across, 1, shape.along))
        thick = place.model_copy(update={"size": (place.size[0], max(place.size[1], THICKNESS), place.size[2])})
        fresh, mesh_made = piece.model_copy(update={"shape": block, "place": thick}), None
        button = "Give it a thickness"
    elif (whole := with_holes_closed(piece, meshes)) is not None:
        fresh, mesh_made = whole
    else:
        fresh, mesh_made, button = piece.model_copy(update={"role": "collider"}), None, f"Make {piece.name} a Collider"

    return [Check(sentence, True, piece.id, button, partial(_become, fresh), spot, mesh_made)]


def _falls_past(piece: Piece, scene: Scene, meshes: Meshes) -> list[Check]:
    """Without the ground, something must lie under what is not held."""
    if scene.run.ground or scene.run.gravity * piece.made_of.weight <= 0.0:
        return []
    if piece.hold.what != "nothing" or piece.goal.to != "nothing":
        return []
    mine = piece_points(piece, meshes)
    low, high = mine.min(axis=0), mine.max(axis=0)
    for other in scene.pieces:
        if other.role in ("scenery", "carried") or other.id == piece.id:
            continue
        points = piece_points(other, meshes)
        over = (points.max(axis=0) > low) & (points.min(axis=0) < high)
        if over[0] and over[2] and points[:, 1].min() < high[1]:
            return []
    return [Check(f"{piece.name} falls past everything: nothing is under it, and the ground is off.", True, piece.id,
                  "Turn the ground on", partial(changed, path="run.ground", value=True), mine[mine[:, 1].argmin()])]


def _wide_gap(piece: Piece, scene: Scene, meshes: Meshes) -> list[Check]:
    """A gap wider than the cells of what rests on it is seen as air."""
    cells = [_edge(p) for p in scene.pieces if p.role == "solid" and piece.role in ("collider", "solid")
             and (p.id == piece.id or piece.role == "collider")]
    if not cells or piece.contact.gap <= min(cells):
        return []
    fair = float(f"{min(cells) / 4:.2g}")
    points = piece_points(piece, meshes)
    spot = points[points[:, 1].argmin() if piece.role == "solid" else points[:, 1].argmax()]
    return [Check(f"The gap of {piece.name}, {_mm(piece.contact.gap)}, is wider than the cells, {_mm(min(cells))}; "
                  "things will seem to float on it.", True, piece.id, f"Make the gap {_mm(fair)}",
                  partial(set_value, piece.id, "contact.gap", fair), spot)]


def _too_coarse(piece: Piece, scene: Scene, meshes: Meshes) -> list[Check]:
    """Fewer than two cells through a part are stiff against bending."""
    mesh = unit_mesh(piece.shape, meshes)
    if not is_closed(mesh.triangles):
        return []
    points = piece_points(piece, meshes)
    thickness, where = _thickness(points, mesh.triangles)
    across = thickness / _edge(piece)
    if across >= LEAST_ACROSS:
        return []
    wanted = int(np.ceil(piece.solid.cells * GOOD_ACROSS / across))
    edge = min(piece.place.size) / wanted
    sentence = f"{piece.name} is only {across:.1f} cells thick at its thinnest and will hardly bend there."
    if wanted > MOST_ACROSS or cells_about(points, mesh.triangles, edge) > MOST_CELLS:
        return [Check(sentence, True, piece.id, spot=where)]
    return [Check(sentence, True, piece.id, f"Use {wanted} cells across",
                  partial(set_value, piece.id, "solid.cells", wanted), where)]


def _skin_too_coarse(piece: Piece, scene: Scene, meshes: Meshes) -> list[Check]:
    """A skin of few points shows little of what the cells within do."""
    edge, cell = _skin_edge(piece, meshes), cell_edge(piece, meshes, "good")
    if edge <= SKIN_COARSE * cell:
        return []
    sentence = (f"The skin of {piece.name} is coarser than its cells and shows little of its wobble: its edges are "
                f"{_mm(edge)} long, its cells {_mm(cell)}.")
    if len(unit_mesh(piece.shape, meshes).triangles) > MOST_REFINED:
        return [Check(sentence, True, piece.id)]
    fresh, mesh = refined(piece, meshes)
    return [Check(sentence, True, piece.id, "Refine it", partial(_become, fresh), None, mesh)]


def _thickness(points: np.ndarray, triangles: np.ndarray) -> tuple[float, np.ndarray]:
    """Distance, m, straight through the body at its thinner parts (the lower tenth), and one such place (3,)."""
    some = triangles[:: max(len(triangles) // MOST_RAYS, 1)]
    a, b, c = (points[some[:, k]] for k in range(3))
    middle, inward = (a + b + c) / 3, -np.cross(b - a, c - a)
    area = np.linalg.norm(inward, axis=1)
    inward /= np.maximum(area, 1e-300)[:, None]
    reach = np.ptp(points, axis=0).max()
    through = nearest_hits(points, triangles, middle + 1e-6 * reach * inward, inward)
    order = np.argsort(through)
    thin = order[np.searchsorted(np.cumsum(area[order]), 0.1 * area.sum())]
    return float(through[thin]), middle[thin]


def _edge(piece: Piece) -> float:
    return min(piece.place.size) / piece.solid.cells


def _mm(length: float) -> str:
    return f"{1000 * length:.3g} mm"


def _nothing_moves(scene: Scene, meshes: Meshes) -> list[Check]:
    moving = [p for p in scene.pieces if p.moves]
    if not scene.pieces:
        return []                           # the empty bench says so itself
    if not moving:
        return [_make_solid(scene, meshes)]
    led = any(piece.role == "force" or piece.has_course for piece in scene.pieces)
    if scene.run.gravity == 0.0 and not led and not any(_strained(piece) for piece in moving):
        return [Check("Nothing will move: gravity is off and everything starts at rest.", True, None,
                      "Set gravity to 9.81 m/s²", partial(changed, path="run.gravity", value=9.81))]
    return []


def _strained(piece: Piece) -> bool:
    """Does something other than gravity move it?"""
    shell = piece.shell
    return piece.pressure.pressure != 0.0 or (piece.role == "shell" and (shell.along, shell.across, shell.flat)
                                              != (1.0, 1.0, False))


def _make_solid(scene: Scene, meshes: Meshes) -> Check:
    """The first piece with an inside can become a Solid."""
    sentence = "Nothing will move: no piece is a Solid or a Shell."
    for piece in scene.pieces:
        try:
            fits = piece.role != "force" and is_closed(unit_mesh(piece.shape, meshes).triangles)
        except ShapeError:
            continue
        if fits:
            return Check(sentence, True, piece.id, f"Make {piece.name} a Solid",
                         partial(set_value, piece.id, "role", "solid"))
    return Check(sentence, True)


def _overlaps(scene: Scene, meshes: Meshes) -> list[Check]:
    """What starts inside another piece or the ground, and by how much it must rise to be clear."""
    taking_part = [p for p in scene.pieces if p.role not in ("scenery", "carried", "force", "pellets")]
    points: dict[str, np.ndarray] = {}
    for piece in taking_part:
        try:
            points[piece.id] = piece_points(piece, meshes)
        except ShapeError as error:
            return [Check(f"{piece.name}: {error}", True, piece.id)]
    found = []
    for k, piece in enumerate(taking_part):
        if not piece.moves:
            continue
        passed = scene.passes(piece.id)
        lowest = points[piece.id][points[piece.id][:, 1].argmin()]
        if scene.run.ground and GROUND not in passed and -lowest[1] > LEAST_DEPTH:
            found.append(_lift_check(piece, "the ground", -float(lowest[1]), lowest))
        for j, other in enumerate(taking_part):
            if j != k and not (other.moves and j < k) and other.id not in passed:
                depth, spot = _depth(piece, other, points, meshes)
                if depth > LEAST_DEPTH:
                    higher = other.moves and other.place.position[1] > piece.place.position[1]
                    upper, lower = (other, piece) if higher else (piece, other)
                    rise = _rise(points[upper.id], points[lower.id])
                    found.append(_lift_check(upper, lower.name, rise, spot))
    if not found and any(p.moves for p in taking_part):
        found.append(Check("Nothing overlaps at the start.", False))
    return found


def _depth(one: Piece, two: Piece, points: dict[str, np.ndarray], meshes: Meshes) -> tuple[float, np.ndarray]:
    """How far points of either are inside the other, m, 0 when they are apart; and the deepest (3,)."""
    a, b = points[one.id], points[two.id]
    if (a.min(axis=0) > b.max(axis=0)).any() or (b.min(axis=0) > a.max(axis=0)).any():
        return 0.0, a[0]
    room = any(piece.role == "collider" and piece.contact.sides == "both" for piece in (one, two))
    if one.of_skin or two.of_skin or (room and not _reaches_out(a, b)):
        return _passing_through(one, two, points, meshes)
    sides = (_deepest(a, b, piece_triangles(two, meshes)), _deepest(b, a, piece_triangles(one, meshes)))
    return max(sides, key=lambda side: side[0])


def _reaches_out(one: np.ndarray, two: np.ndarray) -> bool:
    """Does neither box hold the other?  What is wholly in a collider with two sides may be meant to be in it."""
    return not any((a.min(axis=0) > b.min(axis=0)).all() and (a.max(axis=0) < b.max(axis=0)).all()
                   for a, b in ((one, two), (two, one)))


def _passing_through(one: Piece, two: Piece, points: dict[str, np.ndarray],
                     meshes: Meshes) -> tuple[float, np.ndarray]:
    """The same of what things may be inside: whether skins pass through each other."""
    a, b = points[one.id], points[two.id]
    both, second = np.concatenate([a, b]), len(a)
    triangles = piece_triangles(one, meshes).astype(np.int64), piece_triangles(two, meshes).astype(np.int64) + second
    for mine, other in (triangles, triangles[::-1]):
        if count_crossings(both, edges_of(mine).astype(np.int64), other, 1):
            middle = np.clip((a.mean(axis=0) + b.mean(axis=0)) / 2, a.min(axis=0), a.max(axis=0))
            return 2 * LEAST_DEPTH, middle
    return 0.0, a[0]


def _deepest(probes: np.ndarray, points: np.ndarray, triangles: np.ndarray) -> tuple[float, np.ndarray]:
    within = ((probes >= points.min(axis=0)) & (probes <= points.max(axis=0))).all(axis=1)
    probes = probes[within]
    if not len(probes) or not is_closed(triangles):
        return 0.0, points[0]
    probes = np.ascontiguousarray(probes[:: max(len(probes) // MOST_PROBES, 1)])
    inside = np.abs(igl.fast_winding_number(points, triangles.astype(np.int64), probes)) > 0.5
    if not inside.any():
        return 0.0, points[0]
    buried = np.ascontiguousarray(probes[inside])
    squared = igl.point_mesh_squared_distance(buried, points, triangles.astype(np.int64))[0]
    return float(np.sqrt(squared.max())), buried[squared.argmax()]


def _rise(one: np.ndarray, two: np.ndarray) -> float:
    return float(two[:, 1].max() - one[:, 1].min())


def _lift_check(piece: Piece, other: str, rise: float, spot: np.ndarray) -> Check:
    return Check(f"{piece.name} and {other} overlap at the start and will be drawn apart.", True, piece.id,
                 f"Lift {piece.name} clear", partial(_lift, piece.id, rise), spot)


# --- shells ----------------------------------------------------------------------------------------------


def _open_but_pressed(piece: Piece, scene: Scene, meshes: Meshes) -> list[Check]:
    """Pressure needs an inside; over an opening a flat cap is thought.  What sucks needs something to cover."""
    mesh = unit_mesh(piece.shape, meshes)
    if piece.pressure.pressure == 0.0 or not rims(mesh.triangles):
        return []
    if piece.pressure.pressure < 0.0:
        sentence = f"{piece.name} is open and loose: it is sucked onto what it touches, and in the air not at all."
        return [] if piece.hold.what != "nothing" else [Check(sentence, False, piece.id)]
    sentence = f"{piece.name} is open: its pressure acts as if a flat lid closed every opening."
    loops = holes(mesh)
    spot = piece_points(piece, meshes)[max(loops, key=len)].mean(axis=0) if loops else None
    whole = None if isinstance(piece.shape, SheetShape) else with_holes_closed(piece, meshes)
    if whole is None:
        return [Check(sentence, False, piece.id, spot=spot)]
    return [Check(sentence, True, piece.id, "Close its openings", partial(_become, whole[0]), spot, whole[1])]


def _too_coarse_to_fold(piece: Piece, scene: Scene, meshes: Meshes) -> list[Check]:
    """Folds of its own weight are about as wide as the length at which weight and bending balance."""
    values, pull = piece.shell, abs(scene.run.gravity * piece.shell.weight)
    edge = _skin_edge(piece, meshes)
    fold = (values.bend / max(values.mass * pull, 1e-9)) ** (1 / 3)
    if pull == 0.0 or edge <= fold * COARSE:
        return []
    sentence = (f"{piece.name} is too coarse to fold as its feel would: its edges are {_mm(edge)} long, "
                f"and folds are about {_mm(fold)} wide.")
    if len(unit_mesh(piece.shape, meshes).triangles) > MOST_REFINED:
        return [Check(sentence, True, piece.id)]
    fresh, mesh = refined(piece, meshes)
    return [Check(sentence, True, piece.id, "Refine it", partial(_become, fresh), None, mesh)]


def _thick_gap(piece: Piece, scene: Scene, meshes: Meshes) -> list[Check]:
    """A gap wider than the triangles keeps a skin from folding."""
    edge = _skin_edge(piece, meshes)
    if piece.contact.gap <= GAP_OF_EDGE * edge:
        return []
    fair = float(f"{edge / 5:.2g}")
    return [Check(f"The gap of {piece.name}, {_mm(piece.contact.gap)}, is too wide for its edges, {_mm(edge)}; it "
                  "cannot fold.", True, piece.id, f"Make the gap {_mm(fair)}",
                  partial(set_value, piece.id, "contact.gap", fair))]


def _all_held(piece: Piece, scene: Scene, meshes: Meshes) -> list[Check]:
    """What is held everywhere does not move, and what holds nothing falls."""
    if piece.hold.what == "nothing":
        return []
    held = held_of(piece, meshes)
    if held.all():
        return [Check(f"{piece.name} is held everywhere and will not move.", True, piece.id, "Hold nothing",
                      partial(set_value, piece.id, "hold.what", "nothing"))]
    if not held.any():
        return [Check(f"{piece.name} has no {_called(piece)} there that could be held.", True, piece.id,
                      "Hold nothing", partial(set_value, piece.id, "hold.what", "nothing"))]
    return []


def _called(piece: Piece) -> str:
    return "line" if piece.hold.what == "curve" else piece.hold.what


def _goal_elsewhere(piece: Piece, scene: Scene, meshes: Meshes) -> list[Check]:
    """A goal in another piece needs as many points there."""
    if piece.goal.to != "another piece" or goal_points(piece, scene, meshes) is not None:
        return []
    return [Check(f"{piece.name} is drawn to a piece that is gone or has not as many points.", True, piece.id,
                  "Let it return to its own shape", partial(set_value, piece.id, "goal.to", "its own shape"))]


def _skin_edge(piece: Piece, meshes: Meshes) -> float:
    """The usual length of its edges, m."""
    points, edges = piece_points(piece, meshes), edges_of(unit_mesh(piece.shape, meshes).triangles)
    return float(np.median(np.linalg.norm(points[edges[:, 0]] - points[edges[:, 1]], axis=1)))


LOOKS: dict[Role, tuple[Callable[[Piece, Scene, Meshes], list[Check]], ...]] = {
    "solid": (_open, _falls_past, _too_coarse, _skin_too_coarse, _wide_gap, _all_held, _goal_elsewhere),
    "shell": (_open_but_pressed, _falls_past, _too_coarse_to_fold, _thick_gap, _all_held, _goal_elsewhere),
    "net": (_open_but_pressed, _falls_past, _thick_gap, _all_held, _goal_elsewhere),
    "cage": (_falls_past, _all_held, _goal_elsewhere),
    "rigid": (_falls_past, _all_held, _goal_elsewhere),
    "pellets": (_falls_past, _all_held, not_round),
    "carried": (not_carried,),
    "collider": (_wide_gap,),
    "scenery": (),
    "force": FORCE_LOOKS}


# --- mends: of the scene as it is when the button is pressed ----------------------------------------------


def _become(fresh: Piece, now: Scene) -> Scene:
    """The piece with another shape, place and role."""
    return now.with_piece(now.piece(fresh.id).model_copy(
        update={"shape": fresh.shape, "place": fresh.place, "role": fresh.role, "curves": fresh.curves,
                "sets": fresh.sets, "maps": fresh.maps}))


def _lift(piece_id: str, rise: float, now: Scene) -> Scene:
    moved = now.piece(piece_id)
    x, y, z = moved.place.position
    return now.with_piece(changed(moved, "place.position", (x, y + rise + CLEARANCE + moved.contact.gap, z)))
