"""The harvest fair: a set pudding above its plate, a heap of squeezy prizes on a bench pad, a liquorice loop."""

import numpy as np

from rubberquince.document.bodies import Meshes
from rubberquince.document.feels import with_feel
from rubberquince.document.scene import (
    CushionShape,
    ImportedShape,
    Piece,
    Place,
    RevolvedShape,
    RunSettings,
    Scene,
    Shape,
    SphereShape,
    SuperellipsoidShape,
    TorusShape,
)
from rubberquince.document.values import ContactValues, FeelChoice, Look, SolidValues
from rubberquince.shapes import primitives, profiles
from rubberquince.shapes.primitives import rounded

# (radius, height, flute depth), bottom to top, in parts of the height
PUDDING = ((0.0, 0.0, 0.0), (0.52, 0.0, 0.0), (0.64, 0.02, 0.05), (0.72, 0.12, 0.12), (0.70, 0.25, 0.10),
           (0.645, 0.31, 0.05), (0.635, 0.35, 0.08), (0.61, 0.46, 0.20), (0.54, 0.62, 0.24), (0.42, 0.78, 0.24),
           (0.27, 0.90, 0.18), (0.12, 0.975, 0.08), (0.05, 1.0, 0.0), (0.0, 1.0, 0.0))
PLATE = ((0.0, 0.10, 0), (0.45, 0.10, 0), (0.48, 0.0, 0), (0.54, 0.0, 0), (0.58, 0.12, 0), (0.97, 0.86, 0),
         (1.0, 0.94, 0), (0.98, 1.0, 0), (0.94, 0.99, 0), (0.66, 0.44, 0), (0.58, 0.38, 0), (0.0, 0.38, 0))
TABLE = ((0.0, 0.0, 0), (0.30, 0.0, 0), (0.31, 0.03, 0), (0.10, 0.07, 0), (0.07, 0.20, 0), (0.07, 0.70, 0),
         (0.14, 0.90, 0), (0.47, 0.935, 0), (0.50, 0.955, 0), (0.50, 0.99, 0), (0.49, 1.0, 0), (0.0, 1.0, 0))
BASKET = ((0.0, 0.0, 0), (0.40, 0.0, 0), (0.42, 0.04, 0), (0.49, 0.93, 0), (0.50, 0.97, 0), (0.49, 1.0, 0),
          (0.47, 1.0, 0), (0.46, 0.95, 0), (0.405, 0.16, 0), (0.38, 0.1, 0), (0.0, 0.1, 0))

TABLE_HEIGHT = 0.72
PLATE_WELL = 0.38           # of the plate's height: where a thing on it stands
PLATE_HEIGHT = 0.024


def _profile(points: tuple[tuple[float, float, float], ...], passes: int) -> tuple[tuple[float, float, float], ...]:
    smooth = rounded(np.array(points, float), passes)
    return tuple((float(r), float(h), float(d)) for r, h, d in np.round(smooth, 5))


def pudding_piece(height_above_plate: float = 0.09) -> Piece:
    """It comes down aslant, so that it leans and trembles before it stands."""
    size = (0.18, 0.125, 0.18)
    base = TABLE_HEIGHT + PLATE_WELL * PLATE_HEIGHT + height_above_plate
    piece = Piece(
        id="pudding", name="Pudding", role="solid",
        shape=RevolvedShape(name="fluted dome", profile=_profile(PUDDING, 2), flutes=12, around=120, bands=34),
        place=Place(position=(0.0, base + size[1] / 2, 0.0), turn=(0.0, 0.0, 12.0), size=size),
        solid=SolidValues(cells=7), contact=ContactValues(gap=0.001, friction=0.35),
        look=Look(material="jelly", colour="#E8890C"))
    return with_feel(piece, FeelChoice(name="wobbly jelly"))


def table_piece() -> Piece:
    return Piece(
        id="table", name="Stall table", role="collider",
        shape=RevolvedShape(name="round table", profile=_profile(TABLE, 1), around=96, bands=60),
        place=Place(position=(0.0, TABLE_HEIGHT / 2, 0.0), size=(0.8, TABLE_HEIGHT, 0.8)),
        contact=ContactValues(gap=0.001, friction=0.6), look=Look(material="matte", colour="#B98A5A"))


def turned(name: str, points: tuple[tuple[float, float, float], ...], flutes: int, around: int,
           bands: int) -> RevolvedShape:
    """A shape turned about its axis, the corners of its profile cut once."""
    return RevolvedShape(name=name, profile=_profile(points, 1), flutes=flutes, around=around, bands=bands)


def scene() -> Scene:
    """The pudding, its plate and the stall table."""
    plate = Piece(
        id="plate", name="Plate", role="collider",
        shape=RevolvedShape(name="plate", profile=_profile(PLATE, 1), around=96, bands=16),
        place=Place(position=(0.0, TABLE_HEIGHT + 0.0005 + PLATE_HEIGHT / 2, 0.0), size=(0.27, PLATE_HEIGHT, 0.27)),
        contact=ContactValues(gap=0.001, friction=0.35), look=Look(material="matte", colour="#E9E6DF"))
    return Scene(pieces=(pudding_piece(), plate, table_piece()), run=RunSettings(last=120))


def prizes() -> Scene:
    """Squeezy figures of five feels that fall on the pad in their basket."""
    basket = Piece(
        id="basket", name="Basket", role="collider", shape=turned("basket", BASKET, 0, 96, 40),
        place=Place(position=(0.0, 0.06, 0.0), size=(0.64, 0.12, 0.64)), contact=ContactValues(friction=0.6),
        look=Look(material="matte", colour="#B98A5A"))
    pad = Piece(
        id="pad", name="Bench pad", role="solid", shape=CushionShape(divisions=22, pinch=0.4),
        place=Place(position=(0.0, 0.066, 0.0), size=(0.4, 0.1, 0.32)), solid=SolidValues(cells=3),
        contact=ContactValues(gap=0.0015, friction=0.6), look=Look(material="matte", colour="#6F8F7A"))
    capsule = RevolvedShape(name="capsule", profile=profiles.capsule(), around=32, bands=24)
    figures: tuple[tuple[str, str, Shape, tuple[float, float, float], str, str], ...] = (
        ("cube", "Prize cube", SuperellipsoidShape(seed=5, around=40, rings=24), (0.09, 0.08, 0.09), "set jelly",
         "#8FA65A"),
        ("ring", "Prize ring", TorusShape(around=44, sides=16, thickness=0.6), (0.13, 0.04, 0.13), "soft rubber",
         "#B65C7A"),
        ("bean", "Prize bean", capsule, (0.055, 0.12, 0.055), "gel", "#D9A441"),
        ("ball", "Prize ball", SphereShape(around=36, rings=18), (0.09, 0.09, 0.09), "marshmallow", "#6F93A8"))
    pieces = [with_feel(pad, FeelChoice(name="foam"))]
    for k, (key, name, shape, size, feel, colour) in enumerate(figures):
        piece = Piece(id=key, name=name, role="solid", shape=shape, solid=SolidValues(cells=4),
                      place=Place(position=(0.03 * (1 - k), 0.18 + 0.112 * k, 0.03 * (k % 2)),
                                  turn=(12.0 * k, 20.0, 25.0 * k), size=size),
                      contact=ContactValues(gap=0.001, friction=0.5), look=Look(material="jelly", colour=colour))
        pieces.append(with_feel(piece, FeelChoice(name=feel)))
    return Scene(pieces=(*pieces, basket), run=RunSettings(last=72))


def loop() -> tuple[Scene, Meshes]:
    """A loop of soft liquorice, not quite closed, that its own weight folds together."""
    bar = primitives.block((40, 5, 8))
    angle, radius = 5.2 * bar.points[:, 0] - np.pi / 2, 0.6 + 0.25 * bar.points[:, 1]
    bent = bar.placed(0.14 * np.stack([radius * np.sin(angle), -radius * np.cos(angle), 0.6 * bar.points[:, 2]],
                                      axis=1))
    mesh, size, _ = primitives.unit_and_size(bent)
    width, height, depth = (float(side) for side in size)
    piece = Piece(
        id="loop", name="Liquorice loop", role="solid", shape=ImportedShape(name="bent bar", mesh=mesh.key),
        place=Place(position=(0.0, height / 2 + 0.01, 0.0), size=(width, height, depth)),
        solid=SolidValues(cells=6, stiffness=1500.0, keeps_volume=0.8, wobble_halves=0.3, density=1050.0),
        look=Look(material="matte", colour="#7A3B4E"))
    return Scene(pieces=(piece,), run=RunSettings(last=60)), {mesh.key: mesh}
