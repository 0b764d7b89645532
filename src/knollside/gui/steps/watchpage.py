"""Run's page of what prints now: its first layer, how far it is, when it ends, what to do when something is wrong."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QLineEdit

from knollside.core.model.running import PrinterLog, Seen
from knollside.gui.instruments.firstlayer import DO, LOOK, FirstLayerView
from knollside.gui.instruments.watchview import WatchView
from knollside.gui.instruments.widgets import Dropdown, NumberField, button, heading, label, row, rule
from knollside.gui.rundesk import RunDesk
from knollside.gui.session import Session
from knollside.gui.stepbase import Act, Verdict
from knollside.gui.steps.page import Page, line
from knollside.gui.watch import Watched

_EVERY = 5000  # ms between looks
_SOURCES = (("layers you read off", "none"), ("a simulated printer", "simulated"))
_NOT_SEEN = "Nothing here sees whether a part comes loose, warps or strings: look now and then."


class WatchPage(Page):
    """``view`` is its drawing on the stage."""

    def __init__(self, session: Session, desk: RunDesk) -> None:
        super().__init__()
        self.session, self.desk, self.workspace = session, desk, session.workspace
        self.view = WatchView()
        self.view.taken.connect(self._take)
        self.front = 0
        self.watched: tuple[Watched, ...] = ()
        self.why = ""
        self._told_of: set[object] = set()
        self.margins(16, 12)
        self.timer = QTimer(self)
        self.timer.setInterval(_EVERY)
        self.timer.timeout.connect(session.touch)

    @property
    def shown(self) -> Watched | None:
        return self.watched[self.front] if self.watched else None

    def _take(self, plate: int) -> None:
        self.front, self.why = plate, ""
        self.session.touch()

    # Acts

    def _first_layer(self, kind: str) -> None:
        w = self.shown
        if w is not None:
            self.desk.seen(w.number, w.done, {"first_layer": kind}, f"first layer {kind}")

    def _layer(self, layer: float) -> None:
        w = self.shown
        if w is not None and 0 < layer <= w.done.layers:
            seen = Seen(at=self.workspace.now(), layer=round(layer))
            self.desk.seen(w.number, w.done, {"seen": (*w.done.seen, seen)}, f"at layer {layer:.0f}")

    def _told_by(self, source: str) -> None:
        w, shelf = self.shown, self.workspace.shelf
        if w is None:
            return
        number = shelf.printer_named(w.done.printer)
        if number is not None:
            log = PrinterLog.model_validate(shelf.printer_log(number).model_dump() | {"monitor": source})
            self.workspace.runs.put_printer_log(number, log, f"{w.done.printer} told by {source}")

    def _pass(self, hours: float) -> None:
        """Let time go by for a simulated print."""
        w = self.shown
        if w is not None and hours > 0:
            self.desk.seen(w.number, w.done, {"ahead": w.done.ahead + hours}, f"{hours:.1f} h go by, simulated")

    def _to_the_end(self) -> None:
        w = self.shown
        monitor = self.desk.watch.monitor(w.number, w.done) if w is not None else None
        if w is not None and monitor is not None:
            # What stops on the way is seen when it is seen.
            reach = (monitor.strikes + 1800 if monitor.stops else monitor.total + 60) / 3600
            self._pass(reach - w.elapsed)

    def ended(self, state: str) -> None:
        """It came out, or it failed; why, as it was typed."""
        w = self.shown
        if w is not None:
            why = self.why or (w.alarms[0].words.rstrip(".") if state == "failed" and w.alarms else "")
            if state == "failed" and not why and w.done.first_layer not in ("", "right"):
                why = f"first layer {w.done.first_layer}"
            self.why = ""
            self.desk.ended(w.number, w.done, "printed" if state == "printed" else "failed", why)

    # Showing

    def refresh(self) -> None:
        self.watched = self.desk.watch.all()
        self.front = min(self.front, max(len(self.watched) - 1, 0))
        for k, w in enumerate(self.watched):
            # What goes wrong comes to the front, once.
            for a in w.alarms:
                if (w.done.pieces, w.done.begun, a.trouble) not in self._told_of:
                    self._told_of.add((w.done.pieces, w.done.begun, a.trouble))
                    self.front = k
        if self.watched and not self.timer.isActive():
            self.timer.start()
        elif not self.watched:
            self.timer.stop()
        self.view.put(self.watched, self.front)
        key = tuple((w.done, w.layer, round(w.whole.value, 2), w.alarms, w.over, w.simulated) for w in self.watched)
        if self.fresh((key, self.front)):
            self._fill()

    def _fill(self) -> None:
        for k, w in enumerate(self.watched):
            at = f"layer {w.layer} of {w.done.layers}" if w.layer else "not told yet"
            self.add(
                line(f"{k + 1}  {w.done.title}", f"{100 * w.share:.0f} %", f"{w.done.printer}, {at}", k == self.front)
            )
        w_now = self.shown
        if w_now is None:
            self.add(label("What prints is watched here: its first layer, its heat, its end.", dim=True, wrap=True))
            return
        self.add(rule())
        for a in w_now.alarms:
            self.add(label(a.words, 14, 700, wrap=True), label(a.act, 13, wrap=True))
        self._ask_first_layer(w_now)
        self.add(rule())
        self._told(w_now)
        why = QLineEdit(self.why)
        why.setAccessibleName("What went wrong")
        why.setPlaceholderText("what went wrong, if it failed")
        why.setMaxLength(400)
        why.textChanged.connect(lambda text: setattr(self, "why", text.strip()))
        ok, bad = (button(t, partial(self.ended, s)) for t, s in (("It came out", "printed"), ("It failed", "failed")))
        self.add(heading("The end"), why, row(ok, bad, spacing=4, stretch=-2))
        self.add(label(_NOT_SEEN, dim=True, wrap=True))

    def _ask_first_layer(self, w: Watched) -> None:
        said = w.done.first_layer
        self.add(heading("First layer", said or "look at it now"))
        cards = FirstLayerView(said)
        cards.taken.connect(self._first_layer)
        self.add(cards)
        if said:
            self.add(label(LOOK[said], dim=True, wrap=True), label(DO[said], 13, 600, wrap=True))
        else:
            words = "Cut across its lines, it looks like one of these. Stay until it is down."
            self.add(label(words, dim=True, wrap=True))
            monitor = self.desk.watch.monitor(w.number, w.done) if w.simulated else None
            if monitor is not None and w.layer:
                self.add(label(f"The simulated one: {LOOK[monitor.first_layer].lower()}", 13, wrap=True))

    def _told(self, w: Watched) -> None:
        source = Dropdown("Who tells how far it is", _SOURCES, 14)
        source.put("simulated" if w.simulated else "none")
        source.chose.connect(lambda v: self._told_by(str(v)))
        self.add(row(label("told by", dim=True), source, stretch=-2))
        if w.simulated:
            hour = button("An hour goes by", lambda: self._pass(1.0), tip="Of the simulated print only")
            end = button("To its end", self._to_the_end, tip="Of the simulated print only")
            hour.setEnabled(not w.over)
            end.setEnabled(not w.over)
            self.add(row(hour, end, spacing=4, stretch=-2))
            return
        layer = NumberField("Layer it is at", "share", "", 1, 0, max(w.done.layers, 1), 0, 70)
        layer.plain = True
        layer.line.setPlaceholderText("layer")
        layer.entered.connect(self._layer)
        self.add(row(label("layer now", dim=True), layer, label(f"of {w.done.layers}", dim=True), stretch=-2))

    # The verdict

    def verdict(self) -> Verdict:
        w = self.shown
        if w is None:
            return Verdict("Nothing prints now.", "Begin a plate at Plates or at Week; then it is watched here.")
        came, failed = (
            Act("It came out", partial(self.ended, "printed")),
            Act("It failed", partial(self.ended, "failed")),
        )
        if w.alarms:
            a = w.alarms[0]
            return Verdict(f"{w.done.printer}: {a.words}", a.act, number="!", tone="clay", acts=(failed, came))
        if w.over:
            return Verdict(
                f"{w.done.printer} is done.",
                f"{w.done.title}: let the sheet cool, take it off, look whether it came out.",
                number=f"{w.whole.value:.1f}",
                unit="h",
                tone="moss",
                acts=(came, failed),
            )
        low, high = w.end(w.whole.low), w.end(w.whole.high)
        if not w.done.first_layer:
            right = Act("It is right", partial(self._first_layer, "right"))
            return Verdict("Look at the first layer.", f"{w.done.title} on {w.done.printer}.", acts=(right, failed))
        if w.done.first_layer != "right":
            said = w.done.first_layer
            return Verdict(f"The first layer: {said}.", DO[said], number="!", tone="clay", acts=(failed,))
        return Verdict(
            f"{w.done.printer} ends {low:%a %H:%M} to {high:%H:%M}.",
            f"{w.done.title}, {w.elapsed:.1f} h over. {_NOT_SEEN}",
            number=f"{100 * w.share:.0f}",
            unit="%",
            under=(f"{w.whole.low:.1f} to {w.whole.high:.1f} h", "in all"),
            tone="moss",
            source=f"End: {w.whole.source}.",
            acts=(came, failed),
        )
