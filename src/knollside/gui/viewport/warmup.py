"""Draws a small part once, without a window, so that the drawing kernels are compiled and kept."""

from __future__ import annotations

import numpy as np

from knollside.core.mesh.appearance import appearance_of
from knollside.core.model import Mesh
from knollside.gui.viewport import raster
from knollside.gui.viewport.camera import Camera


def draw_once(mesh: Mesh, width: int = 64, height: int = 48) -> np.ndarray:
    """An image (h, w, 4) BGRA of the mesh, with the argument types the stage uses."""
    a = appearance_of(mesh)
    middle = mesh.bounds.mean(axis=0)
    camera = Camera().fitted(mesh.vertices, middle, width, height)
    screen = camera.project(mesh.vertices, middle, width, height)
    depth = np.full((height, width), -1e30, np.float32)
    face_at = np.full((height, width), -1, np.int32)
    bary = np.empty((height, width, 2), np.float32)
    raster.draw(screen, a.mesh.faces, mesh.vertices[:, 2] - 0.0, np.inf, depth, face_at, bary)
    mask = np.zeros((height, width), np.bool_)
    raster.shadow(screen, a.mesh.faces, mask)
    image = np.empty((height, width, 4), np.uint8)
    n = len(mesh.vertices)
    raster.shade(
        depth,
        face_at,
        bary,
        a.mesh.faces,
        a.normals @ np.eye(3).T,
        a.corner_normals @ np.eye(3).T,
        a.soft,
        a.group,
        np.zeros(len(a.mesh.faces), np.int64),
        mesh.vertices[:, 2] - 0.0,
        np.ones(n),
        2.0,
        0.2,
        -1.0,
        np.array([0, 0, 1.0]),
        1.0,
        mask,
        image,
    )
    return image
