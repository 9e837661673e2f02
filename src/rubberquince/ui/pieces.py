"""Bringing pieces in and giving them other meshes.  A failure is one sentence; the scene stays."""

from collections.abc import Callable
from functools import partial
from pathlib import Path

import numpy as np
from PySide6.QtWidgets import QWidget

from rubberquince.document import remaking
from rubberquince.document.bodies import unit_mesh
from rubberquince.document.scene import (
    BlockShape,
    CushionShape,
    ImportedShape,
    Look,
    Piece,
    Place,
    RevolvedShape,
    Role,
    Shape,
    SheetShape,
    SolidValues,
    SphereShape,
    SuperellipsoidShape,
    TorusShape,
)
from rubberquince.errors import QuinceError
from rubberquince.exchange.importing import SUFFIXES, import_mesh
from rubberquince.shapes import profiles
from rubberquince.shapes.polymesh import PolyMesh
from rubberquince.ui.bench import Bench
from rubberquince.ui.chores import awake
from rubberquince.ui.dialogs import FileDialogs

MESHES = f"Meshes ({' '.join('*' + suffix for suffix in SUFFIXES)})"
USUAL_CUBES = 600           # of a new piece, so that it plays at once
NEW_COLOURS = ("#D9713C", "#8FA65A", "#B65C7A", "#D9A441", "#6F93A8")
SHAPES: dict[str, tuple[Shape, tuple[float, float, float]]] = {       # with the size of a new one, m
    "block": (BlockShape(), (0.12, 0.09, 0.12)),
    "sphere": (SphereShape(), (0.12, 0.12, 0.12)),
    "capsule": (RevolvedShape(name="capsule", profile=profiles.capsule(), around=40, bands=30), (0.072, 0.144, 0.072)),
    "disc": (RevolvedShape(name="disc", profile=profiles.disc(), around=64, bands=24), (0.18, 0.036, 0.18)),
    "torus": (TorusShape(), (0.18, 0.054, 0.18)),
    "cushion": (CushionShape(), (0.3, 0.108, 0.3)),
    "superellipsoid": (SuperellipsoidShape(), (0.12, 0.12, 0.12)),
    "sheet": (SheetShape(), (0.3, 0.001, 0.3))}


class Pieces:
    """What the Piece menu and the tools of the Shape section do."""

    def __init__(self, window: QWidget, bench: Bench) -> None:
        self._window, self._bench, self._dialogs = window, bench, FileDialogs(window)

    def add(self, kind: str) -> None:
        """A new piece of a shape in SHAPES; a sheet, which has no inside, stands still."""
        shape, size = SHAPES[kind]
        self._add(kind.capitalize(), shape, size, "collider" if kind == "sheet" else "solid")

    def import_mesh(self, path: Path | None = None) -> None:
        path = path or self._dialogs.to_open("Import a mesh", MESHES)
        if path is None:
            return
        try:
            imported = awake(self._window, f"Reading “{path.name}”", partial(import_mesh, path))
            size = tuple(float(max(side, 1e-4)) for side in imported.size)
            shape = ImportedShape(name=path.name[:120], mesh=imported.mesh.key)
            self._add(path.stem[:60] or "Mesh", shape, (size[0], size[1], size[2]), "solid", imported.mesh)
        except QuinceError as error:
            self._bench.say(str(error))
            return
        if imported.notes:
            self._bench.say(" ".join(imported.notes), False)

    def refine(self) -> None:
        self._remake("refine", "Refining", lambda piece: remaking.refined(piece, self._bench.document.meshes))

    def thin(self, share: float) -> None:
        """Keep about ``share`` 0 .. 1 of the triangles."""
        self._remake("thin", "Thinning", lambda piece: remaking.thinned(piece, self._bench.document.meshes, share))

    def remesh(self, face: float) -> None:
        """A closed mesh of faces about ``face``, m, wide."""
        self._remake("remesh", "Remeshing", lambda piece: remaking.remeshed(piece, self._bench.document.meshes, face))

    def _remake(self, what: str, doing: str, make: Callable[[Piece], tuple[Piece, PolyMesh | None]]) -> None:
        piece = self._bench.chosen
        if piece is None:
            return
        try:
            before = unit_mesh(piece.shape, self._bench.document.meshes)
            fresh, mesh = awake(self._window, f"{doing} {piece.name}", lambda _: make(piece))
        except QuinceError as error:
            self._bench.say(f"{piece.name}: {error}")
            return
        self._bench.document.replace_piece(f"{what} {piece.name}", fresh, mesh)
        if mesh is not None and what != "refine":
            lost = "" if not len(before.uvs) else "; its texture coordinates are gone"
            counts = f"{len(mesh.face_sizes)} faces now, {len(before.face_sizes)} before"
            self._bench.say(f"{piece.name} has {counts}{lost}.", False)

    def _add(self, name: str, shape: Shape, size: tuple[float, float, float], role: Role,
             mesh: PolyMesh | None = None) -> None:
        """A new piece above everything that stands in the middle, chosen."""
        document = self._bench.document
        top = max((p.place.position[1] + float(np.abs(p.place.rotation()[1]) @ p.place.size) / 2
                   for p in document.scene.pieces), default=0.0)
        colour = NEW_COLOURS[len(document.scene.pieces) % len(NEW_COLOURS)]
        piece = Piece(id=document.new_id(), name=document.new_name(name), shape=shape, role=role,
                      place=Place(position=(0.0, round(top + size[1] / 2 + 0.03, 4), 0.0), size=size),
                      solid=SolidValues(cells=_usual_cells(size)),
                      look=Look(material="jelly" if role == "solid" else "matte", colour=colour))
        document.add_piece(piece, mesh)
        self._bench.choose(piece.id)


def _usual_cells(size: tuple[float, float, float]) -> int:
    """Cells across the smallest side that fill the box with about as many cells whatever its shape."""
    edge = (size[0] * size[1] * size[2] / USUAL_CUBES) ** (1 / 3)
    return int(np.clip(round(min(size) / edge), 2, 12))
