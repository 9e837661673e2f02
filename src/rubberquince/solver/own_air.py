"""Air of the artist's own: functions that other packages offer under the entry point ``rubberquince.air``.

Each is ``air(force, x, since)``: how fast, m/s (n, 3), the air moves at points ``x`` (n, 3), m, ``since`` seconds after
the start; ``force`` is a solver.specs.ForceSpec with its place, axis, strength, size, period and seed.  The same
arguments have to give the same air.  docs/own_forces.md has an example.
"""

from collections.abc import Callable
from functools import lru_cache
from importlib.metadata import EntryPoint, entry_points

import numpy as np

from rubberquince.errors import ShapeError
from rubberquince.solver.specs import ForceSpec

GROUP = "rubberquince.air"
Air = Callable[[ForceSpec, np.ndarray, float], np.ndarray]


def offered() -> dict[str, str]:
    """Names of what is offered, with the version of the package that does."""
    return {name: point.dist.version if point.dist else "" for name, point in sorted(_points().items())}


def own_air(force: ForceSpec, x: np.ndarray, since: float) -> np.ndarray:
    """What a force of the artist's own says; none where it fails in the midst of a run."""
    try:
        return _said(force, x, since)
    except ShapeError:
        return np.zeros_like(x)


def try_out(force: ForceSpec) -> None:
    """Raises ShapeError where a force of the artist's own is not there, or does not give air."""
    _said(force, np.zeros((2, 3)), 0.0)


def _said(force: ForceSpec, x: np.ndarray, since: float) -> np.ndarray:
    air = _loaded(force.own)
    if air is None:
        raise ShapeError(f"its air “{force.own}” is not installed, or cannot be loaded")
    try:
        out = np.array(air(force, x.copy(), float(since)), float)
    except Exception as error:              # whatever a stranger's code may raise
        raise ShapeError(f"its air “{force.own}” fails: {error}") from None
    if out.shape != x.shape or not np.isfinite(out).all():
        raise ShapeError(f"its air “{force.own}” gives no speeds: it has to give three numbers for each point")
    return out


@lru_cache(maxsize=1)
def _points() -> dict[str, EntryPoint]:
    return {point.name: point for point in entry_points(group=GROUP)}


@lru_cache(maxsize=64)
def _loaded(name: str) -> Air | None:
    point = _points().get(name)
    try:
        loaded: Air | None = point.load() if point is not None else None
    except Exception:                       # as above
        return None
    return loaded
