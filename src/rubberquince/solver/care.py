"""How well substeps are computed: what is stiff, comes to rest or hangs needs more than what wobbles."""

from dataclasses import replace

import numpy as np

from rubberquince.solver.damping import Damping
from rubberquince.solver.newton import BOUNCE_TOLERANCE, PATIENT
from rubberquince.solver.specs import Quality
from rubberquince.solver.world import RIGID, World

SOFT = -1.0                 # of the speed of a meeting: what has no number and deforms in it
HARD = 0.5                  # swings of the first wobble in a substep, from which an impact is over within one
BENDS = 0.03                # swings of a ring in a substep, from which a shell is stiff
BRIEF = 0.1                 # swings on what presses in it in a substep, from which a shell is light
CALM, CAREFUL = 0.1, 0.2    # m/s: what touches and is slower takes more Newton steps, and a part of the tolerance:
                            # what inexact ones leave would keep a pile stirring
OF_STIFF = 1e-3             # the most of the tolerance for stiff shells: else what they roll on holds them back,
OF_RIGID = 0.01             # where something rigid or hard moves: nothing in it takes up what is left,
OF_HUNG = 0.01              # and where skins hang free: it would hold them up


class Care:
    """What of a world is how stiff for steps of ``h``, s; arrays are (bodies,)."""

    def __init__(self, world: World, damping: Damping, quality: Quality, usual: float) -> None:
        """``quality`` is that of what needs no more, ``usual``, s, the substep of what need not be halved."""
        self._world, self._damping, self._usual, self._step = world, damping, quality, usual
        self._loose, self._fixed = world.turns, world.firm[: world.bodies] > 0      # rigid or led
        filled = np.array([carrier.filled for carrier in world.carriers], bool)
        self._skins = ~filled & np.array([carrier.radius is None for carrier in world.carriers], bool) & ~self._fixed
        self._rigid = bool((self._loose & (world.firm[: world.bodies] == RIGID)).any())

    def hard(self, h: float) -> np.ndarray:
        """Which bodies, bool, are struck by an impact within one substep."""
        return np.array(self._loose & (self._damping.struck * h > HARD))

    def fast(self, h: float) -> np.ndarray:
        """Which bodies, bool, would be, if it stretched them and did not bend them."""
        return np.array(self._loose & (self._damping.frequencies * h > HARD))

    def firm(self, h: float) -> np.ndarray:
        """As World.firm, where what is hard is rigid, too."""
        firm = self._world.firm.copy()
        firm[: self._world.bodies][self.hard(h)] = RIGID
        return firm

    def throws(self, h: float) -> tuple[np.ndarray, np.ndarray]:
        """What part of the speed of its meetings a body throws itself back with.

        NaN for what is rigid or led, which has nothing of the kind, SOFT for what deforms, as solving does it.
        Also, which bodies are light: air throws them back from what stands within a few substeps, too few to solve it,
        and they stay so where one is taken in halves.
        """
        pressed = self._damping.pressed()
        light = self._loose & ~self.hard(h) & (pressed * self._step > BRIEF)
        own = np.where(self.hard(h), self._damping.throws, np.where(self._fixed, np.nan, SOFT))
        return np.where(light, self._damping.thrown_by_air(pressed), own), light

    def quality(self, touches: np.ndarray, bounces: bool, v: np.ndarray, h: float) -> Quality:
        """How well a substep is computed that begins with speeds ``v`` (n, 3), m/s.

        ``touches`` (bodies,) bool are near something, and some of what meets ``bounces``.
        """
        most = self._usual.tolerance
        calm = touches.sum() >= 2 and (v ** 2).sum(axis=1).max() <= CALM ** 2
        firm = self._rigid or (touches & self.hard(h)).any()
        stiff = (self._loose & self._skins & (self._damping.struck * h > BENDS)).any()
        if calm and not (firm or stiff):
            most *= CAREFUL
        if (self._skins & ~self._loose & ~touches).any():
            most = min(most, OF_HUNG)
        if stiff:
            most = min(most, OF_STIFF)
        if firm:
            most = min(most, BOUNCE_TOLERANCE if bounces else OF_RIGID)
        patient = calm or firm or stiff
        return replace(self._usual, tolerance=most, iterations=PATIENT if patient else self._usual.iterations)
