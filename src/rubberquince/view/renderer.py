"""Draws a stage into pixels.  Knows OpenGL and nothing of the window it is shown in."""

from importlib.resources import files

import moderngl
import numpy as np

from rubberquince.errors import QuinceError
from rubberquince.view.body import Body
from rubberquince.view.camera import Camera
from rubberquince.view.stage import Stage

KEY_DIRECTION = np.array([-0.48, 0.74, 0.47]) / np.linalg.norm([-0.48, 0.74, 0.47])
KEY_PIXELS, SKY_PIXELS = 1024, 512
CHOSEN = (0.722, 0.525, 0.043)
FINE_TAPS, QUICK_TAPS = 16, 6
MOST_PIXELS = 4096
HEAD = "#version 330\n"


class Targets:
    """Framebuffers of one picture size."""

    def __init__(self, gl: moderngl.Context, width: int, height: int, samples: int) -> None:
        w, h = width * samples, height * samples
        self.size, self.samples = (width, height), samples
        self.colour, self.behind = gl.texture((w, h), 4, dtype="f2"), gl.texture((w, h), 4, dtype="f2")
        self.depth = gl.depth_texture((w, h))
        self.picture = gl.framebuffer([self.colour], self.depth)
        self.behind_buffer = gl.framebuffer([self.behind])
        self.far_side = gl.texture((w, h), 1, dtype="f4")
        self.far_buffer = gl.framebuffer([self.far_side], gl.depth_renderbuffer((w, h)))
        self.mask = gl.texture((width, height), 1)
        self.mask_buffer = gl.framebuffer([self.mask])
        self.result = gl.framebuffer([gl.renderbuffer((width, height), 4)])
        for texture in (self.colour, self.behind, self.mask, self.far_side):
            texture.repeat_x = texture.repeat_y = False


class Renderer:
    """One OpenGL context of its own, without a window.  Raises QuinceError when there is none to be had."""

    def __init__(self) -> None:
        try:
            self._gl = moderngl.create_context(standalone=True, backend="egl", require=330)
        except Exception as error:          # the binding raises bare Exception for every kind of failure
            raise QuinceError(f"The view cannot draw: OpenGL 3.3 by EGL is missing ({error}).") from None
        gl = self._gl
        gl.gc_mode = "context_gc"
        self._programs = {
            "floor": self._program("floor.vert", "light.glsl", "floor.frag"),
            "matte": self._program("body.vert", "light.glsl", "matte.frag"),
            "jelly": self._program("body.vert", "light.glsl", "jelly.frag"),
            "cells": self._program("cells.vert", "light.glsl", "cells.frag"),
            "depth": self._program("depth.vert", "depth.frag"),
            "distance": self._program("depth.vert", "distance.frag"),
            "finish": self._program("finish.vert", "finish.frag")}
        self._buffers: dict[str, _Buffers] = {}
        self._targets: Targets | None = None
        self._empty = gl.vertex_array(self._programs["finish"], [])
        self._floor = gl.vertex_array(self._programs["floor"], [])
        self._key_solid, self._key_jelly = self._shadow_map(KEY_PIXELS), self._shadow_map(KEY_PIXELS)
        self._sky = self._shadow_map(SKY_PIXELS)
        self._key_tint = gl.texture((KEY_PIXELS, KEY_PIXELS), 4)
        self._key_tint.repeat_x = self._key_tint.repeat_y = False
        self._key_buffer = gl.framebuffer([], self._key_solid)
        self._jelly_buffer = gl.framebuffer([self._key_tint], self._key_jelly)
        self._sky_buffer = gl.framebuffer([], self._sky)

    def _program(self, vertex: str, *fragment: str) -> moderngl.Program:
        folder = files("rubberquince.view") / "shaders"
        return self._gl.program(
            vertex_shader=HEAD + (folder / vertex).read_text(),
            fragment_shader=HEAD + "\n".join((folder / name).read_text() for name in fragment))

    def _shadow_map(self, pixels: int) -> moderngl.Texture:
        texture = self._gl.depth_texture((pixels, pixels))
        texture.repeat_x = texture.repeat_y = False
        texture.compare_func = "<="
        texture.filter = (moderngl.LINEAR, moderngl.LINEAR)
        return texture

    def release(self) -> None:
        self._gl.gc()
        self._gl.release()

    # --- one picture ----------------------------------------------------------------------------------

    def draw(self, stage: Stage, camera: Camera, width: int, height: int, fine: bool) -> np.ndarray:
        """(height, width, 4) uint8, top row first.  ``fine`` averages four samples a pixel."""
        width, height = (int(np.clip(side, 1, MOST_PIXELS)) for side in (width, height))
        samples = 2 if fine and max(width, height) * 2 <= MOST_PIXELS else 1
        if self._targets is None or (self._targets.size, self._targets.samples) != ((width, height), samples):
            self._gl.gc()
            self._targets = Targets(self._gl, width, height, samples)
        self._upload(stage)
        self._set_light(stage, camera, width / height, FINE_TAPS if fine else QUICK_TAPS)
        solids, jellies, cells = self._sorted(stage)
        self._gl.enable_only(moderngl.DEPTH_TEST)
        self._draw_maps(solids + cells, jellies)
        self._draw_picture(stage, solids, cells)
        if jellies:
            self._draw_jellies(jellies)
        return self._finish(stage)

    def _sorted(self, stage: Stage) -> tuple[list["_Buffers"], list["_Buffers"], list["_Buffers"]]:
        solids, jellies, cells = [], [], []
        for key, body in stage.bodies.items():
            buffers = self._buffers[key]
            if stage.display == "cells" and key in stage.cells:
                cells.append(buffers)
            elif body.jelly and stage.display != "stretch":
                jellies.append(buffers)
            else:
                solids.append(buffers)
        return solids, jellies, cells

    def _upload(self, stage: Stage) -> None:
        for key in [k for k in self._buffers if k not in stage.bodies]:
            del self._buffers[key]
        for key, body in stage.bodies.items():
            buffers = self._buffers.get(key)
            if buffers is None or buffers.body is not body:
                buffers = self._buffers[key] = _Buffers(self._gl, self._programs, body)
            buffers.update()
            buffers.set_cells(stage.cells.get(key) if stage.display == "cells" else None)

    def _set_light(self, stage: Stage, camera: Camera, aspect: float, taps: int) -> None:
        """Matrices of the camera and of both light maps, for every program that asks for them."""
        centre, radius = _lit_ball(stage)
        key, key_range = _light_matrix(centre, radius, KEY_DIRECTION, np.array([0.0, 1.0, 0.0]))
        sky, _ = _light_matrix(centre, radius, np.array([0.0, 1.0, 0.0]), np.array([0.0, 0.0, 1.0]))
        view_projection = camera.projection(aspect) @ camera.view()
        self._matrices = {"key": key, "sky": sky, "view": view_projection}
        values = {
            "view_projection": _gl_matrix(view_projection), "unproject": _gl_matrix(np.linalg.inv(view_projection)),
            "key_matrix": _gl_matrix(key), "sky_matrix": _gl_matrix(sky), "eye": tuple(camera.eye),
            "key_direction": tuple(KEY_DIRECTION), "key_range": key_range, "taps": taps,
            "blur": 0.013 / radius / 2, "sky_blur": min(0.05 / radius / 2, 0.2), "focus": tuple(centre),
            "reach": max(4.0 * radius, 1.4 * camera.distance)}
        for program in self._programs.values():
            for name, value in values.items():
                _set(program, name, value)
            for unit, name in enumerate(("key_solid", "key_jelly", "key_tint", "sky_map")):
                _set(program, name, unit)

    def _draw_maps(self, solids: list["_Buffers"], jellies: list["_Buffers"]) -> None:
        depth = self._programs["depth"]
        for buffer, matrix, bodies in ((self._key_buffer, "key", solids), (self._jelly_buffer, "key", jellies),
                                       (self._sky_buffer, "sky", solids + jellies)):
            buffer.use()
            buffer.clear(1.0, 1.0, 1.0, 1.0, depth=1.0)
            _set(depth, "view_projection", _gl_matrix(self._matrices[matrix]))
            for b in bodies:
                _set(depth, "base_colour", b.body.colour)
                b.shadow.render()

    def _draw_picture(self, stage: Stage, solids: list["_Buffers"], cells: list["_Buffers"]) -> None:
        assert self._targets is not None
        for unit, texture in enumerate((self._key_solid, self._key_jelly, self._key_tint, self._sky)):
            texture.use(unit)
        self._targets.picture.use()
        self._targets.picture.clear(depth=1.0)
        self._gl.depth_func = "<="
        self._floor.render(vertices=3)
        for b in solids:
            _set(self._programs["matte"], "base_colour", b.body.colour)
            _set(self._programs["matte"], "tinted", float(stage.display == "stretch" and b.body.jelly))
            b.matte.render()
        for b in cells:
            _set(self._programs["cells"], "base_colour", b.body.colour)
            b.cells_array.render()

    def _draw_jellies(self, jellies: list["_Buffers"]) -> None:
        targets, gl = self._targets, self._gl
        assert targets is not None
        targets.far_buffer.use()
        targets.far_buffer.clear(depth=0.0)
        gl.depth_func = ">"
        _set(self._programs["distance"], "view_projection", _gl_matrix(self._matrices["view"]))
        for b in jellies:
            b.distance.render()
        gl.depth_func = "<="
        gl.copy_framebuffer(targets.behind_buffer, targets.picture)
        targets.picture.use()
        program = self._programs["jelly"]
        targets.behind.use(4)
        targets.far_side.use(5)
        sampler = gl.sampler(texture=self._key_jelly, compare_func="", repeat_x=False, repeat_y=False)
        sampler.use(6)
        for name, unit in (("behind", 4), ("far_side", 5), ("key_jelly_depth", 6)):
            _set(program, name, unit)
        gl.enable(moderngl.CULL_FACE)
        for b in jellies:
            low, high = b.body.bounds()
            _set(program, "base_colour", b.body.colour)
            _set(program, "radius", max(float(np.linalg.norm(high - low)) / 3.4, 1e-6))
            b.jelly.render()
        gl.disable(moderngl.CULL_FACE)
        sampler.clear(6)

    def _finish(self, stage: Stage) -> np.ndarray:
        targets = self._targets
        assert targets is not None
        chosen = self._buffers.get(stage.chosen or "")
        self._gl.disable(moderngl.DEPTH_TEST)
        targets.mask_buffer.use()
        targets.mask_buffer.clear()
        if chosen is not None:
            _set(self._programs["depth"], "view_projection", _gl_matrix(self._matrices["view"]))
            _set(self._programs["depth"], "base_colour", (1.0, 1.0, 1.0))
            chosen.shadow.render()
        targets.result.use()
        targets.colour.use(0)
        targets.mask.use(1)
        finish = self._programs["finish"]
        for name, value in (("picture", 0), ("mask", 1), ("samples", targets.samples), ("line_colour", CHOSEN),
                            ("pixel", (1.0 / targets.size[0], 1.0 / targets.size[1]))):
            _set(finish, name, value)
        self._empty.render(vertices=3)
        data = targets.result.read(components=4, alignment=1)
        width, height = targets.size
        return np.frombuffer(data, np.uint8).reshape(height, width, 4)[::-1]


class _Buffers:
    """Vertex arrays of one body."""

    def __init__(self, gl: moderngl.Context, programs: dict[str, moderngl.Program], body: Body) -> None:
        self.body = body
        self._gl, self._programs = gl, programs
        self._version = -1
        self._points = gl.buffer(reserve=max(body.vertices.nbytes, 4), dynamic=True)
        index = gl.buffer(np.ascontiguousarray(body.triangles).tobytes())
        whole = [(self._points, "3f 3f 1f", "in_place", "in_normal", "in_value")]
        self.matte = gl.vertex_array(programs["matte"], whole, index)
        self.jelly = gl.vertex_array(programs["jelly"], [(self._points, "3f 3f 4x", "in_place", "in_normal")], index)
        place = [(self._points, "3f 16x", "in_place")]
        self.shadow = gl.vertex_array(programs["depth"], place, index)
        self.distance = gl.vertex_array(programs["distance"], place, index)
        self._cells: np.ndarray | None = None

    def update(self) -> None:
        if self._version != self.body.version:
            self._points.orphan()
            self._points.write(self.body.vertices.tobytes())
            self._version = self.body.version

    def set_cells(self, cells: np.ndarray | None) -> None:
        if cells is None or cells is self._cells:
            return
        self._cells = cells
        self.cells_array = self._gl.vertex_array(
            self._programs["cells"], [(self._gl.buffer(np.ascontiguousarray(cells, np.float32).tobytes()), "3f",
                                       "in_place")])


def _lit_ball(stage: Stage) -> tuple[np.ndarray, float]:
    """Centre and radius of what the light maps cover: all bodies, but no more than lets a shadow stay sharp."""
    everything = stage.bounds()
    if everything is None:
        return np.zeros(3), 1.0
    low, high = everything
    centre, radius = (low + high) / 2, float(np.linalg.norm(high - low)) / 2
    soft = stage.bounds([key for key, body in stage.bodies.items() if body.jelly])
    if soft is not None:
        near = float(np.linalg.norm(soft[1] - soft[0])) / 2 * 6.0
        if near < radius:
            centre, radius = (soft[0] + soft[1]) / 2, near
    return centre, min(max(radius, 0.02) * 1.08, 100.0)


def _light_matrix(centre: np.ndarray, radius: float, towards: np.ndarray,
                  up: np.ndarray) -> tuple[np.ndarray, float]:
    """(4, 4) world to the clip space of a parallel light, and the depth it covers, m."""
    side = np.cross(up, towards)
    side /= np.linalg.norm(side)
    axes = np.stack([side, np.cross(towards, side), -towards])
    reach = 2.0 * radius
    matrix = np.eye(4)
    matrix[:3, :3] = axes / np.array([[radius], [radius], [reach]])
    matrix[:3, 3] = -matrix[:3, :3] @ centre
    return matrix, 2.0 * reach


def _gl_matrix(matrix: np.ndarray) -> bytes:
    return np.ascontiguousarray(matrix.T, np.float32).tobytes()


def _set(program: moderngl.Program, name: str, value: object) -> None:
    """Set a uniform if the program has it: the compiler drops those that a shader does not use."""
    if name not in program:
        return
    if isinstance(value, bytes):
        program[name].write(value)          # type: ignore[union-attr]
    else:
        program[name].value = value         # type: ignore[union-attr]
