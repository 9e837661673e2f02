"""Refine, thin, remesh, repair, and sharp normals: what a mesh is made into, and what of it stays."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from rubberquince.document import remaking
from rubberquince.document.bodies import piece_points, unit_mesh
from rubberquince.document.scene import BlockShape, Piece, Place, SphereShape
from rubberquince.errors import ShapeError
from rubberquince.shapes import primitives, profiles
from rubberquince.shapes.lattice import build_lattice, cells_about
from rubberquince.shapes.normals import group_normals, normal_groups
from rubberquince.shapes.polymesh import PolyMesh, edges_of, is_closed, surface_area, volume
from rubberquince.shapes.remesh import refined, remeshed, thinned
from rubberquince.shapes.repair import closed, holes, repaired

RING = primitives.torus(48, 20, 0.6)


def without(mesh, faces):
    """The mesh without some faces."""
    keep = np.ones(len(mesh.face_sizes), bool)
    keep[list(faces)] = False
    corners = np.repeat(keep, mesh.face_sizes)
    return PolyMesh(mesh.points, mesh.face_sizes[keep], mesh.face_points[corners], mesh.uvs, mesh.face_uvs[corners])


def flat(mesh):
    """Its texture as points (m, 3)."""
    return np.column_stack([mesh.uvs, np.zeros(len(mesh.uvs))]) if len(mesh.uvs) else mesh.points * 0.0


def fans(mesh):
    """Its triangles on the texture."""
    return mesh.face_uvs[mesh.fans] if len(mesh.uvs) else mesh.triangles


def test_a_refined_mesh_has_the_same_surface_and_texture():
    block = primitives.block((2, 1, 3))
    fine = refined(block)
    assert len(fine.face_sizes) == 4 * len(block.face_sizes) and is_closed(fine.triangles)
    np.testing.assert_allclose(volume(fine.points, fine.triangles), 1.0, rtol=1e-12)
    assert np.abs(fine.points).max() == 0.5
    assert len(edges_of(fine.triangles)) - len(fine.points) == len(fine.triangles) - 2          # Euler: one sphere
    corner = fine.uvs[fine.face_uvs]
    assert corner.min() == 0.0 and corner.max() == 1.0 and np.isclose(corner, 0.5).any()


@pytest.mark.parametrize("mesh", [primitives.block((3, 4, 3)), RING,
                                  primitives.revolved(np.array(profiles.capsule()), 12)])
def test_a_mesh_refined_in_places_keeps_its_surface_there_and_stays_as_it_was_elsewhere(mesh):
    rng, area = np.random.default_rng(5), surface_area(mesh.points, mesh.triangles)
    texture = float(surface_area(flat(mesh), fans(mesh)))
    for k in range(40):
        points = rng.random(len(mesh.points)) < rng.uniform(0.02, 0.9)
        points[k % len(points)] = True
        fine = refined(mesh, points)
        assert is_closed(fine.triangles) and len(fine.points) > len(mesh.points)
        np.testing.assert_array_equal(fine.points[:len(mesh.points)], mesh.points)
        a, b, c = (fine.points[fine.triangles[:, j]] for j in range(3))
        each = np.linalg.norm(np.cross(b - a, c - a), axis=1) / 2
        assert each.min() > 1e-3 * area / len(fine.triangles)                    # no face of it is a line
        if mesh is not RING:                                                     # whose quads are not flat
            np.testing.assert_allclose(each.sum(), area, rtol=1e-5)
        if texture:
            np.testing.assert_allclose(surface_area(flat(fine), fans(fine)), texture, rtol=1e-5)
    near = np.linalg.norm(mesh.points - mesh.points[0], axis=1) < 0.5
    some = refined(mesh, near)
    assert len(mesh.face_sizes) < len(some.face_sizes) < 0.6 * len(refined(mesh).face_sizes)
    assert np.linalg.norm(some.points[len(mesh.points):] - mesh.points[0], axis=1).max() < 0.5


def test_a_mesh_refined_at_all_its_points_is_refined():
    block = primitives.block((2, 1, 3))
    assert refined(block, np.ones(len(block.points), bool)).key == refined(block).key


def test_a_thinned_mesh_keeps_its_form():
    few = thinned(RING, 0.3)
    assert len(few.triangles) <= 0.31 * len(RING.triangles) and is_closed(few.triangles)
    np.testing.assert_allclose(volume(few.points, few.triangles), volume(RING.points, RING.triangles), rtol=0.02)
    with pytest.raises(ShapeError, match="cannot be thinned further"):
        thinned(RING, 1.0)


def test_a_remesh_closes_in_on_the_shape_as_its_faces_shrink():
    exact, errors = volume(RING.points, RING.triangles), []
    for cell in (0.06, 0.03):
        mesh = remeshed(RING.points, RING.triangles, cell)
        assert is_closed(mesh.triangles)
        errors.append(abs(volume(mesh.points, mesh.triangles) / exact - 1))
    assert 2.5 < errors[0] / errors[1] < 6.5                # second order


@settings(max_examples=15, deadline=None, derandomize=True)
@given(st.integers(0, 10_000))
def test_a_remesh_of_anything_is_closed(seed):
    rng = np.random.default_rng(seed)
    points, triangles = rng.normal(size=(40, 3)), rng.integers(0, 40, (60, 3))
    try:
        mesh = remeshed(points, triangles, 0.4)
    except ShapeError as error:
        assert "no inside" in str(error)
        return
    assert is_closed(mesh.triangles) and volume(mesh.points, mesh.triangles) > 0


def test_sizes_beyond_reason_are_one_sentence():
    with pytest.raises(ShapeError, match="would be too many for this size"):
        remeshed(RING.points, RING.triangles, 1e-4)
    dense = primitives.sphere(400, 200)
    with pytest.raises(ShapeError, match="are the most"):
        refined(refined(dense))


def test_repair_says_what_it_did_and_does_only_that():
    block = primitives.block((4, 4, 4))
    assert repaired(block) == (block, [])
    ends = np.cumsum(block.face_sizes)
    turned = block.face_points.copy()
    for face in (3, 17, 40):
        turned[ends[face] - 4:ends[face]] = turned[ends[face] - 4:ends[face]][::-1]
    mesh, notes = repaired(replace(block, face_points=turned))
    assert notes == ["3 faces looked the wrong way and were turned."]
    assert volume(mesh.points, mesh.triangles) == pytest.approx(1.0) and is_closed(mesh.triangles)
    doubled = replace(block, face_sizes=np.append(block.face_sizes, [4, 3]).astype(np.int32),
                      face_points=np.concatenate([block.face_points, block.face_points[:4][::-1], [7, 7, 8]]),
                      uvs=np.zeros((0, 2), np.float32), face_uvs=np.zeros(0, np.int32))
    mesh, notes = repaired(doubled)
    assert notes == ["2 faces without area or there twice were left out."] and is_closed(mesh.triangles)


def test_small_holes_are_closed_and_large_ones_left():
    ball = primitives.sphere(24, 12)
    mesh, notes = repaired(without(ball, [20, 150]))
    assert notes == ["2 small holes were closed."] and is_closed(mesh.triangles)
    np.testing.assert_allclose(volume(mesh.points, mesh.triangles), volume(ball.points, ball.triangles), rtol=5e-3)
    bowl = without(ball, range(len(ball.face_sizes) // 2))
    mesh, notes = repaired(bowl)
    assert notes == [] and not is_closed(mesh.triangles)
    (rim,) = holes(bowl)
    lid = closed(bowl, [rim])
    assert is_closed(lid.triangles) and volume(lid.points, lid.triangles) > 0


def test_a_recipe_is_refined_as_a_recipe_and_a_mesh_as_a_mesh():
    piece = Piece(id="a", name="A", shape=SphereShape(around=12, rings=6), place=Place(size=(0.2, 0.1, 0.1)))
    fine, mesh = remaking.refined(piece, {})
    assert (fine.shape.around, fine.shape.rings, mesh) == (24, 12, None)
    large = piece.model_copy(update={"shape": BlockShape(divisions=(150, 1, 1))})
    fine, mesh = remaking.refined(large, {})
    assert fine.shape.kind == "imported" and len(mesh.face_sizes) == 4 * len(unit_mesh(large.shape, {}).face_sizes)


def test_a_remade_piece_stays_where_it_was():
    piece = Piece(id="a", name="A", shape=SphereShape(around=24, rings=12),
                  place=Place(position=(1.0, 2.0, 3.0), turn=(0.0, 0.0, 90.0), size=(0.2, 0.1, 0.1)))
    other, mesh = remaking.remeshed(piece, {}, 0.01)
    points = piece_points(other, {mesh.key: mesh})
    np.testing.assert_allclose(points.min(axis=0), piece_points(piece, {}).min(axis=0), atol=4e-3)
    np.testing.assert_allclose(points.max(axis=0), piece_points(piece, {}).max(axis=0), atol=4e-3)
    assert other.shape.name == "sphere, remeshed"
    again, _ = remaking.thinned(other, {mesh.key: mesh}, 0.5)
    assert again.shape.name == "sphere, thinned"


def test_the_number_of_cells_is_known_before_they_are_made():
    for mesh, size, cell in ((RING, (0.18, 0.05, 0.18), 0.012), (primitives.sphere(32, 16), (0.1, 0.1, 0.1), 0.015)):
        points = mesh.points * np.array(size)
        np.testing.assert_allclose(cells_about(points, mesh.triangles, cell),
                                   build_lattice(points, mesh.triangles, cell).cells, rtol=0.15)


def test_normals_are_smooth_on_a_ball_and_sharp_on_a_block():
    ball, block = primitives.sphere(48, 24), primitives.block((2, 2, 2))
    groups = normal_groups(ball, ball.points)
    assert np.array_equal(groups, ball.face_points)
    away = ball.points / np.linalg.norm(ball.points, axis=1, keepdims=True)
    np.testing.assert_allclose(group_normals(ball, ball.points, groups), away, atol=0.04)
    groups = normal_groups(block, block.points)
    normals = group_normals(block, block.points, groups)
    assert len(normals) == 6 * 9                            # each side has its own nine
    np.testing.assert_allclose(np.sort(np.abs(normals), axis=1), np.tile([0, 0, 1], (54, 1)), atol=1e-12)
    np.testing.assert_array_equal(normals[groups[:4]], np.tile(normals[groups[0]], (4, 1)))
    assert (np.einsum("ij,ij->i", normals[groups], block.points[block.face_points]) > 0).all()


@pytest.mark.parametrize("rise, turn, exact", [(1.0, 1.0, np.pi / 6), (0.02, 0.02, 1.0)])
def test_a_superellipsoid_goes_from_a_box_to_a_ball(rise, turn, exact):
    mesh = primitives.superellipsoid(96, 60, rise, turn)
    assert is_closed(mesh.triangles)
    np.testing.assert_allclose(volume(mesh.points, mesh.triangles), exact, rtol=0.02)


def test_a_sheet_looks_up_and_is_open():
    sheet = primitives.sheet(3, 2)
    a, b, c = (sheet.points[sheet.triangles[:, k]] for k in range(3))
    assert (np.cross(b - a, c - a)[:, 1] > 0).all() and len(holes(sheet)) == 1 and len(sheet.face_sizes) == 6
