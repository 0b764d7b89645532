"""Pictures for the documents in 256 colours: a third of the bytes, and no difference that one sees."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PyQt6.QtGui import QImage, qRgb
from scipy.spatial import cKDTree


def save_small(image: QImage, path: Path) -> None:
    """Write a PNG of the 256 most frequent colours (32 steps a channel, each shown as its own mean); every other one
    becomes its nearest."""
    plain = image.convertToFormat(QImage.Format.Format_RGB888)
    wide, high = plain.width(), plain.height()
    bits = plain.constBits()
    assert bits is not None
    rows = np.frombuffer(bits.asarray(plain.sizeInBytes()), np.uint8).reshape(high, plain.bytesPerLine())
    rgb = rows[:, : 3 * wide].reshape(-1, 3).astype(np.int64)
    _, which, count = np.unique(rgb // 8, axis=0, return_inverse=True, return_counts=True)
    sums = [np.bincount(which.reshape(-1), rgb[:, k], minlength=len(count)) for k in range(3)]
    colours = np.rint(np.stack(sums, axis=1) / count[:, None]).astype(np.int64)
    top = colours[np.argsort(-count)[:256]]
    near = cKDTree(top).query(colours)[1]
    pixels = np.ascontiguousarray(near[which.reshape(-1)].astype(np.uint8))
    small = QImage(pixels.tobytes(), wide, high, wide, QImage.Format.Format_Indexed8)
    small.setColorTable([qRgb(*(int(v) for v in c)) for c in top])
    small.save(str(path), "PNG", 0)
