"""Fits' card of scaling every part of the job alike, each with its own holes and gaps kept."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtWidgets import QVBoxLayout, QWidget

from knollside.core.fit.scaling import LEAST, MOST
from knollside.core.job.questions.fits import SetPart
from knollside.gui.instruments.widgets import NumberField, button, heading, label, row, rule
from knollside.gui.steps.page import Page, Same, line


class SetCard(QWidget):
    """One factor for the whole job; parts that would be refused are named, and then nothing is kept."""

    def __init__(self, work_out: Callable[[float], None], keep: Callable[[tuple[SetPart, ...]], None]) -> None:
        super().__init__()
        self.factor = NumberField("Scale of the set", "share", "%", 0.05, LEAST, MOST, 1, 84)
        self.factor.put(1.0)
        self.go = button("Work out the set", lambda: work_out(self.factor.value), tip="Nothing is changed yet")
        self.told = _Told(keep)
        lay = QVBoxLayout(self)
        lay.setContentsMargins(0, 0, 0, 0)
        lay.setSpacing(5)
        why = "Every part of the job by one factor; holes, pockets and gaps keep their true size."
        for w in (
            rule(),
            heading("Scale the set"),
            label(why, dim=True, wrap=True),
            row(self.factor, self.go, stretch=-2),
            self.told,
        ):
            lay.addWidget(w)

    def put(self, found: tuple[SetPart, ...] | None, refused: str, busy: bool) -> None:
        self.go.setEnabled(not busy)
        self.told.put(found, refused, busy)


class _Told(Page):
    def __init__(self, keep: Callable[[tuple[SetPart, ...]], None]) -> None:
        super().__init__()
        self._keep = keep
        self.margins(0, 0)

    def put(self, found: tuple[SetPart, ...] | None, refused: str, busy: bool) -> None:
        if not self.fresh((Same(found), refused, busy)):
            return
        if busy or refused or found is None:
            if busy or refused:
                self.add(label(refused or "Scaling the set …", 13, 600 if refused else 400, wrap=True))
            return
        for p in found:
            if p.scaled is None:
                self.add(line(p.name, "refused", p.refused, False))
                continue
            gaps = ", ".join(f"gap {g.now:.2f} (plain {g.plain:.2f})" for g in p.scaled.gaps)
            kept = f"{len(p.scaled.sizes)} holes and pockets kept" + (f", {gaps}" if gaps else "")
            self.add(line(p.name, f"{p.scaled.factor * 100:.0f} %", kept, False))
            for words in p.scaled.threads:
                self.add(label(words, 13, 600, wrap=True))
        good = [p for p in found if p.scaled is not None]
        words = f"Keep {len(good)} of {len(found)} as new revisions"
        self.add(row(button(words, lambda: self._keep(tuple(good)), main=True), stretch=-2))
