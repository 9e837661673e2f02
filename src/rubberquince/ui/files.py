"""Opening and saving scenes, and losing none.  A failure is one sentence; the scene stays."""

import shutil
from collections.abc import Callable
from pathlib import Path

from platformdirs import user_state_path
from PySide6.QtCore import QSettings, QTimer
from PySide6.QtWidgets import QMessageBox, QWidget

from rubberquince.bake.folders import bakes_root
from rubberquince.demos import acted, dented, harvest_fair, held, moved, poured, skins
from rubberquince.document.document import Document
from rubberquince.document.recovery import Keeper, left_behind
from rubberquince.document.storage import SUFFIX, load_scene, save_scene
from rubberquince.errors import QuinceError
from rubberquince.ui.bench import Bench
from rubberquince.ui.chores import awake
from rubberquince.ui.dialogs import FileDialogs, ask_about_recovery, ask_about_unsaved
from rubberquince.ui.runner import Runner

DEMOS = {"pudding": lambda: (harvest_fair.scene(), {}), "heap of prizes": lambda: (harvest_fair.prizes(), {}),
         "liquorice loop": harvest_fair.loop, "bench pads": lambda: (skins.pads(), {}),
         "balloon": lambda: (skins.balloon(), {}), "pears under film": lambda: (skins.wrap(), {}),
         "table cloth": lambda: (skins.cloth(), {}), "quilt": lambda: (skins.quilt(), {}),
         "drumskin": lambda: (held.drum(), {}), "soup": lambda: (held.soup(), {}),
         "star pad": lambda: (held.star_pad(), {}), "bunting": held.bunting, "scarecrow": held.scarecrow,
         "tilting tray": lambda: (moved.tray(), {}), "merry-go-round": moved.gusts,
         "turning wheel": lambda: (moved.wheel(), {}), "bag of plums": lambda: (moved.plums(), {}),
         "rising buns": lambda: (moved.buns(), {}),
         "dough and cutter": lambda: (dented.cutter(), {}), "wax cockerel": dented.cockerel,
         "paper lantern": lambda: (poured.lantern(), {}), "bowing gourd": lambda: (acted.bow(), {})}
AUTOSAVE = 20_000           # ms after a change, in which a copy is kept
MOST_RECENT = 8


class Files:
    """What the Scene menu does.  Every method that asks takes a path to skip asking."""

    def __init__(self, window: QWidget, bench: Bench, runner: Runner) -> None:
        self._window, self._bench, self._runner = window, bench, runner
        self._settings, self._dialogs = QSettings("rubberquince", "rubberquince"), FileDialogs(window)
        self._copies = user_state_path("rubberquince") / "unsaved"
        self._keeper = Keeper(self._copies)
        self._timer = QTimer(window, singleShot=True, interval=AUTOSAVE)
        self._timer.timeout.connect(self.keep_copy)
        bench.scene_changed.connect(lambda *_: self._timer.start() if not self._timer.isActive() else None)
        runner.ended.connect(self._take_bakes_along)

    # --- nothing lost ---------------------------------------------------------------------------------

    def keep_copy(self) -> None:
        """Keep a copy now: of unsaved work, or none when there is none."""
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
        shutil.rmtree(bakes_root(None, self._runner.unsaved), ignore_errors=True)

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

    def demo(self, name: str = "pudding") -> None:
        """A scene of the harvest fair, by its name in DEMOS."""
        if self.may_leave():
            self._show(Document(*DEMOS[name]()), None)

    def open(self, path: Path | None = None) -> bool:
        if not self.may_leave():
            return False
        path = path or self._dialogs.to_open("Open a scene", f"Scenes (*{SUFFIX})")
        if path is None:
            return False
        try:
            scene, meshes = awake(self._window, f"Opening “{path.name}”", lambda _: load_scene(path))
        except QuinceError as error:
            self._bench.say(str(error))
            return False
        self._show(Document(scene, meshes), path)
        self._note_recent(path)
        return True

    def save(self) -> bool:
        return self.save_as(self._bench.path)

    def save_as(self, path: Path | None = None) -> bool:
        path = path or self._dialogs.to_save("Save the scene", {"Scenes": SUFFIX})
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
        self._bench.scene_changed.emit(document.scene, document.scene)
        self._bench.say(f"Saved as “{path.name}”.", False)
        self._take_bakes_along()
        return True

    def _take_bakes_along(self) -> None:
        """What was baked before the scene had a file goes where its bakes are from now on."""
        unsaved, path = bakes_root(None, self._runner.unsaved), self._bench.path
        if path is None or self._runner.computing or not unsaved.is_dir():
            return

        def move(_: Callable[[], bool]) -> None:
            bakes_root(path).mkdir(parents=True, exist_ok=True)
            for folder in unsaved.glob("*.frames"):
                shutil.move(folder, bakes_root(path) / folder.name)
            shutil.rmtree(unsaved)

        try:
            awake(self._window, "Moving the bake beside the scene", move)
        except OSError as error:
            self._bench.say(f"The bake could not be moved beside the scene: {(error.strerror or '?').lower()}.")
        self._runner.look_again()

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
