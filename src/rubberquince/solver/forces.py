"""What pushes nodes besides what they are made of: their weight, and pressure that differs from place to place."""

import numpy as np

from rubberquince.kernels.contact import carry
from rubberquince.solver.world import World


class Forces:
    """Forces of a world's nodes that are taken as they are at the start of a substep."""

    def __init__(self, world: World) -> None:
        self._world = world
        skin = world.skin
        self._first_point = np.searchsorted(skin.piece[: skin.moving], np.arange(world.bodies + 1))

    def at(self, x: np.ndarray, since: float) -> np.ndarray:
        """What nodes at ``x`` (n, 3), m, are pushed with, (n, 3) m/s², ``since``, s, after the start."""
        w = self._world
        out = np.zeros_like(x)
        out[:, 1] = -w.gravity * w.weight[w.node_body]
        uneven = [k for k, inflation in enumerate(w.pressing.inflations) if inflation.spread is not None]
        if uneven:
            skin = np.empty((w.skin.moving, 3))
            carry(x, w.skin.bind_node, w.skin.bind_weight, skin)
            force = np.zeros_like(x)
            for body in uneven:
                self._add_uneven(body, x, skin, since, force)
            out += force / w.mass[:, None]
        return out

    def _add_uneven(self, body: int, x: np.ndarray, skin: np.ndarray, since: float, force: np.ndarray) -> None:
        """Add to ``force`` (n, 3), N, what pressure by its map has more or less than its mean."""
        w, inflation = self._world, self._world.pressing.inflations[body]
        lo, hi = self._first_point[body], self._first_point[body + 1]
        pressure = w.pressing.pressure(body, x) if inflation.backing is not None else inflation.now(since)
        assert inflation.spread is not None
        tri = w.skin.triangles[body]
        more = inflation.spread[tri - lo].mean(axis=1) - 1.0
        a, b, c = (skin[tri[:, k]] for k in range(3))
        push = (w.pressing.way(body) * pressure / 6.0 * more)[:, None] * np.cross(b - a, c - a)
        points = np.zeros((hi - lo, 3))
        for k in range(3):
            np.add.at(points, tri[:, k] - lo, push)
        for column in range(w.skin.bind_node.shape[1]):
            np.add.at(force, w.skin.bind_node[lo:hi, column], w.skin.bind_weight[lo:hi, column, None] * points)
