"""Camera, picking, handles, bodies, and what the renderer draws."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from rubberquince.demos import harvest_fair
from rubberquince.document.bodies import piece_points, unit_mesh
from rubberquince.document.scene import Place, Scene, changed
from rubberquince.exchange.writing import Exported
from rubberquince.shapes import primitives
from rubberquince.shapes.polymesh import PolyMesh
from rubberquince.view.body import DENSE, Body, outer_of
from rubberquince.view.camera import Camera
from rubberquince.view.cells import cells_of, surface
from rubberquince.view.handles import Drag, handles_of, slide, under_pointer
from rubberquince.view.portrait import portrait
from rubberquince.view.renderer import Renderer
from rubberquince.view.shading import corners_of, skin_stretch, vertex_normals
from rubberquince.view.stage import Stage
from scenes import ball, slab, small_scene

SIZE = (400, 300)
angles = st.floats(-3.0, 3.0)


@pytest.fixture(scope="module")
def renderer():
    made = Renderer()
    yield made
    made.release()


# --- camera -----------------------------------------------------------------------------------------------


@settings(max_examples=50, deadline=None)
@given(turn=angles, lift=st.floats(-1.5, 1.5), x=st.floats(0, 400), y=st.floats(0, 300), far=st.floats(0.5, 9))
def test_a_ray_goes_through_the_pixel_it_was_asked_for(turn, lift, x, y, far):
    camera = Camera(turn=turn, lift=lift)
    eye, along = camera.ray(x, y, *SIZE)
    (px, py, depth), = camera.project(eye + far * along, *SIZE)
    assert (px, py) == pytest.approx((x, y), abs=1e-6) and depth > 0


def test_zooming_keeps_what_lies_under_the_pointer():
    camera = Camera(distance=2.0)
    eye, along = camera.ray(300, 80, *SIZE)
    under = eye + along * 2.0 / float(-along @ camera.axes[2])
    (px, py, _), = camera.zoomed(0.5, 300, 80, *SIZE).project(under, *SIZE)
    assert (px, py) == pytest.approx((300, 80), abs=1e-6)
    assert camera.zoomed(1e-9, 0, 0, *SIZE).distance > 0


@settings(max_examples=30, deadline=None)
@given(turn=angles, lift=st.floats(-1.5, 1.5), size=st.floats(1e-3, 100))
def test_framing_shows_all_of_a_box(turn, lift, size):
    low, high = np.array([-1.0, 0.0, 2.0]) * size, np.array([1.0, 0.5, 3.0]) * size
    camera = Camera(turn=turn, lift=lift).framing(low, high, 4 / 3)
    corners = np.array([[(low, high)[(k >> i) & 1][i] for i in range(3)] for k in range(8)])
    px = camera.project(corners, *SIZE)
    assert (px[:, 2] > 0).all()
    assert (px[:, :2] > 0).all() and (px[:, 0] < SIZE[0]).all() and (px[:, 1] < SIZE[1]).all()


# --- picking and bodies -----------------------------------------------------------------------------------


def test_the_nearest_piece_is_picked():
    stage = Stage()
    stage.show(small_scene(), {})
    assert stage.at(np.array([0.0, 1.0, 0.0]), np.array([0.0, -1.0, 0.0])) == "ball"
    assert stage.at(np.array([0.09, 1.0, 0.09]), np.array([0.0, -1.0, 0.0])) == "slab"
    assert stage.at(np.array([0.0, 1.0, 0.0]), np.array([0.0, 1.0, 0.0])) is None
    body = stage.bodies["ball"]
    height = body.rays.distance(np.array([0.001, 1.0, 0.002]), np.array([0.0, -1.0, 0.0]))
    assert height == pytest.approx(1.0 - 0.13, abs=2e-3)


def test_normals_of_a_ball_point_outwards():
    mesh = primitives.sphere(32, 16)
    points = mesh.points.astype(np.float32)
    normals = vertex_normals(points, mesh.triangles, corners_of(mesh.triangles, len(points)))
    outward = points / np.linalg.norm(points, axis=1, keepdims=True)
    assert (normals * outward).sum(axis=1).min() > 0.99


def test_a_block_keeps_its_edges_and_a_ball_is_smooth():
    block = primitives.block((2, 2, 2))
    outer = outer_of(block, (1.0, 1.0, 1.0))
    source, triangles = outer.source, outer.triangles
    assert len(source) == 6 * 9                      # every side has points of its own
    assert np.array_equal(block.points[source[triangles]], block.points[block.triangles])
    round_mesh = primitives.sphere(32, 16)
    assert len(outer_of(round_mesh, (1.0, 1.0, 1.0)).source) == len(round_mesh.points)


@pytest.mark.parametrize("turned", [40.0, 46.0, 53.0, 70.0])
def test_edges_are_as_sharp_in_the_picture_as_in_what_is_exported(turned):
    angle = np.radians(turned)
    high = np.tan(angle)
    fold = PolyMesh(np.array([[0, 0, 0], [1, 0, 0], [1, 0, 1], [0, 0, 1], [2, high, 0], [2, high, 1.0]]),
                    np.array([4, 4], np.int32), np.array([3, 2, 1, 0, 1, 2, 5, 4], np.int32))
    body, exported = Body(fold, (1.0, 1.0, 1.0)), Exported("fold", fold, fold.points)
    body.place(fold.points)
    normals = exported.normals(fold.points)
    assert len(body.whole.outer.source) == len(normals)
    assert np.allclose(body.level(False).vertices[:, 3:6], normals, atol=1e-6)


def test_a_dense_skin_is_thinned_while_it_moves_and_looks_the_same():
    """Every drawn triangle lies on the ball and faces outwards, none is missing, and tints and places come along."""
    mesh = primitives.sphere(460, 230)
    body = Body(mesh, (0.2, 0.2, 0.2))
    body.place(0.2 * mesh.points + (0.0, 0.3, 0.0))
    body.tint_by(mesh.points[:, 1].astype(np.float32))
    thin, whole = body.level(True), body.level(False)
    triangles = thin.outer.triangles
    assert len(mesh.triangles) > DENSE and len(triangles) < 0.8 * DENSE and len(whole.vertices) == len(mesh.points)
    a, b, c = (thin.vertices[triangles[:, k], :3].astype(float) for k in range(3))
    normal = 0.5 * np.cross(b - a, c - a)
    assert np.linalg.norm(normal, axis=1).sum() == pytest.approx(4.0 * np.pi * 0.1 ** 2, rel=0.01)
    assert np.abs(normal.sum(axis=0)).max() < 1e-9                       # it is closed
    inward = np.einsum("ti,ti->t", normal, (a + b + c) / 3.0 - (0.0, 0.3, 0.0)) < 0.0
    assert np.linalg.norm(normal[inward], axis=1).sum() < 2e-3 * np.linalg.norm(normal, axis=1).sum()
    assert thin.vertices[:, 6] == pytest.approx((thin.vertices[:, 1] - 0.3) / 0.2, abs=1e-5)
    outward = (thin.vertices[:, 3:6] * (thin.vertices[:, :3] - (0.0, 0.3, 0.0))).sum(axis=1)
    assert np.quantile(outward, 0.002) > 0.098
    body.place(0.2 * mesh.points)
    assert body.level(True) is thin and thin.vertices[:, 1].mean() == pytest.approx(0.0, abs=1e-3)


@pytest.mark.parametrize("factor, value", [((1.2, 1.0, 1.0), 0.2), ((0.8, 1.0, 1.0), -0.2), ((1.0, 1.0, 1.0), 0.0)])
def test_stretch_of_a_pulled_and_of_a_pressed_sheet(factor, value):
    sheet = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [1, 1, 0.0]], np.float32)
    triangles = np.array([[0, 1, 2], [1, 3, 2]], np.int32)
    stretch = skin_stretch(sheet * np.array(factor, np.float32), sheet, triangles, corners_of(triangles, 4))
    assert np.allclose(stretch, value, atol=1e-5)


def test_the_outside_of_the_cells_is_closed_and_encloses_the_skin():
    scene = small_scene()
    piece = scene.piece("ball")
    cells = cells_of(piece, {}, "good")
    corners = surface(cells, piece, None)
    skin = piece_points(scene.piece("ball"), {})
    assert corners.shape[1:] == (3, 3) and (corners.min(axis=(0, 1)) <= skin.min(axis=0)).all()
    triangles = np.arange(3 * len(corners)).reshape(-1, 3)
    merged = np.unique(corners.reshape(-1, 3).round(6), axis=0, return_inverse=True)[1].reshape(-1)
    edges = np.sort(merged[triangles][:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2), axis=1)
    assert (np.unique(edges, axis=0, return_counts=True)[1] % 2 == 0).all()
    lifted = cells.nodes + np.array([0.0, 5.0, 0.0])
    assert surface(cells, piece, (cells.carrier, lifted))[..., 1].min() > 4.0
    finer = cells_of(changed(piece, "solid.cells", 6), {}, "good")  # frames of other cells say nothing of these
    assert surface(finer, piece, (cells.carrier, lifted)) is None


# --- handles ----------------------------------------------------------------------------------------------

PLACE = Place(position=(0.1, 0.2, 0.3), size=(0.2, 0.1, 0.3))
CAMERA = Camera(target=PLACE.position, distance=1.5)


def take(name):
    """A drag of a handle by name, taken where it is drawn."""
    handle = next(h for h in handles_of(PLACE) if h.name == name)
    point = handle.line[len(handle.line) // 3]
    (x, y, _), = CAMERA.project(point, *SIZE)
    return Drag(handle, PLACE, *CAMERA.ray(x, y, *SIZE)), point


def ray_to(point):
    (x, y, _), = CAMERA.project(point, *SIZE)
    return CAMERA.ray(x, y, *SIZE)


@pytest.mark.parametrize("axis", range(3))
def test_an_arrow_moves_along_its_axis_only(axis):
    drag, point = take(f"move {'xyz'[axis]}")
    way = np.eye(3)[axis] * 0.07
    moved = drag.to(*ray_to(point + way), snap=False)
    assert np.allclose(moved.position, np.array(PLACE.position) + way, atol=1e-5)
    assert moved.size == PLACE.size and moved.turn == PLACE.turn
    snapped = drag.to(*ray_to(point + way * 1.04), snap=True)
    assert round(snapped.position[axis] * 100, 6) % 1 == 0


@pytest.mark.parametrize("axis", range(3))
def test_a_grip_sizes_one_side_and_the_far_side_stays(axis):
    drag, point = take(f"size {'xyz'[axis]}")
    sized = drag.to(*ray_to(point + np.eye(3)[axis] * 0.05), snap=False)
    assert sized.size[axis] == pytest.approx(PLACE.size[axis] + 0.05, abs=1e-5)
    far = [place.position[axis] - place.size[axis] / 2 for place in (PLACE, sized)]
    assert far[0] == pytest.approx(far[1], abs=1e-6)
    tiny = drag.to(*ray_to(point - np.eye(3)[axis] * 5.0), snap=False)
    assert min(tiny.size) >= 1e-3


def test_the_corner_grip_keeps_the_shape_and_the_bottom():
    drag, point = take("size all")
    centre = np.array(PLACE.position)
    sized = drag.to(*ray_to(centre + 1.5 * (point - centre)), snap=False)
    assert np.allclose(np.array(sized.size) / PLACE.size, sized.size[0] / PLACE.size[0])
    assert sized.size[0] > PLACE.size[0]
    assert sized.position[1] - sized.size[1] / 2 == pytest.approx(0.15, abs=1e-6)


def test_a_ring_turns_about_its_axis():
    drag, point = take("turn y")
    arm = point - np.array(PLACE.position)
    quarter = np.array([arm[2], arm[1], -arm[0]])
    turned = drag.to(*ray_to(np.array(PLACE.position) + quarter), snap=False)
    assert turned.turn[1] == pytest.approx(90.0, abs=0.5)
    assert np.allclose(turned.rotation() @ [1, 0, 0], [0, 0, -1], atol=0.02)


def test_the_handle_under_the_pointer_is_found():
    handles = handles_of(PLACE)
    (x, y, _), = CAMERA.project(handles[0].line[-1], *SIZE)
    assert under_pointer(handles, CAMERA, (x + 2, y - 2), SIZE).name == "move x"
    assert under_pointer(handles, CAMERA, (3.0, 3.0), SIZE) is None


def test_sliding_keeps_the_height():
    grabbed = np.array([0.1, 0.25, 0.3])
    moved = slide(PLACE, grabbed, *ray_to(grabbed + np.array([0.05, 0.0, -0.04])), snap=False)
    assert np.allclose(moved.position, (0.15, 0.2, 0.26), atol=1e-5)
    assert slide(PLACE, grabbed, np.array([0, 1.0, 0]), np.array([1.0, 0.0, 0.0]), False) == PLACE


# --- pictures ---------------------------------------------------------------------------------------------


def shot(renderer, stage, camera=None, size=(240, 180)):
    camera = camera or Camera().framing(*stage.bounds(), size[0] / size[1])
    return renderer.draw(stage, camera, *size).astype(int)


def test_jelly_looks_like_its_colour_and_lets_light_through(renderer):
    stage = Stage()
    stage.show(small_scene(), {})
    picture = shot(renderer, stage)
    assert picture.shape == (180, 240, 4)
    middle = picture[60:110, 100:140, :3].reshape(-1, 3).mean(axis=0)
    assert middle[0] > middle[1] + 30 > middle[2] + 60           # amber
    stage.show(small_scene().with_piece(changed(ball(), "look.material", "matte")), {})
    matte = shot(renderer, stage)
    assert np.abs(matte - picture).max() > 40                    # another material, another picture


def test_a_shadow_falls_beside_what_casts_it(renderer):
    stage = Stage()
    stage.show(Scene(pieces=(slab(0.2),)), {})
    camera = Camera(lift=np.radians(60.0), distance=1.6, target=(0.1, 0.0, -0.1))
    with_slab = shot(renderer, stage, camera)
    stage.show(Scene(pieces=(slab(0.2),)).with_piece(changed(slab(0.2), "visible", False)), {})
    without = shot(renderer, stage, camera)
    darker = (without - with_slab)[:, :, :3].sum(axis=2) > 60
    lit = with_slab[:, :, :3].max(axis=2) < 170
    assert (darker & lit).sum() > 200


def test_a_frame_drawn_after_others_is_the_frame_drawn_alone(renderer):
    stage, size = Stage(), (240, 180)
    scene = small_scene()
    stage.show(scene, {})
    camera = Camera().framing(*stage.bounds(), 4 / 3)
    points = piece_points(scene.piece("ball"), {})
    for shift in (0.0, 0.01, -0.02):
        stage.show_frame({"ball": points + np.array([shift, 0, 0])})
        kept = shot(renderer, stage, camera, size)
    fresh = Renderer()
    try:
        assert np.abs(kept - shot(fresh, stage, camera, size)).max() <= 1
    finally:
        fresh.release()


def test_tints_that_change_in_places_give_the_picture_drawn_alone(renderer):
    """Of two pieces, one before the other: here and there, nothing, all, two changes at once, other sizes between."""
    scene = Scene(pieces=(ball("one"), ball("two").model_copy(update={"place": Place(
        position=(0.03, 0.09, -0.1), size=(0.1, 0.1, 0.1))}), slab()))
    stage = Stage(display="map", chosen="one")
    stage.show(scene, {})
    points = {name: piece_points(scene.piece(name), {}) for name in ("one", "two")}
    camera, chance = Camera().framing(*stage.bounds(), 4 / 3), np.random.default_rng(3)
    values = {name: np.zeros(len(place), np.float32) for name, place in points.items()}

    def painted(name, reach):
        middle = points[name][chance.integers(len(points[name]))]
        near = np.linalg.norm(points[name] - middle, axis=1) <= reach
        values[name] = np.where(near, np.float32(chance.random()), values[name])
        stage.weights = dict(values)
        stage.show_frame(points)

    for step in range(12):
        painted(("one", "two")[step % 2], (0.02, 0.0, 1.0)[step % 3])
        if step % 4 == 1:
            shot(renderer, stage, camera, (120, 90))
        if step % 4 == 2:
            stage.bodies["one"].level(False)            # someone else has looked at it
            painted("one", 0.03)
        seen = shot(renderer, stage, camera)
        if step % 4 == 3:
            fresh = Renderer()
            try:
                assert np.abs(seen - shot(fresh, stage, camera)).max() <= 1, step
            finally:
                fresh.release()
    stage.bodies["one"].place(points["one"] + 0.01)
    stage.bodies["one"].tint_by(None)
    fresh = Renderer()
    try:
        assert np.abs(shot(renderer, stage, camera) - shot(fresh, stage, camera)).max() <= 1
    finally:
        fresh.release()


def test_a_picture_in_which_nothing_changed_is_the_same_and_any_change_is_seen(renderer):
    stage = Stage()
    scene = small_scene()
    camera = Camera().framing(*(np.array([-0.1, 0.0, -0.1]), np.array([0.1, 0.14, 0.1])), 4 / 3)

    def taken(one=None):
        stage.show(one or scene, {})
        return shot(renderer, stage, camera)

    first = taken()
    assert (taken() == first).all()
    for path, value in (("look.colour", "#3F6F8A"), ("look.material", "film"), ("look.material", "cloth")):
        other = taken(scene.with_piece(changed(scene.piece("ball"), path, value)))
        assert np.abs(other - first).max() > 30 and (taken() == first).all()
    stage.display = "gap"
    wide = taken(scene.with_piece(changed(scene.piece("ball"), "contact.gap", 0.01)))
    assert np.abs(wide - taken()).max() > 10
    stage.display = "smooth"
    assert (taken() == first).all()


def test_chosen_cells_and_stretch_are_seen(renderer):
    scene, pictures = small_scene(), {}
    for display in ("smooth", "cells", "stretch"):
        stage = Stage(display=display)
        stage.show(scene, {})
        ball_piece = scene.piece("ball")
        carried = cells_of(ball_piece, {}, "good")
        stage.cells = {"ball": surface(carried, ball_piece, None)} if display == "cells" else {}
        stage.show_frame({"ball": piece_points(scene.piece("ball"), {}) * [1.3, 1.0, 1.0]})
        pictures[display] = shot(renderer, stage)
    stage.chosen = "ball"
    pictures["chosen"] = shot(renderer, stage)
    names = list(pictures)
    for k, one in enumerate(names):
        for two in names[k + 1:]:
            assert np.abs(pictures[one] - pictures[two]).max() > 40, (one, two)
    line = np.abs(pictures["chosen"] - pictures["stretch"]).max(axis=2) > 30
    assert 50 < line.sum() < 2500                   # a line about the piece, not the piece


@pytest.mark.parametrize("size", [(1, 1), (2000, 3), (7, 900)])
def test_odd_sizes_and_empty_stages_are_drawn(renderer, size):
    assert renderer.draw(Stage(), Camera(), *size).shape == (size[1], size[0], 4)


def test_every_demo_piece_has_a_portrait(renderer):
    for piece in harvest_fair.scene().pieces:
        picture = portrait(renderer, piece, unit_mesh(piece.shape, {}), 46).astype(int)
        assert picture.shape == (46, 46, 4) and np.ptp(picture[:, :, :3]) > 60


def test_versions_are_never_used_twice():
    body = Body(primitives.block((1, 1, 1)), (1.0, 1.0, 1.0))
    body.place(primitives.block((1, 1, 1)).points + 2.0)
    assert np.allclose(body.bounds()[0], 1.5)
    assert len({body.version, Body(primitives.block((1, 1, 1)), (1.0, 1.0, 1.0)).version}) == 2
