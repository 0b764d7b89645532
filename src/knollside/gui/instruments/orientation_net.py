"""The lay net: every build direction on one disc, filled with a measure, pins for the short list."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QColor, QImage, QMouseEvent, QPainter, QPen
from PyQt6.QtWidgets import QWidget

from knollside.core.lay.orientations import Ranking
from knollside.core.model import Array
from knollside.gui.theme.look import TOKENS, font, look

_RAMP = ("clay", "straw", "chalk", "moss")  # in their Day inks always: dark chalk would break the order
_LINES = (0.25, 0.5, 0.75, 1, 1.25, 1.5, 1.75, 2, 2.5, 3, 3.5, 4, 5, 6, 8, 10, 12, 15, 20, 30)
MEASURES = {"Weakest of all": "reserve", "Layers parting": "interlayer_reserve", "Broken across": "across"}
_SIDE = 180


def disc_frame(centre: Array) -> tuple[Array, Array]:
    """Right and up of the disc, square to its middle direction."""
    u = np.cross([0.0, 0, 1] if abs(centre[2]) < 0.9 else [0, 1.0, 0], centre)
    u /= np.linalg.norm(u)
    return u, np.cross(centre, u)


def disc_point(direction: Array, centre: Array) -> tuple[float, float]:
    """Equal-area (Lambert) place on the unit disc of a direction or its opposite, about ``centre``."""
    d = np.asarray(direction, float)
    if d @ centre < 0:
        d = -d
    u, v = disc_frame(centre)
    r = np.sqrt(max(1 - float(d @ centre), 0.0))
    x, y = float(d @ u), float(d @ v)
    s = np.hypot(x, y)
    return (0.0, 0.0) if s < 1e-9 else (r * x / s, r * y / s)


def disc_direction(x: Array, y: Array, centre: Array) -> Array:
    """Inverse of :func:`disc_point`: unit directions (..., 3) of places within the unit disc."""
    r2 = np.minimum(x**2 + y**2, 1.0)
    c = 1 - r2
    s = np.sqrt(np.maximum(1 - c**2, 0)) / np.maximum(np.sqrt(r2), 1e-9)
    u, v = disc_frame(centre)
    return np.asarray(c[..., None] * centre + (x * s)[..., None] * u + (y * s)[..., None] * v)


_ALIKE = "A way and its opposite hold alike."


class LayNet(QWidget):
    """Strength is the same for a direction and its opposite, so one disc shows all.

    ``taken`` carries a letter; ``tried`` a direction under the dragged pin, ``asked`` the one it was left at.
    """

    taken = pyqtSignal(str)
    tried = pyqtSignal(tuple)
    asked = pyqtSignal(tuple)

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Lay net: reserve for every direction")
        self.setMinimumHeight(210)
        self.setCursor(Qt.CursorShape.CrossCursor)
        self.setToolTip("Click a pin to take a way; press elsewhere and drag to ask why not there")
        self.ranking: Ranking | None = None
        self.empty = "No direction tried yet"
        self.chosen = ""
        self.measure = "reserve"
        self.hand: tuple[float, float, float] | None = None
        self._image = QImage()
        self._span = (0.0, 0.0)
        self._wide = 4.0
        self._labels: list[tuple[float, float, float]] = []
        # Off the common axes, so that the ways people use are not all on the rim.
        self._centre = np.array([0.48, -0.62, 0.62])
        self._centre /= np.linalg.norm(self._centre)
        look.changed.connect(self._paint_disc)

    def sizeHint(self) -> QSize:
        return QSize(340, 214)

    def put(self, ranking: Ranking | None, chosen: str, measure: str = "reserve") -> None:
        fresh = ranking is not self.ranking or measure != self.measure
        if ranking is not self.ranking:
            self.hand = None
        self.ranking, self.chosen, self.measure = ranking, chosen, measure
        if fresh:
            QTimer.singleShot(30, self._paint_disc)  # after the stage has had its turn
        self.update()

    def _paint_disc(self) -> None:
        if self.ranking is None:
            return
        from scipy.spatial import cKDTree

        n = _SIDE
        g = (np.arange(n) + 0.5) / n * 2 - 1
        x, y = np.meshgrid(g, -g)
        inside = x**2 + y**2 <= 1
        d = disc_direction(x, y, self._centre)
        net = self.ranking.net
        both = np.vstack([net.directions, -net.directions])
        value = np.log(np.clip(np.tile(getattr(net, self.measure), 2), 1e-3, 1e3))
        distance, near = cKDTree(both).query(d[inside], k=4)
        w = 1 / np.maximum(distance, 1e-3) ** 2
        shown = np.exp((value[near] * w).sum(axis=1) / w.sum(axis=1))
        low, high, target = float(shown.min()), float(shown.max()), self.ranking.target
        # The ramp's middle is the need; it opens just as far as the values go.
        self._wide = float(np.clip(max(high / target, target / low), 1.6, 6.0))
        t = np.clip(0.5 + 0.5 * np.log(shown / target) / np.log(self._wide), 0, 1)
        stops = np.array([QColor(TOKENS[k][0]).getRgb()[:3] for k in _RAMP], float)
        k = np.minimum((t * 3).astype(int), 2)
        colour = stops[k] + (t * 3 - k)[:, None] * (stops[k + 1] - stops[k])
        image = np.zeros((n, n, 4), np.uint8)
        rows, cols = np.nonzero(inside)
        below = (shown < 1) & ((rows + cols) % 6 < 2)
        colour[below] *= 0.6
        # Where it is too large for the bed: crossed lines, a second code besides the words of the legend.
        large = ~np.tile(self.ranking.fits, 2)[np.asarray(near)[:, 0]]
        colour[large & (((rows + cols) % 9 < 1) | ((rows - cols) % 9 < 1))] = QColor(TOKENS["peat"][0]).getRgb()[:3]
        image[rows, cols, :3] = colour[:, ::-1]
        image[rows, cols, 3] = 255
        lines = [v for v in _LINES if low * 1.02 < v < high * 0.98]
        while len(lines) > 5:
            lines = lines[::2]
        band = np.full((n, n), -1)
        band[inside] = np.searchsorted(lines, shown)
        edge = np.zeros((n, n), bool)
        edge[1:-1, 1:-1] = (band[1:-1, 1:-1] != band[:-2, 1:-1]) | (band[1:-1, 1:-1] != band[1:-1, :-2])
        edge[1:-1, 1:-1] &= inside[:-2, 1:-1] & inside[1:-1, :-2]
        edge &= inside
        image[edge, :3] = (image[edge, :3] * 0.66).astype(np.uint8)
        self._labels = self._spots(lines, band, edge, n)
        self._image = QImage(image.tobytes(), n, n, 4 * n, QImage.Format.Format_ARGB32).copy()
        self._span = (low, high)
        self.update()

    def _spots(self, lines: list[float], band: Array, edge: Array, n: int) -> list[tuple[float, float, float]]:
        """Where each contour gets its number: on the line, clear of pins and of the other numbers."""
        assert self.ranking is not None
        pins = [disc_point(np.asarray(w.direction), self._centre) for w in self.ranking.orientations]
        taken = [((p[0] + 1) / 2 * n, (1 - p[1]) / 2 * n) for p in pins]
        out = []
        for i, v in enumerate(lines):
            rows, cols = np.nonzero(edge & ((band == i) | (band == i + 1)))
            rim = np.hypot(rows - n / 2, cols - n / 2) < 0.43 * n
            rows, cols = rows[rim], cols[rim]
            if len(rows) < 12:
                continue
            gap = np.min([np.hypot(rows - t[1], cols - t[0]) for t in taken], axis=0) if taken else np.ones(len(rows))
            best = int(np.argmax(gap))
            if gap[best] < 14:
                continue
            taken.append((float(cols[best]), float(rows[best])))
            out.append((float(cols[best]) / n, float(rows[best]) / n, v))
        return out

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
                self.empty,
            )
            return
        if not self._image.isNull():
            p.drawImage(box, self._image)
        p.setPen(QPen(look.colour("peat"), 1.5))
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.drawEllipse(box)
        p.setFont(font(12, 600))
        for x, y, v in self._labels:
            at = QPointF(box.left() + x * box.width(), box.top() + y * box.height())
            p.setPen(QColor(TOKENS["peat"][0]))
            p.drawText(QRectF(at.x() - 16, at.y() - 9, 32, 18), Qt.AlignmentFlag.AlignCenter, f"{v:g}")
        for w in reversed(self.ranking.orientations):
            self._pin(p, self._at(w.direction), w.letter, w.letter == self.chosen)
        if self.hand is not None:
            self._pin(p, self._at(self.hand), "?", False, Qt.PenStyle.DashLine)
        self._legend(p, box.right() + 16)

    def _pin(
        self, p: QPainter, at: QPointF, letter: str, here: bool, line: Qt.PenStyle = Qt.PenStyle.SolidLine
    ) -> None:
        p.setPen(QPen(look.colour("heather"), 1.6, line))
        p.setBrush(look.colour("heather") if here else look.colour("paper"))
        p.drawEllipse(at, 10, 10)
        p.setPen(look.colour("paper") if here else look.colour("heather"))
        p.setFont(font(13, 700))
        p.drawText(QRectF(at.x() - 10, at.y() - 10, 20, 20), Qt.AlignmentFlag.AlignCenter, letter)

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
        for step in (-1.0, -0.5, 0.0, 0.5, 1.0):
            v = target * self._wide**step
            y = top + high * (0.5 - 0.5 * step)
            needed = step == 0
            p.setPen(QPen(look.colour("peat"), 2 if needed else 1))
            p.drawLine(QPointF(x, y), QPointF(x + wide + (6 if needed else 3), y))
            p.setFont(font(13, 700 if needed else 400))
            p.drawText(
                QPointF(x + wide + 9, y + 5), (f"{v:.2g}" if v < 10 else f"{v:.0f}") + (" needed" if needed else "")
            )
        p.setPen(look.colour("slate"))
        p.setFont(font(12))
        low, high_ = self._span
        net = self.ranking.net
        p.drawText(
            QRectF(x, 150, self.width() - x, 56),
            Qt.TextFlag.TextWordWrap,
            f"{len(net.reserve):,} directions, {low:.1f} to {high_:.1f}. "
            + ("Crossed lines: too large for the bed." if not self.ranking.fits.all() else _ALIKE),
        )

    # The hand

    def _under(self, at: QPointF) -> tuple[float, float, float] | None:
        """The direction under a place, of it and its opposite the one that leans less; None off the disc."""
        box = self._disc()
        x = (at.x() - box.center().x()) / (box.width() / 2)
        y = -(at.y() - box.center().y()) / (box.width() / 2)
        if self.ranking is None or x * x + y * y > 1:
            return None
        d = disc_direction(np.array(x), np.array(y), self._centre)
        net = self.ranking.net.directions
        lean = [float(self.ranking.shape.overhang[int(np.argmax(net @ s))]) for s in (d, -d)]
        if lean[1] < lean[0]:
            d = -d
        a, b, c = (float(v) for v in d / np.linalg.norm(d))
        return a, b, c

    def mousePressEvent(self, e: QMouseEvent | None) -> None:
        assert e is not None
        if self.ranking is None:
            return
        near = [((self._at(w.direction) - e.position()).manhattanLength(), w.letter) for w in self.ranking.orientations]
        if near and min(near)[0] < 14:
            self.hand = None
            self.taken.emit(min(near)[1])
        else:
            self._try(e.position())

    def mouseMoveEvent(self, e: QMouseEvent | None) -> None:
        assert e is not None
        if e.buttons() & Qt.MouseButton.LeftButton and self.hand is not None:
            self._try(e.position())

    def mouseReleaseEvent(self, e: QMouseEvent | None) -> None:
        if self.hand is not None:
            self.asked.emit(self.hand)

    def _try(self, at: QPointF) -> None:
        direction = self._under(at)
        if direction is not None:
            self.hand = direction
            self.tried.emit(direction)
            self.update()
