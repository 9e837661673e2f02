"""What a substep makes or loses of energy by itself, and taking that from the changes of shape."""

import numpy as np

from rubberquince.kernels import turning as tn
from rubberquince.solver.contacts import Contacts
from rubberquince.solver.courses import Courses
from rubberquince.solver.newton import Newton, Step
from rubberquince.solver.seams import Seams
from rubberquince.solver.state import State
from rubberquince.solver.world import RIGID, World

MOST_GAIN = 0.2            # of the kinetic energy, in a substep: more is the scheme's
FED = 0.002                 # rad, in a substep: the swelling and shrinking of what turns faster is fed by the scheme
UNSEEN = 0.3                # m/s: and of what it would be at that speed, so that what is nearly at rest is let be


class Energy:
    """Watches the energy of a world; ``owed``, J, is what a frame has gained, and lost where it is negative."""

    def __init__(self, world: World, newton: Newton, contacts: Contacts, seams: Seams, courses: Courses) -> None:
        self._world, self._newton, self._contacts, self._seams, self._courses = world, newton, contacts, seams, courses
        self._loose = world.turns
        still = not courses.any             # else work of what is led, which is known roughly, would pass for a gain
        firm = world.firm[: world.bodies] == RIGID
        self._skins = still & np.array([not carrier.filled for carrier in world.carriers], bool) & ~(self._loose & firm)
        self.owed = 0.0

    def gain(self, state: State, x: np.ndarray, v: np.ndarray, step: Step) -> tuple[float, float]:
        """How much more energy, J, there is at ``x`` and speeds ``v`` than damping leaves of that of the ``state`` that
        the substep began with, and from where that is too much.

        The scheme throws back what a contact stops within one step, and faster than it came.  What known motion works
        against what it leads is not of that.
        """
        touches = bool(step.touches.any())
        if not (touches or self._fed(step).any()):
            return 0.0, np.inf
        w = self._world
        mass, kinetic = w.mass * w.free, [self.kinetic(speed) for speed in (state.v, v)]
        now = self._contacts.energy(x, step.contact) + self._seams.energy(x)
        supplied = float(np.vdot(self._newton.supply, x - state.x)) + step.bounces.work(x - step.start)
        before, after = (self._newton.stored(at) + touch - float(np.vdot(mass[:, None] * step.aim.pull, at))
                         for at, touch in ((state.x, self._newton.touch), (x, now)))
        after += self._newton.resistance(x, step)[1]
        most = MOST_GAIN * max(kinetic) + step.rounding if touches else np.inf
        return after + kinetic[1] - before - kinetic[0] - supplied, most

    def settle(self, state: State, x: np.ndarray, v: np.ndarray, gain: float, step: Step, cut: bool) -> float:
        """Take a ``gain``, J, of a substep that began with ``state`` from its speeds ``v`` at ``x`` (n, 3).

        Returns how much energy came from nowhere, or is gone without a reason if it was ``cut``, of the kinetic energy.
        """
        damped = self._newton.resistance(x, step)[1]
        wrong = max(self._steady(x, v, gain, step) - damped, damped - gain if cut and step.touches.any() else 0.0)
        usual = max(self.kinetic(state.v), self.kinetic(v)) + 0.5 * UNSEEN ** 2 * float(self._world.mass.sum())
        return float(wrong / usual)

    def _steady(self, x: np.ndarray, v: np.ndarray, gain: float, step: Step) -> float:
        """Take a ``gain``, J, from the changes of shape, in ``v`` (n, 3), m/s, of what spins or touches, short of what
        the frame has lost before.

        Each step feeds these a little where a body swells and shrinks while it spins, or is thrown back: nothing but
        the scheme is the source.  Returns how much of it they do not have, which is taken later in the frame.
        """
        if step.touches.any():              # what contact takes is lost for good
            self.owed = max(self.owed, 0.0)
        self.owed += gain
        if self.owed <= step.rounding:
            return 0.0
        w, calm = self._world, v.copy()
        tn.fade_shape(w.mass, x, w.first_node, self._loose, np.where(self._fed(step), 0.0, 1.0), self._courses.speed,
                      calm)
        has = 0.5 * float(w.mass @ ((v - calm) ** 2).sum(axis=1))
        taken = min(has, self.owed)
        v += (1.0 - np.sqrt(1.0 - taken / max(has, 1e-300))) * (calm - v)
        self.owed -= taken
        return float(self.owed)

    def _fed(self, step: Step) -> np.ndarray:
        """Which bodies (bodies,) bool touch, or are skins, which are firm one way only, or turn by so much in a substep
        that this feeds their changes of shape.
        """
        touches = step.touches & (self._loose | (not self._courses.any))
        return touches | self._skins | self._loose & ((step.aim.spin ** 2).sum(axis=1) > (FED / step.aim.h) ** 2)

    def kinetic(self, v: np.ndarray) -> float:
        """The energy, J, of speeds ``v`` (n, 3), m/s, that are not given."""
        return 0.5 * float((self._world.mass * self._world.free) @ (v ** 2).sum(axis=1))
