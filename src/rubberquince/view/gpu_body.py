"""The vertex arrays of one body."""

import moderngl
import numpy as np

from rubberquince.view.body import Body
from rubberquince.view.programs import Programs

PLACE = "3f 16x"            # of a vertex of seven floats, see Body.vertices


class GpuBody:
    """Uploads what changed of a body; renders it with a program by name."""

    def __init__(self, gl: moderngl.Context, programs: Programs, body: Body) -> None:
        self.body = body
        self._gl, self._programs = gl, programs
        self._version = -1
        self._points = gl.buffer(reserve=max(body.vertices.nbytes, 4), dynamic=True)
        index = gl.buffer(np.ascontiguousarray(body.triangles).tobytes())
        points = self._points
        self._arrays = {
            "matte": gl.vertex_array(programs["matte"], [(points, "3f 3f 1f", "in_place", "in_normal", "in_value")],
                                     index),
            **{name: gl.vertex_array(programs[name], [(points, "3f 3f 4x", "in_place", "in_normal")], index)
               for name in ("jelly", "cloth", "film")},
            **{name: gl.vertex_array(programs[name], [(points, PLACE, "in_place")], index)
               for name in ("moments", "distance", "plain")}}
        self._cells: np.ndarray | None = None

    def update(self) -> None:
        if self._version != self.body.version:
            self._points.orphan()
            self._points.write(np.ascontiguousarray(self.body.vertices).tobytes())
            self._version = self.body.version

    def set_cells(self, cells: np.ndarray | None) -> None:
        """Triangle corners (n, 3, 3) m of the cells' outside, or None."""
        if cells is self._cells:
            return
        self._cells = cells
        self._arrays.pop("cells", None)
        if cells is not None:
            data = self._gl.buffer(np.ascontiguousarray(cells, np.float32).tobytes())
            self._arrays["cells"] = self._gl.vertex_array(self._programs["cells"], [(data, "3f", "in_place")])

    @property
    def shows_cells(self) -> bool:
        return "cells" in self._arrays

    def render(self, program: str) -> None:
        self._arrays[program].render()
