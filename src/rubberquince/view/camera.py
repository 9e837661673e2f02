"""A camera that looks at a target from a distance.  y is up; angles in radians; lengths in metres."""

from dataclasses import dataclass, replace

import numpy as np

FIELD = np.radians(30.0)        # vertical field of view
STEEPEST = np.radians(89.0)
NEAREST, FARTHEST = 0.01, 2000.0


@dataclass(frozen=True)
class Camera:
    """Where the picture is taken from.  ``turn`` about y, ``lift`` above the horizon."""

    target: tuple[float, float, float] = (0.0, 0.1, 0.0)
    distance: float = 1.0
    turn: float = np.radians(30.0)
    lift: float = np.radians(24.0)

    @property
    def axes(self) -> np.ndarray:
        """Rows: right, up and backward, in the world."""
        ct, st, cl, sl = np.cos(self.turn), np.sin(self.turn), np.cos(self.lift), np.sin(self.lift)
        return np.array([[ct, 0.0, -st], [-st * sl, cl, -ct * sl], [st * cl, sl, ct * cl]])

    @property
    def eye(self) -> np.ndarray:
        return np.array(self.target) + self.distance * self.axes[2]

    def view(self) -> np.ndarray:
        """(4, 4) world to camera."""
        matrix = np.eye(4)
        matrix[:3, :3] = self.axes
        matrix[:3, 3] = -self.axes @ self.eye
        return matrix

    def depth_range(self) -> tuple[float, float]:
        return self.distance * 0.02, self.distance * 20.0 + 5.0

    def projection(self, aspect: float) -> np.ndarray:
        """(4, 4) camera to clip space, after OpenGL."""
        near, far = self.depth_range()
        f = 1.0 / np.tan(FIELD / 2)
        matrix = np.zeros((4, 4))
        matrix[0, 0], matrix[1, 1] = f / aspect, f
        matrix[2, 2], matrix[2, 3] = (far + near) / (near - far), 2 * far * near / (near - far)
        matrix[3, 2] = -1.0
        return matrix

    def project(self, points: np.ndarray, width: float, height: float) -> np.ndarray:
        """Pixels and depth (n, 3) of world points (n, 3); depth in metres, negative behind the camera."""
        local = (np.atleast_2d(points) - self.eye) @ self.axes.T
        depth = -local[:, 2]
        scale = 0.5 * height / np.tan(FIELD / 2) / np.where(np.abs(depth) < 1e-9, 1e-9, depth)
        return np.column_stack([width / 2 + local[:, 0] * scale, height / 2 - local[:, 1] * scale, depth])

    def ray(self, x: float, y: float, width: float, height: float) -> tuple[np.ndarray, np.ndarray]:
        """Eye and unit direction through pixel (x, y)."""
        slope = np.tan(FIELD / 2) / (0.5 * height)
        local = np.array([(x - width / 2) * slope, (height / 2 - y) * slope, -1.0])
        along = local @ self.axes
        return self.eye, along / np.linalg.norm(along)

    def turned(self, right: float, up: float) -> "Camera":
        """Turned about the target by angles."""
        return replace(self, turn=self.turn - right, lift=float(np.clip(self.lift + up, -STEEPEST, STEEPEST)))

    def moved(self, right: float, up: float, height: float) -> "Camera":
        """Moved by pixels, so that what lies at the target follows the pointer."""
        scale = self.distance * np.tan(FIELD / 2) / (0.5 * height)
        target = np.array(self.target) - scale * (right * self.axes[0] - up * self.axes[1])
        return replace(self, target=_vector(target))

    def zoomed(self, factor: float, x: float, y: float, width: float, height: float) -> "Camera":
        """Nearer by ``factor``, to what lies under pixel (x, y) at the target's depth."""
        distance = float(np.clip(self.distance * factor, NEAREST, FARTHEST))
        eye, along = self.ray(x, y, width, height)
        under = eye + along * self.distance / max(float(-along @ self.axes[2]), 0.1)
        target = under + (np.array(self.target) - under) * (distance / self.distance)
        return replace(self, target=_vector(target), distance=distance)

    def framing(self, low: np.ndarray, high: np.ndarray, aspect: float, margin: float = 1.12) -> "Camera":
        """The same direction, with the box from ``low`` to ``high`` filling the picture."""
        corners = np.array([[(low, high)[(k >> i) & 1][i] for i in range(3)] for k in range(8)])
        centre = (np.asarray(low) + high) / 2
        local = (corners - centre) @ self.axes.T
        slope = np.tan(FIELD / 2) / margin
        need = np.maximum(np.abs(local[:, 0]) / (slope * aspect), np.abs(local[:, 1]) / slope) + local[:, 2]
        return replace(self, target=_vector(centre),
                       distance=float(np.clip(need.max(), NEAREST, FARTHEST)))


def _vector(values: np.ndarray) -> tuple[float, float, float]:
    return float(values[0]), float(values[1]), float(values[2])
