"""How firm contact is: it has to bear what a step brings and what a body weighs, and to use up little of the gap."""

import numpy as np

from rubberquince.solver.specs import LedSpec, RigidSpec
from rubberquince.solver.world import World

FINEST = 1.0 / 384.0        # s: shorter steps need no firmer contact, which would only chatter faster
CONTACT_INERTIA = 5.0       # contact stiffness in units of mass / step²
CONTACT_LOAD = 4.0          # and in units of the body's own weight pressure over the gap
POINT_INERTIA, POINT_LOAD = 0.1, 4.0        # the same for a single point of a rigid body, of the whole of it
BALL_INERTIA, BALL_LOAD = 40.0, 100.0       # the same for a pellet, of whose gap, its radius, little is to be used up


def contact_stiffness(w: World, h: float) -> np.ndarray:
    """Stiffness of the contact of skin points (points,), N/m, for steps of ``h``, s."""
    skin, h = w.skin, max(h, FINEST)
    contact = np.zeros(len(skin.points))
    for body in range(w.bodies):
        if isinstance(w.spec.bodies[body], LedSpec):
            continue                    # it is as firm as what it meets
        mine = slice(*np.searchsorted(skin.piece[: skin.moving], [body, body + 1]))
        if w.of_balls[body]:
            pull = abs(w.gravity * w.weight[body])
            contact[mine] = w.mass[w.node_body == body] * (BALL_INERTIA / (h * h)
                                                           + BALL_LOAD * pull / w.point_gap[: skin.moving][mine])
            continue
        mass = w.mass[w.node_body == body].sum() / max(skin.area[mine].sum(), 1e-300)
        contact[mine] = skin.area[mine] * (CONTACT_INERTIA * mass / (h * h)
                                           + CONTACT_LOAD * w.own_pressure(body)
                                           / np.maximum(w.point_gap[: skin.moving][mine], 1e-6))
        if isinstance(w.spec.bodies[body], RigidSpec):
            contact[mine] = np.maximum(contact[mine], _of_one_point(w, body, h))
    return contact


def _of_one_point(w: World, body: int, h: float) -> float:
    """Stiffness, N/m, with which a single point carries a rigid body: that does not flatten on what it touches."""
    mass = float(w.mass[w.node_body == body].sum())
    return mass * (POINT_INERTIA / (h * h) + POINT_LOAD * abs(w.gravity * w.weight[body]) / max(w.gap[body], 1e-6))
