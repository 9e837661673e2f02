"""Primitives, polygon meshes and the lattice that fills them."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial import cKDTree

from rubberquince.errors import ShapeError
from rubberquince.shapes import primitives, profiles
from rubberquince.shapes.lattice import build_lattice
from rubberquince.shapes.polymesh import PolyMesh, edges_of, is_closed, volume
from rubberquince.shapes.studs import studs_on

DOME = np.array([[0.0, 0.0], [0.5, 0.0], [0.5, 0.3], [0.3, 0.8], [0.0, 1.0]])


@pytest.mark.parametrize("mesh", [primitives.block((3, 4, 5)), primitives.sphere(24, 12),
                                  primitives.cushion(9, 0.6),
                                  primitives.revolved(np.array(profiles.capsule())[:, :2], 24),
                                  primitives.revolved(np.array(profiles.disc())[:, :2], 24),
                                  primitives.revolved(DOME, 32), primitives.revolved(DOME, 48, 8, np.full(5, 0.2))],
                         ids=["block", "sphere", "cushion", "capsule", "disc", "dome", "fluted dome"])
def test_primitives_are_closed_and_fill_the_unit_box(mesh):
    assert is_closed(mesh.triangles)
    low, high = mesh.bounds()
    assert np.allclose(low, -0.5, atol=2e-2) and np.allclose(high, 0.5, atol=2e-2)
    assert volume(mesh.points, mesh.triangles) > 0.2
    faces, points = len(mesh.triangles), len(mesh.points)
    assert points - len(edges_of(mesh.triangles)) + faces == 2          # Euler's formula for a sphere


def test_a_torus_is_closed_with_one_hole_and_the_volume_of_its_kind():
    mesh = primitives.torus(96, 48, 0.4)
    assert is_closed(mesh.triangles)
    assert len(mesh.points) - len(edges_of(mesh.triangles)) + len(mesh.triangles) == 0
    outer, tube = 0.5, 0.5 * 0.2 / 1.0          # in the unit box's plane: ring radius 0.4, tube 0.1
    round_box = mesh.points * [1.0, 2 * tube, 1.0]
    assert volume(round_box, mesh.triangles) == pytest.approx(2 * np.pi ** 2 * (outer - tube) * tube ** 2, rel=5e-3)


def test_a_cushion_is_pinched_at_its_rim():
    mesh = primitives.cushion(16, 1.0)
    rim = np.abs(mesh.points[:, 1]) < 1e-9
    assert rim.sum() == 4 * 16                  # the two sheets share their rim and nothing else
    middle = mesh.points[rim & (np.abs(mesh.points[:, 2]) < 1e-9)]
    assert np.abs(middle[:, 0]).max() < 0.45    # the sides are drawn in


def test_volumes_are_those_of_the_solids():
    assert volume(*_soup(primitives.block((2, 3, 4)))) == pytest.approx(1.0)
    fine = primitives.sphere(160, 80)
    assert volume(*_soup(fine)) == pytest.approx(np.pi / 6, rel=2e-3)


def _soup(mesh):
    return mesh.points, mesh.triangles


def test_polygons_become_fans():
    mesh = PolyMesh(np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0], [2, 0, 0.0]]), np.array([4, 3], np.int32),
                    np.array([0, 1, 2, 3, 1, 4, 2], np.int32))
    assert mesh.triangles.tolist() == [[0, 1, 2], [0, 2, 3], [1, 4, 2]]


@pytest.mark.parametrize("change, word", [
    ({"points": np.zeros((0, 3))}, "empty"),
    ({"points": np.array([[np.nan, 0, 0], [1, 0, 0], [0, 1, 0]])}, "not numbers"),
    ({"points": np.array([[1e9, 0, 0], [1, 0, 0], [0, 1, 0]])}, "100 km"),
    ({"face_points": np.array([0, 1, 9], np.int32)}, "does not exist"),
    ({"face_points": np.array([0, 1], np.int32)}, "add up"),
    ({"face_uvs": np.array([0, 1, 2], np.int32)}, "texture"),
])
def test_damaged_meshes_are_refused_in_one_sentence(change, word):
    whole = {"points": np.eye(3), "face_sizes": np.array([3], np.int32), "face_points": np.arange(3, dtype=np.int32)}
    PolyMesh(**whole)
    with pytest.raises(ShapeError, match=word) as caught:
        PolyMesh(**{**whole, **change})
    assert str(caught.value).count(".") == 1


@given(st.integers(1, 4), st.floats(0.01, 0.4), st.integers(0, 99))
@settings(max_examples=30, deadline=None)
def test_no_place_on_a_coarse_skin_is_far_from_a_point_or_a_stud(divisions, spacing, seed):
    mesh, rng = primitives.block((divisions, 1, 1)), np.random.default_rng(seed)
    points = mesh.points * rng.uniform(0.05, 1.0, 3)
    studs = studs_on(points, mesh.triangles, spacing)
    places = studs.between(points)
    a, b, c = (points[mesh.triangles[:, k]] for k in range(3))
    faces = 0.5 * np.linalg.norm(np.cross(b - a, c - a), axis=1)
    assert studs.area.sum() == pytest.approx(faces.sum()) and (studs.area > 0.0).all()
    away = np.einsum("ki,ki->k", places - a[studs.face], np.cross(b - a, c - a)[studs.face])
    assert np.abs(away).max(initial=0.0) < 1e-12 and (studs.share >= 0.0).all()
    some, where = rng.integers(0, len(faces), 200), rng.dirichlet([1.0, 1.0, 1.0], 200)
    on_skin = np.einsum("kc,kci->ki", where, points[mesh.triangles[some]])
    assert cKDTree(np.concatenate([points, places])).query(on_skin)[0].max() < 1.25 * spacing
    gaps = cKDTree(np.concatenate([points, places])).query(places, 2)[0][:, 1]
    assert (gaps > 0.0).all()                                           # none comes twice
    assert len(studs_on(points, mesh.triangles, 2.0)) == 0


@pytest.mark.parametrize("cells", [3, 5, 8])
def test_lattice_carries_volume_and_skin(cells):
    mesh = primitives.sphere(40, 20)
    points = mesh.points * [0.2, 0.1, 0.14]
    lattice = build_lattice(points, mesh.triangles, 0.1 / cells)
    assert lattice.share.sum() == pytest.approx(volume(points, mesh.triangles), rel=0.02)
    carried = np.einsum("pk,pki->pi", lattice.bind_weight, lattice.nodes[lattice.bind_node])
    assert np.abs(carried - np.concatenate([points, lattice.studs.between(points)])).max() < 1e-9
    assert np.allclose(lattice.bind_weight.sum(axis=1), 1.0)
    assert (lattice.fill >= 0).all() and (lattice.fill <= 1 + 1e-12).all()
    centre = (lattice.share @ lattice.nodes) / lattice.share.sum()
    assert np.abs(centre).max() < 0.01 * 0.2


def test_an_open_mesh_is_filled_as_well_as_can_be():
    mesh = primitives.sphere(40, 20)
    holed = mesh.triangles[12:]
    lattice = build_lattice(mesh.points * 0.1, holed, 0.02)
    assert lattice.share.sum() == pytest.approx(np.pi / 6 * 1e-3, rel=0.05)


def test_shapes_that_cannot_be_filled_say_why():
    flat = primitives.block((2, 2, 2))
    with pytest.raises(ShapeError, match="encloses no volume"):
        build_lattice(flat.points * [1.0, 0.0, 1.0], flat.triangles, 0.1)
    with pytest.raises(ShapeError, match="too many"):
        build_lattice(flat.points, flat.triangles, 1e-3)


@settings(max_examples=20, deadline=None)
@given(radius=st.lists(st.floats(0.05, 1.0), min_size=2, max_size=6), around=st.integers(6, 40))
def test_any_profile_makes_a_closed_shape(radius, around):
    heights = np.linspace(0, 1, len(radius) + 2)
    profile = np.column_stack([[0.0, *radius, 0.0], heights])
    mesh = primitives.revolved(profile, around)
    assert is_closed(mesh.triangles)
    assert np.isfinite(mesh.points).all()
