"""The harvest fair, where things stay dented: dough under a cutter, a wax cockerel on a warm day."""

import igl
import numpy as np

from rubberquince.demos.harvest_fair import turned
from rubberquince.demos.moved import track
from rubberquince.document.bodies import Meshes
from rubberquince.document.feels import with_feel
from rubberquince.document.scene import BlockShape, ImportedShape, Piece, Place, RunSettings, Scene, SuperellipsoidShape
from rubberquince.document.values import ContactValues, FeelChoice, Look, SolidValues
from rubberquince.shapes import primitives
from rubberquince.shapes.polymesh import PolyMesh

TOP = 0.021                 # m, of the board
CUTTER = ((0.80, 0.0, 0.14), (0.82, 0.25, 0.14), (0.86, 0.6, 0.14), (0.97, 0.94, 0.14), (1.0, 1.0, 0.14))
STAND = ((0.0, 0.0, 0), (1.0, 0.0, 0), (1.0, 0.10, 0), (0.72, 0.16, 0), (0.70, 0.42, 0), (0.68, 0.46, 0),
         (0.42, 0.50, 0), (0.40, 0.76, 0), (0.36, 0.80, 0), (0.0, 0.80, 0))
# rounded bars that a cockerel 20 cm high is blended of: from, to and radius at each end, m
COCKEREL = np.array((
    (-0.03, 0.085, 0, 0.04, 0.09, 0, 0.043, 0.036),
    (0.045, 0.11, 0, 0.062, 0.16, 0, 0.03, 0.02),
    (0.066, 0.172, 0, 0.07, 0.176, 0, 0.023, 0.022),
    (0.085, 0.168, 0, 0.108, 0.16, 0, 0.01, 0.004),
    (0.052, 0.198, 0, 0.054, 0.206, 0, 0.01, 0.007),
    (0.068, 0.2, 0, 0.07, 0.212, 0, 0.01, 0.008),
    (0.083, 0.196, 0, 0.087, 0.204, 0, 0.009, 0.006),
    (0.088, 0.15, 0, 0.09, 0.138, 0, 0.008, 0.009),
    (-0.06, 0.1, 0, -0.115, 0.165, 0, 0.024, 0.013),
    (-0.06, 0.1, 0, -0.085, 0.19, 0, 0.022, 0.012),
    (-0.06, 0.09, 0, -0.13, 0.125, 0, 0.02, 0.011),
    (0, 0.06, 0, -0.01, 0, 0, 0.028, 0.06),
    (-0.03, 0.1, 0.036, 0.02, 0.085, 0.042, 0.022, 0.012),
    (-0.03, 0.1, -0.036, 0.02, 0.085, -0.042, 0.022, 0.012),
))


def cutter() -> Scene:
    """A fluted cutter is pressed into dough, lifted, and pressed in again: the dents stay."""
    dough = Piece(
        id="dough", name="Dough", role="solid", shape=SuperellipsoidShape(seed=2, around=96, rings=48),
        place=Place(position=(0.0, TOP + 0.0175, 0.0), size=(0.20, 0.032, 0.13)), solid=SolidValues(cells=4),
        contact=ContactValues(gap=0.001, friction=0.6), look=Look(material="matte", colour="#E2C68F"))
    heights = ((2, 0.08), (14, 0.031), (20, 0.031), (28, 0.08), (38, 0.08), (50, 0.029), (56, 0.029), (66, 0.10))
    board = Piece(
        id="board", name="Board", role="collider", shape=BlockShape(divisions=(10, 1, 8)),
        place=Place(position=(0.0, TOP / 2, 0.0), size=(0.34, TOP - 0.001, 0.24)),
        contact=ContactValues(gap=0.001, friction=0.6), look=Look(material="matte", colour="#A9764A"))
    tool = Piece(
        id="cutter", name="Cutter", role="collider", shape=turned("cutter", CUTTER, 8, 96, 24),
        place=Place(position=(-0.045, TOP + 0.08, 0.0), size=(0.085, 0.04, 0.085)),
        contact=ContactValues(gap=0.001, friction=0.2), look=Look(material="matte", colour="#B9BDC2"),
        tracks=(track("place.position.0", (24, -0.045), (42, 0.045)),
                track("place.position.1", *((frame, TOP + height) for frame, height in heights)),
                track("place.turn.1", (24, 0.0), (42, 22.0))))
    return Scene(pieces=(with_feel(dough, FeelChoice(name="dough")), tool, board), run=RunSettings(last=84))


def cockerel() -> tuple[Scene, Meshes]:
    """A wax cockerel on a tiered stand, on a warm day: it leans, slumps and runs down the tiers."""
    mesh, size, _ = primitives.unit_and_size(_blended(COCKEREL, 0.0045, 0.012))
    stand = Piece(
        id="stand", name="Stand", role="collider", shape=turned("stand", STAND, 0, 96, 40),
        place=Place(position=(0.0, 0.0605, 0.0), size=(0.34, 0.12, 0.34)),
        contact=ContactValues(gap=0.001, friction=0.9), look=Look(material="matte", colour="#8A5A3B"))
    figure = Piece(
        id="cockerel", name="Wax cockerel", role="solid", shape=ImportedShape(name="cockerel", mesh=mesh.key),
        place=Place(position=(0.004, 0.1215 + float(size[1]) / 2, 0.0), size=tuple(float(s) for s in size)),
        solid=SolidValues(cells=7), contact=ContactValues(gap=0.001, friction=0.9),
        look=Look(material="latex", colour="#B5382E"))
    scene = Scene(pieces=(with_feel(figure, FeelChoice(name="warm wax")), stand), run=RunSettings(last=120))
    return scene, {mesh.key: mesh}


def _blended(bars: np.ndarray, step: float, soft: float) -> PolyMesh:
    """The surface of rounded ``bars`` that flow into each other within ``soft``, m, from samples ``step``, m, apart."""
    one, two, radius = bars[:, :3], bars[:, 3:6], bars[:, 6:]
    reach, ends = float(radius.max()) + 2.0 * soft, np.concatenate([one, two])
    axes = [np.arange(a - 0.4 * step, b, step) for a, b in zip(ends.min(axis=0) - reach, ends.max(axis=0) + reach)]
    z, y, x = np.meshgrid(*axes[::-1], indexing="ij")
    at = np.column_stack([x.ravel(), y.ravel(), z.ravel()])
    total = np.zeros(len(at))
    for begin, way, (first, last) in zip(one, two - one, radius):
        share = np.clip((at - begin) @ way / (way @ way), 0.0, 1.0)
        far = np.linalg.norm(at - begin - share[:, None] * way, axis=1) - (first + (last - first) * share)
        total += np.exp(-far / (0.25 * soft))
    inside = np.minimum(np.log(np.maximum(total, 1e-30)), at[:, 1] / step)          # it stands on its foot, cut flat
    points, faces, _ = igl.marching_cubes(-inside, at, *map(len, axes))
    return PolyMesh(points, np.full(len(faces), 3, np.int32), faces.astype(np.int32).reshape(-1))
