"""The lay net: every build direction on one disc, filled with the reserve, pins for the short list."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QColor, QImage, QPainter, QPen
from PyQt6.QtWidgets import QWidget

from knollside.core.lay.ways import Ranking
from knollside.core.model import Array
from knollside.desk.theme.look import TOKENS, font, look

_RAMP = ("clay", "straw", "chalk", "moss")  # in their Day inks always: dark chalk would break the order


def disc_point(direction: Array, centre: Array) -> tuple[float, float]:
    """Equal-area (Lambert) place on the unit disc of a direction or its opposite, about ``centre``."""
    d = np.asarray(direction, float)
    if d @ centre < 0:
        d = -d
    u = np.cross([0.0, 0, 1] if abs(centre[2]) < 0.9 else [0, 1.0, 0], centre)
    u /= np.linalg.norm(u)
    v = np.cross(centre, u)
    r = np.sqrt(max(1 - float(d @ centre), 0.0))
    x, y = float(d @ u), float(d @ v)
    s = np.hypot(x, y)
    return (0.0, 0.0) if s < 1e-9 else (r * x / s, r * y / s)


class LayNet(QWidget):
    """Strength is the same for a direction and its opposite, so one disc shows all. ``taken`` carries a letter."""

    taken = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Lay net: reserve for every direction")
        self.setMinimumHeight(210)
        self.ranking: Ranking | None = None
        self.chosen = ""
        self._image = QImage()
        self._span = (0.0, 0.0)
        # Off the common axes, so that the ways people use are not all on the rim.
        self._centre = np.array([0.48, -0.62, 0.62])
        self._centre /= np.linalg.norm(self._centre)
        look.changed.connect(self._paint_disc)

    def sizeHint(self) -> QSize:
        return QSize(340, 214)

    def put(self, ranking: Ranking | None, chosen: str) -> None:
        fresh = ranking is not self.ranking
        self.ranking, self.chosen = ranking, chosen
        if fresh:
            QTimer.singleShot(30, self._paint_disc)  # after the stage has had its turn
        self.update()

    def _paint_disc(self) -> None:
        if self.ranking is None:
            return
        from scipy.spatial import cKDTree

        n = 180
        g = (np.arange(n) + 0.5) / n * 2 - 1
        x, y = np.meshgrid(g, -g)
        r2 = x**2 + y**2
        inside = r2 <= 1
        # Inverse of disc_point: cos = 1 - r^2.
        c = 1 - r2
        s = np.sqrt(np.maximum(1 - c**2, 0)) / np.maximum(np.sqrt(r2), 1e-9)
        u = np.cross([0.0, 0, 1], self._centre)
        u /= np.linalg.norm(u)
        v = np.cross(self._centre, u)
        d = c[..., None] * self._centre + (x * s)[..., None] * u + (y * s)[..., None] * v
        net = self.ranking.net
        both = np.vstack([net.directions, -net.directions])
        value = np.log(np.r_[net.reserve, net.reserve])
        distance, near = cKDTree(both).query(d[inside], k=4)
        w = 1 / np.maximum(distance, 1e-3) ** 2
        reserve = np.exp((value[near] * w).sum(axis=1) / w.sum(axis=1))
        t = np.clip(0.5 + 0.5 * np.log(reserve / self.ranking.target) / np.log(4), 0, 1)
        stops = np.array([QColor(TOKENS[k][0]).getRgb()[:3] for k in _RAMP], float)
        k = np.minimum((t * 3).astype(int), 2)
        colour = stops[k] + (t * 3 - k)[:, None] * (stops[k + 1] - stops[k])
        image = np.zeros((n, n, 4), np.uint8)
        rows, cols = np.nonzero(inside)
        below = (reserve < 1) & ((rows + cols) % 6 < 2)
        colour[below] *= 0.6
        image[rows, cols, :3] = colour[:, ::-1]
        image[rows, cols, 3] = 255
        # Contours where the band of whole numbers changes.
        whole = np.full((n, n), -1)
        whole[inside] = np.floor(reserve).astype(int)
        edge = (whole[1:-1, 1:-1] != whole[:-2, 1:-1]) | (whole[1:-1, 1:-1] != whole[1:-1, :-2])
        edge &= inside[1:-1, 1:-1] & inside[:-2, 1:-1] & inside[1:-1, :-2]
        image[1:-1, 1:-1][edge, :3] = (image[1:-1, 1:-1][edge, :3] * 0.72).astype(np.uint8)
        self._image = QImage(image.data, n, n, 4 * n, QImage.Format.Format_ARGB32).copy()
        self._span = (float(reserve.min()), float(reserve.max()))
        self.update()

    def _disc(self) -> QRectF:
        side = min(self.height() - 12, 196)
        return QRectF(6, 6, side, side)

    def _at(self, direction: tuple[float, float, float]) -> QPointF:
        box = self._disc()
        x, y = disc_point(np.asarray(direction), self._centre)
        r = box.width() / 2
        return QPointF(box.center().x() + x * r, box.center().y() - y * r)

    def paintEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        box = self._disc()
        if self.ranking is None:
            p.setPen(QPen(look.colour("rule 2"), 1.5, Qt.PenStyle.DashLine))
            p.drawEllipse(box)
            p.setPen(look.colour("slate"))
            p.setFont(font(13))
            p.drawText(
                box.adjusted(24, 24, -24, -24),
                Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap,
                "No direction tried yet",
            )
            return
        if not self._image.isNull():
            p.drawImage(box, self._image)
        p.setPen(QPen(look.colour("peat"), 1.5))
        p.drawEllipse(box)
        for w in reversed(self.ranking.ways):
            at = self._at(w.direction)
            here = w.letter == self.chosen
            p.setPen(QPen(look.colour("heather"), 1.6))
            p.setBrush(look.colour("heather") if here else look.colour("paper"))
            p.drawEllipse(at, 10, 10)
            p.setPen(look.colour("paper") if here else look.colour("heather"))
            p.setFont(font(13, 700))
            p.drawText(QRectF(at.x() - 10, at.y() - 10, 20, 20), Qt.AlignmentFlag.AlignCenter, w.letter)
        self._legend(p, box.right() + 16)

    def _legend(self, p: QPainter, x: float) -> None:
        assert self.ranking is not None
        target = self.ranking.target
        p.setPen(look.colour("peat"))
        p.setFont(font(13, 600))
        p.drawText(QPointF(x, 20), "times the load")
        top, high, wide = 30.0, 108.0, 16.0
        for k in range(54):
            t = 1 - k / 53
            i = min(int(t * 3), 2)
            a, b = QColor(TOKENS[_RAMP[i]][0]), QColor(TOKENS[_RAMP[i + 1]][0])
            f = t * 3 - i
            c = [int(a.getRgb()[q] + f * (b.getRgb()[q] - a.getRgb()[q])) for q in range(3)]
            p.fillRect(QRectF(x, top + k * 2, wide, 2.2), QColor(*c))
        p.setPen(QPen(look.colour("peat"), 1))
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.drawRect(QRectF(x, top, wide, high))
        p.setFont(font(13))
        for v in (target / 4, target / 2, target, target * 2, target * 4):
            y = top + high * (0.5 - 0.5 * np.log(v / target) / np.log(4))
            needed = v == target
            p.setPen(QPen(look.colour("peat"), 2 if needed else 1))
            p.drawLine(QPointF(x, y), QPointF(x + wide + (6 if needed else 3), y))
            p.setFont(font(13, 700 if needed else 400))
            p.drawText(QPointF(x + wide + 9, y + 5), f"{v:.3g}" + (" needed" if needed else ""))
        p.setPen(look.colour("slate"))
        p.setFont(font(12))
        low, high_ = self._span
        p.drawText(
            QRectF(x, 150, self.width() - x, 56),
            Qt.TextFlag.TextWordWrap,
            f"{len(self.ranking.net.reserve)} directions, {low:.1f} to {high_:.1f}. A way and its opposite hold alike.",
        )

    def mousePressEvent(self, e) -> None:  # type: ignore[no-untyped-def]
        if self.ranking is None:
            return
        near = [((self._at(w.direction) - e.position()).manhattanLength(), w.letter) for w in self.ranking.ways]
        if near and min(near)[0] < 20:
            self.taken.emit(min(near)[1])
