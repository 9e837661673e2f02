"""Small scenes that many tests need."""

from rubberquince.document.scene import (
    BlockShape,
    ContactValues,
    Look,
    Piece,
    Place,
    RunSettings,
    Scene,
    SolidValues,
    SphereShape,
)


def ball(piece_id="ball", height=0.09, cells=4, **solid):
    """A jelly ball of 8 cm above the ground."""
    return Piece(id=piece_id, name=piece_id.capitalize(), shape=SphereShape(around=16, rings=8),
                 place=Place(position=(0.0, height, 0.0), size=(0.08, 0.08, 0.08)),
                 solid=SolidValues(cells=cells, **solid), look=Look(material="jelly", colour="#E8890C"))


def slab(height=0.01):
    """A still slab of 2 cm under it."""
    return Piece(id="slab", name="Slab", role="collider", shape=BlockShape(divisions=(2, 1, 2)),
                 place=Place(position=(0.0, height, 0.0), size=(0.2, 0.02, 0.2)),
                 contact=ContactValues(gap=0.001, friction=0.5))


def small_scene(last=12, quality="draft", **solid):
    return Scene(pieces=(ball(**solid), slab()), run=RunSettings(last=last, quality=quality))
