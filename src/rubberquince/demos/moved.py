"""The harvest fair in motion: a pudding on a tray, a scarecrow in gusts, a wheel with pegs, a bag of plums."""

import numpy as np

from rubberquince.demos import held
from rubberquince.demos.harvest_fair import pudding_piece, turned
from rubberquince.demos.skins import TRAY
from rubberquince.document.bodies import Meshes
from rubberquince.document.feels import with_feel
from rubberquince.document.scene import (
    BlockShape,
    Piece,
    Place,
    RevolvedShape,
    RunSettings,
    Scene,
    SuperellipsoidShape,
)
from rubberquince.document.tracks import Key, Track
from rubberquince.document.values import (
    ContactValues,
    FeelChoice,
    ForceValues,
    HoldValues,
    Look,
    ShellValues,
    SolidValues,
)
from rubberquince.shapes import profiles

PLUM = ((0.0, 0.0, 0), (0.12, 0.01, 0), (0.36, 0.14, 0), (0.48, 0.42, 0), (0.46, 0.64, 0), (0.30, 0.88, 0),
        (0.10, 0.975, 0), (0.0, 0.96, 0))
BUN = ((0.0, 0.0, 0), (0.34, 0.0, 0), (0.46, 0.08, 0), (0.5, 0.34, 0), (0.42, 0.72, 0), (0.22, 0.95, 0),
       (0.0, 1.0, 0))
BAG = ((0.0, 0.0, 0), (0.30, 0.0, 0), (0.44, 0.06, 0), (0.49, 0.25, 0), (0.44, 0.6, 0), (0.38, 0.85, 0), (0.40, 1.0, 0))
DISC = ((0.0, 0.0, 0), (1.0, 0.0, 0), (1.0, 0.06, 0), (0.0, 0.06, 0))
PEGS, WHEEL = 8, 0.16       # on a wheel, and how far from its axle, m


def track(path: str, *keys: tuple[float, float], way: str = "smooth") -> Track:
    """Keys, (frame, value) each, of the value at ``path``."""
    return Track(of=path, keys=tuple(Key.model_validate({"frame": f, "value": v, "way": way}) for f, v in keys))


def tray() -> Scene:
    """The pudding is carried: its tray is lifted, goes aside, tilts and is set down again."""
    board = Piece(
        id="tray", name="Tray", role="collider", shape=turned("tray", TRAY, 0, 96, 24),
        place=Place(position=(-0.12, 0.0125, 0.0), size=(0.36, 0.024, 0.36)),
        contact=ContactValues(gap=0.001, friction=0.7), look=Look(material="matte", colour="#8A5A3B"),
        tracks=(track("place.position.0", (16, -0.12), (52, 0.12)),
                track("place.position.1", (6, 0.0125), (22, 0.14), (50, 0.14), (66, 0.0125)),
                track("place.turn.2", (12, 0.0), (24, -9.0), (42, 9.0), (58, 0.0))))
    size = (0.18, 0.125, 0.18)
    pudding = pudding_piece()
    pudding = pudding.model_copy(update={
        "place": Place(position=(-0.12, 0.004 + size[1] / 2, 0.0), size=size),
        "contact": ContactValues(gap=0.001, friction=0.7)})
    return Scene(pieces=(pudding, board), run=RunSettings(last=108))


def gusts() -> tuple[Scene, Meshes]:
    """The scarecrow beside a merry-go-round: its air comes round in gusts and whirls."""
    scene, meshes = held.scarecrow()
    figure = scene.pieces[0]
    figure = figure.model_copy(update={
        "place": figure.place.model_copy(update={"turn": (0.0, 0.0, 0.0)}),
        "solid": figure.solid.model_copy(update={"stiffness": 9e3, "density": 60.0, "wobble_halves": 1.2})})
    wind = Piece(
        id="wind", name="Gusts", role="force", place=Place(position=(-0.5, 0.45, 0.0), turn=(0.0, 0.0, -90.0),
                                                           size=(0.05, 0.16, 0.05)),
        shape=RevolvedShape(name="arrow", profile=profiles.arrow(), around=24, bands=20),
        force=ForceValues(kind="wind", speed=7.0, gusts=0.9, period=1.1, seed=4), look=Look(colour="#8A5B7C"),
        tracks=(track("place.turn.1", (1, 0.0), (48, 70.0), (96, -20.0)),))
    whirls = Piece(
        id="whirls", name="Whirls", role="force", place=Place(position=(0.0, 0.8, -0.3), size=(0.07, 0.07, 0.07)),
        shape=SuperellipsoidShape(seed=11, around=24, rings=14),
        force=ForceValues(kind="turbulence", speed=4.0, size=0.35, period=0.7, seed=2), look=Look(colour="#8A5B7C"))
    return scene.model_copy(update={"pieces": (figure, wind, whirls)}), meshes


def wheel() -> Scene:
    """A squeezy figure tumbles in a wheel that turns, and bulges between its pegs."""
    hub = Piece(
        id="hub", name="Hub", role="scenery", shape=SuperellipsoidShape(seed=5, around=24, rings=14),
        place=Place(position=(0.0, 0.26, -0.03), size=(0.05, 0.05, 0.03)), look=Look(colour="#8A5A3B"),
        tracks=(track("place.turn.2", (1, 0.0), (96, -250.0), way="even"),))
    disc = Piece(
        id="wheel", name="Wheel", role="collider", rides_on="hub", shape=turned("wheel", DISC, 0, 72, 12),
        place=Place(position=(0.0, 0.26, -0.055), turn=(90.0, 0.0, 0.0), size=(0.44, 0.02, 0.44)),
        contact=ContactValues(gap=0.001, friction=0.4), look=Look(colour="#B98A5A"))
    pieces = [hub, disc]
    for k in range(PEGS):
        angle = 2.0 * np.pi * k / PEGS
        pieces.append(Piece(
            id=f"peg{k}", name=f"Peg {k + 1}", role="collider", rides_on="hub",
            shape=RevolvedShape(name="peg", profile=profiles.capsule(), around=20, bands=16),
            place=Place(position=(float(WHEEL * np.cos(angle)), float(0.26 + WHEEL * np.sin(angle)), 0.0),
                        turn=(90.0, 0.0, 0.0), size=(0.026, 0.11, 0.026)),
            contact=ContactValues(gap=0.001, friction=0.3), look=Look(colour="#E9E6DF")))
    glass = Piece(
        id="glass", name="Pane", role="collider", visible=False, shape=BlockShape(divisions=(2, 2, 1)),
        place=Place(position=(0.0, 0.3, 0.066), size=(0.7, 0.7, 0.02)), contact=ContactValues(friction=0.05))
    figure = Piece(
        id="figure", name="Squeezy figure", role="solid", shape=SuperellipsoidShape(seed=5, around=40, rings=24),
        place=Place(position=(0.0, 0.25, 0.0), turn=(0.0, 0.0, 20.0), size=(0.15, 0.13, 0.08)),
        solid=SolidValues(cells=5), contact=ContactValues(gap=0.001, friction=0.4),
        look=Look(material="jelly", colour="#8FA65A"))
    return Scene(pieces=(with_feel(figure, FeelChoice(name="set jelly")), *pieces, glass), run=RunSettings(last=96))


def buns() -> Scene:
    """Buns that rise in a closed glass box, until they fill its corners."""
    box = Piece(
        id="box", name="Glass box", role="collider", shape=BlockShape(divisions=(6, 4, 6)),
        place=Place(position=(0.0, 0.062, 0.0), size=(0.26, 0.12, 0.26)),
        contact=ContactValues(gap=0.001, friction=0.3),
        look=Look(material="film", colour="#CFDAD6"))
    pieces = []
    for k, (x, z) in enumerate(((-0.058, -0.058), (0.06, -0.055), (-0.055, 0.06), (0.058, 0.057))):
        bun = Piece(
            id=f"bun{k}", name=f"Bun {k + 1}", role="solid", shape=turned("bun", BUN, 0, 40, 22),
            place=Place(position=(x, 0.034, z), size=(0.09, 0.055, 0.09)),
            solid=SolidValues(cells=4), contact=ContactValues(gap=0.001, friction=0.6),
            look=Look(material="matte", colour=("#D9A95B", "#CF9A4A", "#DDB26A", "#C98F40")[k]),
            tracks=(track("solid.rest_size", (8 + 3 * k, 1.0), (60 + 4 * k, 1.55)),))
        pieces.append(with_feel(bun, FeelChoice(name="dough")))
    return Scene(pieces=(*pieces, box), run=RunSettings(last=90))


def plums() -> Scene:
    """A bag of plums that is shaken by its rim."""
    bag = Piece(
        id="bag", name="Bag", role="shell", shape=turned("bag", BAG, 0, 56, 30),
        place=Place(position=(0.0, 0.33, 0.0), size=(0.24, 0.26, 0.24)), shell=ShellValues(),
        hold=HoldValues(what="outline"), contact=ContactValues(gap=0.0015, friction=0.4),
        look=Look(material="cloth", colour="#C9A56B"),
        tracks=(track("place.position.0", (10, 0.0), (18, 0.07), (26, -0.07), (34, 0.07), (42, -0.05), (50, 0.0)),
                track("place.position.1", (12, 0.33), (22, 0.37), (30, 0.32), (38, 0.36), (48, 0.33))))
    pieces = [with_feel(bag, FeelChoice(name="canvas"))]
    for k in range(9):
        layer, angle = divmod(k, 3)
        turn = 2.0 * np.pi * (angle / 3 + 0.17 * layer)
        plum = Piece(
            id=f"plum{k}", name=f"Plum {k + 1}", role="rigid", shape=turned("plum", PLUM, 0, 28, 18),
            place=Place(position=(float(0.042 * np.cos(turn)), 0.262 + 0.066 * layer, float(0.042 * np.sin(turn))),
                        turn=(20.0 * k, 37.0 * k, 11.0 * k), size=(0.055, 0.06, 0.055)),
            contact=ContactValues(gap=0.001, friction=0.3), look=Look(material="matte", colour="#6B3E5E"))
        pieces.append(with_feel(plum, FeelChoice(name="turnip")))
    return Scene(pieces=tuple(pieces), run=RunSettings(last=72))
