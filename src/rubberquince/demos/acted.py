"""The harvest fair, acted: what has keys for its shape, and wobbles as it is carried by them."""

from rubberquince.demos.harvest_fair import turned
from rubberquince.demos.moved import track
from rubberquince.document.feels import with_feel
from rubberquince.document.scene import Piece, Place, RunSettings, Scene
from rubberquince.document.values import ContactValues, FeelChoice, HoldValues, Look, ReshapeValues, SolidValues

GOURD = ((0.0, 0.0, 0), (0.30, 0.0, 0), (0.45, 0.05, 0.12), (0.5, 0.2, 0.12), (0.42, 0.36, 0.10), (0.24, 0.52, 0.06),
         (0.17, 0.68, 0.03), (0.22, 0.80, 0.03), (0.24, 0.88, 0.03), (0.17, 0.96, 0.02), (0.05, 0.99, 0), (0.0, 1.0, 0))
STAND = ((0.0, 0.0, 0), (1.0, 0.0, 0), (1.0, 0.4, 0), (0.86, 0.55, 0), (0.84, 0.9, 0), (0.8, 1.0, 0), (0.0, 1.0, 0))


def bow() -> Scene:
    """A soft gourd on the judges' stand crouches, leaps up to its full height, bows and looks about."""
    height, foot = 0.26, 0.031
    gourd = Piece(
        id="gourd", name="Bowing gourd", role="solid", shape=turned("gourd", GOURD, 9, 90, 60),
        place=Place(position=(0.0, foot + 0.5 * height, 0.0), size=(0.15, height, 0.15)),
        solid=SolidValues(cells=8), hold=HoldValues(what="everything", below=0.06),
        reshape=ReshapeValues(toward=-35.0), contact=ContactValues(gap=0.001, friction=0.6),
        look=Look(material="latex", colour="#D58A1F"),
        tracks=(track("reshape.squash", (4, 1.0), (14, 0.68), (20, 0.68), (26, 1.22), (36, 1.0)),
                track("reshape.bend", (40, 0.0), (52, 85.0), (62, 85.0), (70, -12.0), (80, 0.0)),
                track("reshape.twist", (80, 0.0), (90, 80.0), (98, 80.0), (110, -80.0), (116, -80.0), (126, 0.0))))
    stand = Piece(
        id="stand", name="Stand", role="collider", shape=turned("stand", STAND, 0, 96, 24),
        place=Place(position=(0.0, 0.015, 0.0), size=(0.22, 0.03, 0.22)),
        contact=ContactValues(gap=0.001, friction=0.6), look=Look(material="matte", colour="#8A5A3B"))
    return Scene(pieces=(with_feel(gourd, FeelChoice(name="gel")), stand), run=RunSettings(last=144))
