"""The harvest fair, its skins: bench pads, a balloon, pears under a film, a table cloth."""

from rubberquince.demos.harvest_fair import TABLE_HEIGHT, table_piece, turned
from rubberquince.document.feels import with_feel
from rubberquince.document.scene import (
    CushionShape,
    Piece,
    Place,
    RevolvedShape,
    RunSettings,
    Scene,
    SheetShape,
)
from rubberquince.document.tracks import Key, Track
from rubberquince.document.values import (
    ContactValues,
    FeelChoice,
    HoldValues,
    Look,
    PressureValues,
    ShellValues,
)
from rubberquince.shapes import profiles

# (radius, height, flute depth), bottom to top
QUINCE = ((0.0, 0.0, 0.0), (0.05, 0.0, 0.0), (0.16, 0.03, 0.06), (0.30, 0.12, 0.12), (0.385, 0.26, 0.14),
          (0.40, 0.40, 0.14), (0.34, 0.56, 0.10), (0.23, 0.72, 0.06), (0.165, 0.84, 0.05), (0.13, 0.94, 0.05),
          (0.06, 1.0, 0.0), (0.0, 1.0, 0.0))
PEAR = ((0.0, 0.0, 0), (0.10, 0.005, 0), (0.24, 0.06, 0), (0.33, 0.20, 0), (0.34, 0.34, 0), (0.28, 0.50, 0),
        (0.18, 0.68, 0), (0.13, 0.82, 0), (0.10, 0.94, 0), (0.05, 1.0, 0), (0.0, 1.0, 0))
TRAY = ((0.0, 0.0, 0), (0.33, 0.0, 0), (0.36, 0.04, 0), (0.495, 0.92, 0), (0.505, 0.97, 0), (0.50, 1.0, 0),
        (0.485, 1.0, 0), (0.475, 0.95, 0), (0.35, 0.12, 0), (0.33, 0.09, 0), (0.0, 0.09, 0))
DISC = ((1.0, 0.0, 0), (0.0, 0.0, 0))       # looks up


def pads() -> Scene:
    """Three flat blanks of canvas above each other, which are blown up to pads and settle to a pile."""
    pieces = []
    for k, (colour, turn) in enumerate((("#B4532A", 0.0), ("#D9A441", 7.0), ("#5B7F4B", -5.0))):
        piece = Piece(
            id=f"pad{k + 1}", name=f"Pad {k + 1}", role="shell", shape=CushionShape(divisions=18, pinch=0.0),
            place=Place(position=(0.006 * k, 0.03 + 0.07 * k, 0.004 * k), turn=(0.0, turn, 0.0),
                        size=(0.42, 0.012, 0.42)),
            pressure=PressureValues(pressure=30.0, frames=14.0), contact=ContactValues(gap=0.0015, friction=0.9),
            look=Look(material="cloth", colour=colour))
        pieces.append(with_feel(piece, FeelChoice(name="canvas")))
    return Scene(pieces=tuple(pieces), run=RunSettings(last=72))


def quilt() -> Scene:
    """A quilt, stitched into panels, that is filled and settles over a bolster."""
    bolster = Piece(
        id="bolster", name="Bolster", role="collider",
        shape=RevolvedShape(name="capsule", profile=profiles.capsule(), around=40, bands=30),
        place=Place(position=(0.0, 0.0615, 0.0), turn=(90.0, 25.0, 0.0), size=(0.12, 0.42, 0.12)),
        contact=ContactValues(gap=0.001, friction=0.6), look=Look(material="matte", colour="#B98A5A"))
    piece = Piece(
        id="quilt", name="Quilt", role="shell", shape=CushionShape(divisions=32, pinch=0.0, panels=4),
        place=Place(position=(0.0, 0.17, 0.0), size=(0.6, 0.02, 0.6)), shell=ShellValues(along=1.1, across=1.1),
        pressure=PressureValues(pressure=150.0, frames=16.0), contact=ContactValues(gap=0.0015, friction=0.5),
        look=Look(material="cloth", colour="#6F93A8"))
    piece = with_feel(piece, FeelChoice(name="silk", mixed_with="canvas", share=0.5))
    return Scene(pieces=(piece, bolster), run=RunSettings(last=60))


def balloon() -> Scene:
    """A balloon shaped like a quince, limp at first, that fills, rises and sways where it is tied."""
    piece = Piece(
        id="balloon", name="Balloon", role="shell", shape=turned("quince", QUINCE, 8, 56, 34),
        place=Place(position=(0.0, 0.42, 0.0), turn=(0.0, 0.0, 14.0), size=(0.32, 0.4, 0.32)),
        shell=ShellValues(weight=-0.5), pressure=PressureValues(pressure=90.0, frames=20.0),
        hold=HoldValues(what="everything", below=0.03), look=Look(material="latex", colour="#E0A526"))
    piece = with_feel(piece, FeelChoice(name="latex"))
    return Scene(pieces=(piece,), run=RunSettings(last=96))


def wrap() -> Scene:
    """Three pears on a tray, and a film that is sucked down on them."""
    places = ((-0.075, 0.0, 40.0), (0.045, 0.075, 160.0), (0.05, -0.065, -75.0))
    pears = [Piece(id=f"pear{k + 1}", name=f"Pear {k + 1}", role="collider", shape=turned("pear", PEAR, 0, 40, 24),
                   place=Place(position=(x, 0.0455, z), turn=(88.0, turn, 0.0), size=(0.075, 0.105, 0.075)),
                   contact=ContactValues(gap=0.001, friction=0.3), look=Look(material="matte", colour="#A9B44A"))
             for k, (x, z, turn) in enumerate(places)]
    tray = Piece(id="tray", name="Tray", role="collider", shape=turned("tray", TRAY, 0, 96, 40),
                 place=Place(position=(0.0, 0.047, 0.0), size=(0.44, 0.092, 0.44)),
                 contact=ContactValues(gap=0.001, friction=0.3), look=Look(material="matte", colour="#6E7F86"))
    film = Piece(
        id="film", name="Film", role="shell", shape=turned("disc", DISC, 0, 112, 28),
        place=Place(position=(0.0, 0.097, 0.0), size=(0.43, 0.001, 0.43)),
        tracks=tuple(Track(of=f"shell.{way}", keys=(Key(frame=1, value=1.0), Key(frame=24, value=1.2)))
                     for way in ("along", "across")),
        pressure=PressureValues(pressure=-150.0, frames=36.0), hold=HoldValues(what="outline"),
        contact=ContactValues(gap=0.0012, friction=0.3), look=Look(material="film", colour="#E6EEF0"))
    film = with_feel(film, FeelChoice(name="film"))
    return Scene(pieces=(film, *pears, tray), run=RunSettings(last=60))


def cloth() -> Scene:
    """A cloth that falls over the stall table."""
    piece = Piece(
        id="cloth", name="Table cloth", role="shell", shape=SheetShape(across=44, along=44),
        place=Place(position=(0.03, TABLE_HEIGHT + 0.06, -0.02), turn=(0.0, 20.0, 0.0), size=(1.2, 0.01, 1.2)),
        contact=ContactValues(gap=0.003, friction=0.4), look=Look(material="cloth", colour="#A8402F"))
    piece = with_feel(piece, FeelChoice(name="canvas", mixed_with="silk", share=0.6))
    return Scene(pieces=(piece, table_piece()), run=RunSettings(last=72))

