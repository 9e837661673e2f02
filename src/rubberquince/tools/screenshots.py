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
SKINS = (("bench pads", 72, "pads"), ("pears under film", 44, "wrap"),
         ("table cloth", 48, "cloth"), ("scarecrow", 30, "scarecrow"))
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


def shoot_map(app: QApplication, window: MainWindow, path: Path) -> None:
    """The goal of a cloth by a map: a line, soft noise, and two strokes of the brush."""
    window.bench.document.mark_saved()
    window.files.demo("table cloth")
    goal = window.sheet.section("Goal")
    window.bench.set_value("draw it back", "goal.to", "its own shape", window.bench.chosen_id)
    for section in window.sheet.sections:
        section.fold.setChecked(section is goal)
    window.bench.show_map("goal.strength")
    stack = goal.stacks["goal.strength"][1]
    for rule in ("distance from a line", "soft noise"):
        stack.add(rule)
    stack.strips[0].fields["reach"].edit.typed.emit(0.2)
    stack.strips[1].fields["size"].edit.typed.emit(0.25)
    window.view_zone.frame_chosen()
    window.view_zone.take_up("paint", True)
    shoot(app, window, path)
    window.view_zone.take_up("paint", False)
    window.bench.show_map(None)


def shoot_demo(app: QApplication, window: MainWindow, name: str, last: int, path: Path, chosen: str = "",
               opened: tuple[str, ...] = ()) -> None:
    """A scene of the fair at its last frame, with a piece ``chosen`` and sections ``opened`` where they are given."""
    window.bench.document.mark_saved()
    window.files.demo(name)
    window.bench.set_value("shorten the run", "run.last", last)
    window.player.bake()
    wait(app, PATIENCE, lambda: not window.runner.computing)
    window.player.go(last)
    window.view_zone.frame_moving()
    if chosen:
        window.bench.choose(chosen)
        window.bench.show_threads("force", True)
        for section in window.sheet.sections:
            section.fold.setChecked(section.title in opened)
        window.view_zone.frame_all()
    shoot(app, window, path)
    window.bench.show_threads("force", False)


def shoot_motion(app: QApplication, window: MainWindow, folder: Path) -> None:
    """A tray with its path and its keys, a wind with its reach and arrows, wax, popcorn and a gourd that bows."""
    shoot_demo(app, window, "tilting tray", 40, folder / "tray.png", "tray", ("Place",))
    shoot_demo(app, window, "merry-go-round", 30, folder / "gusts.png", "wind", ("Force", "Reach"))
    shoot_demo(app, window, "wax cockerel", 40, folder / "wax.png", "cockerel", ("Role and feel",))
    shoot_demo(app, window, "paper lantern", 40, folder / "lantern.png", "corn", ("Shape", "Release"))
    shoot_demo(app, window, "bowing gourd", 56, folder / "bow.png", "gourd", ("Reshape",))


def make_all(app: QApplication, folder: Path) -> None:
    folder.mkdir(parents=True, exist_ok=True)
    window = MainWindow()
    window.resize(*BIG)
    window.show()
    wait(app, 0.5)
    window.open_first(None, True)
    shoot(app, window, folder / "start.png")
    window.player.bake()
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
    shoot_demo(app, window, "heap of prizes", 30, folder / "heap.png")
    for title in ("Shape", "Place"):
        window.sheet.section(title).fold.setChecked(False)
    window.sheet.section("Pressure").fold.setChecked(True)
    for name, last, file in SKINS:
        shoot_demo(app, window, name, last, folder / f"{file}.png")
    shoot_map(app, window, folder / "map.png")
    shoot_motion(app, window, folder)
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
        for name in ("CACHE", "CONFIG", "DATA", "STATE"):
            os.environ[f"XDG_{name}_HOME"] = home
        make_all(make_app([]), folder)


if __name__ == "__main__":
    main()
