"""A small picture of one piece, for its card."""

import numpy as np

from rubberquince.document.scene import Piece
from rubberquince.shapes.polymesh import PolyMesh
from rubberquince.view.body import Body
from rubberquince.view.camera import Camera
from rubberquince.view.renderer import Renderer
from rubberquince.view.stage import Stage, linear_colour


def portrait(renderer: Renderer, piece: Piece, mesh: PolyMesh, pixels: int) -> np.ndarray:
    """(pixels, pixels, 4) uint8: the piece by itself, upright on the floor."""
    body = Body(mesh, piece.place.size)
    lift = np.array([0.0, piece.place.size[1] / 2, 0.0])
    body.place(mesh.points * np.array(piece.place.size) + lift)
    body.colour, body.material, body.moves = linear_colour(piece.look.colour), piece.look.material, True
    if body.material == "film":             # by itself it could not be seen
        body.material = "matte"
    stage = Stage(bodies={"portrait": body})
    camera = Camera(lift=np.radians(20.0)).framing(*body.bounds(), 1.0, margin=1.25)
    whole = renderer.draw(stage, camera, 2 * pixels, 2 * pixels)
    return whole.reshape(pixels, 2, pixels, 2, 4).mean(axis=(1, 3)).astype(np.uint8)
