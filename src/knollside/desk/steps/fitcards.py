"""Cards of Fits: what lies between bodies printed in place, and scaling that keeps what must not scale."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtWidgets import QCheckBox, QVBoxLayout, QWidget

from knollside.core.fit.clearance import Freedom
from knollside.core.fit.flaring import TYPICAL as FLARE
from knollside.core.fit.scaling import Scaled
from knollside.core.mesh.flare import Relieved
from knollside.core.model import Feature
from knollside.desk.instruments.widgets import NumberField, button, column, heading, label, row, rule
from knollside.desk.steps.page import Page, line


class BodiesCard(Page):
    """One row a pair of bodies: does it come free, does it rattle, what decides it."""

    def put(self, found: tuple[Freedom, ...] | None, bodies: int, refused: str) -> None:
        if not self.fresh((id(found), bodies, refused)):
            return
        self.setVisible(bodies > 1)
        if bodies < 2:
            return
        self.add(rule(), heading("Between bodies", f"{bodies} printed in place"))
        if found is None:
            self.add(label(refused or "Measuring between bodies …", dim=True, wrap=True))
            return
        if not found:
            self.add(label("No two bodies come within 3 mm of each other.", dim=True, wrap=True))
        for f in found:
            g = f.gap
            a, b = (k + 1 for k in g.bodies)
            odds = f"{f.turns * 100:.0f} % free"
            why = f"{f.why[0].upper()}{f.why[1:]}. Welds {f.welds * 100:.0f} %, rattles {f.rattles * 100:.0f} %."
            self.add(line(f"Bodies {a} and {b}, {g.smallest:.2f} mm", odds, why))
            between = (
                "Nothing faces it across the layers."
                if g.layers_between is None
                else f"{g.layers_between} empty layers across them."
            )
            where = "" if g.in_layer is None else f"Tightest in the layer at {g.in_layer_at:.1f} mm. "
            self.add(label(where + between, dim=True, wrap=True))
            if f.cure:
                self.add(label(f"{f.cure[0].upper()}{f.cure[1:]}.", 13, 600, wrap=True))
        self.add(label("A side of the gap; what the printer frees and its flare are typical.", dim=True, wrap=True))


class FlareCard(QWidget):
    """The first layers' flare, taken off bottom edges and hole mouths as a new revision."""

    def __init__(self, work_out: Callable[[float], None], keep: Callable[[Relieved], None]) -> None:
        super().__init__()
        self.by = NumberField("Flare a side", "length", "mm", 0.05, 0.01, 2, 2, 84)
        self.by.put(FLARE.value)
        self.go = button("Take it off", lambda: work_out(self.by.value), tip="Nothing is changed yet")
        self.told = _Relief(keep)
        why = label("Off bottom edges and hole mouths only; typical until you measure yours.", dim=True, wrap=True)
        lay = QVBoxLayout(self)
        lay.setContentsMargins(0, 0, 0, 0)
        lay.setSpacing(5)
        for w in (rule(), heading("First layers' flare", "a side"), row(self.by, self.go, stretch=-2), why, self.told):
            lay.addWidget(w)

    def put(self, found: Relieved | None, refused: str, busy: bool) -> None:
        self.go.setEnabled(not busy)
        self.told.put(found, refused, busy)


class _Relief(Page):
    def __init__(self, keep: Callable[[Relieved], None]) -> None:
        super().__init__()
        self._keep = keep
        self.margins(0, 0)

    def put(self, found: Relieved | None, refused: str, busy: bool) -> None:
        if not self.fresh((id(found), refused, busy)):
            return
        if refused or busy or found is None:
            if refused or busy:
                self.add(label(refused or "Cutting it off …", 13, 600, wrap=True))
            return
        under = f"{found.predicted:.1f} foretold; {found.untouched:,} corners exactly as they were"
        self.add(
            line(f"{found.by:.2f} mm off the lowest {found.height:.1f} mm", f"{found.found:.1f} mm³", under, False)
        )
        self.add(row(button("Keep it without flare", lambda: self._keep(found), main=True), stretch=-2))


class ScaleCard(QWidget):
    """A factor, what is kept, what plain scaling would have done, and a new revision."""

    def __init__(
        self, work_out: Callable[[float, tuple[str, ...], bool], None], keep: Callable[[Scaled], None]
    ) -> None:
        super().__init__()
        self._work_out = work_out
        self.factor = NumberField("Scale", "share", "%", 0.05, 0.1, 10, 1, 84)
        self.factor.put(1.0)
        self.holes, self.gaps = QCheckBox("holes and pockets"), QCheckBox("gaps between bodies")
        self.holes.setChecked(True)
        self.gaps.setChecked(True)
        self.go = button("Work it out", self._go, tip="Nothing is changed yet")
        self.kept: tuple[str, ...] = ()
        self.told = _Told(keep)
        lay = QVBoxLayout(self)
        lay.setContentsMargins(0, 0, 0, 0)
        lay.setSpacing(5)
        lay.addWidget(rule())
        lay.addWidget(heading("Scale it", "keeping at true size"))
        lay.addWidget(row(self.factor, self.go, stretch=-2))
        lay.addWidget(column(self.holes, self.gaps, spacing=2))
        lay.addWidget(self.told)

    def _go(self) -> None:
        self._work_out(self.factor.value, self.kept if self.holes.isChecked() else (), self.gaps.isChecked())

    def put(self, features: tuple[Feature, ...], bodies: int, found: Scaled | None, refused: str, busy: bool) -> None:
        # A hole that changes no neighbour can be kept; so can a hexagon pocket.
        self.kept = tuple(f.id for f in features if f.kind in ("hole", "hexagon"))
        self.holes.setText(f"{len(self.kept)} holes and pockets")
        self.holes.setEnabled(bool(self.kept))
        self.gaps.setVisible(bodies > 1)
        self.go.setEnabled(not busy)
        self.told.put(found, refused, busy)


class _Told(Page):
    """What came of it."""

    def __init__(self, keep: Callable[[Scaled], None]) -> None:
        super().__init__()
        self._keep = keep
        self.margins(0, 0)

    def put(self, found: Scaled | None, refused: str, busy: bool) -> None:
        if not self.fresh((id(found), refused, busy)):
            return
        if busy:
            self.add(label("Scaling …", dim=True))
            return
        if refused:
            self.add(label(refused, 13, 600, wrap=True))
            return
        if found is None:
            return
        for g in found.gaps:
            a, b = (k + 1 for k in g.bodies)
            under = f"drawn {g.drawn:.2f}; plain scaling would make it {g.plain:.2f}; {g.moved} corners moved for it"
            self.add(line(f"Gap of bodies {a} and {b}", f"{g.now:.2f} mm", under, False))
        sizes = {(round(s.drawn, 2), round(s.plain, 2)) for s in found.sizes}
        for drawn, plain in sorted(sizes)[:6]:
            many = sum(round(s.drawn, 2) == drawn for s in found.sizes)
            under = f"{many} of them; plain scaling would make it {plain:.2f}"
            self.add(line("Hole or pocket, across", f"{drawn:.2f} mm", under, False))
        if not found.gaps and not found.sizes:
            self.add(label("Everything scales alike.", dim=True))
        self.add(row(button("Keep as a new revision", lambda: self._keep(found), main=True), stretch=-2))
