"""Plates that print, each as a core that fills from below, with its end's doubt and what its monitor says."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QLinearGradient, QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QWidget

from knollside.gui.instruments.stagepaint import begun, empty
from knollside.gui.theme.look import font, look
from knollside.gui.watch import Watched

_TOP, _CORE, _MOST = 64, 46, 230
_BANDS = 14
_WORDS = 138  # room for what the lines are


class WatchView(QWidget):
    """``taken`` carries the number of a plate in the order shown."""

    taken = pyqtSignal(int)

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Plates that print")
        self.plates: tuple[Watched, ...] = ()
        self.front = 0
        look.changed.connect(self.update)

    def put(self, plates: tuple[Watched, ...], front: int) -> None:
        self.plates, self.front = plates, front
        self.update()

    def _row(self, k: int) -> QRectF:
        high = min((self.height() - _TOP - 10) / max(len(self.plates), 1), _MOST)
        return QRectF(14, _TOP + k * high, self.width() - 28, high - 12)

    def mousePressEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        for k in range(len(self.plates)):
            if self._row(k).contains(event.position()):
                self.taken.emit(k)

    def paintEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        p = begun(self, "Printing now")
        if not self.plates:
            empty(p, self, "Nothing prints. Begin a plate at Plates or at Week.")
            return
        p.setPen(look.colour("slate"))
        p.setFont(font(13))
        p.drawText(QPointF(18, 48), "Layers laid, and heat as the printer tells it")
        for k, w in enumerate(self.plates):
            self._plate(p, self._row(k), w, k == self.front)

    def _plate(self, p: QPainter, r: QRectF, w: Watched, front: bool) -> None:
        p.setPen(QPen(look.colour("heather") if front else look.colour("rule 2"), 2.0 if front else 1.0))
        p.setBrush(look.colour("paper"))
        p.drawRoundedRect(r, 8, 8)
        core = QRectF(r.left() + 14, r.top() + 14, _CORE, r.height() - 28)
        self._core(p, core, w)
        left = core.right() + 18
        wide = r.right() - left - 14
        p.setPen(look.colour("peat"))
        p.setFont(font(15, 700))
        title = p.fontMetrics().elidedText(w.done.title, Qt.TextElideMode.ElideRight, int(wide - 80))
        p.drawText(QRectF(left, r.top() + 10, wide, 20), title)
        p.setFont(font(20, 700))
        p.drawText(QRectF(left, r.top() + 8, wide, 26), Qt.AlignmentFlag.AlignRight, f"{100 * w.share:.0f} %")
        p.setFont(font(13))
        p.setPen(look.colour("slate"))
        at = f"layer {w.layer} of {w.done.layers}" if w.layer else "heating up" if w.readings else "layer not told"
        p.drawText(QRectF(left, r.top() + 32, wide, 18), f"{w.done.printer}, {w.done.filament}: {at}")
        bar = QRectF(left, r.top() + 58, wide, 14)
        self._bar(p, bar, w)
        if w.alarms:
            p.setPen(look.colour("clay"))
            p.setFont(font(13, 700))
            p.drawText(QRectF(left, bar.bottom() + 22, wide, 18), w.alarms[0].words)
        chart = QRectF(left, bar.bottom() + 48, wide, r.bottom() - bar.bottom() - 62)
        if w.readings and chart.height() > 26:
            self._heat(p, chart, w)

    def _core(self, p: QPainter, r: QRectF, w: Watched) -> None:
        """Bands laid so far are filled."""
        share = w.layer / max(w.done.layers, 1) if w.layer else w.share
        p.setPen(Qt.PenStyle.NoPen)
        p.fillRect(r, look.colour("open"))
        top = r.bottom() - r.height() * min(share, 1.0)
        for k in range(_BANDS):
            high = r.height() / _BANDS
            band = QRectF(r.left(), r.bottom() - (k + 1) * high, r.width(), high)
            laid = band.intersected(QRectF(r.left(), top, r.width(), r.bottom() - top))
            if laid.height() > 0:
                p.fillRect(laid, look.colour("full" if k % 2 else "bedrock"))
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.setPen(QPen(look.colour("peat"), 1.2))
        p.drawRect(r)
        p.setPen(QPen(look.colour("clay" if w.alarms else "heather"), 2.4))
        p.drawLine(QPointF(r.left() - 5, top), QPointF(r.right() + 5, top))

    def _bar(self, p: QPainter, r: QRectF, w: Watched) -> None:
        """From begun to its latest end: over, to come, and the end's doubt as a soft edge."""
        most = max(w.whole.high, w.elapsed, 1e-6)

        def x(hours: float) -> float:
            return r.left() + r.width() * hours / most

        p.setPen(Qt.PenStyle.NoPen)
        p.fillRect(QRectF(r.left(), r.top(), x(w.whole.low) - r.left(), r.height()), look.colour("half"))
        soft = QLinearGradient(x(w.whole.low), 0, x(most), 0)
        soft.setColorAt(0, look.colour("half"))
        soft.setColorAt(1, look.colour("half", 0))
        p.fillRect(QRectF(x(w.whole.low), r.top(), x(most) - x(w.whole.low), r.height()), soft)
        over = min(w.elapsed, w.whole.value)
        p.fillRect(
            QRectF(r.left(), r.top(), x(over) - r.left(), r.height()), look.colour("clay" if w.alarms else "moss")
        )
        p.setPen(look.colour("slate"))
        p.setFont(font(12))
        assert w.done.begun is not None
        p.drawText(QPointF(r.left(), r.bottom() + 15), f"begun {w.done.begun:%H:%M}")
        low, high = w.end(w.whole.low), w.end(w.whole.high)
        words = "done" if w.over else f"ends {low:%a %H:%M} to {high:%H:%M}"
        p.drawText(QRectF(r.left(), r.bottom() + 3, r.width(), 16), Qt.AlignmentFlag.AlignRight, words)

    def _heat(self, p: QPainter, r: QRectF, w: Watched) -> None:
        """Nozzle and bed since it was begun, with what they are set to."""
        last = max(w.readings[-1].at, 1.0)
        most = max(max(v.nozzle_c for v in w.readings), w.readings[-1].nozzle_set) * 1.05
        p.setPen(QPen(look.colour("rule 2"), 1))
        p.drawLine(r.bottomLeft(), r.bottomRight())

        def y(c: float) -> float:
            return r.bottom() - r.height() * max(c, 0.0) / most

        some = w.readings[:: max(len(w.readings) // 200, 1)]
        for name, token, values, want in (
            ("nozzle", "clay", [v.nozzle_c for v in some], w.readings[-1].nozzle_set),
            ("bed", "spring", [v.bed_c for v in some], w.readings[-1].bed_set),
        ):
            p.setPen(QPen(look.colour("slate"), 1, Qt.PenStyle.DotLine))
            p.drawLine(QPointF(r.left(), y(want)), QPointF(r.right() - _WORDS, y(want)))
            p.setPen(QPen(look.colour(token), 1.6))
            at = [
                QPointF(r.left() + (r.width() - _WORDS) * v.at / last, y(c)) for v, c in zip(some, values, strict=True)
            ]
            p.drawPolyline(QPolygonF(at))
            p.setFont(font(12))
            p.setPen(look.colour(token))
            words = f"{name} {values[-1]:.0f} of {want:.0f} °C"
            p.drawText(QRectF(r.right() - _WORDS + 8, y(want) - 8, _WORDS, 16), words)
