"""From pieces to geometry: the mesh of a shape, and where its points stand in the world."""

from functools import lru_cache

import numpy as np

from rubberquince.document.scene import (
    BlockShape,
    CushionShape,
    ImportedShape,
    PelletsShape,
    Piece,
    Place,
    Recipe,
    Shape,
    SheetShape,
    SphereShape,
    SuperellipsoidShape,
    TorusShape,
)
from rubberquince.errors import ShapeError
from rubberquince.shapes import primitives
from rubberquince.shapes.polymesh import PolyMesh

Meshes = dict[str, PolyMesh]

SQUAREST, SLIMMEST = 0.25, 2.2              # exponents between which a superellipsoid's seed chooses


@lru_cache(maxsize=64)
def _primitive(shape: Recipe) -> PolyMesh:
    if isinstance(shape, BlockShape):
        return primitives.block(shape.divisions)
    if isinstance(shape, SphereShape):
        return primitives.sphere(shape.around, shape.rings)
    if isinstance(shape, TorusShape):
        return primitives.torus(shape.around, shape.sides, shape.thickness)
    if isinstance(shape, CushionShape):
        return primitives.cushion(shape.divisions, shape.pinch, shape.panels)
    if isinstance(shape, SheetShape):
        return primitives.sheet(shape.across, shape.along)
    if isinstance(shape, PelletsShape):
        return primitives.pellets(shape.count, shape.spread, shape.within, shape.seed, shape.around)
    if isinstance(shape, SuperellipsoidShape):
        rise, turn = np.exp(np.random.default_rng(shape.seed).uniform(np.log(SQUAREST), np.log(SLIMMEST), 2))
        return primitives.superellipsoid(shape.around, shape.rings, float(rise), float(turn))
    profile = primitives.resampled(primitives.rounded(np.array(shape.profile, float), shape.rounded), shape.bands)
    return primitives.revolved(profile[:, :2], shape.around, shape.flutes, profile[:, 2])


def unit_mesh(shape: Shape, meshes: Meshes) -> PolyMesh:
    """The mesh of a shape in the unit box.  Raises ShapeError when an imported mesh is not at hand."""
    if isinstance(shape, ImportedShape):
        if shape.mesh not in meshes:
            raise ShapeError(f"The mesh of “{shape.name}” is missing from the scene; import it again.")
        return meshes[shape.mesh]
    return _primitive(shape)


@lru_cache(maxsize=16)
def placed_points(mesh: PolyMesh, place: Place) -> np.ndarray:
    """World positions (n, 3) m of a unit mesh's points; they are kept, so nobody may write into them."""
    points = (mesh.points * np.array(place.size)) @ place.rotation().T + np.array(place.position)
    points.flags.writeable = False
    return points


def piece_points(piece: Piece, meshes: Meshes) -> np.ndarray:
    return placed_points(unit_mesh(piece.shape, meshes), piece.place)


def local_points(piece: Piece, meshes: Meshes) -> np.ndarray:
    """Points (n, 3), m, of a piece in its real size about its centre, not turned."""
    return unit_mesh(piece.shape, meshes).points * np.array(piece.place.size)


def piece_triangles(piece: Piece, meshes: Meshes) -> np.ndarray:
    return unit_mesh(piece.shape, meshes).triangles


def resting_height(mesh: PolyMesh, place: Place, on: float = 0.0) -> float:
    """The height of the centre at which the lowest point of the piece stands ``on`` metres up."""
    low = placed_points(mesh, place)[:, 1].min()
    return place.position[1] + on - float(low)
