"""Fits' card of threads: how far the flanks give way on this printer, and making it so (F6)."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtWidgets import QVBoxLayout, QWidget

from knollside.core.fit.threadfit import ALLOWANCE, MOST_FLANK, Threaded, ThreadPlan
from knollside.core.model import Feature
from knollside.gui.instruments.widgets import Chip, NumberField, button, heading, label, named, row, rule
from knollside.gui.steps.page import Page, Same, line


class ThreadCard(QWidget):
    """One thread of the part; hidden where there is none."""

    def __init__(self, work_out: Callable[[str, float], None], keep: Callable[[Threaded], None]) -> None:
        super().__init__()
        self._work_out = work_out
        self.play = NumberField("Play wanted a flank", "length", "mm", 0.02, -MOST_FLANK, MOST_FLANK, 2, 84)
        self.play.put(ALLOWANCE.value)
        self.go = button("Move the flanks", self._go, tip="Nothing is changed yet")
        self.told = _Told(keep)
        self.plan: ThreadPlan | None = None
        lay = QVBoxLayout(self)
        lay.setContentsMargins(0, 0, 0, 0)
        lay.setSpacing(5)
        lay.addWidget(rule())
        lay.addWidget(heading("Thread", "a flank"))
        lay.addWidget(row(named("play wanted", self.play), self.go, stretch=-2))
        lay.addWidget(self.told)

    def _go(self) -> None:
        if self.plan is not None:
            self._work_out(self.plan.feature, self.plan.flank)

    def put(self, f: Feature | None, plan: ThreadPlan | None, found: Threaded | None, refused: str, busy: bool) -> None:
        self.setVisible(f is not None)
        self.plan = plan
        self.go.setEnabled(plan is not None and not busy)
        if f is not None:
            self.told.put(f, plan, found, refused)


class _Told(Page):
    def __init__(self, keep: Callable[[Threaded], None]) -> None:
        super().__init__()
        self._keep = keep
        self.margins(0, 0)

    def put(self, f: Feature, plan: ThreadPlan | None, found: Threaded | None, refused: str) -> None:
        if not self.fresh((f.id, plan, Same(found), refused)):
            return
        self.add(label(f"{f.title}: {f.size_text}.", 13, wrap=True))
        if plan is not None:
            under = (
                f"{plan.for_fit:.2f} for the fit, {plan.for_printer:+.2f} for this printer; {plan.across:+.2f} across"
            )
            words = "Each flank gives way by" if plan.flank >= 0 else "Each flank comes forward by"
            self.add(line(words, f"{abs(plan.flank):.2f} mm", under))
            self.add(row(Chip(plan.source), stretch=-2))
            r = plan.loosens
            words = (
                f"Threads loosen with use by {r.low:.2f} to {r.high:.2f} mm: start tight, chase it with a metal screw."
            )
            self.add(label(words, dim=True, wrap=True))
        if refused:
            self.add(label(refused, 13, 600, wrap=True))
        if found is not None:
            under = f"{found.predicted:.1f} foretold; {found.kept:,} other corners exactly as they were"
            self.add(line("Volume", f"{found.found:+.1f} mm³", under, False))
            self.add(row(button("Keep the thread so", lambda: self._keep(found), main=True), stretch=-2))
