"""Another mesh for a piece: refined, thinned, remeshed, closed.  A recipe is kept where it can say the same."""

from collections.abc import Callable

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from rubberquince.document.bodies import Meshes, local_points, piece_points, unit_mesh
from rubberquince.document.maps import Layer, Rule, StrokesRule, TypedRule
from rubberquince.document.scene import ImportedShape, PelletsShape, Piece, Place, RevolvedShape, changed
from rubberquince.errors import SceneError, ShapeError
from rubberquince.shapes import heaps, primitives, remesh, repair
from rubberquince.shapes.polymesh import PolyMesh, is_closed, volume

LEAST_BODY = 1e-3           # of its box, that a closed shape must enclose
DIVIDED = ("divisions", "around", "along", "across", "rings", "sides", "bands")     # what recipes count


def refined(piece: Piece, meshes: Meshes) -> tuple[Piece, PolyMesh | None]:
    """The piece with four faces where one was, and its mesh when it has no recipe that could say so.

    Raises ShapeError when the faces would be too many.
    """
    shape = piece.shape
    names = [name for name in DIVIDED if hasattr(shape, name)]
    try:
        for name in names:
            count = getattr(shape, name)
            twice = tuple(2 * c for c in count) if isinstance(count, tuple) else 2 * count
            shape = changed(shape, name, twice)
    except SceneError:
        names = []
    if names:
        return piece.model_copy(update={"shape": shape}), None
    mesh = remesh.refined(unit_mesh(piece.shape, meshes))
    return remade(piece, mesh.placed(mesh.points * np.array(piece.place.size)), "refined")


def refined_there(piece: Piece, meshes: Meshes, points: np.ndarray) -> tuple[Piece, PolyMesh]:
    """The piece with its mesh refined between ``points`` (n,) bool only; it has no recipe afterwards.

    Raises ShapeError when the faces would be too many.
    """
    mesh = remesh.refined(unit_mesh(piece.shape, meshes), points)
    return remade(piece, mesh.placed(mesh.points * np.array(piece.place.size)), "refined in places")


def remade(piece: Piece, mesh: PolyMesh, how: str) -> tuple[Piece, PolyMesh]:
    """The piece with another mesh of its shape, given in metres about its centre; and that mesh in the unit box."""
    unit, size, centre = primitives.unit_and_size(mesh)
    name = piece.shape.name if isinstance(piece.shape, ImportedShape | RevolvedShape) else piece.shape.kind
    moved = np.array(piece.place.position) + piece.place.rotation() @ centre
    place = piece.place.model_copy(update={"size": tuple(size.tolist()), "position": tuple(moved.tolist())})
    shape = ImportedShape(name=f"{name.partition(', ')[0][:100]}, {how}", mesh=unit.key)
    carried = _carried(piece, lambda places: (places * np.array(piece.place.size) - centre) / size)
    return piece.model_copy(update={"shape": shape, "place": place, **carried}), unit


def _carried(piece: Piece, move: Callable[[np.ndarray], np.ndarray]) -> dict[str, object]:
    """What of a piece lies on its skin, by name, with all its places (k, 3) moved: lines, sets and maps."""
    def moved(places: tuple[tuple[float, float, float], ...]) -> tuple[tuple[float, float, float], ...]:
        return tuple((float(x), float(y), float(z)) for x, y, z in move(np.array(places))) if places else ()

    def painted(layer: Layer) -> Layer:
        rule: Rule = layer.rule
        if isinstance(rule, TypedRule):
            rule = rule.model_copy(update={"places": moved(rule.places)})
        elif isinstance(rule, StrokesRule):
            strokes = tuple(s.model_copy(update={"beads": moved(s.beads)}) for s in rule.strokes)
            rule = rule.model_copy(update={"strokes": strokes})
        return layer.model_copy(update={"rule": rule})

    return {"curves": tuple(c.model_copy(update={"beads": moved(c.beads)}) for c in piece.curves),
            "sets": tuple(s.model_copy(update={"places": moved(s.places)}) for s in piece.sets),
            "maps": tuple(m.model_copy(update={"layers": tuple(map(painted, m.layers))}) for m in piece.maps)}


def as_it_lies(piece: Piece, points: np.ndarray, meshes: Meshes) -> tuple[Piece, PolyMesh]:
    """The piece with its skin at ``points`` (n, 3), m, of the world, as its shape from now on."""
    points = np.asarray(points, float)
    return _laid(piece, unit_mesh(piece.shape, meshes).placed(points), points, meshes, "as it lay")


def _laid(piece: Piece, lying: PolyMesh, skin: np.ndarray, meshes: Meshes, how: str) -> tuple[Piece, PolyMesh]:
    """The piece with a mesh ``lying`` in the world, m, as its shape; its curves lie where ``skin`` (n, 3) has them."""
    def local(places: np.ndarray) -> np.ndarray:
        return (places - np.array(piece.place.position)) @ piece.place.rotation()

    nearest, size = cKDTree(unit_mesh(piece.shape, meshes).points), np.array(piece.place.size)
    carried = _carried(piece, lambda places: local(skin[nearest.query(places)[1]]) / size)
    return remade(piece.model_copy(update=carried), lying.placed(local(lying.points)), how)


def welded(one: Piece, two: Piece, pairs: np.ndarray, skins: dict[str, np.ndarray],
           meshes: Meshes) -> tuple[Piece, PolyMesh]:
    """Piece ``one`` with the skins of both (which may be the same piece) as they lie, welded at ``pairs`` (k, 2) of
    points: each pair becomes one point in its middle.

    skins : points (n, 3), m, of the world by piece id.
    """
    parts = [one] if one.id == two.id else [one, two]
    points = np.concatenate([np.asarray(skins[piece.id], float) for piece in parts])
    shift = 0 if len(parts) == 1 else len(skins[one.id])
    links = pairs[:, 0], pairs[:, 1] + shift
    count, group = connected_components(coo_array((np.ones(len(pairs), bool), links), shape=(len(points),) * 2), False)
    share = np.bincount(group, minlength=count)[:, None]
    middle = np.column_stack([np.bincount(group, points[:, k], count) for k in range(3)]) / share
    joined = _joined([unit_mesh(piece.shape, meshes) for piece in parts])
    mesh = PolyMesh(middle, joined.face_sizes, group[joined.face_points].astype(np.int32), joined.uvs, joined.face_uvs)
    for step in (repair.without_doubled_faces, repair.with_clear_diagonals, repair.turned_one_way):
        mesh = step(mesh)[0]
    return _laid(one, mesh, np.asarray(skins[one.id], float), meshes, "welded")


def _joined(parts: list[PolyMesh]) -> PolyMesh:
    """One mesh of several; it has texture coordinates if all have them."""
    firsts = np.cumsum([0, *(len(mesh.points) for mesh in parts)])
    textured = all(len(mesh.uvs) for mesh in parts)
    first_uv = np.cumsum([0, *(len(mesh.uvs) for mesh in parts)])
    uvs = [mesh.uvs for mesh in parts] if textured else [np.zeros((0, 2), np.float32)]
    face_uvs = [mesh.face_uvs + first for mesh, first in zip(parts, first_uv)] if textured else [np.zeros(0, np.int32)]
    return PolyMesh(np.concatenate([mesh.points for mesh in parts]), np.concatenate([m.face_sizes for m in parts]),
                    np.concatenate([mesh.face_points + first for mesh, first in zip(parts, firsts)]).astype(np.int32),
                    np.concatenate(uvs), np.concatenate(face_uvs).astype(np.int32))


def thinned(piece: Piece, meshes: Meshes, share: float) -> tuple[Piece, PolyMesh]:
    """The piece with about ``share`` 0 .. 1 of its triangles.  Raises ShapeError when none are left to spare."""
    mesh = unit_mesh(piece.shape, meshes)
    return remade(piece, remesh.thinned(mesh.placed(local_points(piece, meshes)), share), "thinned")


def remeshed(piece: Piece, meshes: Meshes, face: float) -> tuple[Piece, PolyMesh]:
    """The piece with a closed mesh of even faces about ``face``, m, wide.  Raises ShapeError when it cannot be."""
    mesh = unit_mesh(piece.shape, meshes)
    return remade(piece, remesh.remeshed(local_points(piece, meshes), mesh.triangles, face), "remeshed")


def heaped(piece: Piece, meshes: Meshes, other: Piece, on_skin: bool, width: float) -> tuple[Piece, PolyMesh]:
    """The Pellets as balls of a ``width``, m, that fill another piece as it is placed, or lie on its skin.

    Those of a heap that is spread are smaller by as much.  Raises ShapeError when none fits, or they are too many.
    """
    if not width > 0.0:
        raise ShapeError("The width of a ball has to be above 0.")
    points, triangles = piece_points(other, meshes), unit_mesh(other.shape, meshes).triangles
    shape = piece.shape if isinstance(piece.shape, PelletsShape) else PelletsShape(spread=0.0)
    middle = (heaps.upon(points, triangles, 0.5 * width, shape.seed) if on_skin
              else heaps.inside(points, triangles, 0.5 * width))
    smaller = 1.0 - shape.spread * np.random.default_rng(shape.seed).uniform(size=len(middle))
    lying = primitives.balls(middle, 0.5 * width * smaller, shape.around)
    upright = piece.model_copy(update={"place": Place(), "curves": (), "sets": (), "maps": ()})
    return remade(upright, lying, f"{'on' if on_skin else 'in'} {other.name}"[:60])


def with_holes_closed(piece: Piece, meshes: Meshes) -> tuple[Piece, PolyMesh] | None:
    """The piece with all its openings closed; None when that does not make it enclose anything."""
    mesh = unit_mesh(piece.shape, meshes)
    loops = repair.holes(mesh)
    if not loops:
        return None
    whole = repair.closed(mesh.placed(local_points(piece, meshes)), loops)
    box = float(np.prod(piece.place.size))
    if not is_closed(whole.triangles) or abs(volume(whole.points, whole.triangles)) < LEAST_BODY * box:
        return None
    return remade(piece, repair.turned_outwards(whole)[0], "closed")
