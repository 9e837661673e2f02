"""A small scene that calls every kernel of a run, so that they are compiled, or loaded, before they are waited for."""

import tempfile
from pathlib import Path

from rubberquince.bake.run import SceneRun
from rubberquince.document.scene import (
    BlockShape,
    Piece,
    Place,
    Scene,
    Seam,
    SheetShape,
    SolidValues,
    SphereShape,
    changed,
)
from rubberquince.document.values import PressureValues

FRAMES = 4


def small_scene() -> Scene:
    """Two solids and a collider, all about to touch, and two sheets that are sewn and blown up."""
    few = SolidValues(cells=3)
    sheets = tuple(
        Piece(id=key, name=key, role="shell", shape=SheetShape(across=2, along=2),
              pressure=PressureValues(pressure=1.0), place=Place(position=(0.4, height, 0.0)))
        for key, height in (("d", 0.1), ("e", 0.12)))
    return Scene(seams=(Seam(id="s", one="d", two="e"),), pieces=(
        *sheets,
        Piece(id="a", name="a", shape=BlockShape(divisions=(2, 2, 2)), solid=few, place=Place(position=(0, 0.0515, 0))),
        Piece(id="b", name="b", shape=SphereShape(around=8, rings=4), solid=few, place=Place(position=(0, 0.153, 0))),
        Piece(id="c", name="c", shape=BlockShape(divisions=(2, 2, 2)), role="collider",
              place=Place(position=(0.102, 0.05, 0)))))


def prime(quality: str) -> None:
    """Run the small scene at a quality, in a folder that is thrown away."""
    with tempfile.TemporaryDirectory() as folder:
        run = SceneRun(changed(small_scene(), "run.quality", quality), {}, Path(folder), stop=lambda: False)
        for _ in run.frames(FRAMES):
            pass
