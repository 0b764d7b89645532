"""What stands under the net, a page each: weak places, cures, and what backs the numbers."""

from __future__ import annotations

import math
from collections.abc import Callable
from enum import Enum
from functools import partial
from string import ascii_lowercase

from PyQt6.QtWidgets import QWidget

from knollside.core.job.questions.detail import OrientationDetail
from knollside.core.job.questions.strength import RankedOrientations
from knollside.core.job.remedies import Remedy
from knollside.core.lay.orientations import RatedOrientation
from knollside.core.strength.buckling import FAR
from knollside.core.strength.discretisation import ACROSS, GridDoubt, Layered
from knollside.core.strength.hot_spots import HotSpot
from knollside.core.strength.movement import Movement
from knollside.core.strength.stability import AMPLE, Stability
from knollside.gui.instruments.widgets import Dropdown, button, heading, label, row, rule, times
from knollside.gui.steps.page import Page, Same, line

WATCH = ascii_lowercase  # names of watched places on the stage


class Drawn(Enum):
    """The shape of the part on the stage."""

    AS_IT_IS = "as it is"
    BENT = "as it bends"
    BUCKLED = "as it buckles"


class PlacesPage(Page):
    """The places that would go first, the thin portions, and the part bent."""

    def __init__(
        self, on_bend: Callable[[], None], on_place: Callable[[int], None], unwatch: Callable[[int], None]
    ) -> None:
        super().__init__()
        self.shape = Dropdown("Shape shown on the stage", ((f"Drawn {d.value}", d) for d in Drawn), 16)
        self.most = label("", dim=True, wrap=True)
        self.shape.chose.connect(lambda _: on_bend())
        self._on_place, self._unwatch = on_place, unwatch
        self.top(self.shape, self.most)

    @property
    def drawn(self) -> Drawn:
        """Which shape the stage is to show."""
        chosen: Drawn = self.shape.currentData()
        return chosen

    def put(
        self,
        detail: OrientationDetail | None,
        load: dict[str, float],
        stability: Stability | None,
        taken: bool,
        otherwise: str,
    ) -> None:
        """``load`` gives each case's own force in N, so that a place tells the load at which it goes; ``taken`` whether
        a way is, ``otherwise`` what the verdict counts besides."""
        if not self.fresh((Same(detail), tuple(load.items()), Same(stability), taken, otherwise)):
            return
        if detail is None:
            words = "Working it out …" if taken else "Take a way first; its weak places are then listed here."
            self.add(label(words, dim=True, wrap=True))
            return
        self.most.setText(f"{moved_words(detail.movement)} {detail.moves_far}".strip())
        self.add(heading("What would go first", "load at which it goes"))
        if otherwise:
            self.add(label(otherwise, dim=True, wrap=True))
        if stability is not None:
            self.add(_buckles(stability, load.get(stability.case, 0.0)))
        for i, p in enumerate(detail.places):
            show = button(f"{i + 1}", partial(self._on_place, i), tip="Show it on the stage")
            show.setFixedWidth(34)
            show.setAccessibleName(f"Show place {i + 1}")
            self.add(row(show, _told(p, load), stretch=1))
        self._add_watched(detail.watched, load)
        self.add(rule(), heading("Thin portions, each by itself", "now, and at best"))
        for q in detail.portions:
            at = f"at ({q.middle[0]:.0f}, {q.middle[1]:.0f}, {q.middle[2]:.0f})"
            gain = "its best way too" if q.best < 1.1 * q.reserve else f"{times(q.best)}× lying its own best way"
            self.add(line(f"{q.name.capitalize()} {at}, {q.thickness:.0f} mm", f"{times(q.reserve)}×", gain, False))
        if not detail.portions:
            self.add(label("No thin tab, neck or arm stands out from the rest.", dim=True, wrap=True))

    def _add_watched(self, watched: tuple[HotSpot, ...], load: dict[str, float]) -> None:
        """The places the person points at, lettered so that they are told from those that were found."""
        if not watched:
            self.add(label("Click a place on the part to have it looked at closely too.", dim=True, wrap=True))
            return
        self.add(rule(), heading("Watched by you", "load at which it goes"))
        for i, (letter, p) in enumerate(zip(WATCH, watched, strict=False)):
            gone = button("×", partial(self._unwatch, i), plain=True, tip="Watch it no more")
            gone.setAccessibleName(f"Watch place {letter} no more")
            gone.setFixedWidth(26)
            self.add(row(label(letter, 14, 600), _told(p, load), gone, stretch=1))


def _told(p: HotSpot, load: dict[str, float]) -> QWidget:
    """What happens at a place, at how many times the load and at which force."""
    force = load.get(p.case, 0.0) * p.reserve
    return line(
        f"At a support, told apart: {p.mode}" if p.at_support else p.mode.capitalize(),
        f"{times(p.reserve)}×",
        f"{p.case}" + (f", {force:.0f} N" if force else "") + doubt_words(p),
    )


def doubt_words(p: HotSpot) -> str:
    """What the grid leaves unsure just there."""
    return "; by hand" if p.by_hand else f"; grid ± {100 * p.doubt:.0f} %" if math.isfinite(p.doubt) else ""


def _buckles(s: Stability, force: float) -> QWidget:
    """What gives way sideways, and at which load."""
    if s.beyond:
        return line("Buckles", f"over {AMPLE:.0f}×", "nothing slender carries enough to matter", False)
    at = f"{s.case}, {force * s.reserve.value:.0f} N" if force else s.case
    return line("Buckles, giving way sideways", f"{times(s.reserve.value)}×", at)


def moved_words(m: Movement) -> str:
    """How far it moves, for a person."""
    then = f" after {m.lasting} in that heat; {m.at_once:.2g} mm at once" if m.lasting else ""
    return f"{m.mm.value:.2g} mm at most ({m.mm.low:.2g} to {m.mm.high:.2g}), {m.case}{then}; typical."


class CuresPage(Page):
    """Remedies side by side, with gain and price."""

    def put(
        self, orientation: RatedOrientation | None, found: tuple[Remedy, ...] | None, target: float, refused: str
    ) -> None:
        if not self.fresh((Same(orientation), Same(found), target, refused)):
            return
        if orientation is None or found is None:
            words = (
                "Take a way first; what would cure it is then listed here."
                if orientation is None
                else "Looking for cures …"
            )
            self.add(label(refused or words, dim=True, wrap=True))
            return
        have = orientation.reserve.value
        self.add(heading("What would cure it" if have < target else "What would still help", f"now {times(have)}×"))
        for c in found:
            gain = f"{times(c.reserve)}×" if c.reserve is not None else f"{target:g}×"
            self.add(line(c.title, gain, c.price))
        if not found:
            self.add(label("Nothing needs curing: it holds what is asked.", dim=True, wrap=True))
        self.add(label("Estimates from the layers' forces; nothing is drawn into your mesh.", dim=True, wrap=True))


class TrustPage(Page):
    """Cells, balance, change on another grid, and the ways solved again in layers."""

    def put(
        self,
        ranked: RankedOrientations | None,
        grid: GridDoubt | None,
        stability: Stability | None,
        layered: tuple[Layered, ...] | None,
        running: bool,
    ) -> None:
        if not self.fresh((Same(ranked), Same(grid), Same(stability), Same(layered), running)):
            return
        if ranked is None:
            self.add(label("Nothing solved yet.", dim=True))
            return
        f = ranked.strength.field
        self.add(
            heading("What backs the numbers"),
            line("Cells", f"{f.cells:,}", f"{f.cell:.2f} mm wide{_chosen(ranked)}", False),
            line("Forces left over", _small(f.balance_error), "of the loads; under 1 % is wanted", False),
        )
        for note in f.notes:
            self.add(label(note, dim=True, wrap=True))
        if grid is None:
            words = "Looking closely …" if running else "Not looked at closely yet."
            self.add(label(words, dim=True, wrap=True))
            return
        against = grid.assumed or f"greatest of the listed ways, against {grid.other_cells:,} cells"
        if grid.close is not None:
            where = "at sharp corners, rims of holds and small rounds that could go first"
            self.add(line("Finest cells", f"{grid.close.finest:.2f} mm", where, False))
        self.add(
            line(
                "Change on another grid" if grid.close is None else "Change from a coarser look",
                f"{grid.change * 100:.0f} %{' assumed' if grid.assumed else ''}",
                f"{against}; taken into each way's range",
                False,
            ),
            *_thin(grid),
            *_steps(stability),
            heading("Solved again in layers", "quick, and again"),
        )
        if layered is None:
            self.add(label("Solving the first ways in layers …" if running else "Not solved in layers yet.", dim=True))
            return
        for w in layered:
            name = next((x.letter for x in ranked.ranking.orientations if x.direction == w.direction), "")
            self.add(
                line(
                    f"{name}  {w.mode}",
                    f"{times(w.quick)}×, {times(w.reserve.value)}×",
                    f"quick is {w.off * 100:+.0f} %; gives {w.movement:.2f} mm at most",
                    False,
                )
            )
        self.add(
            label(
                f"In layers: {ACROSS:g} of the stiffness across them (typical), walls, tops and infill of that way.",
                dim=True,
                wrap=True,
            )
        )


def _chosen(ranked: RankedOrientations) -> str:
    fine = ranked.strength.mesh_size
    if fine is None:
        return ""
    if ranked.strength.field.sizing is not None:
        return ", finer where it could break"
    if ranked.strength.field.asked < 0.99 * fine.size:
        return f": refined, as the first ones ({fine.size:.2f} mm) left more than a tenth of doubt"
    return f": {fine.why}"


def _thin(grid: GridDoubt) -> list[QWidget]:
    """The wall the fewest cells cross where a listed way goes first, and what that costs."""
    wall = grid.thinnest
    if wall is None:
        return []
    if wall.too_stiff > 0:
        under = f"thin for this grid: up to {wall.too_stiff * 100:.0f} % too stiff on a slant; taken into the range"
    elif wall.cells < 2:
        under = "under two, but it runs along the grid, where that is exact to a per cent"
    else:
        under = "two are enough"
    return [line(f"Cells across the wall, {wall.depth:.1f} mm", f"{wall.cells:.1f}", under, False)]


def _steps(s: Stability | None) -> list[QWidget]:
    """What buckles first, and by what its factor is knocked down."""
    if s is None:
        return []
    if s.beyond:
        return [line("Buckling", f"over {AMPLE:.0f}×", "with everything that knocks it down: no matter here", False)]
    steps = ", ".join(f"{t.name[:1].lower()}{t.name[1:]} {t.factor.value:.2g}" for t in s.steps)
    factor = f"over {FAR:.0f}×" if s.factor >= FAR else f"{s.factor:.0f}×" if s.factor >= 10 else f"{s.factor:.2g}×"
    return [line("Buckling", factor, f"as solved, of a true and straight part; then {steps}: typical", False)]


def _small(share: float) -> str:
    return f"under {max(share, 1e-6) * 100:.1g} %" if share < 1e-3 else f"{share * 100:.1f} %"
