"""Cards of Fits: what lies between bodies printed in place, and scaling that keeps what must not scale."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtWidgets import QCheckBox, QVBoxLayout, QWidget

from knollside.core.fit.clearance import Freedom, Gap, empty_layers
from knollside.core.fit.joints import Joint
from knollside.core.fit.moving import Travel
from knollside.core.fit.opening import OpenedGap
from knollside.core.fit.scaling import LEAST, MOST, Scaled
from knollside.core.mesh.flare import FLARES, Relieved
from knollside.core.model import Feature, Range
from knollside.gui.instruments.fitmarks import SectionMark
from knollside.gui.instruments.widgets import Dropdown, NumberField, button, chance, column, heading, label, row, rule
from knollside.gui.steps.page import Page, Same, line


class BodiesCard(Page):
    """One row a pair of bodies: does it come free, does it rattle or wobble, what decides it, and opening it."""

    def __init__(
        self,
        open_gap: Callable[[tuple[int, int], float], None],
        keep: Callable[[OpenedGap], None],
        show: Callable[[Gap], None],
        lay_first: Callable[[float], None],
    ) -> None:
        super().__init__()
        self._open, self._keep, self._show, self._lay_first = open_gap, keep, show, lay_first

    def put(
        self,
        found: tuple[Freedom, ...] | None,
        travels: dict[tuple[int, int], Travel],
        bodies: int,
        refused: str,
        opened: OpenedGap | None,
        not_opened: str,
    ) -> None:
        """``travels`` by pair of bodies, as far as they are known."""
        if not self.fresh((Same(found), tuple(travels.items()), bodies, refused, Same(opened), not_opened)):
            return
        if bodies < 2:
            self.add(label("One body: nothing is printed in place here.", dim=True, wrap=True))
            return
        self.add(heading("Between bodies", f"{bodies} printed in place"))
        if found is None:
            self.add(label(refused or "Measuring between bodies …", dim=True, wrap=True))
            return
        if not found:
            self.add(label("No two bodies come within 3 mm of each other.", dim=True, wrap=True))
        for f in found[:8]:
            self._pair(f, travels.get(f.gap.bodies))
        if opened is not None:
            i, j = (k + 1 for k in opened.bodies)
            under = f"{opened.before:.2f} mm before; {opened.moved} corners of body {j} moved, body {i} not at all"
            self.add(line("Opened to", f"{opened.now:.2f} mm", under))
            self.add(row(button("Keep the opened gap", lambda: self._keep(opened), main=True), stretch=-2))
        if not_opened:
            self.add(label(not_opened, 13, 600, wrap=True))

    def _pair(self, f: Freedom, travel: Travel | None) -> None:
        g = f.gap
        a, b = (k + 1 for k in g.bodies)
        odds = f"{chance(f.turns)} % free"
        why = f"{f.why[0].upper()}{f.why[1:]}. Welds {chance(f.welds)} %, rattles {chance(f.rattles)} %."
        name = f"Bodies {a} and {b}" if g.joint is None else f"{g.joint.title}, {a} and {b}"
        self.add(line(f"{name}, {g.size:.2f} mm", odds, why))
        place = g.bears or g.anywhere
        across = "Nothing faces it across the layers." if place.across is None else f"{empty_layers(place.across)}."
        if across[:-1] in f.why:
            across = ""  # said already
        where = "" if place.in_layer is None else f"Tightest in the layer at {place.in_layer_at:.1f} mm. "
        if where + across:
            self.add(row(SectionMark("side"), label(where + across, dim=True, wrap=True), stretch=1))
        if g.joint is not None:
            self.add(label(moves_of(g.joint, f, travel), 13, wrap=True))
        if f.cure:
            self.add(label(f"{f.cure[0].upper()}{f.cure[1:]}.", 13, 600, wrap=True))
        acts = [button("Show where", lambda: self._show(g), plain=True)]
        if abs(f.open_to - g.smallest) > 0.02 and f.cure:
            to = round(f.open_to, 2)
            acts.insert(
                0, button(f"Make it {to:.2f} mm", lambda: self._open(g.bodies, to), tip="Nothing is changed yet")
            )
        first = f.first_layer
        if first is not None:
            acts.insert(0, button(f"First layer {first:.2f} mm", lambda: self._lay_first(first), tip="In the recipe"))
        self.add(row(*acts, stretch=-2))


def moves_of(joint: Joint, free: Freedom, travel: Travel | None) -> str:
    """In words, how a joint moves: as drawn, and by its printed play."""
    said = [] if travel is None else [travel.words]
    if joint.kind != "ball":
        w = joint.wobbles(free.printed.value)
        said.append(f"Borne over {joint.span:.0f} mm it tilts by {w.degrees:.1f}°, {w.at_tip:.1f} mm at the far edge.")
    return " ".join(said)


class FlareCard(QWidget):
    """The first layers' flare, taken off bottom edges and hole mouths as a new revision."""

    def __init__(self, work_out: Callable[[float], None], keep: Callable[[Relieved], None]) -> None:
        super().__init__()
        self.by = NumberField("Flare a side", "length", "mm", 0.05, *FLARES, 2, 84)
        self.go = button("Take it off", lambda: work_out(self.by.value), tip="Nothing is changed yet")
        self.told = _Relief(keep)
        self.why = label("", dim=True, wrap=True)
        self._learned: Range | None = None
        lay = QVBoxLayout(self)
        lay.setContentsMargins(0, 0, 0, 0)
        lay.setSpacing(5)
        for w in (
            rule(),
            heading("First layers' flare", "a side"),
            row(self.by, self.go, stretch=-2),
            self.why,
            self.told,
        ):
            lay.addWidget(w)

    def put(self, found: Relieved | None, refused: str, busy: bool, learned: Range) -> None:
        if learned != self._learned:
            self._learned = learned
            self.by.put(round(learned.value, 2))
        until = "" if learned.source.startswith("yours") else " Measure a flare piece at the Bench to make it yours."
        self.why.setText(
            f"Off bottom edges and hole mouths only. {learned.value:.2f} mm ({learned.low:.2f} to {learned.high:.2f}), "
            f"{learned.source}.{until}"
        )
        self.go.setEnabled(not busy)
        self.told.put(found, refused, busy)


class _Relief(Page):
    def __init__(self, keep: Callable[[Relieved], None]) -> None:
        super().__init__()
        self._keep = keep
        self.margins(0, 0)

    def put(self, found: Relieved | None, refused: str, busy: bool) -> None:
        if not self.fresh((Same(found), refused, busy)):
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
        self,
        work_out: Callable[[float, tuple[str, ...], bool, tuple[str, ...], int | None], None],
        keep: Callable[[Scaled], None],
    ) -> None:
        super().__init__()
        self._work_out = work_out
        self.factor = NumberField("Scale", "share", "%", 0.05, LEAST, MOST, 1, 84)
        self.factor.put(1.0)
        self.holes, self.gaps = QCheckBox("holes and pockets"), QCheckBox("gaps between bodies")
        self.wall = QCheckBox("")
        self.only = Dropdown("What is scaled", [("the whole part", None)], 14)
        self.picked = ""
        self.holes.setChecked(True)
        self.gaps.setChecked(True)
        self.go = button("Work it out", self._go, tip="Nothing is changed yet")
        self.kept: tuple[str, ...] = ()
        self.told = _Told(keep)
        lay = QVBoxLayout(self)
        lay.setContentsMargins(0, 0, 0, 0)
        lay.setSpacing(5)
        lay.addWidget(heading("Scale it", "keeping at true size"))
        lay.addWidget(row(self.factor, self.go, stretch=-2))
        lay.addWidget(self.only)
        lay.addWidget(column(self.holes, self.gaps, self.wall, spacing=2))
        lay.addWidget(self.told)

    def _go(self) -> None:
        whole = self.only.currentData() is None
        walls = (self.picked,) if self.wall.isChecked() and self.wall.isEnabled() else ()
        kept = self.kept if self.holes.isChecked() else ()
        self._work_out(self.factor.value, kept, self.gaps.isChecked() and whole, walls, self.only.currentData())

    def put(
        self,
        features: tuple[Feature, ...],
        bodies: int,
        picked: str,
        found: Scaled | None,
        refused: str,
        busy: bool,
    ) -> None:
        if self.only.count() != (bodies + 1 if bodies > 1 else 1):
            self.only.clear()
            self.only.addItem("the whole part", None)
            for k in range(bodies if bodies > 1 else 0):
                self.only.addItem(f"body {k + 1} only", k)
        self.only.setVisible(bodies > 1)
        self.picked = picked if picked.startswith("flat") else ""
        face = self.picked.replace("-", " ")
        self.wall.setText(f"thickness of the wall at {face}" if face else "thickness of a wall (click its face)")
        self.wall.setEnabled(bool(face))
        # A hole that changes no neighbour can be kept; so can a hexagon pocket.
        self.kept = tuple(f.id for f in features if f.kind in ("hole", "hexagon") and f.inside is not False)
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
        if not self.fresh((Same(found), refused, busy)):
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
        for name in found.walls:
            self.add(
                label(f"The wall at {name.replace('-', ' ')} keeps its thickness; its far side moved.", 13, wrap=True)
            )
        for words in found.threads:
            self.add(label(words, 13, 600, wrap=True))
        if not (found.gaps or found.sizes or found.walls):
            self.add(label("Everything scales alike.", dim=True))
        self.add(row(button("Keep as a new revision", lambda: self._keep(found), main=True), stretch=-2))
