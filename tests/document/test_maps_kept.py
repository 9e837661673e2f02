"""What maps say of a piece whose mesh is refined or made anew is what they said before."""

import igl
import numpy as np
import pytest

from rubberquince.document import remaking
from rubberquince.document.maps import (
    EdgesRule,
    FacingRule,
    HeightRule,
    InsideRule,
    Layer,
    LineRule,
    Map,
    NearRule,
    NoiseRule,
    PartsRule,
    Stroke,
    StrokesRule,
    TypedRule,
)
from rubberquince.document.scene import Curve, ImportedShape, Piece, Place, Scene, SphereShape
from rubberquince.document.weights import weights_of
from rubberquince.shapes import primitives
from rubberquince.shapes.polymesh import PolyMesh

OTHER = Piece(id="o", name="Pear", shape=SphereShape(), place=Place(position=(0.1, 0.3, 0.0), size=(0.08, 0.08, 0.08)))
LINE = Curve(id="c", name="c", beads=((0.5, 0.0, 0.0), (0.0, 0.0, 0.5), (-0.5, 0.0, 0.0)))


def ring_and_block():
    """A ring with a block in its middle, 20 cm wide: round and sharp, of two parts."""
    ring, block = primitives.torus(72, 28, 0.5), primitives.block((12, 12, 12))
    points = np.concatenate([ring.points * (0.2, 0.06, 0.2), block.points * (0.06, 0.05, 0.06)])
    faces = np.concatenate([ring.face_points, block.face_points + len(ring.points)]).astype(np.int32)
    mesh = PolyMesh(points, np.concatenate([ring.face_sizes, block.face_sizes]), faces)
    unit, size, _ = primitives.unit_and_size(mesh)
    place = Place(position=(0.0, 0.3, 0.0), size=tuple(size.tolist()), turn=(0.0, 20.0, 10.0))
    return Piece(id="r", name="Ring", shape=ImportedShape(name="ring", mesh=unit.key), place=place,
                 curves=(LINE,)), {unit.key: unit}


def in_metres(piece, meshes):
    mesh = meshes[piece.shape.mesh]
    return mesh.points * np.array(piece.place.size) @ piece.place.rotation().T + piece.place.position, mesh.triangles


def apart(before, after, meshes):
    """The mean over the area of how far a map of two forms of a piece differs, 0 .. 1; and the mean of the first."""
    (points, triangles), (fine, faces) = in_metres(before, meshes), in_metres(after, meshes)
    said, anew = (weights_of(piece.maps[0], piece, Scene(pieces=(piece, OTHER)), meshes) for piece in (before, after))
    _, face, near = igl.point_mesh_squared_distance(fine, points, triangles)[:3]
    corners = triangles[face]
    share = igl.barycentric_coordinates(near, *(np.ascontiguousarray(points[corners[:, k]]) for k in range(3)))
    carried = (share * said[corners]).sum(axis=1)
    area = np.bincount(faces.reshape(-1), np.repeat(igl.doublearea(fine, faces), 3), len(fine))
    return area @ np.abs(anew - carried) / area.sum(), area @ carried / area.sum()


def mapped(piece, rule):
    return piece.model_copy(update={"maps": (Map(of="goal.strength", layers=(Layer(rule=rule),)),)})


@pytest.mark.parametrize("rule", [
    HeightRule(axis="its x", full=0.9, none=0.2), LineRule(curve="c", reach=0.05), EdgesRule(reach=0.02),
    FacingRule(toward="up", angle=80.0), NearRule(piece="o", reach=0.05), NoiseRule(size=0.05), PartsRule(seed=3),
    InsideRule(form="box", x=0.05, y=0.3, width=0.1, height=0.1, depth=0.1, soft=0.02),
    InsideRule(form="a piece", piece="o", soft=0.03),
    TypedRule(places=((0.45, 0.1, 0.1), (-0.45, 0.0, 0.0)), values=(1.0, 0.6), reach=0.03),
    StrokesRule(strokes=(Stroke(beads=((0.4, 0.3, 0.0), (0.3, 0.3, 0.3), (0.0, 0.3, 0.4)), radius=0.04),))],
    ids=lambda rule: rule.kind)
def test_every_rule_says_the_same_of_a_refined_mesh(rule):
    piece, meshes = ring_and_block()
    piece = mapped(piece, rule)
    finer, mesh = remaking.refined(piece, meshes)
    off, mean = apart(piece, finer, {**meshes, mesh.key: mesh})
    assert len(mesh.points) > 3.5 * len(meshes[piece.shape.mesh].points)
    assert mean > 0.01 and off < 0.02


@pytest.mark.parametrize("face", [0.0025, 0.005])
def test_a_stroke_stays_where_it_was_painted_on_a_mesh_made_anew(face):
    piece, meshes = ring_and_block()
    stroke = Stroke(beads=((0.4, 0.3, 0.0), (0.3, 0.3, 0.3), (0.0, 0.3, 0.4)), radius=0.04, strength=1.0)
    piece = mapped(piece, StrokesRule(strokes=(stroke,)))
    other, mesh = remaking.remeshed(piece, meshes, face)
    off, mean = apart(piece, other, {**meshes, mesh.key: mesh})
    assert mean > 0.01 and off < 0.03 * mean
