"""Small drawings that go with a number of Fits: across or a side, in a section; and how a number moved over time."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QWidget

from knollside.core.fit.play import RunningIn
from knollside.core.fit.process import Moved
from knollside.core.mesh.bore import roof_profile
from knollside.gui.theme.look import font, look

TIPS = {
    "hole": "a diameter, across the whole hole",
    "pin": "a diameter, across the whole outside",
    "side": "one side of a gap; across the diameter it counts twice",
    "across": "across the layers, in whole layers",
    "flare": "one side of the first layer's foot",
    "sag": "how much the roof of a lying hole comes down",
    "wall": "through the wall",
}


class SectionMark(QWidget):
    """A little section that shows what a number is measured across: 'hole', 'pin', 'side' of a gap, 'across' it in
    layers, 'flare' a side, 'sag' of a roof, 'wall'."""

    def __init__(self, kind: str) -> None:
        super().__init__()
        self.kind = kind
        self.setFixedSize(QSize(40, 30))
        self.setToolTip(TIPS[kind])
        self.setAccessibleName(TIPS[kind])

    def paintEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        body, line = look.colour("full"), QPen(look.colour("slate"), 1)
        p.setPen(line)
        p.setBrush(body)
        if self.kind in ("hole", "sag"):
            p.drawRect(QRectF(1, 1, 38, 28))
            p.setBrush(look.colour("paper"))
            p.drawEllipse(QPointF(20, 15), 11, 11 if self.kind == "hole" else 10)
            if self.kind == "sag":
                self._arrow(p, QPointF(20, 4), QPointF(20, 12))
            else:
                self._arrow(p, QPointF(9, 15), QPointF(31, 15))
        elif self.kind == "pin":
            p.drawEllipse(QPointF(20, 15), 11, 11)
            self._arrow(p, QPointF(9, 15), QPointF(31, 15))
        elif self.kind == "side":
            p.drawRect(QRectF(1, 3, 11, 24))
            p.drawRect(QRectF(20, 3, 12, 24))
            self._arrow(p, QPointF(12, 15), QPointF(20, 15))
        elif self.kind == "across":
            p.drawRect(QRectF(5, 18, 30, 10))
            p.drawRect(QRectF(9, 2, 22, 9))
            self._arrow(p, QPointF(20, 11), QPointF(20, 18))
        elif self.kind == "flare":
            p.drawPolygon(
                QPolygonF([QPointF(x, y) for x, y in ((10, 2), (30, 2), (30, 23), (36, 28), (4, 28), (10, 23))])
            )
            self._arrow(p, QPointF(30, 26), QPointF(36, 26))
        else:
            p.drawRect(QRectF(13, 2, 14, 26))
            self._arrow(p, QPointF(13, 15), QPointF(27, 15))

    def _arrow(self, p: QPainter, a: QPointF, b: QPointF) -> None:
        p.setPen(QPen(look.colour("heather"), 1.8))
        p.drawLine(a, b)
        flat = abs(a.y() - b.y()) < 0.1
        for at, sign in ((a, 1), (b, -1)):
            for w in (-2.5, 2.5):
                end = QPointF(at.x() + sign * 3, at.y() + w) if flat else QPointF(at.x() + w, at.y() + sign * 3)
                p.drawLine(at, end)


class RoofMark(QWidget):
    """A lying hole with its roof as chosen, seen along its axis, up on the page."""

    def __init__(self, shape: str) -> None:
        super().__init__()
        self.shape = shape
        self.setFixedSize(QSize(46, 46))
        self.setAccessibleName(f"Roof: {shape}")

    def paintEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.setPen(QPen(look.colour("slate"), 1))
        p.setBrush(look.colour("full"))
        p.drawRect(QRectF(1, 1, 44, 44))
        r, mid = 13.0, QPointF(23, 26)
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(look.colour("paper"))
        p.drawEllipse(mid, r, r)
        if self.shape != "round":
            top = roof_profile(r, self.shape, 3.0)
            p.drawPolygon(QPolygonF([QPointF(mid.x() + x, mid.y() - y) for x, y in top]))
        p.setPen(QPen(look.colour("heather"), 1.2, Qt.PenStyle.DashLine))
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.drawEllipse(mid, r, r)


class HistoryPlot(QWidget):
    """How a shift moved from bar to bar, with its nine-in-ten band narrowing."""

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("How the correction moved over time")
        self.rows: tuple[Moved, ...] = ()
        look.changed.connect(self.update)

    def put(self, rows: tuple[Moved, ...]) -> None:
        self.rows = rows
        self.setFixedHeight(112 if rows else 0)
        self.update()

    def paintEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        rows = self.rows[-8:]
        if not rows:
            return
        low, high = min(r.low for r in rows), max(r.high for r in rows)
        pad = 0.15 * (high - low) + 0.005
        low, high = low - pad, high + pad
        box = QRectF(46, 6, self.width() - 56, self.height() - 46)

        def y(v: float) -> float:
            return box.bottom() - box.height() * (v - low) / (high - low)

        p.setFont(font(12))
        ends = (rows[-1].low, rows[-1].high)
        for v in ends if abs(y(ends[0]) - y(ends[1])) > 16 else (rows[-1].value,):
            p.setPen(look.colour("slate"))
            p.drawText(QRectF(0, y(v) - 8, 42, 16), Qt.AlignmentFlag.AlignRight, f"{v:+.2f}")
            p.setPen(QPen(look.colour("rule"), 1))
            p.drawLine(QPointF(box.left(), y(v)), QPointF(box.right(), y(v)))
        step = box.width() / max(len(rows), 1)
        before = None
        for i, r in enumerate(rows):
            x = box.left() + (i + 0.5) * step
            p.setPen(QPen(look.colour("heather"), 2))
            p.drawLine(QPointF(x, y(r.low)), QPointF(x, y(r.high)))
            p.setBrush(look.colour("heather"))
            p.drawEllipse(QPointF(x, y(r.value)), 4, 4)
            if before is not None:
                p.setPen(QPen(look.colour("heather", 120), 1.2, Qt.PenStyle.DashLine))
                p.drawLine(before, QPointF(x, y(r.value)))
            before = QPointF(x, y(r.value))
            p.setPen(look.colour("slate"))
            for k, words in enumerate((f"{r.when:%d %b}", f"{r.count} in all")):
                p.drawText(
                    QRectF(x - step / 2, box.bottom() + 2 + 14 * k, step, 16), Qt.AlignmentFlag.AlignHCenter, words
                )


class WearPlot(QWidget):
    """How a running fit opens with use: the fitted curve, logged points, and the window it should end in."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedHeight(86)
        self.setAccessibleName("How the gap opens with use")
        self.curve: RunningIn | None = None
        self.logged: tuple[tuple[float, float], ...] = ()
        self.window_mm = (0.0, 1.0)

    def put(self, curve: RunningIn, logged: tuple[tuple[float, float], ...], window: tuple[float, float]) -> None:
        self.curve, self.logged, self.window_mm = curve, logged, window
        self.update()

    def paintEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        c = self.curve
        if c is None:
            return
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(40, 6, self.width() - 50, self.height() - 26)
        most = max([6 * c.cycles, *(n for n, _ in self.logged)])
        sizes = [c.start, c.start + c.grows, *self.window_mm, *(v for _, v in self.logged)]
        low, high = min(sizes) - 0.03, max(sizes) + 0.03

        def at(n: float, v: float) -> QPointF:
            return QPointF(box.left() + box.width() * n / most, box.bottom() - box.height() * (v - low) / (high - low))

        a, b = (at(0, v).y() for v in self.window_mm)
        p.fillRect(QRectF(box.left(), b, box.width(), a - b), look.colour("moss", 40))
        p.setFont(font(12))
        p.setPen(look.colour("slate"))
        for v in self.window_mm:
            p.drawText(QRectF(0, at(0, v).y() - 8, 36, 16), Qt.AlignmentFlag.AlignRight, f"{v:.2f}")
        yours = c.source.startswith("yours")
        p.setPen(QPen(look.colour("heather"), 2, Qt.PenStyle.SolidLine if yours else Qt.PenStyle.DotLine))
        p.drawPolyline(QPolygonF([at(most * k / 40, c.after(most * k / 40)) for k in range(41)]))
        p.setBrush(look.colour("paper"))
        p.setPen(QPen(look.colour("peat"), 2))
        for n, v in self.logged:
            p.drawEllipse(at(n, v), 4, 4)
        p.setPen(look.colour("slate"))
        p.drawText(
            QRectF(box.left(), box.bottom() + 4, box.width(), 16), Qt.AlignmentFlag.AlignRight, f"{most:.0f} cycles"
        )
        p.drawText(QRectF(box.left(), box.bottom() + 4, box.width(), 16), Qt.AlignmentFlag.AlignLeft, f"0, {c.source}")
