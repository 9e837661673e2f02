"""Which pieces of a scene are handed over, and as what."""

from rubberquince.document.bodies import Meshes, piece_points, unit_mesh
from rubberquince.document.scene import Scene
from rubberquince.exchange.writing import Exported


def handed_over(scene: Scene, meshes: Meshes) -> tuple[list[Exported], list[Exported]]:
    """(still, moving) pieces of those that are seen: Solids and Shells move, all others stand still; forces are not
    seen."""
    still: list[Exported] = []
    moving: list[Exported] = []
    for piece in scene.pieces:
        if piece.visible and piece.role != "force":
            exported = Exported(piece.name, unit_mesh(piece.shape, meshes), piece_points(piece, meshes), piece.id)
            (moving if piece.is_seen_moving else still).append(exported)
    return still, moving
