"""The part as a picture: rasterised, shaded, inked. For the stage, and small for lists."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QSize
from PyQt6.QtGui import QImage

from knollside.core.mesh.appearance import Appearance
from knollside.core.model import Array, Ints, rotation_to_up
from knollside.gui.viewport import raster
from knollside.gui.viewport.camera import Camera
from knollside.gui.viewport.scene import Scene


def paint_part(scene: Scene, laid: Array, turn: Array, camera: Camera, size: QSize, ease: float) -> tuple[QImage, Ints]:
    """The part of ``scene`` with its corners ``laid`` (v, 3), and which face each pixel shows; ``ease`` pixels a
    point."""
    look = scene.look
    assert look is not None
    wide, high = size.width(), size.height()
    middle, bottom = (laid.max(axis=0) + laid.min(axis=0)) / 2, float(laid[:, 2].min())
    w, h = int(wide * ease), int(high * ease)
    screen = camera.project(laid, middle, wide, high)
    screen[:, :2] *= ease
    depth = np.full((h, w), -1e30, np.float32)
    face_at = np.full((h, w), -1, np.int32)
    bary = np.empty((h, w, 2), np.float32)
    faces = look.mesh.faces
    height = laid[:, 2] - bottom
    open_ = scene.opened and 0 <= scene.cursor < float(height.max())
    raster.draw(screen, faces, height, float(scene.cursor) if open_ else np.inf, depth, face_at, bary)
    mask = np.zeros((h, w), np.bool_)
    if scene.show_bed and camera.pitch > 3:
        flat = laid.copy()
        flat[:, :2] += (flat[:, 2] - bottom)[:, None] * np.array([0.30, -0.18])
        flat[:, 2] = bottom
        raster.shadow(camera.project(flat, middle, wide, high) * [ease, ease, 1], faces, mask)
    paint = scene.reserve is not None and len(scene.reserve) == len(laid)
    basis = camera.basis()
    light = 0.35 * basis[2] + 0.75 * np.array([0, 0, 1.0]) - 0.45 * basis[0]
    gap = max(scene.layer, 3.2 / max(camera.zoom, 1e-3))
    image = np.empty((h, w, 4), np.uint8)
    raster.shade(
        depth,
        face_at,
        bary,
        faces,
        look.normals @ turn.T,
        look.corner_normals @ turn.T,
        look.soft,
        look.group,
        scene.marks if len(scene.marks) == len(faces) else np.zeros(len(faces), np.int64),
        height,
        np.clip(scene.reserve, 0.02, 1e3) if paint and scene.reserve is not None else np.ones(len(laid)),
        float(scene.target) if paint else 0.0,
        float(np.ceil(gap / scene.layer) * scene.layer) if scene.direction is not None else 0.0,
        float(scene.cursor),
        light / np.linalg.norm(light),
        float(ease),
        mask,
        image,
    )
    drawn = QImage(image.tobytes(), w, h, 4 * w, QImage.Format.Format_ARGB32).copy()
    drawn.setDevicePixelRatio(ease)
    return drawn, face_at


def small_picture(look: Appearance, direction: tuple[float, float, float], size: QSize) -> QImage:
    """The part as it lies that way, filling a small picture."""
    turn = rotation_to_up(direction)
    laid = look.mesh.vertices @ turn.T
    middle = (laid.max(axis=0) + laid.min(axis=0)) / 2
    camera = Camera().fitted(laid, middle, size.width(), size.height(), 0.88)
    return paint_part(Scene(look=look, direction=direction), laid, turn, camera, size, 2.0)[0]
