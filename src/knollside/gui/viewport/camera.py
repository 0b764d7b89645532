"""Where the eye is: a plain parallel view that turns about the middle of the part."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from knollside.core.model import Array


@dataclass(frozen=True)
class Camera:
    """``yaw`` and ``pitch`` in degrees, ``zoom`` in pixels a mm, ``pan`` in pixels."""

    yaw: float = -38.0
    pitch: float = 26.0
    zoom: float = 4.0
    pan: tuple[float, float] = (0.0, 0.0)

    def basis(self) -> Array:
        """Rows: right, up, toward the eye."""
        y, p = np.radians(self.yaw), np.radians(self.pitch)
        right = np.array([np.cos(y), np.sin(y), 0.0])
        toward = np.array([np.sin(y) * np.cos(p), -np.cos(y) * np.cos(p), np.sin(p)])
        return np.stack([right, np.cross(toward, right), toward])

    def project(self, points: Array, middle: Array, width: float, height: float) -> Array:
        """Screen x, y (down) and nearness of points (n, 3)."""
        p = (points - middle) @ self.basis().T
        return np.stack(
            [p[:, 0] * self.zoom + width / 2 + self.pan[0], -p[:, 1] * self.zoom + height / 2 + self.pan[1], p[:, 2]],
            axis=1,
        )

    def turned(self, dx: float, dy: float) -> Camera:
        return replace(self, yaw=(self.yaw - dx) % 360, pitch=float(np.clip(self.pitch + dy, -89, 89)))

    def fitted(self, points: Array, middle: Array, width: float, height: float, room: float = 0.72) -> Camera:
        """Zoom so that the points fill ``room`` of the view, centred."""
        p = (points - middle) @ self.basis().T
        span = np.maximum(np.ptp(p[:, :2], axis=0), 1e-6)
        zoom = float(min(width * room / span[0], height * room / span[1]))
        centre = (p[:, :2].max(axis=0) + p[:, :2].min(axis=0)) / 2
        return replace(self, zoom=zoom, pan=(float(-centre[0] * zoom), float(centre[1] * zoom)))
