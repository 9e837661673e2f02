"""Bodies whose rest shape is another in time: they come to be it, wherever they are, and without force."""

from dataclasses import replace

import numpy as np
import pytest

from bodies import make_shell, make_solid
from rubberquince.shapes import primitives
from rubberquince.shapes.links import net_links
from rubberquince.shapes.reshape import Reshape, reshaped
from rubberquince.solver.islands import IslandStepper
from rubberquince.solver.specs import QUALITIES, Links, RunSpec
from rubberquince.solver.state import State
from rubberquince.solver.stepper import Stepper

BAR = primitives.block((4, 16, 4))
SIZE = np.array([0.04, 0.2, 0.05])
SHAPES = {
    "bend": Reshape(1, bend=np.radians(120.0), toward=0.7),
    "twist": Reshape(1, twist=np.radians(90.0)),
    "taper and swell": Reshape(1, taper=-0.5, swell=0.4),
    "squash": Reshape(1, squash=0.6)}


def misfit(points, meant):
    """How far, m, points (n, 3) are from others at most, when both are laid on each other (Kabsch 1976)."""
    a, b = points - points.mean(axis=0), meant - meant.mean(axis=0)
    u, _, v = np.linalg.svd(a.T @ b)
    turn = u @ np.diag([1.0, 1.0, np.linalg.det(u @ v)]) @ v
    return float(np.linalg.norm(a @ turn - b, axis=1).max())


def floating(body, **more):
    return Stepper(RunSpec([body], [], ground=None, gravity=0.0, quality=QUALITIES["draft"], **more))


def bar(rest):
    solid = make_solid(BAR, SIZE, 3)
    return replace(solid, material=replace(solid.material, wobble_halves=0.03), rest=rest(solid.lattice.nodes))


@pytest.mark.parametrize("name", list(SHAPES))
def test_a_solid_comes_to_be_what_it_wants_to_be(name):
    how = SHAPES[name]
    stepper = floating(bar(lambda nodes: lambda since: reshaped(nodes, SIZE, how)))
    for k in range(40):
        stepper.frame(k / 24.0)
    made, meant = BAR.points * SIZE, reshaped(BAR.points * SIZE, SIZE, how)
    assert misfit(made, meant) > 0.015
    assert misfit(stepper.skin(), meant) < 0.25 * SIZE.min() / 3
    assert np.abs(stepper.state.v).max() < 5e-3


@pytest.mark.parametrize("net", [False, True])
def test_a_sheet_rolls_up_and_a_net_shrinks_without_being_strained(net):
    mesh, size = primitives.sheet(4, 16), np.array([0.05, 1e-6, 0.2])
    points = mesh.points * size
    how = Reshape(2, squash=0.7) if net else Reshape(2, bend=np.radians(150.0), toward=np.pi / 2)
    meant = reshaped(points, np.array([0.05, 0.05, 0.2]), how)
    if net:
        from_links = {"net": True, "links": (Links(*net_links(points, mesh, 1, 0.0)),)}
    sheet = make_shell(mesh, size, rest=lambda since: meant, **(from_links if net else {}))
    stepper = floating(replace(sheet, material=replace(sheet.material, bend=2e-3, squeeze=1.0)))
    for k in range(48):
        stepper.frame(k / 24.0)
    assert misfit(points, meant) > 0.01
    assert misfit(stepper.skin(), meant) < 0.004


def test_what_moves_slowly_is_carried_by_its_rest_shape_and_wobbles_when_that_stops():
    def rest(nodes):
        return lambda since: reshaped(nodes, SIZE, Reshape(1, bend=np.radians(90.0) * min(since / 0.25, 1.0)))

    solid = bar(rest)
    free = floating(replace(solid, material=replace(solid.material, wobble_halves=0.5)))
    meant, lag = reshaped(BAR.points * SIZE, SIZE, Reshape(1, bend=np.radians(90.0))), []
    for k in range(60):
        free.frame(k / 24.0)
        lag.append(misfit(free.skin(), meant))
    after = np.array(lag[7:])
    assert after[:12].max() > 0.004                     # it swings past
    assert after[-12:].max() < 0.3 * after[:12].max()   # and comes to rest in it


def test_a_reshaped_body_goes_on_to_the_same_bits_and_turns_with_others_asleep():
    def rest(nodes):
        return lambda since: reshaped(nodes, SIZE, Reshape(1, twist=2.0 * since))

    other = replace(make_solid(BAR, SIZE, 3, (0.5, 0.0, 0.0)))
    spec = RunSpec([bar(rest), other], [], ground=None, gravity=0.0, quality=QUALITIES["draft"])
    whole, again = IslandStepper(spec), IslandStepper(spec)
    for k in range(24):
        whole.frame(k / 24.0)
        if k == 14:
            kept = whole.state.packed().copy()
    again.restore(State.unpacked(kept))
    for k in range(15, 24):
        again.frame(k / 24.0)
    assert np.isinf(whole.state.idle[1]) or whole.state.idle[1] > 10.0
    np.testing.assert_array_equal(whole.state.x, again.state.x)
