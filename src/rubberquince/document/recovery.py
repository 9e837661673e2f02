"""Copies of unsaved scenes, kept aside for when the power fails, and found again at the next start.

A copy bears the number of the process that keeps it; one whose process is gone was left behind.
"""

import json
import os
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

from rubberquince.document.scene import Scene
from rubberquince.document.storage import SUFFIX, save_scene
from rubberquince.shapes.polymesh import PolyMesh


@dataclass(frozen=True)
class Left:
    """A copy that was left behind: its file, and where the scene itself was saved, if it was."""

    file: Path
    of: Path | None

    @property
    def name(self) -> str:
        return self.of.name if self.of else "an unnamed scene"

    def discard(self) -> None:
        for file in (self.file, self.file.with_suffix(".json")):
            with suppress(OSError):
                file.unlink()


class Keeper:
    """Keeps one copy for this process in ``folder``.  Raises SceneError when it cannot."""

    def __init__(self, folder: Path) -> None:
        self._left = Left(folder / f"{os.getpid()}{SUFFIX}", None)

    def keep(self, scene: Scene, meshes: dict[str, PolyMesh], of: Path | None) -> None:
        """Write the copy anew; ``of`` is where the scene was saved last."""
        file = self._left.file
        with suppress(OSError):
            file.parent.mkdir(parents=True, exist_ok=True)
        save_scene(file, scene, meshes)
        with suppress(OSError):             # without it the scene is brought back unnamed
            file.with_suffix(".json").write_text(json.dumps({"of": str(of) if of else None}))

    def drop(self) -> None:
        """The scene is saved or given up: no copy is wanted."""
        self._left.discard()


def left_behind(folder: Path) -> list[Left]:
    """Copies whose process is gone, newest first."""
    found = []
    for file in sorted(folder.glob(f"*{SUFFIX}"), key=lambda f: f.stat().st_mtime, reverse=True):
        if file.stem.isdigit() and not _runs(int(file.stem)):
            of = None
            with suppress(OSError, ValueError, TypeError, AttributeError):
                name = json.loads(file.with_suffix(".json").read_text()).get("of")
                of = Path(name) if name else None
            found.append(Left(file, of))
    return found


def _runs(pid: int) -> bool:
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        return True
    return True
