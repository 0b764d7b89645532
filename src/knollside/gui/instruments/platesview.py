"""Plates from above with true outlines and names; pieces are dragged and turned by hand and stay where they are put."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import shapely
import shapely.affinity
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPainterPath, QPen, QPolygonF
from PyQt6.QtWidgets import QWidget
from shapely.geometry.base import BaseGeometry

from knollside.core.job.questions.plates import Plate
from knollside.core.run.outlines import turned
from knollside.core.run.packing import Placed
from knollside.gui.instruments.stagepaint import begun, empty
from knollside.gui.theme.look import font, look

_ACROSS = 3  # plates side by side at most


@dataclass(frozen=True)
class Moved:
    """A piece put elsewhere by hand: its key, the numbers of the plates it came from and lies on, lower left mm and
    degrees."""

    key: str
    origin: int
    plate: int
    x: float
    y: float
    angle: float


class PlatesView(QWidget):
    """Up to six plates, the one under discussion outlined. ``taken`` carries a plate's number, ``moved`` a
    :class:`Moved`."""

    taken = pyqtSignal(int)
    moved = pyqtSignal(object)

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Plates from above")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.plates: tuple[Plate, ...] = ()
        self.front, self.empty, self.old = 0, "", False
        self.picked = ""
        self._drag: tuple[str, QPointF, QPointF] | None = None
        self._turned: dict[str, float] = {}
        look.changed.connect(self.update)

    def put(self, plates: tuple[Plate, ...], front: int, empty: str, old: bool) -> None:
        if plates is not self.plates:
            self._turned.clear()
            if self.picked not in {p.item.key for q in plates for p in q.placed}:
                self.picked = ""
        self.plates, self.front, self.empty, self.old = plates, front, empty, old
        self.update()

    # Where things are

    def _shown(self) -> range:
        """The plates on show: a page of six with the one in front among them."""
        first = self.front // (2 * _ACROSS) * 2 * _ACROSS
        return range(first, min(first + 2 * _ACROSS, len(self.plates)))

    def _box(self, k: int) -> tuple[QRectF, float]:
        """Where a plate's bed is drawn, and pixels a mm."""
        shown = self._shown()
        most = [max(self.plates[j].printer.bed_mm[a] for j in shown) for a in (0, 1)]

        def room_of(across: int) -> tuple[float, float, float]:
            rows = -(-len(shown) // across)
            wide, high = (self.width() - 24) / across, (self.height() - 14) / rows
            return min((wide - 20) / most[0], (high - 84) / most[1]), wide, high

        # As large as they go, side by side where two ways are alike.
        across = max(range(min(len(shown), _ACROSS), 0, -1), key=lambda n: round(room_of(n)[0], 2))
        scale, wide, high = room_of(across)
        scale, i = max(scale, 0.05), k - shown.start
        left, top = 12 + (i % across) * wide, 8 + (i // across) * high
        room = QRectF(left + 10, top + 52, wide - 20, high - 84)
        bed = self.plates[k].printer.bed_mm
        return QRectF(room.left(), room.top(), bed[0] * scale, bed[1] * scale), scale

    def _placed(self, p: Placed) -> BaseGeometry:
        """A piece's outline as it is shown: turned and dragged."""
        angle = self._turned.get(p.item.key, p.angle)
        shape = turned(p.item.shape, angle)
        if angle != p.angle:
            # Turned about its own middle.
            a, b = p.shape.bounds, shape.bounds
            by = (a[0] + a[2] - b[2]) / 2, (a[1] + a[3] - b[3]) / 2
        else:
            by = p.x, p.y
        return shapely.affinity.translate(shape, *by)

    def _dragged(self, key: str, scale: float) -> tuple[float, float]:
        if self._drag is None or self._drag[0] != key:
            return 0.0, 0.0
        by = self._drag[2] - self._drag[1]
        return by.x() / scale, -by.y() / scale

    def _hit(self, at: QPointF) -> tuple[int, Placed | None]:
        for k in self._shown():
            box, scale = self._box(k)
            if box.adjusted(-10, -50, 10, 24).contains(at):
                spot = shapely.Point((at.x() - box.left()) / scale, (box.bottom() - at.y()) / scale)
                for p in self.plates[k].placed:
                    if shapely.distance(self._placed(p), spot) < 1.5:
                        return k, p
                return k, None
        return -1, None

    # Mouse and keys

    def mousePressEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        plate, piece = self._hit(event.position())
        if plate < 0:
            return
        self.picked = piece.item.key if piece is not None else ""
        if piece is not None:
            self._drag = (piece.item.key, event.position(), event.position())
        self.taken.emit(plate)
        self.update()

    def mouseMoveEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        if self._drag is not None:
            self._drag = (*self._drag[:2], event.position())
            self.update()

    def mouseReleaseEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        drag, self._drag = self._drag, None
        if drag is not None and (drag[2] - drag[1]).manhattanLength() > 4:
            self._put_down(drag[2] - drag[1], drag[2])
        self.update()

    def keyPressEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        found = self._picked()
        if found is not None and event.key() in (Qt.Key.Key_R, Qt.Key.Key_T):
            by = 90.0 if event.key() == Qt.Key.Key_R else 15.0
            p = found[1]
            self._turned[p.item.key] = (self._turned.get(p.item.key, p.angle) + by) % 360
            self._put_down(QPointF(0, 0))
        elif event.key() in (Qt.Key.Key_Left, Qt.Key.Key_Right) and self.plates:
            step = 1 if event.key() == Qt.Key.Key_Right else -1
            self.taken.emit((self.front + step) % len(self.plates))
        else:
            super().keyPressEvent(event)

    def _picked(self) -> tuple[int, Placed] | None:
        return next(((k, p) for k, q in enumerate(self.plates) for p in q.placed if p.item.key == self.picked), None)

    def _put_down(self, by: QPointF, at: QPointF | None = None) -> None:
        found = self._picked()
        if found is None:
            return
        k, p = found
        box, scale = self._box(k)
        shape = self._placed(p)
        x, y = shape.bounds[0] + by.x() / scale, shape.bounds[1] - by.y() / scale
        over = k
        if at is not None:
            over = next((j for j in self._shown() if self._box(j)[0].contains(at)), k)
            other = self._box(over)[0]
            # As it is seen: the same place on the screen, told from the other bed's corner.
            x, y = x + (box.left() - other.left()) / scale, y + (other.bottom() - box.bottom()) / scale
        self.moved.emit(Moved(p.item.key, k, over, round(x, 2), round(y, 2), self._turned.get(p.item.key, p.angle)))

    # Drawing

    def paintEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        p = begun(self)
        if not self.plates:
            empty(p, self, self.empty)
            return
        for k in self._shown():
            self._draw(p, k)
        found = self._picked() if self._drag is not None else None
        if found is not None:
            # What is dragged lies over all plates.
            self._piece(p, *self._box(found[0]), found[1])

    def _draw(self, p: QPainter, k: int) -> None:
        plate, (box, scale) = self.plates[k], self._box(k)
        front = k == self.front
        ring = QRectF(box.left(), box.top() - 42, 24, 24)
        p.setPen(QPen(look.colour("heather"), 1.6))
        p.setBrush(look.colour("heather") if front else Qt.BrushStyle.NoBrush)
        p.drawEllipse(ring)
        p.setPen(look.colour("paper") if front else look.colour("heather"))
        p.setFont(font(13, 700))
        p.drawText(ring, Qt.AlignmentFlag.AlignCenter, str(k + 1))
        p.setBrush(Qt.BrushStyle.NoBrush)
        words = QRectF(ring.right() + 8, ring.top() - 6, max(box.width() - 30, 90), 18)
        p.setPen(look.colour("peat"))
        p.setFont(font(14, 700))
        metric = p.fontMetrics()
        p.drawText(words, metric.elidedText(plate.title, Qt.TextElideMode.ElideRight, int(words.width())))
        p.setPen(look.colour("slate"))
        p.setFont(font(12))
        metric = p.fontMetrics()
        under = f"{plate.printer.name}, {plate.filament}, {plate.grams:.0f} g" + (", old" if self.old else "")
        p.drawText(words.translated(0, 18), metric.elidedText(under, Qt.TextElideMode.ElideRight, int(words.width())))
        self._bed(p, box, scale, plate)
        for q in plate.placed:
            if self._drag is None or q.item.key != self._drag[0]:
                self._piece(p, box, scale, q)
        p.setPen(QPen(look.colour("heather") if front else look.colour("bedrock"), 2.0 if front else 1.0))
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.drawRect(box)
        p.setPen(look.colour("slate"))
        p.setFont(font(11))
        p.drawText(QPointF(box.left(), box.bottom() + 15), f"{plate.printer.bed_mm[0]:.0f} mm, from above")
        p.drawText(QRectF(box.right() - 60, box.bottom() + 3, 60, 16), Qt.AlignmentFlag.AlignRight, "front")

    def _bed(self, p: QPainter, box: QRectF, scale: float, plate: Plate) -> None:
        p.fillRect(box, look.colour("bed"))
        p.setPen(QPen(look.colour("bed lines"), 1))
        for v in np.arange(20, max(plate.printer.bed_mm[:2]), 20) * scale:
            if v < box.width():
                p.drawLine(QPointF(box.left() + v, box.top()), QPointF(box.left() + v, box.bottom()))
            if v < box.height():
                p.drawLine(QPointF(box.left(), box.bottom() - v), QPointF(box.right(), box.bottom() - v))

    def _piece(self, p: QPainter, box: QRectF, scale: float, q: Placed) -> None:
        dx, dy = self._dragged(q.item.key, scale)
        shape = shapely.affinity.translate(self._placed(q), dx, dy)
        path = QPainterPath()
        path.setFillRule(Qt.FillRule.OddEvenFill)
        for g in shapely.get_parts(shape):
            for ring in (g.exterior, *g.interiors):
                xy = np.asarray(ring.coords)[:, :2]
                path.addPolygon(QPolygonF([QPointF(box.left() + x * scale, box.bottom() - y * scale) for x, y in xy]))
        chosen = q.item.key == self.picked
        p.fillPath(path, look.colour("full") if not chosen else look.colour("heather", 120))
        p.setPen(QPen(look.colour("peat"), 2.2 if q.locked else 1.2))
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.drawPath(path)
        low_x, low_y, high_x, high_y = shape.bounds
        p.setFont(font(10))
        half = p.fontMetrics().horizontalAdvance(q.item.name) / 2 / scale + 1, 7 / scale
        x, y = (low_x + high_x) / 2, (low_y + high_y) / 2
        # A name over a hole's rim is not read.
        if shape.covers(shapely.box(x - half[0], y - half[1], x + half[0], y + half[1])):
            p.setPen(look.colour("peat"))
            at = QRectF(box.left() + x * scale - 90, box.bottom() - y * scale - 8, 180, 16)
            p.drawText(at, Qt.AlignmentFlag.AlignCenter, q.item.name)
