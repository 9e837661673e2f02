"""The harvest fair, where things are held: a drum, a scarecrow, a pad with a star, a bunting, soup in a pan."""

import numpy as np

from rubberquince.demos.harvest_fair import turned
from rubberquince.demos.skins import DISC
from rubberquince.document.bodies import Meshes
from rubberquince.document.feels import with_feel
from rubberquince.document.maps import HeightRule, Layer, Map
from rubberquince.document.scene import (
    Curve,
    CushionShape,
    ImportedShape,
    Piece,
    Place,
    PointSet,
    RunSettings,
    Scene,
    Seam,
    SphereShape,
)
from rubberquince.document.values import (
    ContactValues,
    FeelChoice,
    GoalValues,
    HoldValues,
    Look,
    NetValues,
    PressureValues,
    SeamValues,
    ShellValues,
    SolidValues,
)
from rubberquince.shapes import primitives, profiles
from rubberquince.shapes.polymesh import PolyMesh

# (radius, height, flute depth), bottom to top
TURNIP = ((0.0, 0.0, 0), (0.03, 0.0, 0), (0.07, 0.12, 0), (0.16, 0.24, 0), (0.38, 0.36, 0), (0.48, 0.52, 0),
          (0.46, 0.68, 0), (0.34, 0.80, 0), (0.16, 0.86, 0), (0.10, 0.90, 0), (0.08, 1.0, 0), (0.0, 1.0, 0))
PAN = ((0.0, 0.0, 0), (0.40, 0.0, 0), (0.43, 0.03, 0), (0.49, 0.92, 0), (0.50, 0.97, 0), (0.49, 1.0, 0), (0.47, 1.0, 0),
       (0.46, 0.96, 0), (0.405, 0.13, 0), (0.38, 0.09, 0), (0.0, 0.09, 0))
BARREL = ((0.0, 0.0, 0), (0.42, 0.0, 0), (0.46, 0.04, 0), (0.49, 0.5, 0), (0.485, 0.95, 0), (0.48, 1.0, 0),
          (0.46, 1.0, 0), (0.455, 0.95, 0), (0.44, 0.14, 0), (0.40, 0.10, 0), (0.0, 0.10, 0))
STAR = 0.33                 # how far the tips of the star are out, of the pad's side
FLAGS, FLAG_ACROSS, FLAG_DOWN = 7, 8, 10                    # of the bunting, and quads of each


def drum() -> Scene:
    """A turnip falls on a drumskin, which throws it up again."""
    ring = Piece(id="ring", name="Drum", role="collider", shape=turned("barrel", BARREL, 0, 80, 40),
                 place=Place(position=(0.0, 0.115, 0.0), size=(0.5, 0.23, 0.5)), look=Look(colour="#8A5A3B"))
    skin = Piece(id="skin", name="Drumskin", role="net", shape=turned("disc", DISC, 0, 60, 16),
                 place=Place(position=(0.0, 0.2315, 0.0), size=(0.47, 0.001, 0.47)),
                 net=NetValues(length=0.96, rings=2),
                 hold=HoldValues(what="outline"), contact=ContactValues(gap=0.0015, friction=0.5),
                 passes=("ring",), look=Look(material="latex", colour="#E3D2AE"))
    turnip = Piece(id="turnip", name="Turnip", role="rigid", shape=turned("turnip", TURNIP, 0, 48, 28),
                   place=Place(position=(0.03, 0.42, 0.0), turn=(0.0, 0.0, 25.0), size=(0.13, 0.15, 0.13)),
                   look=Look(material="matte", colour="#B65C7A"))
    return Scene(pieces=(with_feel(skin, FeelChoice(name="drumskin")),
                         with_feel(turnip, FeelChoice(name="turnip")), ring), run=RunSettings(last=72))


def soup() -> Scene:
    """Soup in a pan, into which a dumpling falls: its surface is a net of which only the mean height is drawn back."""
    pan = Piece(id="pan", name="Pan", role="collider", shape=turned("pan", PAN, 0, 96, 40),
                place=Place(position=(0.0, 0.07, 0.0), size=(0.44, 0.14, 0.44)), look=Look(colour="#5C6468"))
    surface = Piece(
        id="soup", name="Soup", role="net", shape=turned("disc", DISC, 0, 72, 24),
        place=Place(position=(0.0, 0.1, 0.0), size=(0.413, 0.001, 0.413)), net=NetValues(length=0.85),
        hold=HoldValues(what="outline"),
        goal=GoalValues(to="its own shape", how="its mean height", strength=0.8, settles=1.2),
        contact=ContactValues(gap=0.001, friction=0.05), passes=("pan",), look=Look(material="latex", colour="#C8702A"))
    dumpling = Piece(
        id="dumpling", name="Dumpling", role="solid", shape=SphereShape(around=28, rings=16),
        place=Place(position=(0.05, 0.3, 0.03), size=(0.06, 0.055, 0.06)),
        solid=SolidValues(cells=4, density=500.0), look=Look(material="matte", colour="#E8DDB8"))
    return Scene(pieces=(with_feel(surface, FeelChoice(name="still water")),
                         with_feel(dumpling, FeelChoice(name="dough")), pan), run=RunSettings(last=96))


def star_pad() -> Scene:
    """A bench pad that is stitched through along a star of two squares, and then filled."""
    tips = np.array([[1, 1], [-1, 1], [-1, -1], [1, -1]]) * STAR / np.sqrt(2.0)
    turned_tips = STAR * np.array([[1, 0], [0, 1], [-1, 0], [0, -1]])
    lines = [Curve(id=f"{side}{k}", name=f"star {k + 1}, {side}", closed=True,
                   beads=tuple((float(x), height, float(z)) for x, z in square))
             for side, height in (("above", 0.5), ("below", -0.5)) for k, square in enumerate((tips, turned_tips))]
    pad = Piece(
        id="pad", name="Star pad", role="shell", shape=CushionShape(divisions=36, pinch=0.0),
        place=Place(position=(0.0, 0.03, 0.0), size=(0.42, 0.012, 0.42)), curves=tuple(lines),
        shell=ShellValues(along=1.04, across=1.04), pressure=PressureValues(pressure=120.0, frames=20.0),
        contact=ContactValues(gap=0.0015, friction=0.6), look=Look(material="cloth", colour="#C98A3A"))
    seams = tuple(Seam(id=f"star{k}", one="pad", two="pad", along=(f"above{k}", f"below{k}"),
                       values=SeamValues(frames=6.0)) for k in range(2))
    return Scene(pieces=(with_feel(pad, FeelChoice(name="canvas")),), seams=seams, run=RunSettings(last=60))


def bunting() -> tuple[Scene, Meshes]:
    """A line of flags that hangs from its pins; towards the hem the cloth is softer."""
    mesh, size, _ = primitives.unit_and_size(_flags())
    pins = tuple((float(x), 0.5, 0.0) for x in (-0.5, -0.5 + 2 / FLAGS, 0.5 - 2 / FLAGS, 0.5))
    line = Piece(
        id="bunting", name="Bunting", role="shell", shape=ImportedShape(name="bunting", mesh=mesh.key),
        place=Place(position=(0.0, 0.6, 0.0), turn=(60.0, 0.0, 0.0), size=tuple(float(max(s, 1e-3)) for s in size)),
        sets=(PointSet(id="pins", name="pins", places=pins, reach=0.012),),
        hold=HoldValues(what="curve", curve="pins"), contact=ContactValues(gap=0.0015, friction=0.3),
        maps=(Map(of="shell.stretch", low=150.0, high=4000.0, layers=(
            Layer(rule=HeightRule(axis="its y", full=1.0, none=0.4)),)),),
        look=Look(material="cloth", colour="#5B7F4B"))
    line = with_feel(line, FeelChoice(name="silk", mixed_with="canvas", share=0.4))
    return Scene(pieces=(line,), run=RunSettings(last=72)), {mesh.key: mesh}


def scarecrow() -> tuple[Scene, Meshes]:
    """A scarecrow of many parts in a soft cage, its feet held: it leans, sways and comes back."""
    mesh, size, _ = primitives.unit_and_size(_figure())
    figure = Piece(
        id="scarecrow", name="Scarecrow", role="cage", shape=ImportedShape(name="scarecrow", mesh=mesh.key),
        place=Place(position=(0.0, 0.318, 0.0), turn=(0.0, 0.0, 6.0), size=tuple(float(s) for s in size)),
        solid=SolidValues(feel=FeelChoice(), cells=4, stiffness=1.5e4, density=150.0, wobble_halves=0.8),
        goal=GoalValues(to="its own shape", settles=0.8),
        maps=(Map(of="goal.strength", low=0.0, high=1.0, layers=(
            Layer(rule=HeightRule(axis="its y", full=0.02, none=0.10)),)),),
        look=Look(material="matte", colour="#C49A5A"))
    return Scene(pieces=(figure,), run=RunSettings(last=96)), {mesh.key: mesh}


def _flags() -> PolyMesh:
    """A band with pointed flags beneath it, 1.2 m long."""
    wide, deep, band, count = 1.2 / FLAGS, 0.2, 0.02, FLAGS * FLAG_ACROSS + 1
    along = np.linspace(0.0, 1.2, count)
    points = [np.column_stack([along, np.full(count, y), np.zeros(count)]) for y in (band, 0.0)]
    faces = [[count + k, count + k + 1, k + 1, k] for k in range(count - 1)]
    first, across = 2 * count, np.linspace(-0.5, 0.5, FLAG_ACROSS + 1)
    for flag in range(FLAGS):
        above = count + flag * FLAG_ACROSS + np.arange(FLAG_ACROSS + 1)
        for down in range(1, FLAG_DOWN + 1):
            share = down / FLAG_DOWN
            x = wide * (flag + 0.5 + across * (1.0 - 0.94 * share))
            points.append(np.column_stack([x, np.full(len(x), -deep * share), np.zeros(len(x))]))
            below = first + np.arange(FLAG_ACROSS + 1)
            faces += [[int(below[k]), int(below[k + 1]), int(above[k + 1]), int(above[k])] for k in range(FLAG_ACROSS)]
            first, above = first + FLAG_ACROSS + 1, below
    return PolyMesh(np.concatenate(points), np.full(len(faces), 4, np.int32), np.array(faces, np.int32).reshape(-1))


def _figure() -> PolyMesh:
    """A scarecrow 60 cm high, of parts that pass through each other."""
    capsule = primitives.revolved(np.array(profiles.capsule())[:, :2], 28, 0, np.zeros(len(profiles.capsule())))
    ball, brim = primitives.sphere(36, 20), primitives.torus(48, 14, 0.5)
    body, leg = primitives.superellipsoid(36, 24, 0.7, 0.8), (0.05, 0.24, 0.05)
    parts = [(capsule, leg, (-0.06, 0.12, 0.0), 0.0), (capsule, leg, (0.06, 0.12, 0.0), 0.0),
             (body, (0.21, 0.24, 0.14), (0.0, 0.32, 0.0), 0.0), (capsule, (0.045, 0.46, 0.045), (0.0, 0.39, 0.0), 90.0),
             (ball, (0.13, 0.14, 0.13), (0.0, 0.49, 0.0), 0.0), (brim, (0.22, 0.03, 0.22), (0.0, 0.545, 0.0), 0.0),
             (capsule, (0.12, 0.11, 0.12), (0.0, 0.565, 0.0), 0.0)]
    points, sizes, corners, first = [], [], [], 0
    for mesh, size, place, turn in parts:
        c, s = np.cos(np.radians(turn)), np.sin(np.radians(turn))
        points.append((mesh.points * np.array(size)) @ np.array([[c, s, 0], [-s, c, 0], [0, 0, 1.0]]) + np.array(place))
        sizes.append(mesh.face_sizes)
        corners.append(mesh.face_points + first)
        first += len(mesh.points)
    return PolyMesh(np.concatenate(points), np.concatenate(sizes), np.concatenate(corners).astype(np.int32))
