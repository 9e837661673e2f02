"""What presses on a skin from inside, on shells and on solids; openings are thought closed by a cap over their rim.

A skin with an opening that is sucked at is not: air presses it on what it covers, and nothing draws at its rim.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from rubberquince.distinct import distinct
from rubberquince.kernels.contact import carry
from rubberquince.kernels.enclosed import add_volume_gradient, enclosed_volume
from rubberquince.shapes.polymesh import rims
from rubberquince.solver.carriers.carrier import Carrier
from rubberquince.solver.specs import AnyMaterial, BodySpec, Inflation

LEAST_ROOM = 0.2            # of the ball of the same skin: a gas in a flat blank is one that would fill this
LEAST_LEFT = 0.02           # of its room: a gas that is squeezed further presses no harder
NOTHING = np.zeros((0, 2), np.int64)


@dataclass(frozen=True, eq=False)
class _Inside:
    """The skin of one body, closed: ``nodes`` (n,) carry points with ``bind``, then come the middles of its caps.

    loops : the points of each rim.  way : 1, or -1 where a closed skin is wound inwards; of an open one,
    inside is behind it.  room : m³, what a gas fills.
    """

    first: int
    last: int
    bind_node: np.ndarray
    bind_weight: np.ndarray
    triangles: np.ndarray
    loops: list[np.ndarray]
    way: float
    room: float


class Pressing:
    """The work of pressure on all bodies that have one, see specs.Inflation."""

    def __init__(self, bodies: Sequence[BodySpec], carriers: Sequence[Carrier], first_node: np.ndarray) -> None:
        self.pairs = NOTHING
        self.inflations: list[Inflation] = [body.inflation for body in bodies]
        self._since = np.inf
        self._idle: set[int] = set()        # what sucks at nothing
        self._caps: dict[int, tuple[np.ndarray, np.ndarray]] = {}      # what a cap would push (n, 3), N, and from where
        self._thick: dict[int, tuple[float, float]] = {}    # volumes, m³, at the start of the substep, and N/m⁵
        self._pressed = [(carrier, int(first)) for carrier, first in zip(carriers, first_node)]
        self._inside: dict[int, _Inside] = {}

    @property
    def any(self) -> bool:
        """Is there a body that something presses in?"""
        return any(inflation.pressure for inflation in self.inflations)

    def set_inflation(self, body: int, inflation: Inflation) -> None:
        self.inflations[body] = inflation

    def split(self, chunks: int) -> None:
        """One is enough."""

    def set_material(self, body: int, material: AnyMaterial) -> None:
        """What bodies are made of does not matter."""

    def tell(self, since: float) -> bool:
        changes = any(i.now(since) != i.now(self._since) for i in self.inflations)
        self._since = since
        return changes

    def pressure(self, body: int, x: np.ndarray) -> float:
        """What presses inside a body with nodes at ``x`` (n, 3), m, Pa."""
        return self._law(body, self.volume(body, x))[1] if self.inflations[body].pressure else 0.0

    def given(self, body: int) -> float:
        """What a body is blown up with by now, Pa; a gas that has more room than at rest presses with less."""
        return self.inflations[body].now(self._since)

    def way(self, body: int) -> float:
        """1, or -1 where the skin of a body is wound inwards."""
        return self._inside_of(body).way

    def volume(self, body: int, x: np.ndarray) -> float:
        """m³ inside a body with nodes at ``x`` (n, 3), m."""
        inside = self._inside_of(body)
        return self._volume(inside, self._points(inside, x))

    def cover(self, x: np.ndarray, covers: np.ndarray) -> bool:
        """Before a substep from ``x`` (n, 3), m: which bodies (bodies,) touch something or are held, and so cover it.

        True where that makes other forces than before.
        """
        changes, self._idle, self._caps = bool(self._idle or self._caps), set(), {}
        for body in self._active():
            inside = self._inside_of(body)
            if self.inflations[body].pressure < 0.0 and inside.loops:
                if covers[body]:
                    self._caps[body] = self._cap_push(body, x), x[inside.first:inside.last].copy()
                else:
                    self._idle.add(body)
        return changes or bool(self._idle or self._caps)

    def thicken(self, x: np.ndarray, thick: np.ndarray, h: float) -> bool:
        """Let what presses in bodies resist changes of volume by ``thick`` (bodies,), N s/m⁵, in a substep of ``h``, s,
        from ``x`` (n, 3), m.

        True where that makes other forces than before.
        """
        changes = bool(self._thick)
        self._thick = {body: (self.volume(body, x), float(thick[body]) / h) for body in self._active() if thick[body]}
        return changes or bool(self._thick)

    def _cap_push(self, body: int, x: np.ndarray) -> np.ndarray:
        """What the caps of a body push its nodes (n, 3), N."""
        inside = self._inside_of(body)
        points = self._points(inside, x)
        pressure = self._law(body, self._volume(inside, points))[1]
        caps = inside.triangles[len(self._pressed[body][0].triangles):]
        a, b, c = (points[caps[:, k]] for k in range(3))
        push = np.zeros_like(points)
        np.add.at(push, caps, pressure * inside.way / 6.0 * np.cross(b - a, c - a)[:, None])
        return self._on_nodes(inside, push)

    def energy(self, x: np.ndarray) -> float:
        total = 0.0
        for body in self._active():
            volume = self.volume(body, x)
            before, firm = self._thick.get(body, (volume, 0.0))
            total += self._law(body, volume)[0] + 0.5 * firm * (volume - before) ** 2
            if body in self._caps:
                push, start = self._caps[body]
                total += float(np.vdot(push, x[self._inside_of(body).first:self._inside_of(body).last] - start))
        return total

    def add_gradient(self, x: np.ndarray, out: np.ndarray) -> None:
        for body in self._active():
            inside = self._inside_of(body)
            points = self._points(inside, x)
            volume = self._volume(inside, points)
            before, firm = self._thick.get(body, (volume, 0.0))
            push = firm * (volume - before) - self._law(body, volume)[1]
            out[inside.first:inside.last] += self._volume_slope(inside, points, push)
            if body in self._caps:
                out[inside.first:inside.last] += self._caps[body][0]

    def _on_nodes(self, inside: _Inside, at_points: np.ndarray) -> np.ndarray:
        """Forces at the skin's points and the middles of its caps, as forces (n, 3) at the nodes that carry them."""
        count = len(inside.bind_node)
        for k, loop in enumerate(inside.loops):
            at_points[loop] += at_points[count + k] / len(loop)
        at_nodes = np.zeros((inside.last - inside.first, 3))
        for column in range(inside.bind_node.shape[1]):
            np.add.at(at_nodes, inside.bind_node[:, column],
                      inside.bind_weight[:, column, None] * at_points[:count])
        return at_nodes

    def fill_blocks(self, x: np.ndarray, out: np.ndarray) -> None:
        """Pressure turns with the skin, which makes no stiffness that is sure to be positive; there are no blocks."""

    def gases(self, x: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """How firmly gases, and what is thick, resist what changes their volume, bodies with nodes at ``x`` (n, 3), m.

        Returns the nodes of each (gases, 2), from and to; the slope of their volumes (n, 3), m²; and N/m⁵ (gases,).
        """
        filled = [body for body in self._active()
                  if self.inflations[body].backing is not None or body in self._thick]
        ranges, firm = np.zeros((len(filled), 2), np.int64), np.zeros(len(filled))
        slopes = np.zeros(x.shape if filled else (0, 3))
        for k, body in enumerate(filled):
            inside = self._inside_of(body)
            ranges[k] = inside.first, inside.last
            points = self._points(inside, x)
            firm[k] = self._firmness(body, self._volume(inside, points)) + self._thick.get(body, (0.0, 0.0))[1]
            slopes[inside.first:inside.last] = self._volume_slope(inside, points, 1.0)
        return ranges, slopes, firm

    def _active(self) -> list[int]:
        return [body for body, inflation in enumerate(self.inflations)
                if inflation.now(self._since) != 0.0 and body not in self._idle]

    def _law(self, body: int, volume: float) -> tuple[float, float]:
        """Energy, J, and pressure, Pa, of what is inside a body."""
        inflation, room = self.inflations[body], self._inside_of(body).room
        pressure, backing = inflation.now(self._since), inflation.backing
        if backing is None:
            return -pressure * volume, pressure
        amount, least = (pressure + backing) * room, LEAST_LEFT * room
        left = max(volume, least)
        now = amount / left - backing
        return backing * left - amount * np.log(left / room) - now * min(volume - least, 0.0), now

    def _firmness(self, body: int, volume: float) -> float:
        """By how much a gas presses less, Pa, for each m³ that it has more; 0 where the pressure is constant."""
        inflation, room = self.inflations[body], self._inside_of(body).room
        if inflation.backing is None:
            return 0.0
        amount = (inflation.now(self._since) + inflation.backing) * room
        return max(amount, 0.0) / volume ** 2 if volume > LEAST_LEFT * room else 0.0

    def _volume_slope(self, inside: _Inside, points: np.ndarray, by: float) -> np.ndarray:
        """How the volume grows with each node (n, 3), m², times ``by``."""
        slope = np.zeros_like(points)
        add_volume_gradient(points, inside.triangles, by * inside.way, slope)
        return self._on_nodes(inside, slope)

    def _volume(self, inside: _Inside, points: np.ndarray) -> float:
        return inside.way * enclosed_volume(points, inside.triangles, points.mean(axis=0))

    def _points(self, inside: _Inside, x: np.ndarray) -> np.ndarray:
        count = len(inside.bind_node)
        points = np.empty((count + len(inside.loops), 3))
        carry(x[inside.first:inside.last], inside.bind_node, inside.bind_weight, points)
        for k, loop in enumerate(inside.loops):
            points[count + k] = points[loop].mean(axis=0)
        return points

    def _inside_of(self, body: int) -> _Inside:
        if body not in self._inside:
            self._inside[body] = _close(*self._pressed[body])
        return self._inside[body]


def _close(carrier: Carrier, first: int) -> _Inside:
    loops = rims(carrier.triangles)
    count, triangles = len(carrier.bind_node), [carrier.triangles]
    for k, edges in enumerate(loops):
        triangles.append(np.column_stack([edges[:, ::-1], np.full(len(edges), count + k)]))
    closed = np.concatenate(triangles)
    points = np.einsum("pk,pki->pi", carrier.bind_weight, carrier.start[carrier.bind_node])
    rim_points = [distinct(edges) for edges in loops]
    points = np.concatenate([points, *(points[rim].mean(axis=0)[None] for rim in rim_points)])
    volume = enclosed_volume(points, closed, points.mean(axis=0))
    a, b, c = (points[closed[:, k]] for k in range(3))
    area = 0.5 * np.linalg.norm(np.cross(b - a, c - a), axis=1).sum()
    ball = area ** 1.5 / (6.0 * np.sqrt(np.pi))
    return _Inside(first, first + len(carrier.start), carrier.bind_node, carrier.bind_weight, closed, rim_points,
                   -1.0 if volume < 0.0 and not loops else 1.0, max(abs(volume), LEAST_ROOM * ball))
