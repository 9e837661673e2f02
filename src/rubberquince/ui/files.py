"""Opening, saving, importing and handing over, with their dialogs.  A failure is one sentence; the scene stays."""

from functools import partial
from pathlib import Path

import numpy as np
from platformdirs import user_state_path
from PySide6.QtCore import QSettings, QStandardPaths, QTimer
from PySide6.QtWidgets import QFileDialog, QMessageBox, QWidget

from rubberquince.bake.cache import FrameCache
from rubberquince.bake.export import export_frame, export_run
from rubberquince.demos import harvest_fair
from rubberquince.document.document import Document
from rubberquince.document.recovery import Keeper, left_behind
from rubberquince.document.scene import (
    BlockShape,
    CushionShape,
    ImportedShape,
    Look,
    Piece,
    Place,
    RevolvedShape,
    Shape,
    SolidValues,
    SphereShape,
    TorusShape,
)
from rubberquince.document.storage import SUFFIX, load_scene, save_scene
from rubberquince.errors import QuinceError
from rubberquince.exchange.importing import SUFFIXES, import_mesh
from rubberquince.shapes import profiles
from rubberquince.ui.bench import Bench
from rubberquince.ui.chores import awake
from rubberquince.ui.runner import Runner

MESHES = f"Meshes ({' '.join('*' + suffix for suffix in SUFFIXES)})"
SCENES = f"Scenes (*{SUFFIX})"
AUTOSAVE = 20_000           # ms after a change, in which a copy is kept
MOST_RECENT = 8
USUAL_CUBES = 600           # of a new piece, so that it plays at once
NEW_SIZE = 0.12             # m, of an added shape
NEW_COLOURS = ("#D9713C", "#8FA65A", "#B65C7A", "#D9A441", "#6F93A8")


class Files:
    """What the Scene menu and the line-up's add do.  Every method that asks takes a path to skip asking."""

    def __init__(self, window: QWidget, bench: Bench, runner: Runner) -> None:
        self._window, self._bench, self._runner = window, bench, runner
        self._settings = QSettings("rubberquince", "rubberquince")
        self._copies = user_state_path("rubberquince") / "unsaved"
        self._keeper = Keeper(self._copies)
        self._timer = QTimer(window, singleShot=True, interval=AUTOSAVE)
        self._timer.timeout.connect(self._keep_copy)
        bench.scene_changed.connect(lambda *_: self._timer.start() if not self._timer.isActive() else None)

    # --- nothing lost ---------------------------------------------------------------------------------

    def _keep_copy(self) -> None:
        document = self._bench.document
        try:
            if document.unsaved:
                self._keeper.keep(document.scene, document.meshes, self._bench.path)
            else:
                self._keeper.drop()
        except QuinceError as error:
            self._bench.say(f"No copy is kept of unsaved changes. {error}")

    def offer_recovery(self) -> bool:
        """Offer the newest scene that an earlier start left unsaved; True when it was brought back."""
        left = left_behind(self._copies)
        if not left:
            return False
        wanted = ask_about_recovery(self._window, left[0].name)
        if wanted:
            try:
                scene, meshes = load_scene(left[0].file)
            except QuinceError as error:
                self._bench.say(str(error))
                wanted = False
            else:
                self._show(Document(scene, meshes), left[0].of)
                self._bench.document.mark_unsaved()
                self._timer.start()
        for copy in left:
            copy.discard()
        return wanted

    def leave(self) -> None:
        """The window closes: the scene is saved or was given up."""
        self._timer.stop()
        self._keeper.drop()

    def recent(self) -> list[Path]:
        """Scenes opened or saved last that are still there."""
        names = self._settings.value("recent") or []
        return [Path(n) for n in ([names] if isinstance(names, str) else names) if Path(n).is_file()]

    def _note_recent(self, path: Path) -> None:
        names = [str(path.resolve()), *(str(p) for p in self.recent())]
        self._settings.setValue("recent", list(dict.fromkeys(names))[:MOST_RECENT])

    # --- scenes ---------------------------------------------------------------------------------------

    def new(self) -> None:
        if self.may_leave():
            self._show(Document(), None)

    def demo(self) -> None:
        if self.may_leave():
            self._show(Document(harvest_fair.scene()), None)

    def open(self, path: Path | None = None) -> bool:
        if not self.may_leave():
            return False
        path = path or self._ask_open("Open a scene", SCENES)
        if path is None:
            return False
        try:
            scene, meshes = load_scene(path)
        except QuinceError as error:
            self._bench.say(str(error))
            return False
        self._show(Document(scene, meshes), path)
        self._note_recent(path)
        return True

    def save(self) -> bool:
        return self.save_as(self._bench.path)

    def save_as(self, path: Path | None = None) -> bool:
        path = path or self._ask_save("Save the scene", SCENES, SUFFIX)
        if path is None:
            return False
        document = self._bench.document
        try:
            save_scene(path, document.scene, document.meshes)
        except QuinceError as error:
            self._bench.say(str(error))
            return False
        document.mark_saved()
        self._bench.path = path
        self._keeper.drop()
        self._note_recent(path)
        self._bench.say(f"Saved as “{path.name}”.", False)
        self._bench.scene_changed.emit(document.scene, document.scene)
        return True

    def may_leave(self) -> bool:
        """Ask what to do with an unsaved scene; False to stay."""
        if not self._bench.document.unsaved:
            return True
        answer = ask_about_unsaved(self._window, self._bench.title.rstrip(" •"))
        if answer == QMessageBox.StandardButton.Save:
            return self.save()
        return answer == QMessageBox.StandardButton.Discard

    def _show(self, document: Document, path: Path | None) -> None:
        self._bench.open(document, path)
        self._runner.forget()

    # --- pieces ---------------------------------------------------------------------------------------

    def add_block(self) -> None:
        self._add("Block", BlockShape(), (NEW_SIZE, NEW_SIZE * 0.75, NEW_SIZE))

    def add_sphere(self) -> None:
        self._add("Sphere", SphereShape(), (NEW_SIZE, NEW_SIZE, NEW_SIZE))

    def add_torus(self) -> None:
        self._add("Torus", TorusShape(), (NEW_SIZE * 1.5, NEW_SIZE * 0.45, NEW_SIZE * 1.5))

    def add_cushion(self) -> None:
        self._add("Cushion", CushionShape(), (NEW_SIZE * 2.5, NEW_SIZE * 0.9, NEW_SIZE * 2.5))

    def add_capsule(self) -> None:
        shape = RevolvedShape(name="capsule", profile=profiles.capsule(), around=40, bands=30)
        self._add("Capsule", shape, (NEW_SIZE * 0.6, NEW_SIZE * 1.2, NEW_SIZE * 0.6))

    def add_disc(self) -> None:
        shape = RevolvedShape(name="disc", profile=profiles.disc(), around=64, bands=24)
        self._add("Disc", shape, (NEW_SIZE * 1.5, NEW_SIZE * 0.3, NEW_SIZE * 1.5))

    def import_mesh(self, path: Path | None = None) -> None:
        path = path or self._ask_open("Import a mesh", MESHES)
        if path is None:
            return
        try:
            imported = awake(self._window, f"Reading “{path.name}”", partial(import_mesh, path))
            size = tuple(float(max(side, 1e-4)) for side in imported.size)
            shape = ImportedShape(name=path.name[:120], mesh=imported.mesh.key)
            self._bench.document.meshes[imported.mesh.key] = imported.mesh
            self._add(path.stem[:60] or "Mesh", shape, (size[0], size[1], size[2]))
        except QuinceError as error:
            self._bench.say(str(error))
            return
        if imported.notes:
            self._bench.say(" ".join(imported.notes), False)

    def _add(self, name: str, shape: Shape, size: tuple[float, float, float]) -> None:
        """A new Solid above everything that stands in the middle, chosen."""
        document = self._bench.document
        top = max((p.place.position[1] + float(np.abs(p.place.rotation()[1]) @ p.place.size) / 2
                   for p in document.scene.pieces), default=0.0)
        colour = NEW_COLOURS[len(document.scene.pieces) % len(NEW_COLOURS)]
        piece = Piece(id=document.new_id(), name=document.new_name(name), shape=shape, role="solid",
                      place=Place(position=(0.0, round(top + size[1] / 2 + 0.03, 4), 0.0), size=size),
                      solid=SolidValues(cells=_usual_cells(size)), look=Look(material="jelly", colour=colour))
        document.add_piece(piece)
        self._bench.choose(piece.id)

    # --- handing over ---------------------------------------------------------------------------------

    def export_frame(self, frame: int, path: Path | None = None) -> None:
        """The frame that is shown, as OBJ."""
        path = path or self._ask_save(f"Export frame {frame}", "OBJ meshes (*.obj)", ".obj")
        if path is None:
            return
        scene, meshes = self._bench.scene, self._bench.document.meshes
        skins = self._runner.skins(frame) if frame != scene.run.first else None
        try:
            skin = np.concatenate(list(skins.values())) if skins else None
            awake(self._window, f"Writing “{path.name}”", lambda _: export_frame(path, scene, meshes, skin))
        except QuinceError as error:
            self._bench.say(str(error))
            return
        self._bench.say(f"Frame {frame} is in “{path.name}”.", False)

    def export_run(self, path: Path | None = None) -> None:
        """The whole range as USD."""
        run, store = self._bench.scene.run, self._runner.store
        cache = FrameCache.reader(store.folder) if store else None
        if cache is None or not self._runner.good_up_to(run.last):
            self._bench.say(f"The frames {run.first} – {run.last} are not all baked and up to date; press Bake first.")
            return
        path = path or self._ask_save("Export the run", "USD scenes (*.usdc *.usda *.usd)", ".usdc")
        if path is None:
            return
        try:
            count = awake(self._window, f"Writing “{path.name}”", partial(
                export_run, path, self._bench.scene, self._bench.document.meshes, cache, run.first, run.last))
        except QuinceError as error:
            self._bench.say(str(error))
            return
        self._bench.say(f"{count} frames are in “{path.name}”.", False)

    # --- dialogs --------------------------------------------------------------------------------------

    def _folder(self) -> str:
        home = QStandardPaths.writableLocation(QStandardPaths.StandardLocation.DocumentsLocation)
        return str(self._settings.value("folder", home))

    def _ask_open(self, title: str, kinds: str) -> Path | None:
        name, _ = QFileDialog.getOpenFileName(self._window, title, self._folder(), kinds)
        return self._remembered(name)

    def _ask_save(self, title: str, kinds: str, suffix: str) -> Path | None:
        name, _ = QFileDialog.getSaveFileName(self._window, title, self._folder(), kinds)
        if name and not Path(name).suffix:
            name += suffix
        return self._remembered(name)

    def _remembered(self, name: str) -> Path | None:
        if not name:
            return None
        self._settings.setValue("folder", str(Path(name).parent))
        return Path(name)


def _usual_cells(size: tuple[float, float, float]) -> int:
    """Cells across the smallest side that fill the box with about as many cells whatever its shape."""
    edge = (size[0] * size[1] * size[2] / USUAL_CUBES) ** (1 / 3)
    return int(np.clip(round(min(size) / edge), 2, 12))


def ask_about_recovery(window: QWidget, name: str) -> bool:
    box = QMessageBox(window)
    box.setWindowTitle("Rubber Quince")
    box.setText(f"“{name}” was not saved when the program ended last time.")
    box.setInformativeText("Bring back its last state?")
    bring = box.addButton("Bring it back", QMessageBox.ButtonRole.AcceptRole)
    box.addButton("Throw it away", QMessageBox.ButtonRole.DestructiveRole)
    box.exec()
    return box.clickedButton() is bring


def ask_about_unsaved(window: QWidget, name: str) -> QMessageBox.StandardButton:
    box = QMessageBox(window)
    box.setWindowTitle("Rubber Quince")
    box.setText(f"“{name}” has changes that are not saved.")
    box.setInformativeText("Save them before it is closed?")
    buttons = QMessageBox.StandardButton
    box.setStandardButtons(buttons.Save | buttons.Discard | buttons.Cancel)
    box.setDefaultButton(buttons.Save)
    return buttons(box.exec())
