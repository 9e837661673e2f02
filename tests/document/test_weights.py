"""What the rules of weight maps say, on meshes of any density."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from rubberquince.bake.assemble import nodes_within
from rubberquince.bake.goals import amount_of
from rubberquince.document import strokes, weights
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
from rubberquince.document.scene import BlockShape, Curve, Piece, Place, Scene, SheetShape, SphereShape
from rubberquince.document.values import SolidValues
from rubberquince.document.weights import values_of, weights_of
from rubberquince.shapes.polymesh import PolyMesh
from rubberquince.shapes.primitives import sheet
from rubberquince.shapes.surface import Heat, Ways


def flat(across=20, **more):
    return Piece(id="a", name="Sheet", role="shell", shape=SheetShape(across=across, along=across),
                 place=Place(position=(0.0, 0.5, 0.0), size=(0.2, 0.01, 0.2)), **more)


def said(piece, *layers, others=()):
    layers = tuple(layer if isinstance(layer, Layer) else Layer(rule=layer) for layer in layers)
    return weights_of(Map(of="goal.strength", layers=layers), piece, Scene(pieces=(piece, *others)), {})


def across(piece):
    """x of the points of a flat sheet, -0.1 .. 0.1 m."""
    n = piece.shape.across + 1
    return np.repeat(np.linspace(-0.1, 0.1, n), n)


def test_height_goes_evenly_along_an_axis_or_upwards():
    piece = flat()
    assert said(piece, HeightRule(axis="its x", full=1.0, none=0.5)) == pytest.approx(
        np.clip(across(piece) / 0.1, 0.0, 1.0))
    upright = piece.model_copy(update={"place": piece.place.model_copy(update={"turn": (0.0, 0.0, 90.0)})})
    assert said(upright, HeightRule(full=0.0, none=1.0)) == pytest.approx(0.5 - across(piece) / 0.2, abs=1e-9)


@pytest.mark.parametrize("cells", [10, 20, 40])
def test_a_line_fades_with_the_distance_however_fine_the_mesh(cells):
    curve = Curve(id="c", name="c", beads=((0.0, 0.0, -0.5), (0.0, 0.0, 0.5)))
    piece = flat(cells, curves=(curve,))
    share = np.clip(np.abs(across(piece)) / 0.05, 0.0, 1.0)
    expected = (1.0 - share) ** 2 * (1.0 + 2.0 * share)
    assert said(piece, LineRule(curve="c", reach=0.05)) == pytest.approx(expected, abs=0.02)
    assert said(piece, LineRule(curve="gone")).max() == 0.0
    rim = said(piece, LineRule(reach=0.05))
    rim = rim.reshape(cells + 1, -1)
    assert rim[0].min() == pytest.approx(1.0) and rim[cells // 2, cells // 2] == 0.0


def test_distance_goes_round_the_edge_of_a_fold_not_through_space():
    """Two leaves of a folded sheet, 1 cm apart: from one hem to the other it is as far as along the skin."""
    mesh = sheet(40, 4)
    x = mesh.points[:, 0]
    folded = np.column_stack([np.where(x < 0, -x, x), np.where(x < 0, 0.0, 0.01 / 0.4), mesh.points[:, 2]]) * 0.4
    folded[np.abs(x) < 1e-9, 1] = 0.005
    hem = np.flatnonzero(x == -0.5)
    far = Ways(folded, mesh.triangles).from_line(hem)
    assert far[x == 0.5].min() > 0.3 and far[np.abs(x) < 1e-9] == pytest.approx(0.2, rel=0.06)


def test_facing_edges_nearness_and_forms():
    ball = Piece(id="b", name="Ball", shape=SphereShape(around=40, rings=20),
                 place=Place(position=(0.0, 0.5, 0.0), size=(0.2, 0.2, 0.2)))
    up = said(ball, FacingRule(toward="up", angle=60.0))
    down = said(ball, FacingRule(toward="down", angle=60.0))
    assert up.max() == 1.0 and (up * down).max() == 0.0 and 0.05 < (up > 0).mean() < 0.45
    block = Piece(id="k", name="Block", shape=BlockShape(divisions=(10, 10, 10)),
                  place=Place(position=(0.0, 0.5, 0.0), size=(0.2, 0.2, 0.2)))
    sharp = said(block, EdgesRule(reach=0.03))
    assert sharp.max() == 1.0 and 0.3 < (sharp > 0.0).mean() < 0.8 and said(ball, EdgesRule()).max() == 0.0
    slab = Piece(id="s", name="Slab", role="collider", shape=BlockShape(),
                 place=Place(position=(0.0, 0.35, 0.0), size=(1.0, 0.1, 1.0)))
    near = said(ball, NearRule(piece="s", reach=0.05), others=(slab,))
    assert near.max() == pytest.approx(1.0, abs=0.01) and (near > 0.0).mean() < 0.4
    assert said(ball, NearRule(piece="gone")).max() == 0.0
    for form in ("box", "ball", "tube"):
        inside = said(ball, InsideRule(form=form, y=0.6, width=0.1, height=0.1, depth=0.1, soft=0.001))
        assert inside.max() == 1.0 and inside.mean() < 0.2
    mould = Piece(id="m", name="Mould", role="scenery", shape=SphereShape(around=64, rings=32),
                  place=Place(position=(0.0, 0.6, 0.0), size=(0.1, 0.1, 0.1)))
    by_piece = InsideRule(form="a piece", piece="m", soft=0.03)
    assert said(ball, by_piece, others=(mould,)) == pytest.approx(
        said(ball, InsideRule(form="ball", y=0.6, width=0.1, height=0.1, depth=0.1, soft=0.03)), abs=0.01)
    assert said(ball, by_piece).max() == 0.0                    # it is gone


def test_a_map_reaches_into_a_solid_as_deep_as_it_says():
    ball = Piece(id="b", name="Ball", shape=SphereShape(around=32, rings=16), solid=SolidValues(cells=8),
                 place=Place(size=(0.2, 0.2, 0.2)))
    for depth in (0.0, 0.04):
        a_map = Map(of="solid.stiffness", low=1e3, high=5e3, depth=depth, layers=(Layer(rule=HeightRule(full=0.0)),))
        piece = ball.model_copy(update={"maps": (a_map,)})
        within = nodes_within(piece, {}, "good")
        values = amount_of("solid.stiffness", 0.0, piece, Scene(pieces=(piece,)), {}, within)
        under = 0.1 - np.linalg.norm(within.nodes, axis=1)
        if depth == 0.0:
            assert values == pytest.approx(5e3)
        else:
            assert values[under > 0.041] == pytest.approx(1e3) and values[under < 0.004].min() > 4.5e3
            assert np.corrcoef(values, under)[0, 1] < -0.9


def test_noise_and_parts_are_the_same_for_a_seed_and_others_for_another():
    piece = flat(30)
    one, again, other = (said(piece, NoiseRule(size=0.04, seed=seed)) for seed in (3, 3, 4))
    assert (one == again).all() and np.abs(one - other).max() > 0.3 and 0.0 <= one.min() < 0.3 < 0.7 < one.max() <= 1.0
    coarse = said(flat(15), NoiseRule(size=0.04, seed=3)).reshape(16, 16)
    assert coarse == pytest.approx(one.reshape(31, 31)[::2, ::2])
    two = PolyMesh(np.concatenate([sheet(2, 2).points, sheet(2, 2).points + 2.0]), np.tile(sheet(2, 2).face_sizes, 2),
                   np.concatenate([sheet(2, 2).face_points, sheet(2, 2).face_points + 9]).astype(np.int32))
    parts = Piece.model_validate({**flat().model_dump(), "shape": {"kind": "imported", "mesh": two.key}})
    layer = Map(of="goal.strength", layers=(Layer(rule=PartsRule(seed=2)),))
    values = weights_of(layer, parts, Scene(pieces=(parts,)), {two.key: two})
    assert len(np.unique(values)) == 2


def test_layers_join_as_their_words_say_and_hidden_ones_do_not_count():
    piece, half = flat(), TypedRule(places=tuple((x / 20 - 0.5, 0.0, z / 20 - 0.5) for x in range(21)
                                                 for z in range(21)), values=(0.5,) * 441, reach=0.001)
    ramp = HeightRule(axis="its x")
    share = across(piece) / 0.2 + 0.5
    for join, expected in (("instead of", share), ("greater of", np.maximum(share, 0.5)),
                           ("lesser of", np.minimum(share, 0.5)), ("added to", np.minimum(share + 0.5, 1.0)),
                           ("times", 0.5 * share)):
        assert said(piece, half, Layer(rule=ramp, join=join)) == pytest.approx(expected)
    assert said(piece, ramp, Layer(rule=ramp, join="instead of", inverted=True)) == pytest.approx(1.0 - share)
    assert said(piece, ramp, Layer(rule=half, shown=False)) == pytest.approx(share)


def test_a_blur_keeps_the_mean_and_spreads():
    mesh = sheet(30, 30)
    spike = np.zeros(len(mesh.points))
    spike[480] = 1.0
    soft = Heat(0.2 * mesh.points, mesh.triangles).spread(spike, 0.05)
    assert soft.max() < 0.2 and soft.sum() == pytest.approx(1.0, rel=0.02) and (soft > 1e-4).sum() > 100


def test_strokes_take_smooth_and_keep_to_their_side():
    ball = Piece(id="b", name="Ball", shape=SphereShape(around=40, rings=20), place=Place(size=(0.02, 0.02, 0.02)))
    wide = Stroke(beads=((0.0, 0.5, 0.0),), radius=0.05, strength=1.0)
    through = said(ball, StrokesRule(strokes=(wide,)))
    front = said(ball, StrokesRule(strokes=(wide.model_copy(update={"from_side": (0.0, 1.0, 0.0)}),)))
    assert through.min() > 0.5 and front.min() == 0.0 and front.max() == through.max() == pytest.approx(1.0, abs=1e-6)
    gone = said(ball, StrokesRule(strokes=(wide, wide.model_copy(update={"does": "takes"}))))
    assert gone.max() < 0.4
    rough = said(flat(), NoiseRule(size=0.01), StrokesRule(strokes=(
        Stroke(beads=((0.0, 0.0, 0.0),), radius=0.2, strength=1.0, does="smooths"),)))
    assert rough.reshape(21, 21)[8:13, 8:13].std() < 0.5 * said(flat(), NoiseRule(size=0.01)).reshape(21, 21)[
        8:13, 8:13].std()


@pytest.mark.parametrize("does", ["adds", "takes", "smooths"])
def test_what_is_painted_bead_by_bead_undone_and_painted_on_is_what_is_found_at_once(does):
    ball = Piece(id="b", name="Ball", shape=SphereShape(around=60, rings=30), place=Place(size=(0.2, 0.2, 0.2)))
    beads = tuple((0.3 * np.cos(0.3 * k), 0.4, 0.3 * np.sin(0.3 * k)) for k in range(12))
    first, rough = Stroke(beads=beads, radius=0.03, mirrored=True), NoiseRule(size=0.01)
    shown = [said(ball, rough, StrokesRule(strokes=(first, Stroke(beads=beads[:k], radius=0.05, does=does))))
             for k in (1, 2, 3, 5, 9, 12, 5, 9)]
    strokes._paint.kept, strokes._paint.beads = {}, ()
    strokes._touched.cache_clear()
    weights._alone.cache_clear()
    for k, painted in zip((9, 5, 12, 1), (shown[7], shown[6], shown[5], shown[0])):
        fresh = said(ball, rough, StrokesRule(strokes=(first, Stroke(beads=beads[:k], radius=0.05, does=does))))
        assert (fresh == painted).all()
    moved = ball.model_copy(update={"place": ball.place.model_copy(update={"size": (0.4, 0.2, 0.2)})})
    assert np.abs(said(moved, rough) - said(ball, rough)).max() > 0.1           # nothing is kept for another size


def test_a_blur_of_any_width_keeps_to_the_range_on_spoilt_skins():
    """A triangle without area, a point that nothing uses, and a width of a hundred times the size."""
    mesh = sheet(8, 8)
    points = np.concatenate([0.2 * mesh.points, [[1.0, 1.0, 1.0]]])
    triangles = np.concatenate([mesh.triangles, [[0, 1, 1], [3, 4, 5]]])
    values = np.random.default_rng(1).random(len(points))
    for width in (1e-7, 0.02, 20.0):
        soft = Heat(points, triangles).spread(values, width)
        assert soft[-1] == pytest.approx(values[-1]) and soft.min() >= values.min() and soft.max() <= values.max()
        assert np.std(soft[:-1]) < (0.02 if width > 1.0 else 0.35)
    assert (Heat(points, triangles[-2:-1]).spread(values, 0.1) == values).all()


@settings(max_examples=40, deadline=None)
@given(st.lists(st.sampled_from([
    HeightRule(), HeightRule(full=0.3, none=0.3), LineRule(), LineRule(reach=1e-6), FacingRule(angle=1.0),
    NoiseRule(size=1e-5), PartsRule(), InsideRule(soft=1e-9), EdgesRule(angle=0.0), TypedRule(), StrokesRule(),
    NearRule()]), max_size=5),
    st.booleans(), st.sampled_from([0.0, 1e-6, 0.05, 50.0]))
def test_whatever_the_layers_a_map_stays_within_its_range(rules, inverted, blur):
    piece = flat(6).model_copy(update={"maps": (Map(of="shell.mass", low=0.2, high=0.7, layers=tuple(
        Layer(rule=rule, inverted=inverted, blur=blur, join="added to") for rule in rules)),)})
    values = values_of("shell.mass", piece, Scene(pieces=(piece,)), {})
    assert values is None if not rules else (np.isfinite(values).all() and values.min() >= 0.2 - 1e-12
                                             and values.max() <= 0.7 + 1e-12)
