"""Copies of unsaved scenes, kept aside for when the power fails, and found again at the next start.

Whoever keeps a copy holds the lock of a file beside it; a copy whose lock nobody holds was left behind.
"""

import json
import os
import secrets
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

from rubberquince.document.scene import Scene
from rubberquince.document.storage import SUFFIX, save_scene
from rubberquince.locks import hold, is_held
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
        for file in (self.file, self.file.with_suffix(".json"), self.file.with_suffix(".lock")):
            with suppress(OSError):
                file.unlink()


class Keeper:
    """Keeps one copy for this process in ``folder``.  Raises SceneError when it cannot."""

    def __init__(self, folder: Path) -> None:
        self._left = Left(folder / f"{secrets.token_hex(8)}{SUFFIX}", None)
        self._lock: int | None = None

    def keep(self, scene: Scene, meshes: dict[str, PolyMesh], of: Path | None) -> None:
        """Write the copy anew; ``of`` is where the scene was saved last."""
        file = self._left.file
        with suppress(OSError):
            file.parent.mkdir(parents=True, exist_ok=True)
            if self._lock is None:
                self._lock = hold(file.with_suffix(".lock"))
        save_scene(file, scene, meshes)
        with suppress(OSError):             # without it the scene is brought back unnamed
            file.with_suffix(".json").write_text(json.dumps({"of": str(of) if of else None}))

    def drop(self) -> None:
        """The scene is saved or given up: no copy is wanted."""
        self._left.discard()
        if self._lock is not None:
            os.close(self._lock)
            self._lock = None


def left_behind(folder: Path) -> list[Left]:
    """Copies that nobody keeps any more, newest first."""
    found = []
    for file in sorted(folder.glob(f"*{SUFFIX}"), key=lambda f: f.stat().st_mtime, reverse=True):
        if not is_held(file.with_suffix(".lock")):
            of = None
            with suppress(OSError, ValueError, TypeError, AttributeError):
                name = json.loads(file.with_suffix(".json").read_text()).get("of")
                of = Path(name) if name else None
            found.append(Left(file, of))
    return found
