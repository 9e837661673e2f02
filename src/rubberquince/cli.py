"""The command line: the same work without a window."""

import sys
import time
from pathlib import Path
from typing import Annotated

import typer

from rubberquince import __version__
from rubberquince import desktop as entry
from rubberquince.bake.assemble import lattice_of
from rubberquince.bake.cache import FrameCache
from rubberquince.bake.export import FRAME_WRITERS, RUN_SUFFIXES, check_target, export_frame, export_run
from rubberquince.bake.folders import MOST_BAKES, bake_folder, bakes_root, make_room
from rubberquince.bake.keys import run_key
from rubberquince.bake.run import SceneRun
from rubberquince.demos import harvest_fair
from rubberquince.document.bodies import unit_mesh
from rubberquince.document.scene import Scene, changed
from rubberquince.document.storage import load_scene, save_scene
from rubberquince.errors import ExportError, QuinceError, RunError
from rubberquince.shapes.polymesh import PolyMesh

app = typer.Typer(add_completion=False, no_args_is_help=True, pretty_exceptions_enable=False,
                  help="Soft things, without a window.")
SceneFile = Annotated[Path, typer.Argument(help="a .quince scene")]
Frames = Annotated[str, typer.Option(help="which frames, for instance 1-120")]


@app.command()
def bake(scene: SceneFile,
         out: Annotated[Path, typer.Option(help="the file to write: USD, GLB, or OBJ and PLY as numbered files")],
         frames: Frames = "", quality: Annotated[str, typer.Option(help="draft, good or sure")] = "") -> None:
    """Compute a range of frames and write it as animated points.

    The frames are kept beside the scene: a bake that was broken off goes on where it was.
    """
    document, meshes = load_scene(scene)
    first, last = frame_range(frames, document)
    if quality:
        document = changed(document, "run.quality", quality)
    check_target(out, RUN_SUFFIXES, "a run")
    cache = compute(document, meshes, scene, last)
    written = export_run(out, document, meshes, cache, first, last)
    print(f"{written} frames in {out}")


@app.command()
def export(scene: SceneFile, out: Annotated[Path, typer.Option(help="the file to write: OBJ, PLY, STL or GLB")],
           frame: Annotated[int, typer.Option(help="which frame; 0 as placed")] = 0) -> None:
    """Write one frame as a mesh, computing up to it."""
    document, meshes = load_scene(scene)
    skins = None
    check_target(out, tuple(FRAME_WRITERS), "one frame")
    if frame > 0:
        frame_range(f"{frame}-{frame}", document)
        cache = compute(document, meshes, scene, frame)
        skin = cache.skin(frame)
        skins = None if skin is None else cache.layout.skins(skin)
    export_frame(out, document, meshes, skins)
    print(f"frame {frame} in {out}" if frame else f"{out}")


@app.command()
def info(scene: SceneFile) -> None:
    """Say what is in a scene."""
    document, meshes = load_scene(scene)
    run = document.run
    print(f"frames {run.first}-{run.last} at {run.fps:g} fps, quality {run.quality}")
    for piece in document.pieces:
        mesh = unit_mesh(piece.shape, meshes)
        cells = f", {lattice_of(piece, meshes, run.quality).cells} cells" if piece.role == "solid" else ""
        size = " x ".join(f"{100 * s:.3g}" for s in piece.place.size)
        print(f"{piece.name}: {piece.role}, {size} cm, {len(mesh.points)} vertices{cells}")


@app.command()
def demo(out: Annotated[Path, typer.Argument(help="where to save it")]) -> None:
    """Save the harvest fair as a scene file."""
    save_scene(out, harvest_fair.scene(), {})
    print(out)


@app.command()
def desktop(remove: Annotated[bool, typer.Option("--remove", help="take it away again")] = False) -> None:
    """Put the program into the desktop's menu and make it open .quince files."""
    home = entry.data_home()
    if remove:
        entry.remove(home)
        print("The menu entry and the file type are gone.")
    else:
        for path in entry.install(home):
            print(path)


def frame_range(text: str, scene: Scene) -> tuple[int, int]:
    """First and last frame of "1-120", or the scene's own; both within what a run can reach."""
    if not text:
        return scene.run.first, scene.run.last
    first, dash, last = text.partition("-")
    try:
        low, high = int(first), int(last if dash else first)
    except ValueError:
        raise ExportError(f"“{text}” is not a range of frames; write for instance 1-120.") from None
    if not scene.run.first <= low <= high <= 100_000:
        raise ExportError(f"The range {text} must start at frame {scene.run.first} or later and not run backwards.")
    return low, high


def compute(scene: Scene, meshes: dict[str, PolyMesh], of: Path, last: int) -> FrameCache:
    """The bake of a scene, saved at ``of``, up to frame ``last``, with a line of progress on stderr."""
    folder = bake_folder(bakes_root(of), run_key(scene))
    make_room(folder, MOST_BAKES)
    run = SceneRun(scene, meshes, folder, stop=lambda: False)
    began, before = time.monotonic(), None
    for frame in run.frames(last):
        if before is None:
            before = frame.number - 1
            if run.note:
                print(run.note, file=sys.stderr)
        left = (time.monotonic() - began) / (frame.number - before) * (last - frame.number)
        if sys.stderr.isatty() or frame.number == last:
            print(f"\rframe {frame.number} of {last}, {left:.0f} s left   ", end="", file=sys.stderr, flush=True)
    if before is not None:
        print(file=sys.stderr)
    cache = FrameCache.reader(folder)
    if cache is None:
        raise RunError(f"The frames in “{folder}” cannot be read.")
    return cache


@app.callback(invoke_without_command=True)
def root(version: Annotated[bool, typer.Option("--version", help="say the version")] = False) -> None:
    if version:
        print(__version__)
        raise typer.Exit


def main() -> None:
    try:
        app()
    except QuinceError as error:
        print(error, file=sys.stderr)
        sys.exit(2)


if __name__ == "__main__":
    main()
