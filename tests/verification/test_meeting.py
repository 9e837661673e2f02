"""How solids meet themselves, each other and colliders: nothing crosses, and a bounce is as asked."""

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from bodies import JELLY, crossings, make_block_collider, make_ring_with_a_slit, make_solid
from rubberquince.shapes import primitives
from rubberquince.shapes.polymesh import edges_of
from rubberquince.solver.specs import QUALITIES, Material, RunSpec, Touch
from rubberquince.solver.stepper import Stepper

FIRM = Material(30e3, 0.44, 1050.0, 0.1)
BALL = primitives.sphere(20, 10)


def middle(stepper, body=0):
    mine = stepper.world.node_body == body
    return stepper.world.mass[mine] @ stepper.state.x[mine] / stepper.world.mass[mine].sum()


@pytest.mark.parametrize("quality", ["draft", "good"])
def test_a_slit_that_closes_does_not_cross(quality):
    ring = make_ring_with_a_slit(at=(0.0, 0.12, 0.0))
    edges = edges_of(ring.triangles).astype(np.int64)
    stepper = Stepper(RunSpec([ring], [], quality=QUALITIES[quality]))
    met = 0
    for _ in range(14):
        stepper.frame()
        assert crossings(stepper.skin(), edges, ring.triangles) == 0
        met = max(met, int((stepper.contacts.touching.kind < 2).sum()))
    assert met > 50                                       # it did close


def test_what_lies_near_itself_at_rest_does_not_push_itself():
    """A gap as wide as the slit: nothing moves where nothing pulls."""
    ring = make_ring_with_a_slit(at=(0.0, 0.2, 0.0))
    wide = Touch(0.03, 0.5)
    stepper = Stepper(RunSpec([type(ring)(**{**vars(ring), "touch": wide})], [], gravity=0.0, ground=None))
    start = stepper.skin()
    stepper.frame()
    np.testing.assert_allclose(stepper.skin(), start, atol=1e-6)


def test_each_newton_step_compares_energies_of_one_matrix(monkeypatch):
    """Damping goes by the matrix, which is made anew: an energy of the one before made falls look like rises."""
    balls = [make_solid(BALL, (0.1, 0.1, 0.1), 4, (0, 0.06 + 0.11 * k, 0), JELLY) for k in range(2)]
    stepper = Stepper(RunSpec(balls, [], quality=QUALITIES["draft"]))
    newton, off = stepper._newton, []
    once = newton._newton

    def looked_at(at, step, number):
        off.append((number, at.bulk - newton._place(at.x.copy(), step).bulk, at.bulk))
        return once(at, step, number)

    monkeypatch.setattr(newton, "_newton", looked_at)
    for _ in range(4):
        stepper.frame()
    assert max(number for number, _, _ in off) > 1
    assert all(abs(wrong) <= 1e-9 * abs(bulk) for _, wrong, bulk in off)


@pytest.mark.parametrize("quality", ["draft", "good"])
@pytest.mark.parametrize("bounce", [0.3, 0.9])
def test_comes_back_as_high_as_its_bounce_says(quality, bounce):
    drop = 0.5
    ball = make_solid(BALL, (0.1, 0.1, 0.1), 4, (0, 0.051 + drop, 0), FIRM, Touch(1e-3, 0.5, bounce))
    stepper = Stepper(RunSpec([ball], [], quality=QUALITIES[quality]))
    heights = [drop]
    while len(heights) < 3 or heights[-1] < heights[-2]:
        stepper.frame()
        heights.append(middle(stepper)[1] - 0.051)
    while heights[-1] > heights[-2]:
        stepper.frame()
        heights.append(middle(stepper)[1] - 0.051)
    drag = 0.03 if quality == "good" else 0.12            # what steps of Euler's take from a flight, and frames hide
    np.testing.assert_allclose(np.sqrt(heights[-2] / drop), bounce, atol=drag)


@pytest.mark.parametrize("quality", list(QUALITIES))
def test_two_that_meet_keep_their_momentum(quality):
    ball = make_solid(BALL, (0.1, 0.1, 0.1), 4, (-0.06, 0.3, 0), FIRM, Touch(1e-3, 0.4))
    block = make_solid(primitives.block((4, 4, 4)), (0.1, 0.1, 0.1), 4, (0.06, 0.31, 0.01), JELLY, Touch(1e-3, 0.4))
    stepper = Stepper(RunSpec([ball, block], [], gravity=0.0, ground=None, quality=QUALITIES[quality]))
    left, mass = stepper.world.node_body == 0, stepper.world.mass
    stepper.state.v[left, 0], stepper.state.v[~left, 0] = 0.8, -0.5
    before, size = mass @ stepper.state.v, mass @ np.abs(stepper.state.v[:, 0])
    for _ in range(12):
        stepper.frame()
    assert mass[left] @ stepper.state.v[left, 0] < 0.3 * mass[left].sum()       # they did meet
    np.testing.assert_allclose(mass @ stepper.state.v, before, atol=1e-6 * size)


def test_a_bounce_keeps_the_momentum_of_both():
    balls = [make_solid(BALL, (0.1, 0.1, 0.1), 4, (x, 0.5, 0), FIRM, Touch(1e-3, 0.5, 0.6)) for x in (-0.08, 0.08)]
    stepper = Stepper(RunSpec(balls, [], gravity=0.0, ground=None))
    left, mass = stepper.world.node_body == 0, stepper.world.mass
    stepper.state.v[left, 0], stepper.state.v[~left, 0] = 1.0, -0.5
    before = mass @ stepper.state.v
    for _ in range(8):
        stepper.frame()
    speeds = [mass[k] @ stepper.state.v[k, 0] / mass[k].sum() for k in (left, ~left)]
    np.testing.assert_allclose(mass @ stepper.state.v, before, atol=2e-3 * mass.sum())
    np.testing.assert_allclose(speeds[1] - speeds[0], 0.6 * 1.5, rtol=0.03)


def test_a_pile_that_bounces_comes_to_rest():
    block = primitives.block((4, 4, 4))
    pile = [make_solid(block, (0.06, 0.06, 0.06), 3, (0, 0.035 + 0.075 * k, 0), FIRM, Touch(1e-3, 0.5, 0.6))
            for k in range(2)]
    stepper = Stepper(RunSpec(pile, []))
    for _ in range(40):
        stepper.frame()
    assert np.abs([stepper.world.mass[stepper.world.node_body == k] @ stepper.state.v[stepper.world.node_body == k]
                   for k in range(2)]).max() < 0.02 * stepper.world.mass.sum() / 2


@pytest.mark.parametrize("outside_only", [True, False])
def test_a_collider_with_an_outside_pushes_out_what_starts_in_it(outside_only):
    ball = make_solid(BALL, (0.1, 0.1, 0.1), 4, (0, 0.22, 0))
    box = make_block_collider((0.2, 0.2, 0.2), (0, 0.1, 0), touch=Touch(1e-3, 0.5, None, outside_only))
    stepper = Stepper(RunSpec([ball], [box], quality=QUALITIES["draft"]))
    highest = 0.0
    for _ in range(30):
        stepper.frame()
        highest = max(highest, stepper.skin()[:, 1].max())
    low = stepper.skin()[:, 1].min()
    assert highest < 0.34                                 # it does not leap
    assert low > 0.2


def test_half_the_weight_falls_half_as_far():
    full, half = (make_solid(BALL, (0.1, 0.1, 0.1), 4, (x, 2.0, 0)) for x in (-0.2, 0.2))
    half = type(half)(**{**vars(half), "weight": 0.5})
    stepper = Stepper(RunSpec([full, half], [], ground=None))
    for _ in range(6):
        stepper.frame()
    fallen = [2.0 - middle(stepper, k)[1] for k in (0, 1)]
    np.testing.assert_allclose(fallen[1], 0.5 * fallen[0], rtol=1e-6)


def test_stiffness_follows_the_weight_that_a_body_has():
    """Ten times the pull on a body presses it ten times as hard, and its contact still holds."""
    heavy = make_solid(BALL, (0.1, 0.1, 0.1), 4, (0, 0.06, 0), JELLY)
    heavy = type(heavy)(**{**vars(heavy), "weight": 10.0})
    stepper = Stepper(RunSpec([heavy], []))
    for _ in range(12):
        stepper.frame()
    assert 0.0 < stepper.skin()[:, 1].min() < 1e-3


def test_what_floats_bounces_however_slowly_it_comes():
    """At rest is what gravity holds there; this body feels none, though the scene has it."""
    ball = make_solid(BALL, (0.1, 0.1, 0.1), 4, (0, 0.056, 0), FIRM, Touch(1e-3, 0.4, 0.8))
    ball = type(ball)(**{**vars(ball), "weight": 0.0})
    stepper = Stepper(RunSpec([ball], [], quality=QUALITIES["good"]))
    stepper.state.v[:, 1] = -0.1
    for _ in range(24):
        stepper.frame()
    up = stepper.world.mass @ stepper.state.v[:, 1] / stepper.world.mass.sum()
    assert up == pytest.approx(0.08, rel=0.1)


@pytest.mark.parametrize("drop", [0.0, 1e-7])
def test_what_starts_exactly_on_another_stands_on_it_and_slides_as_it_would(drop):
    block = primitives.block((4, 4, 4))
    pile = [make_solid(block, (0.06, 0.06, 0.06), 3, (0, 0.13 + 0.06 * k + drop, 0), FIRM, Touch(1e-3, 0.0))
            for k in range(2)]
    table = make_block_collider((0.4, 0.2, 0.4), (0.0, 0.0, 0.0), touch=Touch(1e-3, 0.0))
    stepper = Stepper(RunSpec(pile, [table], ground=None))
    stepper.state.v[stepper.world.node_body == 0, 0] = 0.2
    for _ in range(8):
        stepper.frame()
    x, body = stepper.state.x, stepper.world.node_body
    assert x[body == 0][:, 0].mean() > 0.05                 # nothing holds it there
    assert stepper.skin()[:, 1].min() > 0.1
    assert crossings(stepper.contacts.all_skins(x), edges_of(stepper.world.skin.triangles[0]),
                     stepper.world.skin.triangles[1]) == 0


@pytest.mark.parametrize(("quality", "bounce"), [("draft", 0.8), ("good", 0.8), ("good", 0.2)])
def test_a_soft_rod_that_lands_on_its_end_is_turned_by_the_blow(quality, bounce):
    """J = (1 + e) v / (1/m + a²/I): with its centre alone thrown back, it came up again as it fell."""
    size, turn = np.array([0.3, 0.04, 0.04]), Rotation.from_euler("z", 30, degrees=True).as_matrix()
    mesh, touch = primitives.block((15, 2, 2)), Touch(1e-3, 0.0, bounce)
    corners = mesh.points * size @ turn.T
    low = corners[np.argmin(corners[:, 1])]
    rod = make_solid(mesh, size, 2, (0.0, 0.15 - low[1], 0.0), Material(4e5, 0.4, 1000.0, 0.0), touch, rotation=turn)
    stepper, spins = Stepper(RunSpec([rod], [], quality=QUALITIES[quality], ground=touch)), []
    mass = stepper.world.mass
    for _ in range(5):
        stepper.frame()
        r, v = (a - mass @ a / mass.sum() for a in (stepper.state.x, stepper.state.v))
        spins.append((mass @ np.cross(r, v))[2] / (mass @ (r[:, :2] ** 2).sum(axis=1)))
    moment = (size[0] ** 2 + size[1] ** 2) / 12
    blow = (1.0 + bounce) * np.sqrt(2 * 9.81 * 0.149) / (1.0 + low[0] ** 2 / moment)
    assert min(spins) == pytest.approx(low[0] * blow / moment, rel=0.3)         # it bends, and lies a part of the frame
