"""The shader programs of the view and how to hand them values."""

from importlib.resources import files
from typing import Any

import moderngl
import numpy as np

HEAD = "#version 330\n"
LIGHT = "light.glsl"
SOURCES = {
    "floor": ("screen.vert", LIGHT, "floor.frag"),
    "matte": ("body.vert", LIGHT, "matte.frag"),
    "tinted": ("body.vert", LIGHT, "tinted.frag"),
    "jelly": ("body.vert", LIGHT, "jelly.frag"),
    "cloth": ("body.vert", LIGHT, "cloth.frag"),
    "film": ("body.vert", LIGHT, "film.frag"),
    "cells": ("cells.vert", LIGHT, "cells.frag"),
    "cast": ("screen.vert", LIGHT, "cast.frag"),
    "moments": ("depth.vert", "moments.frag"),
    "distance": ("depth.vert", "distance.frag"),
    "plain": ("depth.vert", "plain.frag"),
    "outline": ("screen.vert", "outline.frag"),
    "blur": ("screen.vert", "blur.frag"),
}
Programs = dict[str, moderngl.Program]


def make_programs(gl: moderngl.Context) -> Programs:
    folder = files("rubberquince.view") / "shaders"

    def source(*names: str) -> str:
        return HEAD + "\n".join((folder / name).read_text(encoding="utf-8") for name in names)

    return {name: gl.program(vertex_shader=source(vertex), fragment_shader=source(*fragment))
            for name, (vertex, *fragment) in SOURCES.items()}


def gl_matrix(matrix: np.ndarray) -> bytes:
    """A matrix as OpenGL reads it: column by column."""
    return np.ascontiguousarray(matrix.T, np.float32).tobytes()


def put(program: moderngl.Program, **values: Any) -> None:
    """Set uniforms that the program has: the compiler drops those that a shader does not use."""
    for name, value in values.items():
        uniform: Any = program.get(name, None)
        if uniform is None:
            continue
        if isinstance(value, bytes):
            uniform.write(value)
        else:
            uniform.value = value
