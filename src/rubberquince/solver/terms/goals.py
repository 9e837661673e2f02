"""Goals: nodes that are drawn to places, each by a spring of its own, or all of a body by its middle."""

from collections.abc import Sequence
from dataclasses import replace
from itertools import pairwise

import numpy as np

from rubberquince.kernels.turning import solve_spin
from rubberquince.solver.carriers.carrier import Carrier
from rubberquince.solver.specs import AnyMaterial, BodySpec, Goal


class Goals:
    """Energy  Σ k/2 |x - target|²  of the nodes of bodies that have a goal.

    Where a goal draws the middle, only the weighted mean of that way counts, Σ k/2 |mean (x - target)|²; where it draws
    the whole, that part of it which is a motion of all: the mean and a turn about it; where it is level, of heights
    their mean.

    It has no blocks: its ``stiffness`` (n,), N/m, stands beside the inertia of nodes, where damping does not find it.
    Of a whole, too, it is each node's own: along a motion of all that is the same, and never too little elsewhere.
    """

    def __init__(self, bodies: Sequence[BodySpec], carriers: Sequence[Carrier], first_node: np.ndarray) -> None:
        self._slices = [slice(int(lo), int(hi)) for lo, hi in pairwise(first_node)]
        self._goals: dict[int, Goal] = {k: body.goal for k, body in enumerate(bodies) if body.goal is not None}
        self.pairs = np.zeros((0, 2), np.int64)
        self.stiffness = np.zeros(int(first_node[-1]))
        for k, goal in self._goals.items():
            self.stiffness[self._slices[k]] = goal.stiffness

    def draws(self, body: int) -> str:
        """How the goal of a body draws it; see specs.Goal."""
        return self._goals[body].draws

    def goal(self, body: int) -> Goal | None:
        """The goal of a body, as it is now."""
        return self._goals.get(body)

    def set_goal(self, body: int, goal: Goal) -> None:
        """Draw a body that has a goal to other places, or otherwise."""
        self._goals[body] = goal
        self.stiffness[self._slices[body]] = goal.stiffness

    def set_material(self, body: int, material: AnyMaterial) -> None:
        """What bodies are made of does not matter."""

    def split(self, chunks: int) -> None:
        """One is enough."""

    def tell(self, since: float) -> bool:
        led = [k for k, goal in self._goals.items() if goal.course is not None]
        for k in led:
            self._goals[k] = replace(self._goals[k], target=self._goals[k].course(since))   # type: ignore[misc]
        return bool(led)

    def energy(self, x: np.ndarray) -> float:
        ways = [(goal.stiffness, (self._way(k, x) ** 2).sum(axis=1)) for k, goal in self._goals.items()]
        return sum((0.5 * float(stiffness @ square) for stiffness, square in ways), 0.0)

    def add_gradient(self, x: np.ndarray, out: np.ndarray) -> None:
        for k, goal in self._goals.items():
            out[self._slices[k]] += goal.stiffness[:, None] * self._way(k, x)

    def fill_blocks(self, x: np.ndarray, out: np.ndarray) -> None:
        """There are none."""

    def _way(self, body: int, x: np.ndarray) -> np.ndarray:
        """How far (n, 3), m, each node of a body is from where it is drawn, or all are."""
        goal = self._goals[body]
        way = x[self._slices[body]] - goal.target
        total = goal.stiffness.sum()
        if goal.draws == "points" or total <= 0.0:
            return way
        mean = goal.stiffness @ way / total
        if goal.draws == "level":
            way[:, 1] = mean[1]
            return way
        if goal.draws == "middle":
            return np.broadcast_to(mean, way.shape)
        arm = goal.target - goal.stiffness @ goal.target / total
        weighed = goal.stiffness[:, None] * arm
        moment = np.eye(3) * (weighed * arm).sum() - weighed.T @ arm
        turn, omega = np.cross(weighed, way).sum(axis=0), np.empty(3)
        solve_spin(moment, turn, omega)
        return mean + np.cross(omega, arm)
