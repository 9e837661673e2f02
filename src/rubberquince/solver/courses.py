"""Known motion: nodes that are held go where the course of their body leads them, within every step."""

import numpy as np

from rubberquince.solver.world import World

CATCHES_UP = 0.1        # s: in which what something kept from its course makes up for most of that


class Courses:
    """The courses of a world's bodies; ``any`` is whether there are some.

    ``speed`` (n, 3), m/s, is that of the courses in this substep, at all nodes of their bodies.
    """

    def __init__(self, world: World) -> None:
        self._world = world
        self._courses = {k: body.course for k, body in enumerate(world.spec.bodies) if body.course is not None}
        self.any = bool(self._courses)
        self._led = (1.0 - world.free) * np.isin(world.node_body, list(self._courses))
        self.speed = np.zeros_like(world.start)
        self._places = world.start.copy()
        self._from, self._share = world.start.copy(), 1.0       # where they come from, and how much of a lag is made up

    def tell(self, since: float, h: float) -> None:
        """A substep of ``h``, s, ends ``since``, s, after the start."""
        w = self._world
        for k, course in self._courses.items():
            mine = slice(w.first_node[k], w.first_node[k + 1])
            self._places[mine], self._from[mine] = course(since), course(since - h)
            self.speed[mine] = (self._places[mine] - self._from[mine]) / h
        self._share = 1.0 - np.exp(-h / CATCHES_UP)

    def lead(self, x: np.ndarray) -> np.ndarray:
        """How far (n, 3), m, led nodes at ``x`` go in this substep, all others nothing.

        What lags behind does not leap after: it would slap what gives way, and all on that way had to be looked at.
        """
        lag = self._from - x
        return (self._places - self._from + self._share * lag) * self._led[:, None]

    def behind(self, x: np.ndarray) -> np.ndarray:
        """How far (bodies,), m, something keeps nodes of each body at ``x`` from where they are led, at most."""
        w = self._world
        far = np.linalg.norm(self._places - x, axis=1) * self._led
        return np.maximum.reduceat(far, w.first_node[:-1]) if len(far) else np.zeros(w.bodies)
