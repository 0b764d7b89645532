"""The layer log: quantities against height, joined to the stage by one cursor."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QKeyEvent, QPainter, QPainterPath, QPen, QPolygonF
from PyQt6.QtWidgets import QToolButton, QWidget

from knollside.core.job.answer import LayerLog
from knollside.core.lay.layer_warnings import LayerWarning
from knollside.gui.instruments.widgets import times
from knollside.gui.theme.look import font, look

_TOP, _BOTTOM = 96, 64
_HOLDS, _TRACK, _GAP = 50, 28, 8


class LogStrip(QWidget):
    """Tracks side by side; the mouse wheel, arrows and dragging move the cursor. ``moved`` carries mm."""

    moved = pyqtSignal(float)

    def __init__(self) -> None:
        super().__init__()
        self.setFixedWidth(204)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Layer log: quantities by height")
        self.setMouseTracking(True)
        self.log: LayerLog | None = None
        self.target = 0.0
        self.old = False
        self.notes: tuple[LayerWarning, ...] = ()
        self._at = self._free = self._seconds = np.zeros(0)
        self.cursor_mm = -1.0
        self.open_here = QToolButton(self)
        self.open_here.setText("open here")
        self.open_here.setCheckable(True)
        self.open_here.setToolTip("Take off what lies above the cursor, so that the stage shows this layer")
        self.open_here.setAccessibleName("Open the part at the cursor")
        self.open_here.clicked.connect(self._opened)
        self.open_here.hide()
        look.changed.connect(self.update)

    def _opened(self) -> None:
        self.open_here.setText("close" if self.open_here.isChecked() else "open here")
        self.moved.emit(self.cursor_mm)

    def tell(self, notes: tuple[LayerWarning, ...], heights: np.ndarray, free: np.ndarray, seconds: np.ndarray) -> None:
        """Notes by height, mm2 that rest on nothing and seconds a layer, once the layers have been looked at; empty
        before."""
        self.notes, self._at, self._free, self._seconds = notes, heights, free, seconds
        self.update()

    def put(self, log: LayerLog | None, target: float, old: bool) -> None:
        if log is not self.log and log is not None:
            solid = np.isfinite(log.peak) & (log.peak < 1e3)
            self.cursor_mm = (
                float(log.heights[np.argmin(np.where(solid, log.peak, np.inf))])
                if solid.any()
                else (float(log.heights[len(log.heights) // 2]))
            )
        self.log, self.target, self.old = log, target, old
        self.open_here.setVisible(log is not None)
        self.open_here.adjustSize()
        self.open_here.move(self.width() - self.open_here.width() - 8, 8)
        self.update()

    def _y(self, mm: float) -> float:
        assert self.log is not None
        top = float(self.log.heights[-1] + self.log.heights[0])
        return self.height() - _BOTTOM - (self.height() - _TOP - _BOTTOM) * mm / top

    def paintEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.fillRect(self.rect(), look.colour("paper"))
        p.setPen(QPen(look.colour("rule 2"), 1))
        p.drawLine(0, 0, 0, self.height())
        p.setPen(look.colour("peat"))
        p.setFont(font(15, 700))
        p.drawText(QPointF(12, 28), "Layers")
        p.setPen(look.colour("slate"))
        p.setFont(font(13))
        p.drawText(QPointF(64, 28), "old" if self.old else "")
        if self.log is None:
            p.drawText(
                QRectF(12, 60, self.width() - 24, 80),
                Qt.TextFlag.TextWordWrap,
                "Choose a way to lie to see its layers here.",
            )
            return
        strong = bool(np.isfinite(self.log.peak).any())
        x = 38.0
        if strong:
            self._holds(p, x, _HOLDS)
            x += _HOLDS + _GAP
        for name, unit, values, token in self._tracks():
            self._fill(p, x, _TRACK, values, name, unit, token)
            x += _TRACK + _GAP
        self._scale(p)
        self._cursor(p, strong)
        self._note(p)

    def _tracks(self) -> list[tuple[str, str, np.ndarray, str]]:
        """Name, unit, values at the log's heights and colour of each plain track."""
        assert self.log is not None
        area = ("Area", "cm²", self.log.area / 100, "slate")
        if not len(self._at):
            return [area, ("Leans", "cm²", self.log.overhang / 100, "straw")]
        at = self.log.heights
        free, seconds = np.interp(at, self._at, self._free), np.interp(at, self._at, self._seconds)
        return [area, ("Free", "mm²", free, "straw"), ("Time", "s", seconds, "spring")]

    def _head(self, p: QPainter, x: float, name: str, unit: str) -> None:
        p.setPen(look.colour("peat"))
        p.setFont(font(13, 700))
        p.drawText(QPointF(x, 62), name)
        p.setPen(look.colour("slate"))
        p.setFont(font(12))
        p.drawText(QPointF(x, 78), unit)

    def _scale(self, p: QPainter) -> None:
        assert self.log is not None
        top = float(self.log.heights[-1])
        step = next((s for s in (0.5, 1, 2, 5, 10, 20, 50, 100) if top / s <= 8), 200.0)
        p.setFont(font(12))
        for mm in np.arange(0, top + 0.01, step):
            y = self._y(float(mm))
            p.setPen(QPen(look.colour("peat"), 1))
            p.drawLine(QPointF(33, y), QPointF(38, y))
            p.setPen(look.colour("slate"))
            p.drawText(QRectF(0, y - 8, 30, 16), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, f"{mm:g}")

    def _holds(self, p: QPainter, x: float, width: float) -> None:
        """Reserve against parting: the curve of the layer's own forces, and beside it the band down to the
        weakest place near that height."""
        assert self.log is not None
        self._head(p, x, "Holds", "times")
        low, top = 0.5, max(20 * self.target, 40.0)

        def at(v: float) -> float:
            """Equal steps for equal ratios: a weak place and a stout layer both stay in sight."""
            return x + width * float(np.log(min(max(v, low), top) / low) / np.log(top / low))

        p.setPen(QPen(look.colour("peat"), 1))
        p.drawLine(QPointF(x, _TOP - 6), QPointF(x, self.height() - _BOTTOM))
        band = [QPointF(at(v), self._y(h)) for h, v in zip(self.log.heights, self.log.peak, strict=True)]
        fill = QPainterPath(QPointF(x, band[0].y()))
        for q in band:
            fill.lineTo(q)
        fill.lineTo(QPointF(x, band[-1].y()))
        p.save()
        p.setClipPath(fill)
        for v0, v1, token in ((low, 1.0, "clay"), (1.0, self.target, "straw"), (self.target, top, "moss")):
            c = QColor(look.colour(token))
            c.setAlpha(130)
            p.fillRect(QRectF(at(v0), 0, at(v1) - at(v0), self.height()), c)
        p.restore()
        plain = [
            QPointF(at(v) if np.isfinite(v) else at(top), self._y(h))
            for h, v in zip(self.log.heights, self.log.nominal, strict=True)
        ]
        p.setBrush(look.colour("peat", 46))
        p.setPen(Qt.PenStyle.NoPen)
        p.drawPolygon(QPolygonF([*band, *reversed(plain)]))
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.setPen(QPen(look.colour("peat"), 1.0))
        p.drawPolyline(QPolygonF(band))
        p.setPen(QPen(look.colour("peat"), 1.8))
        p.drawPolyline(QPolygonF(plain))
        p.setPen(QPen(look.colour("peat"), 1.6, Qt.PenStyle.DashLine))
        p.drawLine(QPointF(at(self.target), _TOP - 6), QPointF(at(self.target), self.height() - _BOTTOM))
        p.setFont(font(12, 600))
        p.setPen(look.colour("peat"))
        y = self.height() - _BOTTOM + 14
        p.drawText(QRectF(at(self.target) - 30, y - 10, 60, 14), Qt.AlignmentFlag.AlignHCenter, f"{self.target:g}")
        p.drawText(QRectF(x - 16, y + 3, 90, 14), Qt.AlignmentFlag.AlignLeft, f"needed {self.target:g}")

    def _fill(self, p: QPainter, x: float, width: float, values: np.ndarray, name: str, unit: str, token: str) -> None:
        assert self.log is not None
        self._head(p, x, name, unit)
        most = float(values.max())
        top = most or 1.0
        p.setPen(QPen(look.colour("peat"), 1))
        p.drawLine(QPointF(x, _TOP - 6), QPointF(x, self.height() - _BOTTOM))
        pts = [QPointF(x + width * v / top, self._y(h)) for h, v in zip(self.log.heights, values, strict=True)]
        path = QPainterPath(QPointF(x, pts[0].y()))
        for q in pts:
            path.lineTo(q)
        path.lineTo(QPointF(x, pts[-1].y()))
        c = QColor(look.colour(token))
        c.setAlpha(80)
        p.fillPath(path, c)
        p.setPen(QPen(look.colour("peat"), 1.1))
        p.drawPolyline(QPolygonF(pts))
        p.setPen(look.colour("slate"))
        p.setFont(font(12))
        p.drawText(
            QRectF(x - 6, self.height() - _BOTTOM + 4, 50, 14),
            Qt.AlignmentFlag.AlignLeft,
            f"{most:.0f}" if most >= 10 or most == 0 else f"{most:.1f}",
        )

    def _cursor(self, p: QPainter, strong: bool) -> None:
        assert self.log is not None
        k = int(np.argmin(np.abs(self.log.heights - self.cursor_mm)))
        y = self._y(self.cursor_mm)
        box = QRectF(2, y - 24, self.width() - 4, 44)
        p.setPen(QPen(look.colour("heather"), 1))
        p.setBrush(look.colour("chosen", 240))
        p.drawRect(box)
        p.setPen(look.colour("heather"))
        p.setFont(font(13, 700))
        p.drawText(QPointF(10, y - 8), f"{self.cursor_mm:.1f} mm")
        p.setFont(font(12))
        p.drawText(
            QRectF(0, y - 20, self.width() - 8, 16),
            Qt.AlignmentFlag.AlignRight,
            f"layer {max(1, int(np.ceil(self.cursor_mm / self.log.layer_height)))}",
        )
        p.setPen(look.colour("peat"))
        x = 38
        if strong:
            v = float(self.log.peak[k])
            p.setFont(font(13, 700))
            p.drawText(QPointF(x, y + 13), f"{times(v)}×" if v < 1e3 else "free")
            x += _HOLDS + _GAP
        p.setFont(font(12))
        for _, _, values, _ in self._tracks():
            v = float(np.interp(self.cursor_mm, self.log.heights, values))
            p.drawText(QPointF(x, y + 13), f"{v:.0f}" if v >= 10 or v == 0 else f"{v:.1f}")
            x += _TRACK + _GAP

    def _note(self, p: QPainter) -> None:
        """Marks beside the tracks, and in words the note at the cursor or the gravest one."""
        assert self.log is not None
        x = self.width() - 7.0
        for n in self.notes:
            p.setPen(Qt.PenStyle.NoPen)
            p.setBrush(look.colour("clay" if n.grave else "straw"))
            top, bottom = self._y(n.high), self._y(n.low)
            p.drawRect(QRectF(x - 1.5, top, 3, max(bottom - top, 2)))
            if n.grave:
                y = (top + bottom) / 2
                p.drawPolygon(QPolygonF([QPointF(x, y - 5), QPointF(x + 5, y), QPointF(x, y + 5), QPointF(x - 5, y)]))
        p.setFont(font(12, 600))
        p.setPen(look.colour("straw ink"))
        p.drawText(
            QRectF(12, self.height() - 34, self.width() - 18, 32), Qt.TextFlag.TextWordWrap, self.words_at_cursor()
        )

    def words_at_cursor(self) -> str:
        """The note at the cursor's height, else the gravest one; before the layers are known, where most leans."""
        assert self.log is not None
        here = [n for n in self.notes if n.low <= self.cursor_mm <= n.high]
        said = here[0] if here else self.notes[0] if self.notes else None
        if said is not None:
            return f"◆ {said.low:.0f} mm: {said.words}"
        if len(self._at) or self.log.overhang.max() <= 0:
            return ""
        return f"◆ leans too far at {self.log.heights[int(np.argmax(self.log.overhang))]:.0f} mm"

    def _to(self, mm: float) -> None:
        if self.log is not None:
            top = float(self.log.heights[-1])
            self.cursor_mm = min(max(mm, 0.0), top)
            self.update()
            self.moved.emit(self.cursor_mm)

    def _from_y(self, y: float) -> float:
        assert self.log is not None
        top = float(self.log.heights[-1] + self.log.heights[0])
        return (self.height() - _BOTTOM - y) / (self.height() - _TOP - _BOTTOM) * top

    def mousePressEvent(self, e) -> None:  # type: ignore[no-untyped-def]
        if self.log is not None:
            self._to(self._from_y(e.position().y()))

    def mouseMoveEvent(self, e) -> None:  # type: ignore[no-untyped-def]
        if self.log is not None and e.buttons():
            self._to(self._from_y(e.position().y()))

    def wheelEvent(self, e) -> None:  # type: ignore[no-untyped-def]
        if self.log is not None:
            self._to(self.cursor_mm + e.angleDelta().y() / 120 * float(self.log.heights[1] - self.log.heights[0]))

    def keyPressEvent(self, e: QKeyEvent | None) -> None:
        assert e is not None
        if self.log is not None and e.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self._to(self.cursor_mm + (1 if e.key() == Qt.Key.Key_Up else -1) * self.log.layer_height)
        else:
            super().keyPressEvent(e)
