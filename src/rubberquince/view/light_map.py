"""One view of the scene from a light, blurred for soft shadows.

A map of what stands still holds depth and its square, with the floor behind everything; a map of what moves
holds depth times cover and cover, as there is often nothing behind it.
"""

import moderngl
import numpy as np

from rubberquince.view.programs import Programs, gl_matrix, put

MARGIN = 1.25               # around what casts, so that a soft edge has room


class LightMap:
    """``place`` it, then draw what casts into it with ``begin`` and ``end``."""

    def __init__(self, gl: moderngl.Context, programs: Programs, pixels: int, moving: bool) -> None:
        self._gl, self._programs = gl, programs
        size = (pixels, pixels)
        self.moments, spare = gl.texture(size, 2, dtype="f4"), gl.texture(size, 2, dtype="f4")
        self.tint = gl.texture(size, 4)
        for texture in (self.moments, spare, self.tint):
            texture.repeat_x = texture.repeat_y = False
        self._spare = spare
        self._drawn = gl.framebuffer([self.moments, self.tint], gl.depth_renderbuffer(size))
        self._to_spare, self._from_spare = gl.framebuffer([spare]), gl.framebuffer([self.moments])
        self._screen = gl.vertex_array(programs["blur"], [])
        self.moving = moving
        self.matrix, self.range, self._radius = np.eye(4), 1.0, 1.0
        self._seen = np.zeros((1, 1), np.float32)

    def place(self, centre: np.ndarray, radius: float, towards: np.ndarray, depth: float) -> None:
        """Cover the ball around ``centre``, m, and ``depth`` m in front of and behind it."""
        up = np.array([0.0, 0.0, 1.0]) if abs(towards[1]) > 0.99 else np.array([0.0, 1.0, 0.0])
        side = np.cross(up, towards)
        side /= np.linalg.norm(side)
        self._radius = radius * MARGIN
        scale = 1.0 / np.array([[self._radius], [self._radius], [depth]])
        self.matrix = np.eye(4)
        self.matrix[:3, :3] = np.stack([side, np.cross(towards, side), -towards]) * scale
        self.matrix[:3, 3] = -self.matrix[:3, :3] @ centre
        self.range = 2.0 * depth

    def begin(self, around: tuple[float, float, float]) -> None:
        """Start drawing; ``around`` is the colour of passing light where nothing is, which soft edges take."""
        empty = 0.0 if self.moving else 1.0
        self._drawn.use()                   # before clearing: a scissor in use elsewhere would cut that too
        self._drawn.clear(*around, 0.0, depth=1.0)
        self._from_spare.use()
        self._from_spare.clear(empty, empty)
        self._drawn.use()
        self._gl.enable_only(moderngl.DEPTH_TEST)
        self._gl.depth_func = "<="
        put(self._programs["moments"], view_projection=gl_matrix(self.matrix), cover=float(self.moving))

    def end(self, blur: float) -> None:
        """Blur by ``blur`` metres."""
        self._gl.enable_only(moderngl.NOTHING)
        step = min(blur / (2.0 * self._radius) / 4.0, 0.03)
        for target, source, along in ((self._to_spare, self.moments, (step, 0.0)),
                                      (self._from_spare, self._spare, (0.0, step))):
            target.use()
            source.use(0)
            put(self._programs["blur"], source=0, along=along)
            self._screen.render(vertices=3)

    def lowest(self, low: np.ndarray, high: np.ndarray) -> float:
        """Height, m, of the lowest thing that the box sees straight below; for a map from above."""
        corners = np.array([[*low, 1.0], [*high, 1.0]]) @ self.matrix.T
        at = np.sort((corners[:, :2] * 0.5 + 0.5) * len(self._seen), axis=0)
        (left, bottom), (right, top) = np.floor(at[0]).astype(int), np.ceil(at[1]).astype(int) + 1
        if min(left, bottom) < 0 or max(right, top) > len(self._seen):
            return 0.0
        depth = float(self._seen[bottom:top, left:right].max())
        return float(np.linalg.inv(self.matrix)[1] @ [0.0, 0.0, 2.0 * depth - 1.0, 1.0])

    def keep_depths(self) -> None:
        """Remember what the map holds for ``lowest``."""
        pixels = self.moments.size
        self._seen = np.frombuffer(self.moments.read(), np.float32).reshape(pixels[1], pixels[0], 2)[:, :, 0]
