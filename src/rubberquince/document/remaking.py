"""Another mesh for a piece: refined, thinned, remeshed, closed.  A recipe is kept where it can say the same."""

import numpy as np

from rubberquince.document.bodies import Meshes, local_points, unit_mesh
from rubberquince.document.scene import ImportedShape, Piece, RevolvedShape, changed
from rubberquince.errors import SceneError
from rubberquince.shapes import primitives, remesh, repair
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


def remade(piece: Piece, mesh: PolyMesh, how: str) -> tuple[Piece, PolyMesh]:
    """The piece with another mesh of its shape, given in metres about its centre; and that mesh in the unit box."""
    unit, size, centre = primitives.unit_and_size(mesh)
    name = piece.shape.name if isinstance(piece.shape, ImportedShape | RevolvedShape) else piece.shape.kind
    moved = np.array(piece.place.position) + piece.place.rotation() @ centre
    place = piece.place.model_copy(update={"size": tuple(size.tolist()), "position": tuple(moved.tolist())})
    shape = ImportedShape(name=f"{name.partition(', ')[0][:100]}, {how}", mesh=unit.key)
    return piece.model_copy(update={"shape": shape, "place": place}), unit


def as_it_lies(piece: Piece, points: np.ndarray, meshes: Meshes) -> tuple[Piece, PolyMesh]:
    """The piece with its skin at ``points`` (n, 3), m, of the world, as its shape from now on."""
    local = (np.asarray(points, float) - np.array(piece.place.position)) @ piece.place.rotation()
    return remade(piece, unit_mesh(piece.shape, meshes).placed(local), "as it lay")


def thinned(piece: Piece, meshes: Meshes, share: float) -> tuple[Piece, PolyMesh]:
    """The piece with about ``share`` 0 .. 1 of its triangles.  Raises ShapeError when none are left to spare."""
    mesh = unit_mesh(piece.shape, meshes)
    return remade(piece, remesh.thinned(mesh.placed(local_points(piece, meshes)), share), "thinned")


def remeshed(piece: Piece, meshes: Meshes, face: float) -> tuple[Piece, PolyMesh]:
    """The piece with a closed mesh of even faces about ``face``, m, wide.  Raises ShapeError when it cannot be."""
    mesh = unit_mesh(piece.shape, meshes)
    return remade(piece, remesh.remeshed(local_points(piece, meshes), mesh.triangles, face), "remeshed")


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
