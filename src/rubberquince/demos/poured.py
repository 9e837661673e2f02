"""The harvest fair, where many small things are poured: popcorn into a paper lantern."""

from rubberquince.demos.harvest_fair import turned
from rubberquince.document.scene import PelletsShape, Piece, Place, RunSettings, Scene
from rubberquince.document.values import (
    ContactValues,
    FeelChoice,
    HoldValues,
    Look,
    ReleaseValues,
    RigidValues,
    ShellValues,
)

LANTERN = ((0.0, 0.0, 0.02), (0.20, 0.0, 0.02), (0.36, 0.07, 0.05), (0.47, 0.25, 0.06), (0.5, 0.5, 0.06),
           (0.46, 0.75, 0.05), (0.36, 0.94, 0.02), (0.33, 1.0, 0.0))


def lantern() -> Scene:
    """A paper lantern that hangs from its rim is filled with popcorn, faster and faster, and sags."""
    paper = Piece(
        id="lantern", name="Paper lantern", role="shell", shape=turned("lantern", LANTERN, 12, 72, 30),
        place=Place(position=(0.0, 0.20, 0.0), size=(0.26, 0.26, 0.26)),
        shell=ShellValues(stretch=2000.0, squeeze=0.5, bend=6e-4, mass=0.10, wobble_halves=0.12),
        hold=HoldValues(what="outline"), contact=ContactValues(gap=0.0012, friction=0.4),
        look=Look(material="film", colour="#E7B45A"))
    corn = Piece(
        id="corn", name="Popcorn", role="pellets",
        shape=PelletsShape(count=240, spread=0.3, within="tube", seed=3, around=12),
        place=Place(position=(0.0, 0.52, 0.0), turn=(180.0, 0.0, 0.0), size=(0.13, 0.26, 0.13)),
        rigid=RigidValues(feel=FeelChoice(), density=140.0),
        release=ReleaseValues(first=2, frames=50.0, speed=0.4),
        contact=ContactValues(friction=0.12), look=Look(material="matte", colour="#F2E6C8"))
    return Scene(pieces=(paper, corn), run=RunSettings(last=96))
