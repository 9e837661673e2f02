"""What of dense things nothing comes to is left out of contact, and a run does not know it."""

from dataclasses import replace

import numpy as np
import pytest

from bodies import JELLY, make_shell, make_solid, own_crossings
from rubberquince.shapes import primitives
from rubberquince.solver import reach
from rubberquince.solver.islands import IslandStepper
from rubberquince.solver.specs import (
    QUALITIES,
    ColliderSpec,
    LedSpec,
    PelletSpec,
    RigidMaterial,
    RigidSpec,
    RunSpec,
    Touch,
)

TOUCH = Touch(1e-3, 0.5)
RING, FLOOR = primitives.torus(64, 40, 0.5), primitives.sheet(60, 60)
CORNERS = np.concatenate([np.zeros((1, 3)), np.eye(3)])
FRAMES = 6


def about_z(angle):
    c, s = np.cos(angle), np.sin(angle)
    return np.array([[c, -s, 0.0], [s, c, 0.0], [0.0, 0.0, 1.0]])


def led(mesh, size, course):
    return LedSpec(mesh.points * np.array(size), mesh.triangles, TOUCH, course)


def still(mesh, size, at):
    return ColliderSpec(mesh.points * np.array(size) + np.array(at), mesh.triangles, TOUCH)


def jelly(at):
    return make_solid(primitives.sphere(16, 8), (0.06, 0.06, 0.06), 4, at, replace(JELLY, stiffness=3000.0))


def box(at):
    mesh = primitives.block((2, 2, 2))
    return RigidSpec(mesh.points * np.array([0.06, 0.05, 0.06]), mesh.triangles, np.eye(3), np.array(at),
                     RigidMaterial(600.0), TOUCH)


def pellets(at):
    grid = np.stack(np.meshgrid(*[np.arange(3.0)] * 3, indexing="ij"), axis=-1).reshape(-1, 3)
    return PelletSpec((grid - 1.0) * 0.03 + np.array(at), np.full(27, 0.01), RigidMaterial(900.0), TOUCH, np.zeros(27),
                      np.array([3.0, 0.0, 0.0]))


SCENES = {
    "a bat": ([jelly((0.0, 0.031, 0.0)), box((0.1, 0.026, 0.1)),
               led(RING, (0.3, 0.1, 0.3), lambda t: CORNERS + np.array([-0.5 + 4.0 * t, 0.1, 0.0]))], []),
    "a tray that tilts": ([jelly((0.0, 0.04, 0.0)), box((0.12, 0.04, 0.1)),
                           led(FLOOR, (0.8, 1.0, 0.8), lambda t: CORNERS @ about_z(-0.8 * t).T)], []),
    "a ring that turns fast": ([jelly((0.1, 0.5, 0.0)), box((-0.1, 0.55, 0.0)),
                                led(RING, (0.3, 0.1, 0.3), lambda t: CORNERS @ about_z(8.0 * t).T + (0, 0.35, 0))], []),
    "a ring that grows": ([jelly((0.0, 0.2, 0.0)), box((0.1, 0.25, 0.1)),
                           led(RING, (0.3, 0.1, 0.3), lambda t: CORNERS * (1.0 + 2.0 * t) + (0, 0.06, 0))], []),
    "a floor and a ring that stand": ([jelly((-0.4, 0.2, 0.0)), box((0.1, 0.3, 0.1)), pellets((0.0, 0.35, 0.0)),
                                       make_shell(primitives.sheet(8, 8), (0.3, 1.0, 0.3), (0.3, 0.25, 0.0))],
                                      [still(FLOOR, (2.0, 1.0, 2.0), (0.0, 0.02, 0.0)),
                                       still(RING, (0.4, 0.15, 0.4), (0.2, 0.1, 0.0))])}


def run(scene, dense, monkeypatch, frames=FRAMES):
    """Nodes after each frame, how often one was taken again, and what part of all patches was looked at at least."""
    monkeypatch.setattr(reach, "DENSE", dense)
    bodies, colliders = scene
    stepper = IslandStepper(RunSpec(bodies, colliders, quality=QUALITIES["draft"]))
    states, again, kept = [], [], []
    begin = stepper.contacts.begin_frame
    monkeypatch.setattr(stepper.contacts, "begin_frame", lambda *words: (again.append(words[2]), begin(*words)))
    speed = stepper.state.v.copy()
    speed[stepper.world.node_body == 0] = 3.0, -1.0, 0.0
    stepper.restore(replace(stepper.state, v=speed))
    for k in range(frames):
        stepper.frame(k / stepper.fps)
        states.append(stepper.state.x)
        kept.append(stepper.contacts._reach.kept.mean())
    return stepper, np.array(states), sum(count > 0 for count in again), min(kept)


@pytest.mark.parametrize("name", SCENES)
def test_a_run_is_the_same_to_the_bit_whether_what_is_far_is_looked_at_or_not(name, monkeypatch):
    _, all_of_it, _, whole = run(SCENES[name], 10 ** 9, monkeypatch)
    stepper, near, again, kept = run(SCENES[name], 64, monkeypatch)
    assert np.array_equal(near, all_of_it)
    assert own_crossings(stepper) == 0
    assert whole == 1.0
    assert kept < (0.95 if "turns" in name else 0.5)
    assert again <= 3


def test_what_is_knocked_out_of_its_region_is_looked_for_where_it_goes(monkeypatch):
    """With no room at all, each frame is taken again until there is some, and comes to the same."""
    _, whole, _, _ = run(SCENES["a bat"], 10 ** 9, monkeypatch)
    monkeypatch.setattr(reach, "LEFT", 0.0)
    monkeypatch.setattr(reach, "ROOM", 1e-3)
    _, near, again, _ = run(SCENES["a bat"], 64, monkeypatch)
    assert np.array_equal(near, whole)
    assert again >= FRAMES


def test_how_deep_contacts_are_can_be_asked_anywhere(monkeypatch):
    """Between frames nodes may be put where nothing was looked for: a state of another time, for instance."""
    stepper = run(SCENES["a tray that tilts"], 64, monkeypatch, 3)[0]
    there, mine = stepper.state.x.copy(), stepper.world.node_body == 0
    there[mine, 0] -= 0.25
    corner = there[stepper.world.node_body == 2]
    at = there[mine].mean(axis=0)
    height = corner[0, 1] + (at[0] - corner[0, 0]) * (corner[1, 1] - corner[0, 1]) / (corner[1, 0] - corner[0, 0])
    there[mine, 1] += height + 0.0305 - at[1]
    whole = run(SCENES["a tray that tilts"], 10 ** 9, monkeypatch, 3)[0]
    assert stepper.contacts.deepest(there)[0] == whole.contacts.deepest(there)[0] > 0.0


@pytest.mark.parametrize("course", [
    lambda t: CORNERS * max(1.0 - 10.0 * t, 0.0) + (0, 0.1, 0),                 # shrinks to nothing
    lambda t: CORNERS * np.array([1.0, -1.0, 1.0]) + (0, 0.1 + 0.5 * t, 0),     # mirrored
    lambda t: CORNERS @ about_z(80.0 * t).T + (0, 0.2, 0),                     # turns once in a substep or so
    lambda t: CORNERS + np.array([1e6 * t, 0.1, 0])])                                   # is gone at once
def test_wild_courses_of_dense_things_leave_all_finite(course, monkeypatch):
    scene = [jelly((0.0, 0.25, 0.0)), led(RING, (0.3, 0.1, 0.3), course)], []
    near = run(scene, 64, monkeypatch, 4)[1]
    assert np.isfinite(near).all()
    assert np.abs(near[:, :-4]).max() < 10.0            # the jelly, without the corners that are led
