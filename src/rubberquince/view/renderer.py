"""Draws a stage into pixels.  Knows OpenGL and nothing of the window it is shown in.

What stands still is drawn and lit once and kept until it, the camera or the size changes; a frame of a run
costs a copy of that, the shadows of what moves, and what moves.
"""

from dataclasses import dataclass
from functools import reduce
from typing import Any

import moderngl
import numpy as np

from rubberquince.errors import QuinceError
from rubberquince.view.body import Body
from rubberquince.view.camera import Camera
from rubberquince.view.gpu_body import GpuBody
from rubberquince.view.light_map import LightMap
from rubberquince.view.programs import gl_matrix, make_programs, put
from rubberquince.view.stage import SIGNED, Stage

Rectangle = tuple[int, int, int, int]        # x, y from below, width, height, px

KEY_DIRECTION = np.array([-0.48, 0.74, 0.47]) / np.linalg.norm([-0.48, 0.74, 0.47])
UPWARD = np.array([0.0, 1.0, 0.0])
KEY_BLUR, SKY_BLUR = 0.012, 0.06            # m
CHOSEN = (0.722, 0.525, 0.043)
MOST_PIXELS = 4096
BACKEND: Any = {"backend": "egl"}            # needs no screen
MOST_TARGETS = 3
MAPS = ("key_still", "sky_still", "key_moving", "sky_moving", "key_clear")     # clear: what moves and passes light
FILM_PASSES = (0.86, 0.87, 0.88)
MAP_PIXELS = (512, 256, 192, 64, 192)
FLOOR = 60.0                 # m, half the side of the floor that casts into the maps



class Targets:
    """Framebuffers of one picture size."""

    def __init__(self, gl: moderngl.Context, size: tuple[int, int]) -> None:
        self.size = size
        self.kept: Any = None                # what the still picture was made of
        self.shown: Any = None               # where all that moves is in the picture
        self.tints: list[int] = []           # which version of that the picture shows
        self.masked: Any = None              # what the mask is of
        self.touched: Rectangle = (0, 0, 0, 0)
        self.still_colour, self.still_depth = gl.texture(size, 4), gl.depth_texture(size)
        self.behind, self.far_side = gl.texture(size, 4), gl.texture(size, 1, dtype="f4")
        self.mask = gl.texture(size, 1)
        self.still = gl.framebuffer([self.still_colour], self.still_depth)
        self.picture = gl.framebuffer([gl.renderbuffer(size, 4)], gl.depth_renderbuffer(size))
        self.behind_buffer = gl.framebuffer([self.behind])
        self.far_buffer = gl.framebuffer([self.far_side], gl.depth_renderbuffer(size))
        self.mask_buffer = gl.framebuffer([self.mask])
        self.still_depth.compare_func = ""
        for texture in (self.still_colour, self.still_depth, self.behind, self.far_side, self.mask):
            texture.repeat_x = texture.repeat_y = False
        for texture in (self.still_colour, self.still_depth, self.far_side):
            texture.filter = (moderngl.NEAREST, moderngl.NEAREST)

    def whole(self) -> None:
        """Draw into all of the picture again: a scissor left on would cut copies as well."""
        self.picture.scissor = 0, 0, *self.size
        self.picture.use()


@dataclass(frozen=True)
class _Shown:
    """The bodies of one picture, by how they are drawn."""

    still: list[GpuBody]
    tinted: list[GpuBody]
    mattes: list[GpuBody]
    cloths: list[GpuBody]
    jellies: list[GpuBody]
    films: list[GpuBody]
    cells: list[GpuBody]

    @property
    def moving(self) -> list[GpuBody]:
        return self.tinted + self.mattes + self.cloths + self.jellies + self.films + self.cells


class Renderer:
    """One OpenGL context of its own, without a window.  Raises QuinceError when there is none to be had."""

    def __init__(self) -> None:
        try:
            self._gl = moderngl.create_context(standalone=True, require=330, **BACKEND)
        except Exception as error:          # the binding raises bare Exception for every kind of failure
            raise QuinceError(f"The view cannot draw: OpenGL 3.3 by EGL is missing ({error}).") from None
        gl = self._gl
        gl.gc_mode = "context_gc"
        self._programs = make_programs(gl)
        self._bodies: dict[str, GpuBody] = {}
        self._targets: list[Targets] = []
        self._screens = {n: gl.vertex_array(self._programs[n], []) for n in ("floor", "cast", "outline")}
        self._maps = {name: LightMap(gl, self._programs, pixels, not name.endswith("still"))
                      for name, pixels in zip(MAPS, MAP_PIXELS)}
        corners = np.array([[-1, 0, -1], [1, 0, -1], [-1, 0, 1], [1, 0, 1]], np.float32) * FLOOR
        self._ground = gl.vertex_array(self._programs["moments"], [(gl.buffer(corners.tobytes()), "3f", "in_place")],
                                       mode=moderngl.TRIANGLE_STRIP)
        self._lit_by: Any = None             # what the maps of what stands still were drawn from
        self._shaded_by: Any = None          # and those of what moves

    def release(self) -> None:
        with self._gl:
            self._bodies.clear()
            self._targets.clear()
            self._gl.gc()
        self._gl.release()

    def draw(self, stage: Stage, camera: Camera, width: int, height: int,
             shift: tuple[float, float] = (0.0, 0.0), rough: bool = False) -> np.ndarray:
        """(height, width, 4) uint8, top row first.  ``shift`` moves the picture by parts of a pixel; a ``rough`` one
        is of fewer triangles.
        """
        size = (int(np.clip(width, 1, MOST_PIXELS)), int(np.clip(height, 1, MOST_PIXELS)))
        with self._gl:
            targets = self._targets_of(size)
            shown = self._upload(stage, rough)
            self._aim(camera, size, shift)
            self._light(stage, shown)
            still_key = (camera, shift, rough, self._lit_by, [(b.body.version, b.body.colour) for b in shown.still])
            touched = self._touched(targets.size, stage, shown)
            renew = _union(touched, targets.touched)
            if still_key != targets.kept:
                self._draw_still(targets, shown)
                targets.kept, renew = still_key, (0, 0, *targets.size)
            targets.touched = touched
            where = still_key, stage.chosen, stage.display, [(gpu.drawn, gpu.body.look) for gpu in shown.moving]
            tints = [gpu.version for gpu in shown.moving]
            retinted = tints != targets.tints and shown.moving != shown.tinted      # in ways that are not followed
            fresh = where != targets.shown or bool(shown.cells) or retinted
            area = renew if fresh else self._retinted(targets, shown.moving)
            targets.shown, targets.tints = where, tints
            if fresh or area[2]:
                copy_within(self._gl, targets.picture, targets.still, area)
                if shown.moving:
                    self._cast(targets, _overlap(touched, area))
                    targets.picture.scissor = (0, 0, *size) if fresh else area
                    self._draw_moving(targets, stage, shown)
                    targets.whole()
                self._outline(targets, stage, area)
            data = targets.picture.read(components=4, alignment=1)
        pixels = np.frombuffer(data, np.uint8).reshape(size[1], size[0], 4)[::-1].copy()
        pixels[:, :, 3] = 255                # there the still picture keeps its share of direct light
        return pixels

    def _targets_of(self, size: tuple[int, int]) -> Targets:
        """Framebuffers of this size; those of the last few sizes are kept."""
        found = next((t for t in self._targets if t.size == size), None)
        if found is None:
            del self._targets[: -MOST_TARGETS + 1]
            self._gl.gc()
            found = Targets(self._gl, size)
        else:
            self._targets.remove(found)
        self._targets.append(found)
        return found

    # --- what is drawn, and by which light ------------------------------------------------------------

    def _upload(self, stage: Stage, rough: bool) -> _Shown:
        for key in [k for k in self._bodies if k not in stage.bodies]:
            del self._bodies[key]
        shown = _Shown([], [], [], [], [], [], [])
        by_material = {"jelly": shown.jellies, "film": shown.films, "cloth": shown.cloths}
        for key, body in stage.bodies.items():
            gpu = self._bodies.get(key)
            if gpu is None or gpu.body is not body:
                gpu = self._bodies[key] = GpuBody(self._gl, self._programs, body)
            gpu.update(rough)
            gpu.set_cells(stage.cells.get(key) if stage.display == "cells" else None)
            if not body.moves and body.material != "film":
                shown.still.append(gpu)
            elif gpu.shows_cells:
                shown.cells.append(gpu)
            elif stage.display in SIGNED and body.moves:
                shown.tinted.append(gpu)
            else:                               # film that stands still hides nothing
                by_material.get(body.material, shown.mattes).append(gpu)
        return shown

    def _aim(self, camera: Camera, size: tuple[int, int], shift: tuple[float, float]) -> None:
        self._view = camera.projection(size[0] / size[1]) @ camera.view()
        self._view[:2] += np.array([[2.0 * shift[0] / size[0]], [2.0 * shift[1] / size[1]]]) * self._view[3]
        for program in self._programs.values():
            put(program, view_projection=gl_matrix(self._view), unproject=gl_matrix(np.linalg.inv(self._view)),
                eye=tuple(camera.eye), key_direction=tuple(KEY_DIRECTION),
                pixel=(1.0 / size[0], 1.0 / size[1]), reach=1.6 * camera.distance, focus=camera.target)

    def _light(self, stage: Stage, shown: _Shown) -> None:
        """Draw the light maps that changed: those of what stands still seldom do."""
        centre, radius = _ball(shown.still, shown.moving)
        lit_by = (tuple(centre), radius, [gpu.drawn for gpu in shown.still])
        key, sky, key_moving, sky_moving, key_clear = (self._maps[name] for name in MAPS)
        if lit_by != self._lit_by:
            key.place(centre, radius, KEY_DIRECTION, 2.0 * radius)
            sky.place(centre, radius, UPWARD, 2.0 * radius)
            self._draw_map(key, shown.still, max(KEY_BLUR, 0.03 * radius))
            self._draw_map(sky, shown.still, SKY_BLUR)
            sky.keep_depths()
            self._lit_by = lit_by
        if shown.moving:
            near, size = _ball(shown.moving, [])
            depth = size + radius + float(np.linalg.norm(near - centre)) + max(float(near[1]), 0.0) * 1.5
            casting = [gpu for gpu in shown.moving if gpu.body.casts]
            shaded_by = (tuple(near), size, depth, [(gpu.drawn, _passing(gpu.body)) for gpu in casting])
            if shaded_by != self._shaded_by:
                for light_map in (key_moving, key_clear):
                    light_map.place(near, size, KEY_DIRECTION, depth)
                sky_moving.place(near, size + SKY_BLUR, UPWARD, depth)
                self._draw_map(key_moving, [gpu for gpu in casting if not any(_passing(gpu.body))], 0.6 * KEY_BLUR)
                self._draw_map(key_clear, [gpu for gpu in casting if any(_passing(gpu.body))], 0.6 * KEY_BLUR)
                self._draw_map(sky_moving, casting, SKY_BLUR)
                self._shaded_by = shaded_by
        for program in self._programs.values():
            for unit, name in enumerate(MAPS):
                put(program, **{name: gl_matrix(self._maps[name].matrix), f"{name}_map": unit})
            put(program, range_still=key.range, range_moving=key_moving.range, tint_map=len(MAPS))

    def _draw_map(self, light_map: LightMap, casting: list[GpuBody], blur: float) -> None:
        tints = [_passing(gpu.body) for gpu in casting]
        light_map.begin(tuple(np.mean(tints, axis=0)) if tints else (1.0, 1.0, 1.0))
        if not light_map.moving:
            self._ground.render()
        for gpu, tint in zip(casting, tints):
            put(self._programs["moments"], tint=(*tint, 0.0))
            gpu.render("moments")
        light_map.end(blur)

    def _retinted(self, targets: Targets, bodies: list[GpuBody]) -> Rectangle:
        """Where tints have changed since this picture was drawn: all of it where that is not known."""
        boxes = [gpu.retinted_since(version) for gpu, version in zip(bodies, targets.tints)]
        if any(box is None for box in boxes):
            return 0, 0, *targets.size
        return reduce(_union, [_rectangle(_corners(*box), self._view, targets.size) for box in boxes
                               if box is not None and len(box)], (0, 0, 0, 0))

    # --- passes ---------------------------------------------------------------------------------------

    def _use_maps(self) -> None:
        for unit, name in enumerate(MAPS):
            self._maps[name].moments.use(unit)
        self._maps["key_clear"].tint.use(len(MAPS))

    def _draw_still(self, targets: Targets, shown: _Shown) -> None:
        self._use_maps()
        targets.still.use()
        targets.still.clear(depth=1.0)
        self._gl.enable_only(moderngl.DEPTH_TEST)
        self._gl.depth_func = "<="
        self._draw_mattes(shown.still, moves=0.0)
        self._screens["floor"].render(vertices=3)

    def _draw_mattes(self, bodies: list[GpuBody], moves: float) -> None:
        for gpu in bodies:
            put(self._programs["matte"], base_colour=gpu.body.colour, moves=moves,
                shine=float(gpu.body.material == "latex"))
            gpu.render("matte")

    def _cast(self, targets: Targets, within: Rectangle) -> None:
        """Shadows of what moves on what stands still, where they can fall."""
        self._use_maps()
        targets.still_colour.use(5)
        targets.still_depth.use(6)
        put(self._programs["cast"], picture_still=5, depth_still=6)
        self._gl.enable_only(moderngl.NOTHING)
        targets.picture.scissor = within
        targets.picture.use()
        self._screens["cast"].render(vertices=3)
        targets.whole()

    def _touched(self, size: tuple[int, int], stage: Stage, shown: _Shown) -> Rectangle:
        """Where the picture is other than that of what stands still: shadows, what moves, the outline."""
        rectangle = self._shadow_rectangle(size, shown) if shown.moving else (0, 0, 0, 0)
        if shown.cells:
            return 0, 0, *size                   # cells stand out beyond the skin's bounds
        chosen = self._bodies.get(stage.chosen or "")
        if chosen is not None:
            rectangle = _union(rectangle, _rectangle(_corners(*chosen.body.bounds()), self._view, size))
        return rectangle

    def _shadow_rectangle(self, size: tuple[int, int], shown: _Shown) -> Rectangle:
        """Where shadows can be seen: from what moves down to the lowest thing that it can shade."""
        low = np.min([g.body.bounds()[0] for g in shown.moving], axis=0)
        high = np.max([g.body.bounds()[1] for g in shown.moving], axis=0)
        slant, wide = KEY_DIRECTION / KEY_DIRECTION[1], np.array([SKY_BLUR, 0.0, SKY_BLUR])
        beneath = self._maps["sky_still"].lowest
        base = beneath(low - wide, high + wide)
        for _ in range(3):                   # the farther down, the farther aside it falls
            aside = -slant * max(high[1] - base, 0.0)
            reach = np.minimum(low, low + aside) - KEY_BLUR, np.maximum(high, high + aside) + KEY_BLUR
            base = min(base, beneath(*reach))
        base -= 0.01
        corners = _corners(low - KEY_BLUR, high + KEY_BLUR)
        drop = np.maximum(corners[:, 1:2] - base, 0.0) * slant
        straight = _corners(low - wide, high + wide)
        straight[:, 1] = base
        return _rectangle(np.concatenate([corners, corners - drop, straight]), self._view, size)

    def _draw_moving(self, targets: Targets, stage: Stage, shown: _Shown) -> None:
        targets.picture.use()
        self._gl.enable_only(moderngl.DEPTH_TEST)
        self._gl.depth_func = "<="
        put(self._programs["tinted"], signs=SIGNED.get(stage.display, 0.0))
        for gpu in shown.tinted:
            self._gl.enable_only(moderngl.DEPTH_TEST | (moderngl.CULL_FACE if gpu.one_sided else moderngl.NOTHING))
            gpu.render("tinted")
        self._gl.enable_only(moderngl.DEPTH_TEST)
        self._draw_mattes(shown.mattes, moves=1.0)
        for gpu in shown.cloths:
            put(self._programs["cloth"], base_colour=gpu.body.colour)
            gpu.render("cloth")
        for gpu in shown.cells:
            put(self._programs["cells"], base_colour=gpu.body.colour)
            gpu.render("cells")
        if shown.jellies:
            self._draw_jellies(targets, shown.jellies)
        if shown.films:
            self._draw_films(shown.films, 0.0)
        if stage.display == "gap":
            self._draw_films(shown.moving, 1.0)

    def _draw_films(self, films: list[GpuBody], ghost: float) -> None:
        """What is seen through comes last, each the far sides first; a ``ghost`` (1) stands off by the gap."""
        gl = self._gl
        gl.enable_only(moderngl.DEPTH_TEST | moderngl.BLEND | moderngl.CULL_FACE)
        gl.blend_func = moderngl.ONE, moderngl.ONE_MINUS_SRC_ALPHA
        for gpu in films:
            put(self._programs["film"], base_colour=gpu.body.colour, ghost=ghost, stand_off=ghost * gpu.body.gap)
            for face in ("front", "back"):          # what is culled
                gl.cull_face = face
                gpu.render("film")
        gl.cull_face = "back"
        gl.enable_only(moderngl.DEPTH_TEST)

    def _draw_jellies(self, targets: Targets, jellies: list[GpuBody]) -> None:
        gl, program = self._gl, self._programs["jelly"]
        targets.far_buffer.use()
        targets.far_buffer.clear(depth=0.0)
        gl.depth_func = ">"
        for gpu in jellies:
            gpu.render("distance")
        gl.depth_func = "<="
        boxes = [_rectangle(_corners(*gpu.body.bounds()), self._view, targets.size) for gpu in jellies]
        around = reduce(_union, boxes)
        copy_within(gl, targets.behind_buffer, targets.picture, around)
        targets.picture.use()
        targets.behind.use(5)
        targets.far_side.use(6)
        put(program, behind=5, far_side=6)
        gl.enable(moderngl.CULL_FACE)
        for gpu in jellies:
            low, high = gpu.body.bounds()
            put(program, base_colour=gpu.body.colour, radius=max(float(np.linalg.norm(high - low)) / 3.4, 1e-6))
            gpu.render("jelly")
        gl.disable(moderngl.CULL_FACE)

    def _outline(self, targets: Targets, stage: Stage, area: Rectangle) -> None:
        chosen = self._bodies.get(stage.chosen or "")
        if chosen is None:
            return
        low, high = chosen.body.bounds()
        rectangle = _rectangle(_corners(low, high), self._view, targets.size)
        self._gl.enable_only(moderngl.NOTHING)
        masked = (chosen.drawn, self._view.tobytes())
        if masked != targets.masked:
            targets.mask_buffer.use()
            targets.mask_buffer.clear()
            put(self._programs["plain"], base_colour=(1.0, 1.0, 1.0))
            chosen.render("plain")
            targets.masked = masked
        targets.mask.use(5)
        put(self._programs["outline"], mask=5, base_colour=CHOSEN)
        self._gl.enable(moderngl.BLEND)
        self._gl.blend_func = moderngl.SRC_ALPHA, moderngl.ONE_MINUS_SRC_ALPHA
        targets.picture.scissor = _overlap(rectangle, area)
        targets.picture.use()
        self._screens["outline"].render(vertices=3)
        targets.whole()


def _passing(body: Body) -> tuple[float, float, float]:
    """The colour of light that has come through a body."""
    red, green, blue = body.colour
    if body.material == "film":
        return FILM_PASSES
    return (0.2 + 0.66 * red, 0.2 + 0.66 * green, 0.14 + 0.6 * blue) if body.material == "jelly" else (0.0, 0.0, 0.0)


def _ball(bodies: list[GpuBody], soft: list[GpuBody]) -> tuple[np.ndarray, float]:
    """Centre and radius around ``bodies``, but around ``soft`` only what lets its shadows stay sharp."""
    if not bodies:
        return np.zeros(3), 1.0
    boxes = np.array([g.body.bounds() for g in bodies])
    low, high = boxes[:, 0].min(axis=0), boxes[:, 1].max(axis=0)
    centre, radius = (low + high) / 2, float(np.linalg.norm(high - low)) / 2
    if soft:
        near, size = _ball(soft, [])
        size = 2.0 ** np.ceil(np.log2(size * 5.0))      # in steps, so that a wobble does not light all anew
        if size < radius:
            centre, radius = np.round(near / size * 2) * size / 2, size
    return centre, float(np.clip(radius, 0.02, 100.0))


def _corners(low: np.ndarray, high: np.ndarray) -> np.ndarray:
    """The eight corners (8, 3) of a box."""
    return np.array([[(low, high)[(k >> i) & 1][i] for i in range(3)] for k in range(8)])


def copy_within(gl: moderngl.Context, to: moderngl.Framebuffer, source: moderngl.Framebuffer,
                within: Rectangle) -> None:
    """Copy a part of a framebuffer: a copy obeys the scissor that is in use."""
    to.scissor = within
    to.use()
    gl.copy_framebuffer(to, source)
    to.scissor = 0, 0, *to.size
    to.use()


def _union(one: Rectangle, two: Rectangle) -> Rectangle:
    """The box around two boxes; an empty one does not count."""
    if not one[2] or not two[2]:
        return one if one[2] else two
    left, bottom = min(one[0], two[0]), min(one[1], two[1])
    return (left, bottom, max(one[0] + one[2], two[0] + two[2]) - left, max(one[1] + one[3], two[1] + two[3]) - bottom)


def _overlap(one: Rectangle, two: Rectangle) -> Rectangle:
    """What two boxes have in common."""
    left, bottom = max(one[0], two[0]), max(one[1], two[1])
    width, height = min(one[0] + one[2], two[0] + two[2]) - left, min(one[1] + one[3], two[1] + two[3]) - bottom
    return left, bottom, max(width, 0), max(height, 0)


def _rectangle(points: np.ndarray, view: np.ndarray, size: tuple[int, int]) -> Rectangle:
    """Pixel box around world points; all of the picture when one is behind the eye."""
    clip = np.column_stack([points, np.ones(len(points))]) @ view.T
    if (clip[:, 3] <= 1e-6).any():
        return 0, 0, size[0], size[1]
    at = (clip[:, :2] / clip[:, 3:] * 0.5 + 0.5) * size
    low = np.clip(np.floor(at.min(axis=0)) - 4, 0, size).astype(int)
    high = np.clip(np.ceil(at.max(axis=0)) + 4, 0, size).astype(int)
    return int(low[0]), int(low[1]), int(max(high[0] - low[0], 1)), int(max(high[1] - low[1], 1))
