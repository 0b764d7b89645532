"""The days: printers as strata, plates as beds with their doubt as a soft edge, and the hours somebody is in."""

from __future__ import annotations

from datetime import timedelta

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QBrush, QColor, QLinearGradient, QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QWidget

from knollside.core.run.week import Plan, Slot
from knollside.gui.instruments.stagepaint import begun, empty
from knollside.gui.theme.look import font, look

_LEFT, _TOP = 116, 84
_MOST_ROW = 130


class WeekView(QWidget):
    """``taken`` carries the number of a slot in the plan's order."""

    taken = pyqtSignal(int)

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("The week's plan")
        self.plan: Plan | None = None
        self.printers: tuple[tuple[str, str], ...] = ()
        self.spools: dict[str, str] = {}
        self.words, self.empty, self.old, self.front = "", "", False, -1
        look.changed.connect(self.update)

    def put(
        self,
        plan: Plan | None,
        printers: tuple[tuple[str, str], ...],
        spools: dict[str, str],
        words: str,
        empty: str,
        old: bool,
    ) -> None:
        """``printers``: name and a line under it; ``spools``: titles by key."""
        self.plan, self.printers, self.spools = plan, printers, spools
        self.words, self.empty, self.old = words, empty, old
        self.update()

    # Where things are

    @property
    def _units(self) -> int:
        """How many units are on show: whole days to the plan's end."""
        assert self.plan is not None
        return min(self.plan.span.units, max(288, -(-max(s.latest for s in self.plan.slots) // 36) * 36 + 12))

    def _x(self, unit: float) -> float:
        return _LEFT + (self.width() - _LEFT - 22) * unit / self._units

    def _row(self, k: int) -> QRectF:
        rows = len(self.printers) + (1 if self.plan is not None and self.plan.drying else 0)
        high = min((self.height() - _TOP - 46) / max(rows, 1), _MOST_ROW)
        return QRectF(_LEFT, _TOP + k * high, self.width() - _LEFT - 22, high)

    def _bed(self, s: Slot) -> QRectF:
        k = next((i for i, (name, _) in enumerate(self.printers) if name == s.printer), 0)
        r = self._row(k)
        inset = 8
        return QRectF(self._x(s.start), r.top() + inset, self._x(s.end) - self._x(s.start), r.height() - 2 * inset)

    def mousePressEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        if self.plan is None:
            return
        for k, s in enumerate(self.plan.slots):
            if self._bed(s).adjusted(-3, 0, 3, 0).contains(event.position()):
                self.front = k
                self.taken.emit(k)
                self.update()

    # Drawing

    def paintEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        p = begun(self, self.words + (" (old)" if self.old and self.plan is not None else ""))
        if self.plan is None or not self.plan.slots:
            empty(p, self, self.empty)
            return
        self._ground(p)
        for k, (name, under) in enumerate(self.printers):
            r = self._row(k)
            p.setPen(look.colour("peat"))
            p.setFont(font(13, 700))
            p.drawText(QRectF(14, r.top() + 6, _LEFT - 20, 18), name)
            p.setPen(look.colour("slate"))
            p.setFont(font(11))
            short = p.fontMetrics().elidedText(under, Qt.TextElideMode.ElideRight, _LEFT - 22)
            p.drawText(QRectF(14, r.top() + 24, _LEFT - 20, 16), short)
            p.setPen(QPen(look.colour("bedrock"), 1))
            p.drawLine(QPointF(14, r.bottom()), QPointF(r.right(), r.bottom()))
        for k, s in enumerate(self.plan.slots):
            self._slot(p, k, s)
        self._drier(p)
        self._legend(p)

    def _ground(self, p: QPainter) -> None:
        """Hours with nobody in are hatched; days and hours along the top; now at the left."""
        assert self.plan is not None
        span, first, last = self.plan.span, self._row(0), self._row(max(len(self.printers) - 1, 0))
        bottom = self._row(len(self.printers)).bottom() if self.plan.drying else last.bottom()
        whole = QRectF(first.left(), first.top(), first.width(), bottom - first.top())
        p.fillRect(whole, look.colour("paper"))
        away: int | None = None
        for u in range(self._units + 1):
            out = u < self._units and not span.present[u]
            if out and away is None:
                away = u
            elif not out and away is not None:
                r = QRectF(self._x(away), whole.top(), self._x(u) - self._x(away), whole.height())
                p.fillRect(r, look.colour("bed"))
                p.fillRect(r, QBrush(look.colour("bedrock", 60), Qt.BrushStyle.BDiagPattern))
                away = None
        begin = span.begin
        day = begin.replace(hour=0, minute=0, second=0, microsecond=0)
        hours = self._units / 12
        step = 2 if hours <= 40 else 6 if hours <= 110 else 12 if hours <= 220 else 24
        p.setFont(font(11))
        while span.unit(day) < self._units:
            for h in range(0, 24, step):
                u = span.unit(day + timedelta(hours=h))
                if not 0 <= u <= self._units:
                    continue
                x = self._x(u)
                p.setPen(QPen(look.colour("bed lines") if h else look.colour("bedrock"), 1))
                p.drawLine(QPointF(x, whole.top()), QPointF(x, whole.bottom()))
                if h and step < 24:
                    p.setPen(look.colour("slate"))
                    p.drawText(QRectF(x - 14, _TOP - 18, 28, 16), Qt.AlignmentFlag.AlignCenter, str(h))
            at = max(self._x(max(span.unit(day), 0)), _LEFT)
            if self._x(min(span.unit(day + timedelta(days=1)), self._units)) - at > 44:
                p.setPen(look.colour("peat"))
                p.drawText(QRectF(at + 3, _TOP - 34, 110, 16), f"{max(day, begin):%a %d %b}")
            day = (day + timedelta(days=1)).replace(hour=0)
        p.setPen(QPen(look.colour("heather"), 2))
        p.drawLine(QPointF(_LEFT, _TOP - 8), QPointF(_LEFT, whole.bottom()))

    def _slot(self, p: QPainter, k: int, s: Slot) -> None:
        box = self._bed(s)
        fill = look.colour("moss", 215) if s.late == 0 else look.colour("clay", 190)
        p.fillRect(box, fill)
        # The end may come earlier or later: a soft edge, and a whisker over both.
        early, late = self._x(s.soonest), self._x(s.latest)
        soft = QLinearGradient(QPointF(early, 0), QPointF(late, 0))
        none = QColor(fill)
        none.setAlpha(0)
        soft.setColorAt(0, fill)
        soft.setColorAt(1, none)
        p.fillRect(QRectF(box.right(), box.top(), max(late - box.right(), 0), box.height()), QBrush(soft))
        p.setPen(QPen(look.colour("peat"), 2.0 if k == self.front else 1.0))
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.drawRect(box)
        y = box.bottom() - 4
        p.setPen(QPen(look.colour("peat"), 1.2))
        p.drawLine(QPointF(early, y), QPointF(late, y))
        for x in (early, late):
            p.drawLine(QPointF(x, y - 3), QPointF(x, y + 3))
        if s.changes:
            x = self._x(s.setup)
            mid = box.center().y()
            p.setBrush(look.colour("straw"))
            p.drawPolygon(
                QPolygonF([QPointF(x, mid - 6), QPointF(x + 6, mid), QPointF(x, mid + 6), QPointF(x - 6, mid)])
            )
            p.setBrush(Qt.BrushStyle.NoBrush)
        p.setPen(look.colour("on moss"))
        p.setFont(font(12, 700))
        room = box.adjusted(6, 2, -3, -8)
        words = p.fontMetrics().elidedText(s.task.title, Qt.TextElideMode.ElideRight, int(max(room.width(), 0)))
        p.drawText(room, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, words if len(words) > 2 else "")

    def _drier(self, p: QPainter) -> None:
        if self.plan is None or not self.plan.drying:
            return
        r = self._row(len(self.printers))
        p.setPen(look.colour("peat"))
        p.setFont(font(13, 700))
        p.drawText(QRectF(14, r.top() + 6, _LEFT - 20, 18), "Drier")
        for d in self.plan.drying:
            box = QRectF(self._x(d.start), r.top() + 10, self._x(d.end) - self._x(d.start), r.height() - 20)
            p.fillRect(box, look.colour("straw", 110))
            p.setPen(QPen(look.colour("straw ink"), 1))
            p.drawRect(box)
            p.setFont(font(11))
            words = f"{self.spools.get(d.spool, d.spool)}, {(d.end - d.start) / 12:.0f} h"
            short = p.fontMetrics().elidedText(words, Qt.TextElideMode.ElideRight, int(max(box.width() - 6, 0)))
            p.drawText(box.adjusted(4, 0, -2, 0), Qt.AlignmentFlag.AlignVCenter, short if len(short) > 2 else "")

    def _legend(self, p: QPainter) -> None:
        y = self.height() - 18
        p.setFont(font(12))
        p.setPen(QPen(look.colour("peat"), 1))
        p.setBrush(look.colour("straw"))
        p.drawPolygon(QPolygonF([QPointF(24, y - 11), QPointF(30, y - 5), QPointF(24, y + 1), QPointF(18, y - 5)]))
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.setPen(look.colour("slate"))
        p.drawText(QPointF(38, y), "change of spool")
        box = QRectF(172, y - 11, 20, 12)
        p.fillRect(box, look.colour("bed"))
        p.fillRect(box, QBrush(look.colour("bedrock", 60), Qt.BrushStyle.BDiagPattern))
        p.drawText(QPointF(200, y), "nobody in")
        p.drawLine(QPointF(286, y - 5), QPointF(310, y - 5))
        for x in (286, 310):
            p.drawLine(QPointF(x, y - 8), QPointF(x, y - 2))
        p.drawText(QPointF(318, y), "end, nine in ten")
