"""Which pieces of a scene are handed over, and as what."""

from rubberquince.document.bodies import Meshes, piece_points, unit_mesh
from rubberquince.document.scene import Scene
from rubberquince.exchange.writing import Exported


def handed_over(scene: Scene, meshes: Meshes) -> tuple[list[Exported], list[Exported]]:
    """(still, moving) pieces: solids move, all that is visible besides stands still."""
    still, moving = [], []
    for piece in scene.pieces:
        exported = Exported(piece.name, unit_mesh(piece.shape, meshes), piece_points(piece, meshes))
        if piece.role == "solid":
            moving.append(exported)
        elif piece.visible:
            still.append(exported)
    return still, moving
