"""How forces of the scene go through space: how air moves, and what pulls, at any points."""

from functools import lru_cache

import numpy as np

from rubberquince.kernels import air as kernels
from rubberquince.solver.own_air import own_air
from rubberquince.solver.specs import ForceSpec

WAVES = 10                  # of turbulence
SPREAD = 1.6                # its waves are between the size over this and the size times it
GUSTS = 5                   # swings that a gust is the sum of
FADES = {"even": kernels.EVEN, "soft": kernels.SOFT, "steep": kernels.STEEP}


def presence(force: ForceSpec, x: np.ndarray, since: float) -> np.ndarray:
    """How much (n,) 0 .. 1 of a force there is at points ``x`` (n, 3), m, ``since``, s, after the start."""
    if not force.begins <= since <= force.ends:
        return np.zeros(len(x))
    share = np.ones(len(x))
    if np.isfinite(force.reach):
        kernels.fade_out(np.ascontiguousarray(x), force.place, force.reach, FADES[force.fade], share)
    return share


def air(force: ForceSpec, x: np.ndarray, since: float) -> np.ndarray:
    """How fast (n, 3), m/s, a force that is air moves at points ``x`` (n, 3), m; nothing of its reach is in it."""
    if force.kind == "own":
        return own_air(force, x, since)
    out, x = np.zeros_like(x), np.ascontiguousarray(x)
    if force.kind == "wind":
        out += force.axis * force.strength * gust(force, since)
    elif force.kind == "turbulence":
        waves, speeds, rates, phases = _waves(force.seed)
        now = phases + rates * since / force.period
        kernels.stir(x, waves / force.size, force.strength * speeds, now, out)
    else:
        kernels.whirl(x, force.place, force.axis, force.strength, force.size, force.inflow, force.lift, out)
    return out


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
    width = max(force.rest, kernels.TINY) if force.rest else max(force.soft, kernels.TINY)
    out = np.empty_like(x)
    kernels.draw(np.ascontiguousarray(x), np.ascontiguousarray(v), np.ascontiguousarray(to), force.strength, force.rest,
                 width, max(force.limit, kernels.TINY), out)
    return out


def middle_of(force: ForceSpec, x: np.ndarray) -> np.ndarray:
    """Where (n, 3), m, a puller of a point or of a line draws points ``x`` (n, 3) to."""
    if force.about == "line":
        return force.place + ((x - force.place) @ force.axis)[:, None] * force.axis
    return np.broadcast_to(force.place, x.shape)
