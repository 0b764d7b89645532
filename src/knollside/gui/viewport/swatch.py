"""The small sign of each face mark, in the legend and on the card."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QImage, QPainter, QPen, QPolygonF

from knollside.gui.theme.look import look
from knollside.gui.viewport.raster import KINDS, of_kind


@lru_cache(maxsize=64)
def _image_of(kind: int, wide: int, high: int, ease: int = 2) -> QImage:
    image = QImage(wide * ease, high * ease, QImage.Format.Format_RGB32)
    for y in range(high * ease):
        for x in range(wide * ease):
            colour = of_kind(kind, 222.0, 213.0, 190.0, x, y, float(ease))
            image.setPixelColor(x, y, QColor(*(int(v) for v in colour)))
    return image


def _kind(p: QPainter, box: QRectF, kind: int) -> None:
    """The ink and pattern of a kind, as the stage draws it."""
    p.drawImage(box, _image_of(kind, int(box.width()), int(box.height())))
    p.setPen(QPen(look.colour("slate"), 1))
    p.setBrush(Qt.BrushStyle.NoBrush)
    p.drawRect(box)


def swatch(p: QPainter, box: QRectF, name: str) -> None:
    """The small sign of a face mark: the same second code as on the part."""
    p.save()
    p.setRenderHint(QPainter.RenderHint.Antialiasing)
    ink = {"held": "spring", "pushed": "clay", "mates": "heather"}.get(name, "slate")
    c = look.colour(ink)
    p.setPen(QPen(c, 1.5))
    mid = box.center()
    if name == "held":
        p.drawRect(box)
        for k in range(1, 4):
            x = box.left() + box.width() * k / 4
            p.drawLine(QPointF(x - 4, box.bottom() - 1), QPointF(x + 4, box.top() + 1))
    elif name == "pushed":
        p.drawLine(QPointF(box.left(), mid.y()), QPointF(box.right() - 2, mid.y()))
        p.setBrush(c)
        p.drawPolygon(
            QPolygonF(
                [
                    QPointF(box.right(), mid.y()),
                    QPointF(box.right() - 6, mid.y() - 4),
                    QPointF(box.right() - 6, mid.y() + 4),
                ]
            )
        )
    elif name == "mates":
        p.drawEllipse(mid, 5, 5)
        p.setBrush(c)
        p.drawEllipse(mid, 1.5, 1.5)
    elif name == "shown":
        p.setPen(QPen(look.colour("peat"), 1.8, Qt.PenStyle.DotLine))
        p.drawRoundedRect(box, 3, 3)
    elif name == "hidden":
        p.setPen(QPen(look.colour("slate"), 1.5, Qt.PenStyle.DashLine))
        p.drawRect(box)
    elif name == "rests on nothing":
        p.setPen(QPen(look.colour("straw ink"), 1.2))
        p.drawRect(box)
        for k in range(4):
            x = box.left() + box.width() * k / 4
            p.drawLine(QPointF(x, box.bottom()), QPointF(x + 4, box.top()))
            p.drawLine(QPointF(x, box.top()), QPointF(x + 4, box.bottom()))
    elif name == "flexes":
        p.setPen(QPen(look.colour("peat"), 1.6))
        pts = [QPointF(box.left() + box.width() * t / 16, mid.y() + 4 * np.sin(t * 0.8)) for t in range(17)]
        p.drawPolyline(QPolygonF(pts))
    elif name in KINDS:
        _kind(p, box, KINDS.index(name) + 1)
    elif name == "reserve":
        for k, t in enumerate(("clay", "straw", "chalk", "moss")):
            p.fillRect(
                QRectF(box.left() + k * box.width() / 4, box.top(), box.width() / 4, box.height()), look.colour(t)
            )
    p.restore()
