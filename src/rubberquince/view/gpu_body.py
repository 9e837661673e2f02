"""What the graphics library holds of one body."""

import moderngl
import numpy as np

from rubberquince.view.body import Body, Level
from rubberquince.view.programs import Programs

PLACE = "3f 16x"            # of a vertex of seven floats, see Level.vertices


class _GpuLevel:
    """The vertex arrays of a body, whole or thinned."""

    def __init__(self, gl: moderngl.Context, programs: Programs, level: Level) -> None:
        self.level, self._version = level, -1
        self.one_sided = level.one_sided
        self._points = points = gl.buffer(reserve=max(level.vertices.nbytes, 4), dynamic=True)
        index = gl.buffer(np.ascontiguousarray(level.outer.triangles).tobytes())
        self.arrays = {
            "tinted": gl.vertex_array(programs["tinted"], [(points, "3f 3f 1f", "in_place", "in_normal", "in_value")],
                                      index),
            **{name: gl.vertex_array(programs[name], [(points, "3f 3f 4x", "in_place", "in_normal")], index)
               for name in ("matte", "jelly", "cloth", "film")},
            **{name: gl.vertex_array(programs[name], [(points, PLACE, "in_place")], index)
               for name in ("moments", "distance", "plain")}}

    def update(self) -> None:
        if self._version != self.level.version:
            self._points.orphan()
            self._points.write(np.ascontiguousarray(self.level.vertices).tobytes())
            self._version = self.level.version


class GpuBody:
    """Uploads what changed of a body; renders it with a program by name."""

    def __init__(self, gl: moderngl.Context, programs: Programs, body: Body) -> None:
        self.body = body
        self._gl, self._programs = gl, programs
        self._levels: dict[Level, _GpuLevel] = {}
        self._shown: _GpuLevel | None = None
        self._thinned = False
        self._cells: np.ndarray | None = None
        self._cell_array: moderngl.VertexArray | None = None

    def update(self, rough: bool) -> None:
        """Get ready to be rendered where the body is, thinned if it is ``rough`` and dense."""
        level = self.body.level(rough)
        if level not in self._levels:
            self._levels[level] = _GpuLevel(self._gl, self._programs, level)
        self._shown, self._thinned = self._levels[level], level is not self.body.whole
        self._shown.update()

    def set_cells(self, cells: np.ndarray | None) -> None:
        """Triangle corners (n, 3, 3) m of the cells' outside, or None."""
        if cells is self._cells:
            return
        self._cells, self._cell_array = cells, None
        if cells is not None:
            data = self._gl.buffer(np.ascontiguousarray(cells, np.float32).tobytes())
            self._cell_array = self._gl.vertex_array(self._programs["cells"], [(data, "3f", "in_place")])

    @property
    def drawn(self) -> tuple[int, bool, bool]:
        """Says what its outline and its shadows are those of: where it is, whether thinned, whether its cells."""
        return self.body.placed, self._thinned, self.shows_cells

    @property
    def version(self) -> int:
        """Of what is to be rendered; another one for each place and each tint."""
        return self._shown.level.version if self._shown is not None else -1

    def retinted_since(self, version: int) -> np.ndarray | None:
        """Lowest and highest corner (2, 3), m, of what got another tint since a ``version``: (0, 3) where nothing did,
        None where that is not known.
        """
        level = self._shown.level if self._shown is not None else None
        if level is None or level.version == version:
            return np.zeros((0, 3))
        return level.tinted_within if level.tinted_from == version else None

    @property
    def shows_cells(self) -> bool:
        return self._cell_array is not None

    @property
    def one_sided(self) -> bool:
        return self._shown is not None and self._shown.one_sided

    def render(self, program: str) -> None:
        if program == "cells" and self._cell_array is not None:
            self._cell_array.render()
        elif self._shown is not None:
            self._shown.arrays[program].render()
