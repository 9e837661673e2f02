"""The command line: the same work without a window."""

import sys
import tempfile
import time
from pathlib import Path
from typing import Annotated

import typer

from rubberquince import __version__
from rubberquince import desktop as entry
from rubberquince.bake.assemble import lattice_of
from rubberquince.bake.cache import FrameCache
from rubberquince.bake.export import export_frame, export_run
from rubberquince.bake.run import SceneRun
from rubberquince.demos import harvest_fair
from rubberquince.document.bodies import unit_mesh
from rubberquince.document.scene import Scene, changed
from rubberquince.document.storage import load_scene, save_scene
from rubberquince.errors import ExportError, QuinceError
from rubberquince.shapes.polymesh import PolyMesh

app = typer.Typer(add_completion=False, no_args_is_help=True, pretty_exceptions_enable=False,
                  help="Soft things, without a window.")
SceneFile = Annotated[Path, typer.Argument(help="a .quince scene")]
Frames = Annotated[str, typer.Option(help="which frames, for instance 1-120")]


@app.command()
def bake(scene: SceneFile,
         out: Annotated[Path, typer.Option(help="the file to write: USD, GLB, or OBJ and PLY as numbered files")],
         frames: Frames = "", quality: Annotated[str, typer.Option(help="draft, good or sure")] = "") -> None:
    """Compute a range of frames and write it as animated points."""
    document, meshes = load_scene(scene)
    first, last = frame_range(frames, document)
    if quality:
        document = changed(document, "run.quality", quality)
    with tempfile.TemporaryDirectory() as folder:
        cache = compute(document, meshes, Path(folder) / "frames", last)
        written = export_run(out, document, meshes, cache, first, last)
    print(f"{written} frames in {out}")


@app.command()
def export(scene: SceneFile, out: Annotated[Path, typer.Option(help="the file to write: OBJ, PLY, STL or GLB")],
           frame: Annotated[int, typer.Option(help="which frame; 0 as placed")] = 0) -> None:
    """Write one frame as a mesh, computing up to it."""
    document, meshes = load_scene(scene)
    skin = None
    with tempfile.TemporaryDirectory() as folder:
        if frame > 0:
            frame_range(f"{frame}-{frame}", document)
            skin = compute(document, meshes, Path(folder) / "frames", frame).skin(frame)
        export_frame(out, document, meshes, skin)
    print(f"frame {frame} in {out}" if frame else f"{out}")


@app.command()
def info(scene: SceneFile) -> None:
    """Say what is in a scene."""
    document, meshes = load_scene(scene)
    run = document.run
    print(f"frames {run.first}-{run.last} at {run.fps:g} fps, quality {run.quality}")
    for piece in document.pieces:
        mesh = unit_mesh(piece.shape, meshes)
        cells = f", {lattice_of(piece, meshes).cells} cells" if piece.role == "solid" else ""
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


def compute(scene: Scene, meshes: dict[str, PolyMesh], folder: Path, last: int) -> FrameCache:
    """Compute frames up to ``last`` with a line of progress on stderr."""
    run = SceneRun(scene, meshes, folder, stop=lambda: False)
    began = time.monotonic()
    for frame in run.frames(last):
        spent = time.monotonic() - began
        done = frame.number - scene.run.first
        left = spent / max(done, 1) * (last - frame.number)
        if sys.stderr.isatty() or frame.number == last:
            print(f"\rframe {frame.number} of {last}, {left:.0f} s left   ", end="", file=sys.stderr, flush=True)
    print(file=sys.stderr)
    return run.open_cache(last + 1)


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
