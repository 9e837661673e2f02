"""A small scene that calls every kernel of a run, so that they are compiled, or loaded, before they are waited for."""

import tempfile
from pathlib import Path
from typing import Literal

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
from rubberquince.document.tracks import Key, Track
from rubberquince.document.values import ForceValues, PressureValues

FRAMES = 3
KINDS: tuple[tuple[str, Literal["wind", "turbulence"]], ...] = (("h", "wind"), ("i", "turbulence"))


def small_scene() -> Scene:
    """Two solids, of which one keeps dents, and a collider, all about to touch, two sheets that are sewn and blown up,
    a rigid box on a tray that keys lift, and air.
    """
    few, dented = SolidValues(cells=3), SolidValues(cells=3, yields=0.0)
    sheets = tuple(
        Piece(id=key, name=key, role="shell", shape=SheetShape(across=2, along=2),
              pressure=PressureValues(pressure=1.0), place=Place(position=(0.4, height, 0.0)))
        for key, height in (("d", 0.1), ("e", 0.12)))
    return Scene(seams=(Seam(id="s", one="d", two="e"),), pieces=(
        *sheets,
        Piece(id="f", name="f", role="rigid", shape=BlockShape(divisions=(2, 2, 2)),
              place=Place(position=(-0.4, 0.0815, 0.0))),
        Piece(id="g", name="g", role="collider", shape=BlockShape(divisions=(2, 2, 2)),
              place=Place(position=(-0.4, 0.02, 0.0), size=(0.2, 0.02, 0.2)),
              tracks=(Track(of="place.position.1", keys=(Key(frame=1, value=0.02), Key(frame=4, value=0.022))),)),
        *(Piece(id=key, name=key, role="force", shape=BlockShape(divisions=(1, 1, 1)), force=ForceValues(kind=kind))
          for key, kind in KINDS),
        Piece(id="a", name="a", shape=BlockShape(divisions=(2, 2, 2)), solid=few, place=Place(position=(0, 0.0515, 0))),
        Piece(id="b", name="b", shape=SphereShape(around=8, rings=4), solid=dented,
              place=Place(position=(0, 0.153, 0))),
        Piece(id="c", name="c", shape=BlockShape(divisions=(2, 2, 2)), role="collider",
              place=Place(position=(0.102, 0.05, 0)))))


def prime(quality: str) -> None:
    """Run the small scene at a quality, in a folder that is thrown away."""
    with tempfile.TemporaryDirectory() as folder:
        run = SceneRun(changed(small_scene(), "run.quality", quality), {}, Path(folder), stop=lambda: False)
        for _ in run.frames(FRAMES):
            pass
