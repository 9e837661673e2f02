"""Make the pictures of the documentation: ``python -m rubberquince.tools.screenshots [FOLDER]``.

Everything is shot from the harvest fair in the real window, drawn off the screen.
"""

import os
import sys
import tempfile
from pathlib import Path

from rubberquince.app import make_app
from rubberquince.ui.menus import Shortcuts
from rubberquince.ui.pictures import QApplication, contact_sheet, wait
from rubberquince.ui.window import MainWindow

FRAMES = (1, 4, 5, 6, 7, 9, 12, 40)
PATIENCE = 300.0            # s
SKINS = (("bench pads", 72, "pads"), ("balloon", 30, "balloon"), ("pears under film", 44, "wrap"),
         ("table cloth", 48, "cloth"), ("quilt", 40, "quilt"))
BIG = (1280, 800)


def shoot(app: QApplication, window: MainWindow, path: Path) -> None:
    wait(app, 1.2)
    window.grab().save(str(path))
    print(path)


def shoot_frames(app: QApplication, window: MainWindow, path: Path) -> None:
    """Eight frames of the run in one picture."""
    pictures = []
    for frame in FRAMES:
        window.player.go(frame)
        wait(app, 1.2)
        pictures.append((f"frame {frame}", window.view_zone.view.grab()))
    contact_sheet(pictures).save(str(path))
    print(path)


def shoot_shapes(app: QApplication, window: MainWindow, path: Path) -> None:
    """One of every shape, dropped on the floor."""
    window.bench.document.mark_saved()
    window.files.new()
    for k, kind in enumerate(("cushion", "torus", "capsule", "disc", "superellipsoid", "sphere")):
        window.pieces.add(kind)
        place = (0.28 * (k % 3) - 0.28, 0.1, 0.3 * (k // 3))
        window.bench.set_value("move", "place.position", place, window.bench.chosen_id)
    window.bench.set_value("change look", "look.material", "matte", window.bench.scene.pieces[0].id)
    window.bench.set_value("shorten the run", "run.last", 30)
    window.view_zone.frame_all()
    window.player.bake()
    wait(app, PATIENCE, lambda: not window.runner.computing)
    window.player.go(30)
    window.bench.choose("")
    shoot(app, window, path)


def shoot_profile(app: QApplication, window: MainWindow, path: Path) -> None:
    """A turned shape with its profile on the sheet."""
    window.bench.document.mark_saved()
    window.files.new()
    window.pieces.add("turned shape")
    window.sheet.section("Shape").fold.setChecked(True)
    window.view_zone.frame_all()
    shoot(app, window, path)


def shoot_demo(app: QApplication, window: MainWindow, name: str, last: int, path: Path) -> None:
    """A scene of the fair at its last frame."""
    window.bench.document.mark_saved()
    window.files.demo(name)
    window.bench.set_value("shorten the run", "run.last", last)
    window.player.bake()
    wait(app, PATIENCE, lambda: not window.runner.computing)
    window.player.go(last)
    window.view_zone.frame_moving()
    shoot(app, window, path)


def make_all(app: QApplication, folder: Path) -> None:
    folder.mkdir(parents=True, exist_ok=True)
    window = MainWindow()
    window.resize(*BIG)
    window.show()
    wait(app, 0.5)
    shoot(app, window, folder / "empty.png")
    window.open_first(None, True)
    shoot(app, window, folder / "start.png")
    window.player.bake()
    wait(app, PATIENCE, lambda: window.runner.stamps().sum() > 0 and window.runner.share() > 0.25)
    shoot(app, window, folder / "baking.png")
    wait(app, PATIENCE, lambda: not window.runner.computing)
    window.player.go(5)
    shoot(app, window, folder / "window.png")
    for display in ("cells", "stretch"):
        window.view_zone.set_display(display)
        shoot(app, window, folder / f"{display}.png")
    window.view_zone.set_display("smooth")
    window.bench.choose("")
    shoot_frames(app, window, folder / "frames.png")
    window.bench.choose("pudding")
    window.bench.set_value("change stiffness", "solid.stiffness", 1500.0, "pudding")
    shoot(app, window, folder / "stale.png")
    window.pieces.add("sphere")
    sphere = window.bench.chosen_id or ""
    window.bench.set_value("move", "place.position", (0.03, 0.83, 0.02), sphere)
    for title in ("Shape", "Place"):
        window.sheet.section(title).fold.setChecked(True)
    window.view_zone.frame_all()
    shoot(app, window, folder / "overlap.png")
    shoot_shapes(app, window, folder / "shapes.png")
    shoot_profile(app, window, folder / "profile.png")
    shoot_demo(app, window, "heap of prizes", 30, folder / "heap.png")
    shoot_demo(app, window, "liquorice loop", 24, folder / "folded.png")
    for title in ("Shape", "Place"):
        window.sheet.section(title).fold.setChecked(False)
    window.sheet.section("Pressure").fold.setChecked(True)
    for name, last, file in SKINS:
        shoot_demo(app, window, name, last, folder / f"{file}.png")
    shortcuts = Shortcuts(window, window.menus.actions)
    shortcuts.show()
    wait(app, 0.3)
    shortcuts.grab().save(str(folder / "shortcuts.png"))
    shortcuts.close()
    window.bench.document.mark_saved()
    window.close()


def main() -> None:
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    folder = Path(sys.argv[1]) if len(sys.argv) > 1 else Path("docs/screenshots")
    with tempfile.TemporaryDirectory() as home:
        os.environ["XDG_CACHE_HOME"] = os.environ["XDG_CONFIG_HOME"] = home
        make_all(make_app([]), folder)


if __name__ == "__main__":
    main()
