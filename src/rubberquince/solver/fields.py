"""How forces of the scene go through space: how air moves, and what pulls, at any points."""

from functools import lru_cache

import numpy as np

from rubberquince.kernels.air import stir
from rubberquince.solver.own_air import own_air
from rubberquince.solver.specs import ForceSpec

WAVES = 10                  # of turbulence
SPREAD = 1.6                # its waves are between the size over this and the size times it
GUSTS = 5                   # swings that a gust is the sum of
TINY = 1e-9


def presence(force: ForceSpec, x: np.ndarray, since: float) -> np.ndarray:
    """How much (n,) 0 .. 1 of a force there is at points ``x`` (n, 3), m, ``since``, s, after the start."""
    if not force.begins <= since <= force.ends:
        return np.zeros(len(x))
    if not np.isfinite(force.reach):
        return np.ones(len(x))
    share = np.linalg.norm(x - force.place, axis=1) / force.reach
    inside = np.clip(1.0 - share, 0.0, 1.0)
    if force.fade == "even":
        return (share <= 1.0).astype(float)
    return inside * inside * (3.0 - 2.0 * inside) if force.fade == "soft" else inside ** 3


def air(force: ForceSpec, x: np.ndarray, since: float) -> np.ndarray:
    """How fast (n, 3), m/s, a force that is air moves at points ``x`` (n, 3), m; nothing of its reach is in it."""
    if force.kind == "own":
        return own_air(force, x, since)
    if force.kind == "wind":
        return np.broadcast_to(force.axis * force.strength * gust(force, since), x.shape)
    if force.kind == "turbulence":
        waves, speeds, rates, phases = _waves(force.seed)
        out, now = np.zeros_like(x), phases + rates * since / force.period
        stir(np.ascontiguousarray(x), waves / force.size, force.strength * speeds, now, out)
        return out
    arm = x - force.place
    along = arm @ force.axis
    arm = arm - along[:, None] * force.axis
    far = np.linalg.norm(arm, axis=1)
    out_way = arm / np.maximum(far, TINY)[:, None]
    share = far / force.size
    swirl = 2.0 * share / (1.0 + share ** 2)        # round a core of this size; its greatest is at the core's edge
    core = 1.0 / (1.0 + share ** 2)
    return (force.strength * swirl[:, None] * np.cross(force.axis, out_way) - force.inflow * swirl[:, None] * out_way
            + force.lift * core[:, None] * force.axis)


def gust(force: ForceSpec, since: float) -> float:
    """What the strength of a wind is now, as a part of what it is at the mean; never below 0."""
    if not force.gusts:
        return 1.0
    rng = np.random.default_rng(force.seed)
    rates, phases = rng.uniform(0.4, 2.5, GUSTS), rng.uniform(0.0, 2.0 * np.pi, GUSTS)
    swing = np.sin(2.0 * np.pi * rates * since / force.period + phases).sum() / np.sqrt(0.5 * GUSTS)
    return max(1.0 + force.gusts * float(swing), 0.0)


@lru_cache(maxsize=64)
def _waves(seed: int) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Waves (1/m, for a size of 1), speeds (rms 1), rates (1/s) and phases (rad) of a turbulence."""
    rng = np.random.default_rng(seed)
    way = rng.normal(size=(WAVES, 3))
    way /= np.linalg.norm(way, axis=1, keepdims=True)
    waves = way * 2.0 * np.pi * SPREAD ** rng.uniform(-1.0, 1.0, (WAVES, 1))
    speeds = np.cross(way, rng.normal(size=(WAVES, 3)))
    speeds *= np.sqrt(2.0 / WAVES) / np.sqrt((speeds ** 2).sum(axis=1).mean())
    return waves, speeds, rng.normal(0.0, 2.0 * np.pi, WAVES), rng.uniform(0.0, 2.0 * np.pi, WAVES)


def pull(force: ForceSpec, x: np.ndarray, v: np.ndarray, to: np.ndarray) -> np.ndarray:
    """What pulls, m/s² (n, 3), at points ``x`` with speeds ``v`` (n, 3) to the places ``to`` (n, 3).

    It is as strong as it says from the ``rest`` distance outwards and fades to nothing there; nearer, it pushes away.
    What already comes at the speed ``limit`` is not sped up further.
    """
    way = to - x
    far = np.linalg.norm(way, axis=1)
    way = way / np.maximum(far, TINY)[:, None]
    width = max(force.rest, TINY) if force.rest else max(force.soft, TINY)
    strength = force.strength * np.clip((far - force.rest) / width, -1.0, 1.0)
    if np.isfinite(force.limit):
        coming = (v * way).sum(axis=1) * np.sign(strength)
        strength = strength * np.clip(1.0 - coming / max(force.limit, TINY), 0.0, 1.0)
    return strength[:, None] * way


def middle_of(force: ForceSpec, x: np.ndarray) -> np.ndarray:
    """Where (n, 3), m, a puller of a point or of a line draws points ``x`` (n, 3) to."""
    if force.about == "line":
        return force.place + ((x - force.place) @ force.axis)[:, None] * force.axis
    return np.broadcast_to(force.place, x.shape)
