"""How firm contact is: it has to bear what a step brings and what a body weighs, and to use up little of the gap."""

from dataclasses import dataclass

import numpy as np

from rubberquince.solver.specs import LedSpec, RigidSpec
from rubberquince.solver.world import World

FINEST = 1.0 / 384.0        # s: shorter steps need no firmer contact, which would only chatter faster
CONTACT_INERTIA = 5.0       # contact stiffness in units of mass / step²
CONTACT_LOAD = 4.0          # and in units of the body's own weight pressure over the gap
POINT_INERTIA, POINT_LOAD = 0.1, 4.0        # the same for a single point of a rigid body, of the whole of it
BALL_INERTIA, BALL_LOAD = 40.0, 100.0       # the same for a pellet, of whose gap, its radius, little is to be used up


@dataclass(frozen=True, eq=False)
class Firmness:
    """Stiffness of the ``contact`` of skin points (points,), N/m.

    What is thin bears more where something presses it on something else: by its area as much as that does, ``by_area``
    (points,) N/m³, and at each of its points ``by_point`` (points,) N/m.
    """

    contact: np.ndarray
    by_area: np.ndarray
    by_point: np.ndarray

    def of(self, points: np.ndarray) -> "Firmness":
        return Firmness(self.contact[points], self.by_area[points], self.by_point[points])


def contact_firmness(w: World, h: float) -> Firmness:
    """How firm contact is in steps of ``h``, s."""
    skin, h = w.skin, max(h, FINEST)
    contact, by_area, by_point = np.zeros((3, len(skin.points)))
    for body in range(w.bodies):
        if isinstance(w.spec.bodies[body], LedSpec):
            continue                    # it is as firm as what it meets
        mine = slice(*np.searchsorted(skin.piece[: skin.moving], [body, body + 1]))
        if w.of_balls[body]:
            pull = abs(w.gravity * w.weight[body])
            contact[mine] = by_point[mine] = w.mass[w.node_body == body] * (
                BALL_INERTIA / (h * h) + BALL_LOAD * pull / w.point_gap[: skin.moving][mine])
            continue
        mass = w.mass[w.node_body == body].sum() / max(skin.area[mine].sum(), 1e-300)
        by_area[mine] = (CONTACT_INERTIA * mass / (h * h) + CONTACT_LOAD * w.own_pressure(body)
                         / np.maximum(w.point_gap[: skin.moving][mine], 1e-6))
        contact[mine] = skin.area[mine] * by_area[mine]
        if isinstance(w.spec.bodies[body], RigidSpec):
            by_point[mine] = _of_one_point(w, body, h)
            contact[mine] = np.maximum(contact[mine], by_point[mine])
    return Firmness(contact, by_area, by_point)


def _of_one_point(w: World, body: int, h: float) -> float:
    """Stiffness, N/m, with which a single point carries a rigid body: that does not flatten on what it touches."""
    mass = float(w.mass[w.node_body == body].sum())
    return mass * (POINT_INERTIA / (h * h) + POINT_LOAD * abs(w.gravity * w.weight[body]) / max(w.gap[body], 1e-6))
