"""Bodies turn: what nothing pushes keeps its spin, what meets keeps the angular momentum of both."""

import numpy as np
import pytest

from bodies import JELLY, make_solid
from rubberquince.document.feels import FEELS
from rubberquince.shapes import primitives
from rubberquince.solver.specs import LEAST_POISSON, MOST_POISSON, QUALITIES, Material, RunSpec, Touch
from rubberquince.solver.stepper import Stepper

LEFT = {"draft": 0.97, "good": 0.995, "sure": 0.995}        # of the angular momentum, at least
LOST = {"draft": 0.03, "good": 0.01, "sure": 0.01}
SHAPES = {"ball": (primitives.sphere(16, 8), (0.1, 0.1, 0.1), (0.0, 6.0, 0.0)),
          "brick": (primitives.block((3, 3, 3)), (0.10, 0.06, 0.14), (1.0, 2.0, 5.5))}


def centred(mass, values):
    return values - mass @ values / mass.sum()


def angular_momentum(stepper):
    """About the common centre, kg m²/s."""
    mass, state = stepper.world.mass, stepper.state
    return mass @ np.cross(centred(mass, state.x), centred(mass, state.v))


def angle(stepper, start):
    """How far, in degrees, the nodes are turned from ``start`` (n, 3) (Kabsch 1976)."""
    mass = stepper.world.mass[:, None]
    u, _, v = np.linalg.svd((mass * start).T @ centred(mass[:, 0], stepper.state.x))
    turn = u @ np.diag([1.0, 1.0, np.linalg.det(u @ v)]) @ v
    return np.degrees(np.arccos(np.clip((np.trace(turn) - 1) / 2, -1, 1)))


def material(feel, damped):
    poisson = LEAST_POISSON + feel["keeps_volume"] * (MOST_POISSON - LEAST_POISSON)
    return Material(feel["stiffness"], poisson, feel["density"], feel["wobble_halves"] if damped else 0.0)


@pytest.mark.parametrize("quality", ["draft", "good"])
@pytest.mark.parametrize("feel", ["foam", "soft rubber"])
@pytest.mark.parametrize("shape, damped", [("ball", True), ("brick", False)])
def test_free_spin_is_kept_for_a_second(quality, feel, shape, damped):
    mesh, size, spin = SHAPES[shape]
    solid = make_solid(mesh, size, 3, (0.0, 0.3, 0.0), material(FEELS[feel].values, damped))
    stepper = Stepper(RunSpec([solid], [], gravity=0.0, ground=None, quality=QUALITIES[quality]))
    state, mass = stepper.state, stepper.world.mass
    start = centred(mass, state.x)
    state.v[:] = np.cross(np.array(spin), start)
    before, kept = angular_momentum(stepper), []
    for _ in range(24):
        stepper.frame()
        kept.append(angular_momentum(stepper))
    share = np.array(kept) @ before / (before @ before)
    assert share.min() >= LEFT[quality] and share.max() <= 1.001
    assert np.linalg.norm(np.array(kept) - before, axis=1).max() < 0.01 * np.linalg.norm(before)    # nor does it lean
    if shape == "ball":                                     # 6 rad in a second; what bulges turns more slowly
        wide = (mass @ (centred(mass, stepper.state.x) ** 2)[:, [0, 2]].sum(axis=1)
                / (mass @ (start ** 2)[:, [0, 2]].sum(axis=1)))
        assert angle(stepper, start) == pytest.approx(360.0 - np.degrees(6.0) / max(wide, 1.0), abs=12.0)


@pytest.mark.parametrize("quality", ["draft", "good"])
@pytest.mark.parametrize("aside", [0.06])
def test_what_meets_off_centre_keeps_its_angular_momentum(quality, aside):
    firm = Material(2e5, 0.4, 1000.0, 0.2)
    ball = make_solid(primitives.sphere(20, 10), (0.1, 0.1, 0.1), 4, (-0.06, 0.3, 0.0), firm, Touch(1e-3, 0.4))
    block = make_solid(primitives.block((4, 4, 4)), (0.1, 0.1, 0.1), 4, (0.06, 0.3 + aside, 0.01), JELLY,
                       Touch(1e-3, 0.4))
    stepper = Stepper(RunSpec([ball, block], [], gravity=0.0, ground=None, quality=QUALITIES[quality]))
    left, mass, state = stepper.world.node_body == 0, stepper.world.mass, stepper.state
    state.v[left, 0], state.v[~left, 0] = 0.8, -0.5
    turning, moving = angular_momentum(stepper), mass @ state.v
    for _ in range(16):
        stepper.frame()
    speed = mass[left] @ stepper.state.v[left] / mass[left].sum()
    assert speed[0] < 0.4 and abs(speed[1]) > 0.05          # they did meet, and it was thrown aside
    assert np.linalg.norm(angular_momentum(stepper) - turning) < LOST[quality] * np.linalg.norm(turning)
    np.testing.assert_allclose(mass @ stepper.state.v, moving, atol=2e-6 * mass.sum())


@pytest.mark.parametrize(("quality", "halves", "spin"), [("good", 0.3, 12.0), ("draft", 0.0, 3.0)])
def test_what_spins_and_wobbles_gains_no_energy(quality, halves, spin):
    """The turning frame fed the wobble, a hundredfold within two seconds."""
    ball = make_solid(primitives.sphere(16, 8), (0.1, 0.1, 0.1), 5, material=Material(20e3, 0.44, 1050.0, halves))
    stepper = Stepper(RunSpec([ball], [], quality=QUALITIES[quality], ground=None, gravity=0.0))
    mass, arm = stepper.world.mass, centred(stepper.world.mass, stepper.state.x)
    stepper.state.v[:] = np.cross([0.0, 0.0, spin], arm) + arm * [-0.5, 1.0, -0.5]
    momentum, energies = angular_momentum(stepper), []
    for _ in range(36):
        energies.append(0.5 * mass @ (stepper.state.v ** 2).sum(axis=1) + stepper.system.energy(stepper.state.x))
        stepper.frame()
    assert max(energies) <= energies[0] * 1.005
    assert angular_momentum(stepper) == pytest.approx(momentum, abs=2e-3 * np.linalg.norm(momentum))


def test_a_thrown_cube_tumbles():
    """It comes down on another side than it started on."""
    firm = Material(3e4, 0.4, 1000.0, 0.2)
    cube = make_solid(primitives.block((3, 3, 3)), (0.08, 0.08, 0.08), 4, (0.0, 1.0, 0.0), firm)
    stepper = Stepper(RunSpec([cube], [], quality=QUALITIES["draft"]))
    start = centred(stepper.world.mass, stepper.state.x)
    stepper.state.v[:] = np.cross([0.0, 0.0, 8.0], start)
    for _ in range(8):                                      # before it lands
        stepper.frame()
    assert angle(stepper, start) == pytest.approx(np.degrees(8.0 * 8 / 24), abs=6.0)


@pytest.mark.parametrize("quality, rate", [("draft", 40.0), ("draft", 80.0), ("good", 80.0)])
def test_a_soft_ball_that_spins_fast_gains_no_energy(quality, rate):
    material = Material(8000.0, 0.45, 300.0, 0.0)
    ball = make_solid(primitives.sphere(24, 12), (0.09, 0.09, 0.09), 4, (0, 0.1, 0), material)
    stepper = Stepper(RunSpec([ball], [], gravity=0.0, ground=None, quality=QUALITIES[quality]))
    mass, x = stepper.world.mass, stepper.state.x
    stepper.state.v[:] = np.cross([0.3 * rate, 0.0, -rate], x - mass @ x / mass.sum())
    energy = []
    for _ in range(24):
        stepper.frame()
        energy.append(0.5 * mass @ (stepper.state.v ** 2).sum(axis=1) + stepper.system.energy(stepper.state.x))
    assert max(energy) < 1.1 * energy[0] and energy[-1] > 0.9 * energy[0]
