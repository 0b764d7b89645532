"""Lay: every direction rated, a short list, one chosen."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QPainter, QPen
from PyQt6.QtWidgets import QVBoxLayout, QWidget

from knollside.core.job.answer import LayerLog
from knollside.core.lay.ways import RatedWay
from knollside.core.model import Range, Way
from knollside.desk import tasks
from knollside.desk.instruments.net import LayNet
from knollside.desk.instruments.widgets import RangeBar, clear, heading, label, reserve_tone, scrolled, times
from knollside.desk.stage.view import Scene
from knollside.desk.state import State
from knollside.desk.stepbase import Act, Mark, Standing, Step, Verdict
from knollside.desk.steps.scenes import base_scene, load_arrows
from knollside.desk.theme.look import font, look


class WayRow(QWidget):
    """One way of the short list: letter, reasons, reserve with its range."""

    taken = pyqtSignal(str)

    def __init__(self, way: RatedWay, target: float, chosen: bool, withheld: bool) -> None:
        super().__init__()
        self.way, self.target, self.chosen, self.withheld = way, target, chosen, withheld
        self.setFixedHeight(98)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(f"Way {way.letter}: {way.title}, reserve {way.reserve.value:.1f}")
        self.setToolTip(
            f"{way.title}\n{way.reason}\n{way.gives_up}\nreserve {way.reserve.value:.2f} "
            f"({way.reserve.low:.2f} to {way.reserve.high:.2f}), {way.mode}\ncontact "
            f"{way.footing.contact / 100:.1f} cm², leaning {way.overhang / 100:.1f} cm²"
        )
        self.bar = RangeBar(None if withheld else way.reserve, target)
        self.bar.setParent(self)

    def resizeEvent(self, e) -> None:  # type: ignore[no-untyped-def]
        self.bar.move(self.width() - 94, 56)

    def paintEvent(self, e) -> None:  # type: ignore[no-untyped-def]
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        if self.chosen:
            p.fillRect(self.rect(), look.colour("chosen"))
            p.fillRect(0, 0, 3, self.height(), look.colour("heather"))
        p.setPen(QPen(look.colour("heather"), 1.8))
        p.setBrush(look.colour("heather") if self.chosen else look.colour("paper"))
        p.drawEllipse(QPointF(28, 20), 11, 11)
        p.setPen(look.colour("paper") if self.chosen else look.colour("heather"))
        p.setFont(font(14, 700))
        p.drawText(QRectF(17, 9, 22, 22), Qt.AlignmentFlag.AlignCenter, self.way.letter)
        w = self.way
        p.setPen(look.colour("peat"))
        p.setFont(font(14, 700))
        p.drawText(QRectF(48, 8, self.width() - 150, 20), Qt.AlignmentFlag.AlignVCenter, w.title)
        p.setFont(font(13))
        p.drawText(QRectF(48, 29, self.width() - 150, 34), Qt.TextFlag.TextWordWrap, w.reason)
        p.setPen(look.colour("slate"))
        p.drawText(
            QRectF(48, 62, self.width() - 150, 18),
            Qt.AlignmentFlag.AlignVCenter,
            p.fontMetrics().elidedText(w.gives_up, Qt.TextElideMode.ElideRight, self.width() - 150),
        )
        p.setPen(look.colour("peat"))
        p.setFont(font(12, 600))
        p.drawText(
            QRectF(48, 79, self.width() - 60, 16),
            Qt.AlignmentFlag.AlignVCenter,
            f"{w.footing.height:.0f} mm high, {w.footing.layers} layers, {w.footing.contact / 100:.1f} cm² on the bed",
        )
        tone = "slate" if self.withheld else reserve_tone(w.reserve, self.target)
        p.setPen(look.colour(tone))
        p.setFont(font(22, 700))
        p.drawText(
            QRectF(self.width() - 104, 6, 92, 28),
            Qt.AlignmentFlag.AlignRight,
            "–" if self.withheld else f"{times(w.reserve.value)}×",
        )
        p.setPen(look.colour("slate"))
        p.setFont(font(12))
        if not self.withheld:
            p.drawText(
                QRectF(self.width() - 104, 36, 92, 16),
                Qt.AlignmentFlag.AlignRight,
                f"{times(w.reserve.low)} to {times(w.reserve.high)}",
            )
        p.setPen(QPen(look.colour("heather"), 2) if self.hasFocus() else QPen(look.colour("rule"), 1))
        if self.hasFocus():
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.drawRect(self.rect().adjusted(1, 1, -1, -1))
        else:
            p.drawLine(14, self.height() - 1, self.width() - 14, self.height() - 1)

    def mousePressEvent(self, e) -> None:  # type: ignore[no-untyped-def]
        self.taken.emit(self.way.letter)

    def keyPressEvent(self, e: QKeyEvent | None) -> None:
        assert e is not None
        if e.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.taken.emit(self.way.letter)
        elif e.key() in (Qt.Key.Key_Down, Qt.Key.Key_Up):
            self.focusNextPrevChild(e.key() == Qt.Key.Key_Down)
        else:
            super().keyPressEvent(e)


class LayStep(Step):
    name = "Lay"
    has_log = True

    def __init__(self, state: State) -> None:
        super().__init__(state)
        self.net = LayNet()
        self.net.taken.connect(self._choose)
        self.rows = QVBoxLayout()
        self.rows.setSpacing(0)
        self.rows.setContentsMargins(0, 0, 0, 0)
        inner = QWidget()
        inner.setObjectName("paper")
        box = QVBoxLayout(inner)
        box.setContentsMargins(0, 0, 0, 0)
        box.addLayout(self.rows)
        box.addStretch(1)
        area = scrolled(inner)
        self.note = label("", dim=True, wrap=True)
        panel = QWidget()
        lay = QVBoxLayout(panel)
        lay.setContentsMargins(0, 10, 0, 0)
        lay.setSpacing(4)
        head = QWidget()
        h = QVBoxLayout(head)
        h.setContentsMargins(16, 0, 10, 0)
        h.addWidget(heading("Ways to lay it"))
        h.addWidget(self.net)
        h.addWidget(self.note)
        lay.addWidget(head)
        lay.addWidget(area, 1)
        self.panel = panel
        self._shown: object = None

    @property
    def laying(self) -> tasks.Laying | None:
        return self.state.answers.get("lay")

    @property
    def old(self) -> bool:
        return self.state.doc is not None and self.state.answers.key("lay") != self.state.lay_key

    def chosen(self) -> RatedWay | None:
        """The short-listed way that is chosen, if it is one of them."""
        if self.laying is None or self.state.doc is None or self.state.doc.way is None:
            return None
        mine = self.state.doc.way.direction
        return next(
            (w for w in self.laying.ranking.ways if sum(a * b for a, b in zip(w.direction, mine)) > 0.99999), None
        )

    def enter(self) -> None:
        doc = self.state.doc
        if doc is None or self.state.facts is None:
            return
        ready = doc.duty.held and doc.duty.cases
        if ready and self.old and not self.state.answers.refusal("lay", self.state.lay_key):
            self.state.request_lay()
        else:
            self.state.request_detail()

    def _choose(self, letter: str) -> None:
        if self.laying is None:
            return
        w = next(w for w in self.laying.ranking.ways if w.letter == letter)
        self.state.edit("way", Way(direction=w.direction, reason=w.reason), f"lay it {letter}")
        self.state.request_detail(letter)

    def refresh(self) -> None:
        laying, here = self.laying, self.chosen()
        self.net.put(laying.ranking if laying else None, here.letter if here else "")
        no_verdict = bool(laying and laying.strength.withheld)
        if laying is not None:
            s = laying.strength
            old = " Old: the duty has changed since." if self.old else ""
            self.note.setText(
                f"Rated with {s.recipe.walls} walls, {s.recipe.infill * 100:.0f} % infill; {s.field.cells:,} cells "
                f"of {s.field.cell:.1f} mm; forces balance to {max(s.field.balance_error, 1e-6):.0e}.{old}"
            )
        else:
            self.note.setText("Strength is worked out once for every direction; it takes some seconds.")
        key = (id(laying), here.letter if here else "")
        if key != self._shown:
            self._shown = key
            clear(self.rows)
            for w in laying.ranking.ways if laying else ():
                made = WayRow(w, laying.ranking.target, here is not None and w.letter == here.letter, no_verdict)  # type: ignore[union-attr]
                made.taken.connect(self._choose)
                self.rows.addWidget(made)
        if (
            here is not None
            and not self.old
            and self.state.answers.key("detail") != (self.state.lay_key, self.state.way)
            and not self.state.work.waiting("detail")
        ):
            self.state.request_detail(here.letter)

    def reserve(self) -> Range | None:
        """The chosen way's reserve, fresh or old."""
        detail: tasks.WayDetail | None = (
            self.state.answers.fresh("detail", (self.state.lay_key, self.state.way)) if self.state.doc else None
        )
        if detail is not None:
            return detail.way.reserve
        here = self.chosen()
        return here.reserve if here else None

    def standing(self) -> Standing:
        doc, here = self.state.doc, self.chosen()
        if doc is None:
            return Standing(Mark.OPEN, "Not tried yet.")
        if self.laying is None:
            return Standing(
                Mark.HALF if doc.way else Mark.OPEN,
                "Chosen; not worked out again yet." if doc.way else "Not tried yet.",
            )
        if self.old:
            return Standing(Mark.CRACK, "The duty or the bond changed since.")
        if doc.way is None:
            n = sum(w.holds for w in self.laying.ranking.ways)
            return Standing(Mark.HALF, f"{n} way{'s' if n != 1 else ''} hold{'s' if n == 1 else ''}. Yours to choose.")
        if here is None:
            return Standing(Mark.HALF, "Chosen, off the short list.")
        if self.laying.strength.withheld:
            return Standing(Mark.FULL, f"{here.title}. No verdict.")
        return Standing(
            Mark.FULL if here.reserve.low >= self.laying.ranking.target else Mark.HALF,
            f"{here.title}. Holds {times(here.reserve.value)} times the load.",
        )

    def verdict(self) -> Verdict:
        doc, laying = self.state.doc, self.laying
        if doc is None or self.state.facts is None:
            return Verdict("Open a part first.")
        refused = self.state.answers.refusal("lay", self.state.lay_key)
        if refused and self.old:
            return Verdict(
                "It cannot be worked out as it stands.",
                refused,
                number="?",
                tone="clay",
                acts=(Act("Back to Duty", lambda: self.go("Duty")), Act("Try again", self.state.request_lay)),
            )
        if not (doc.duty.held and doc.duty.cases):
            return Verdict(
                "No load, so any way holds.",
                "Choose by surface and time; state a load to weigh strength.",
                acts=(Act("Keep it as drawn", self._as_drawn), Act("State a load", lambda: self.go("Duty"))),
            )
        if laying is None or self.old:
            busy = self.state.work.waiting("lay")
            return Verdict(
                "Working out every way to lie." if busy else "Every way can be tried at once.",
                "One stress solve serves all directions."
                if not laying
                else "What is shown is the last answer, from before the change.",
                acts=(Act("Try every way", self.state.request_lay),),
            )
        best, here = laying.ranking.ways[0], self.chosen()
        held_back = laying.strength.withheld
        if held_back:
            return Verdict(
                "No verdict, and that is an answer.",
                held_back,
                number="none",
                tone="clay",
                acts=(Act("Duty", lambda: self.go("Duty")),),
            )
        bond = laying.strength.card.bond.source
        source = f"Layer bond: {bond}. Heat, creep and wear: typical."
        w = here or best
        need = laying.ranking.target
        tone = reserve_tone(w.reserve, need)
        sure = {"moss": "it holds", "straw ink": "it is too close to call", "clay": "it does not hold"}[tone]
        title = f"{w.title}: {sure}." if here else f"{best.letter} is the first to try: {sure}."
        acts = []
        if here is None or here.letter != best.letter:
            acts.append(Act(f"Lay it {best.letter}", partial(self._choose, best.letter)))
        if here is not None:
            acts.append(Act("Build it this way", lambda: self.go("Build")))
        return Verdict(
            title,
            f"{w.reason} {w.gives_up}",
            number=times(w.reserve.value),
            unit="×",
            under=(f"{times(w.reserve.low)} to {times(w.reserve.high)}", f"needed {need:g}"),
            tone=tone,
            source=source,
            acts=tuple(acts[::-1] if here is not None and tone == "moss" else acts),
        )

    def _as_drawn(self) -> None:
        self.state.edit("way", Way(direction=(0, 0, 1), reason="as drawn"), "keep it as drawn")
        self.go("Build")

    def scene(self) -> Scene:
        here, doc = self.chosen(), self.state.doc
        if doc is None:
            return Scene()
        detail: tasks.WayDetail | None = self.state.answers.get("detail")
        fresh = detail is not None and self.state.answers.key("detail") == (self.state.lay_key, self.state.way)
        more: dict[str, object] = {}
        if fresh and detail is not None:
            log: LayerLog = detail.log
            opened = self.state.answers.get("opened")
            more = {
                "reserve": log.paint[opened.look.corner_of],
                "target": self.laying.ranking.target if self.laying else 2.0,
                "place": detail.way.place,
                "place_words": f"goes first: {times(detail.way.reserve.value)}×",
                "legend": ("reserve", "held", "pushed"),
            }
        title = f"{here.letter}  {here.title}" if here else "As drawn" if doc.way is None else "Chosen way"
        under = (
            f"{here.footing.height:.0f} mm high, {here.footing.layers} layers of {doc.recipe.layer_height:g} mm"
            if here
            else "No way chosen yet"
        )
        return base_scene(self.state, True, title, under, arrows=load_arrows(self.state), **more)
