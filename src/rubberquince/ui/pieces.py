"""Bringing pieces in and giving them other meshes.  A failure is one sentence; the scene stays."""

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any, Literal

import numpy as np
from PySide6.QtWidgets import QWidget

from rubberquince.bake.assemble import sewn_points
from rubberquince.bake.balls import width_of
from rubberquince.document.bodies import piece_triangles, unit_mesh
from rubberquince.document.remaking import as_it_lies, welded
from rubberquince.document.scene import (
    BlockShape,
    CushionShape,
    ImportedShape,
    Look,
    PelletsShape,
    Piece,
    Place,
    RevolvedShape,
    Role,
    Scene,
    Seam,
    Shape,
    SheetShape,
    SolidValues,
    SphereShape,
    SuperellipsoidShape,
    TorusShape,
)
from rubberquince.document.values import ContactValues, ForceValues
from rubberquince.errors import QuinceError
from rubberquince.exchange.importing import SUFFIXES, Imported, import_mesh
from rubberquince.jobs.errands import Errand, run_errand
from rubberquince.shapes import profiles
from rubberquince.shapes.polymesh import PolyMesh, rims
from rubberquince.ui.bench import Bench
from rubberquince.ui.chores import awake
from rubberquince.ui.dialogs import FileDialogs
from rubberquince.view.body import outer_of

MESHES = f"Meshes ({' '.join('*' + suffix for suffix in SUFFIXES)})"
DROP, CLEAR = 0.03, 0.015   # m, that a new piece starts above the ground, and keeps on each side
SLIDES = 0.15               # friction of new pellets: balls would roll, and these do not turn
USUAL_CUBES = 600           # of a new piece, so that it plays at once
REMAKERS = {"refine": "refined", "refine in places": "refined_there", "thin": "thinned", "remesh": "remeshed",
            "fill": "heaped"}
MADE_OF = "solid", "shell", "net", "rigid", "release", "braces"
SPREAD = {"role, feel and springs": ("role", *MADE_OF), "pressure": ("pressure",), "contact": ("contact",),
          "look": ("look",), "goal": ("goal", "maps"), "reshape": ("reshape",),
          "values": ("role", *MADE_OF, "pressure", "hold", "goal", "contact", "look", "reshape")}
NEW_COLOURS = ("#D9713C", "#8FA65A", "#B65C7A", "#D9A441", "#6F93A8")
SHAPES: dict[str, tuple[Shape, tuple[float, float, float]]] = {       # with the size of a new one, m
    "block": (BlockShape(), (0.12, 0.09, 0.12)),
    "sphere": (SphereShape(), (0.12, 0.12, 0.12)),
    "capsule": (RevolvedShape(name="capsule", profile=profiles.capsule(), around=40, bands=30), (0.072, 0.144, 0.072)),
    "disc": (RevolvedShape(name="disc", profile=profiles.disc(), around=64, bands=24), (0.18, 0.036, 0.18)),
    "torus": (TorusShape(), (0.18, 0.054, 0.18)),
    "cushion": (CushionShape(), (0.3, 0.108, 0.3)),
    "turned shape": (RevolvedShape(name="turned shape", profile=profiles.bell(), rounded=2, around=64, bands=32),
                     (0.12, 0.14, 0.12)),
    "superellipsoid": (SuperellipsoidShape(), (0.12, 0.12, 0.12)),
    "heap of pellets": (PelletsShape(), (0.1, 0.1, 0.1)),
    "sheet": (SheetShape(), (0.3, 0.001, 0.3)),
    "rope": (RevolvedShape(name="rope", profile=profiles.rod(), around=6, bands=70), (0.012, 0.6, 0.012))}
FIRST_ROLE: dict[str, Role] = {                  # a sheet has no inside, and stands still
    "sheet": "collider", "rope": "net", "heap of pellets": "pellets"}


FORCE_COLOUR = "#8A5B7C"
ForceKind = Literal["wind", "turbulence", "vortex", "puller"]
FORCES: dict[ForceKind, tuple[Shape, tuple[float, float, float]]] = {       # the sign of each, and its size
    "wind": (RevolvedShape(name="arrow", profile=profiles.arrow(), around=24, bands=20), (0.04, 0.1, 0.04)),
    "turbulence": (SuperellipsoidShape(seed=11, around=24, rings=14), (0.06, 0.06, 0.06)),
    "vortex": (TorusShape(around=40, sides=10, thickness=0.25), (0.1, 0.016, 0.1)),
    "puller": (SphereShape(around=20, rings=10), (0.04, 0.04, 0.04))}


class Pieces:
    """What the Piece menu and the tools of the Shape section do."""

    def __init__(self, window: QWidget, bench: Bench) -> None:
        self._window, self._bench, self._dialogs = window, bench, FileDialogs(window)
        self._copied: list[tuple[Piece, PolyMesh | None]] = []

    def add(self, kind: str) -> None:
        """A new piece of a shape in SHAPES."""
        shape, size = SHAPES[kind]
        self._add(kind.capitalize(), shape, size, FIRST_ROLE.get(kind, "solid"))

    def add_force(self, kind: ForceKind) -> None:
        """A new force, above the middle of what is there."""
        document, shape, size = self._bench.document, *FORCES[kind]
        turn = (0.0, 0.0, -90.0) if kind == "wind" else (0.0, 0.0, 0.0)
        number = sum(p.role == "force" for p in document.scene.pieces)
        place = Place(position=(-0.3 if kind == "wind" else 0.0, 0.3 + 0.1 * number, 0.0), turn=turn, size=size)
        piece = Piece(id=document.new_id(), name=document.new_name(kind.capitalize()), shape=shape, role="force",
                      place=place, force=ForceValues(kind=kind), look=Look(colour=FORCE_COLOUR))
        document.add_piece(piece)
        self._bench.choose(piece.id)

    def import_mesh(self, path: Path | None = None, moving: bool = False) -> None:
        """A new piece from a file; ``moving`` from all files numbered like it, or all frames of a USD stage."""
        path = path or self._dialogs.to_open("Import a mesh that moves" if moving else "Import a mesh", MESHES)
        if path is None:
            return
        try:
            imported = awake(self._window, f"Reading “{path.name}”", partial(_ready_to_draw, path, moving))
            size = tuple(float(max(side, 1e-4)) for side in imported.size)
            shape = ImportedShape(name=path.name[:120], mesh=imported.mesh.key, moves=moving)
            self._add(path.stem[:60] or "Mesh", shape, (size[0], size[1], size[2]), "collider" if moving else "solid",
                      imported.mesh)
        except QuinceError as error:
            self._bench.say(str(error))
            return
        if imported.notes:
            self._bench.say(" ".join(imported.notes), False)

    # --- copies ---------------------------------------------------------------------------------------

    def duplicate(self) -> None:
        """The chosen pieces once more, beside everything that is there."""
        self._put("duplicate", [self._bench.scene.piece(key) for key in self._bench.chosen_ids])

    def copy(self) -> None:
        """Keep the chosen pieces for ``paste``, also into another scene."""
        meshes = self._bench.document.meshes
        self._copied = [(piece, meshes.get(getattr(piece.shape, "mesh", "")))
                        for piece in map(self._bench.scene.piece, self._bench.chosen_ids)]

    def paste(self) -> None:
        for piece, mesh in self._copied:
            if mesh is not None and isinstance(piece.shape, ImportedShape):
                self._bench.document.meshes[piece.shape.mesh] = mesh
        self._put("paste", [piece for piece, _ in self._copied])

    def _put(self, what: str, pieces: list[Piece]) -> None:
        document, scene, fresh = self._bench.document, self._bench.scene, []
        for piece in pieces:
            low = (np.abs(piece.place.rotation()) @ piece.place.size).tolist()
            x, z = _free_place(scene, (low[0], low[1], low[2]))
            place = piece.place.model_copy(update={"position": (x, piece.place.position[1], z)})
            names = {p.name for p in scene.pieces}
            stem = piece.name[:52].rstrip("0123456789 ") or piece.name[:52]
            name = next(n for n in (piece.name, *(f"{stem} {k}" for k in range(2, 10_000))) if n not in names)
            fresh.append(piece.model_copy(update={"id": document.new_id(), "name": name, "place": place}))
            scene = scene.model_copy(update={"pieces": (*scene.pieces, fresh[-1])})
        if fresh:
            document.push(f"{what} {fresh[0].name if len(fresh) == 1 else f'{len(fresh)} pieces'}", scene)
            for k, piece in enumerate(fresh):
                self._bench.choose(piece.id, also=k > 0)

    def remove(self) -> None:
        """Take the chosen pieces out of the scene."""
        chosen = self._bench.chosen_ids
        if chosen:
            self._bench.document.remove_pieces(chosen)

    def hide_others(self) -> None:
        """Show the chosen pieces only; when that is so already, show all again."""
        scene, chosen = self._bench.scene, set(self._bench.chosen_ids)
        alone = all(p.visible == (p.id in chosen) for p in scene.pieces)
        pieces = tuple(p.model_copy(update={"visible": alone or p.id in chosen}) for p in scene.pieces)
        self._bench.document.push("show all" if alone else "hide the others",
                                  scene.model_copy(update={"pieces": pieces}))

    def spread(self, what: str) -> None:
        """Put some values of the chosen piece, by their name in SPREAD, on the others that are chosen."""
        chosen, names = self._bench.chosen, SPREAD[what]
        others = [key for key in self._bench.chosen_ids if chosen is not None and key != chosen.id]
        if chosen is None or not others:
            self._bench.say("Choose the pieces that are to get values, too: hold Ctrl and click them in the line-up.")
            return
        scene = self._bench.scene
        for key in others:
            values = {name: getattr(chosen, name) for name in names}
            scene = scene.with_piece(scene.piece(key).model_copy(update=values))
        self._bench.document.push(f"put the {what} of {chosen.name} on {len(others)} more", scene)

    def sew(self) -> None:
        """Sew the two chosen pieces together along their outlines or first lines, or one piece along its two lines."""
        scene, document = self._bench.scene, self._bench.document
        chosen = [scene.piece(key) for key in self._bench.chosen_ids]
        lines: list[str | None]
        if len(chosen) == 1 and len(chosen[0].curves) > 1:
            lines, chosen = [c.id for c in chosen[0].curves[:2]], chosen * 2
        elif len(chosen) == 2:
            lines = [self._line(piece) for piece in chosen]
        else:
            self._bench.say("Choose the two Shells that are to be sewn: hold Ctrl and click them in the line-up. "
                            "One alone is sewn to itself along the first two lines that are drawn on it.")
            return
        if not all(piece.moves for piece in chosen):
            self._bench.say("Only what moves can be sewn: make both a Shell or a Solid.")
            return
        closed = [piece.name for piece, line in zip(chosen, lines) if line is None]
        if closed:
            self._bench.say(f"{closed[0]} is closed, so it has no outline to sew along: draw a line on it.")
            return
        seam = Seam(id=document.new_id(), one=chosen[0].id, two=chosen[1].id, along=(lines[0] or "", lines[1] or ""))
        document.push(f"sew {chosen[0].name} to {chosen[1].name}",
                      scene.model_copy(update={"seams": (*scene.seams, seam)}))

    def weld(self, skins: dict[str, np.ndarray] | None) -> None:
        """Make one piece of what the chosen one is sewn to, as both lie in the shown frame, skin points by piece id."""
        scene, document, piece = self._bench.scene, self._bench.document, self._bench.chosen
        seam = next((s for s in scene.sewn() if piece is not None and piece.id in (s.one, s.two)), None)
        if piece is None or seam is None or not skins or not {seam.one, seam.two} <= set(skins):
            self._bench.say("Choose a piece that is sewn, and go to a frame that is computed.")
            return
        one, two = scene.piece(seam.one), scene.piece(seam.two)
        try:
            fresh, mesh = welded(one, two, sewn_points(seam, scene, document.meshes), skins, document.meshes)
        except QuinceError as error:
            self._bench.say(f"{one.name}: {error}")
            return
        document.meshes[mesh.key] = mesh
        scene = scene.with_piece(fresh)
        pieces = tuple(p for p in scene.pieces if p.id == one.id or p.id != two.id)
        gone = two.id if two.id != one.id else ""
        seams = tuple(s for s in scene.seams if s.id != seam.id and gone not in (s.one, s.two))
        document.push(f"weld {one.name}", scene.model_copy(update={"pieces": pieces, "seams": seams}))
        self._bench.choose(one.id)

    def _line(self, piece: Piece) -> str | None:
        """What a piece is sewn along: "" for its outline, else its first curve; None where it has neither."""
        if rims(piece_triangles(piece, self._bench.document.meshes)):
            return ""
        return piece.curves[0].id if piece.curves else None

    # --- other meshes ---------------------------------------------------------------------------------

    def keep_frame(self, skins: dict[str, np.ndarray] | None) -> None:
        """Make the shown frame, skin points (n, 3) m by piece id, the shape of the chosen pieces from now on."""
        scene, document = self._bench.scene, self._bench.document
        chosen = [scene.piece(key) for key in self._bench.chosen_ids if skins and key in skins]
        if not chosen or skins is None:
            self._bench.say("Choose a piece that moves, and go to a frame that is computed.")
            return
        for piece in chosen:
            fresh, mesh = as_it_lies(piece, skins[piece.id], document.meshes)
            document.meshes[mesh.key] = mesh
            scene = scene.with_piece(fresh)
        document.push(f"keep the frame of {chosen[0].name}", scene)

    def refine(self) -> None:
        self._remake("refine", "Refining")

    def refine_there(self, points: np.ndarray) -> None:
        """Refine the chosen piece between ``points`` (n,) bool of its mesh."""
        self._remake("refine in places", "Refining", points)

    def thin(self, share: float) -> None:
        """Keep about ``share`` 0 .. 1 of the triangles."""
        self._remake("thin", "Thinning", share)

    def remesh(self, face: float) -> None:
        """A closed mesh of faces about ``face``, m, wide."""
        self._remake("remesh", "Remeshing", face)

    def heap(self, other_id: str, on_skin: bool, width: float) -> None:
        """Let the chosen Pellets fill another piece, or lie on its skin, as balls of a ``width``, m."""
        other = next((p for p in self._bench.scene.pieces if p.id == other_id), None)
        if other is None:
            self._bench.say("Choose the piece that they are to fill.")
        else:
            self._remake("fill", "Filling", other, on_skin, width)

    def _remake(self, what: str, doing: str, *rest: Any) -> None:
        """Give the chosen piece another mesh, made in a process that can be stopped."""
        piece, meshes = self._bench.chosen, self._bench.document.meshes
        if piece is None:
            return
        try:
            before = unit_mesh(piece.shape, meshes)
            shapes = [part.shape for part in (piece, *rest) if isinstance(part, Piece)]
            used = {key: mesh for key, mesh in meshes.items() if key in {getattr(s, "mesh", "") for s in shapes}}
            errand = Errand(f"document.remaking:{REMAKERS[what]}", (piece, used, *rest))
            fresh, mesh = awake(self._window, f"{doing} {piece.name}",
                                lambda stopped: run_errand(errand, stopped, doing))
        except QuinceError as error:
            self._bench.say(f"{piece.name}: {error}")
            return
        self._bench.document.replace_piece(f"{what} {piece.name}", fresh, mesh)
        if what == "fill":
            self._bench.say(f"{piece.name} are {width_of(fresh, {mesh.key: mesh})[0]} balls now.", False)
        elif mesh is not None:
            had = {"texture coordinates": (before.uvs, mesh.uvs), "frames": (before.frames, mesh.frames)}
            gone = [name for name, (then, now) in had.items() if len(then) and not len(now)]
            lost = f"; its {' and its '.join(gone)} are gone" if gone else ""
            counts = f"{len(mesh.face_sizes)} faces now, {len(before.face_sizes)} before"
            self._bench.say(f"{piece.name} has {counts}{lost}.", False)

    def _add(self, name: str, shape: Shape, size: tuple[float, float, float], role: Role,
             mesh: PolyMesh | None = None) -> None:
        """A new piece beside all that are there, a little above the ground, chosen."""
        document = self._bench.document
        x, z = _free_place(document.scene, size)
        colour = NEW_COLOURS[len(document.scene.pieces) % len(NEW_COLOURS)]
        piece = Piece(id=document.new_id(), name=document.new_name(name), shape=shape, role=role,
                      place=Place(position=(x, round(size[1] / 2 + DROP, 4), z), size=size),
                      solid=SolidValues(cells=_usual_cells(size)),
                      contact=ContactValues(friction=SLIDES) if role == "pellets" else ContactValues(),
                      look=Look(material="jelly" if role == "solid" else "matte", colour=colour))
        document.add_piece(piece, mesh)
        self._bench.choose(piece.id)


def _ready_to_draw(path: Path, moving: bool, stopped: Callable[[], bool]) -> Imported:
    """A mesh file with all that the view needs of it: for a large mesh that takes longer than a window may stand."""
    imported = import_mesh(path, stopped, moving)
    width, height, depth = (float(side) for side in imported.size)
    outer_of(imported.mesh, (width, height, depth))
    return imported


def _free_place(scene: Scene, size: tuple[float, float, float]) -> tuple[float, float]:
    """The place (x, z), m, nearest to the middle where a box of this size stands clear of all pieces."""
    half = np.array([size[0], size[2]]) / 2 + CLEAR
    boxes = []
    for piece in scene.pieces:
        reach = (np.abs(piece.place.rotation()) @ piece.place.size)[[0, 2]] / 2 + half
        boxes.append((np.array(piece.place.position)[[0, 2]], reach))
    steps = np.arange(-12, 13)
    places = np.array([(i * 2 * half[0], k * 2 * half[1]) for k in steps for i in steps])
    for place in places[np.lexsort((-places[:, 0], -places[:, 1], np.round((places ** 2).sum(axis=1), 9)))]:
        if all((np.abs(place - middle) >= reach).any() for middle, reach in boxes):
            return round(float(place[0]), 4), round(float(place[1]), 4)
    right = max((float(middle[0] + reach[0]) for middle, reach in boxes), default=0.0)
    return round(right, 4), 0.0


def _usual_cells(size: tuple[float, float, float]) -> int:
    """Cells across the smallest side that fill the box with about as many cells whatever its shape."""
    edge = (size[0] * size[1] * size[2] / USUAL_CUBES) ** (1 / 3)
    return int(np.clip(round(min(size) / edge), 2, 12))
