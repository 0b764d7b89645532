"""Bench's page of the support gap: one trial after another until a gap comes off clean, then into Lay."""

from __future__ import annotations

from functools import partial
from typing import get_args

import numpy as np
from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QCheckBox, QWidget

from knollside.core.lay.peel import newtons
from knollside.core.learning.supportgap import Settled, settle
from knollside.core.model import Orientation, bounds_of
from knollside.core.model.trials import Outcome, RoofPattern, SupportStudy, SupportTrial
from knollside.core.proof.fromjob import roof_to_try
from knollside.gui import nodes
from knollside.gui.instruments.gapchance import GapChance
from knollside.gui.instruments.widgets import Dropdown, NumberField, button, heading, label, named, row, rule
from knollside.gui.session import Seeing, Session
from knollside.gui.stepbase import Act, Verdict
from knollside.gui.steps.page import Page, line
from knollside.sim.supports import supports_named
from knollside.store.records import Kind

_HOW: dict[Outcome, str] = {
    "lifted": "lifted: the roof sags or hangs loose",
    "clean": "clean: it comes off whole",
    "welded": "welded: it stays on or tears the face",
}
_SHOWN = 8
_UP = (0.0, 0.0, 1.0)


class SupportGapPage(Page, Seeing):
    """``chart`` is its strip under the stage; ``wanted``: the piece to try is to be printed."""

    wanted = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.chart = GapChance()
        self.gap: float | None = None  # typed; else the next one to try
        self.force: float | None = None
        self.roof: tuple[int, tuple[float, float]] | None = None  # part and sides typed; else as the piece at Proof
        self.slow = False
        self.pattern: RoofPattern = "lines"
        self.margins(16, 14)

    # What is stored

    @property
    def number(self) -> int | None:
        """The number of the part's printer and material's study; None before the first trial."""
        part = self.part
        mine = (part.printer_id, part.material)
        return next((n for n, s in self.workspace.shelf.gaps.items() if (s.printer, s.material) == mine), None)

    @property
    def trials(self) -> tuple[SupportTrial, ...]:
        number = self.number
        return () if number is None else self.workspace.shelf.gaps[number].trials

    @property
    def fan(self) -> float:
        """A share."""
        return self.part.roof_fan

    @property
    def roof_mm(self) -> tuple[float, float]:
        """Short and long side of what the support held: as typed, else the piece by this part's largest held face."""
        typed = self.roof[1] if self.roof is not None and self.roof[0] == self.part.id else None
        low, high = sorted(typed or roof_to_try(nodes.held_face(self.view.inputs)))
        return low, high

    def found(self) -> Settled:
        """What the trials say at this recipe's fan, in multiples of what can be set."""
        return settle(self.trials, self.fan, self.slow, self.pattern)

    def keep(self, outcome: Outcome) -> None:
        """A trial came off so."""
        gap = self.found().next if self.gap is None else self.gap
        self._keep(
            SupportTrial(
                gap_mm=gap,
                fan=self.fan,
                slow=self.slow,
                pattern=self.pattern,
                outcome=outcome,
                force_N=self.force,
                roof_mm=self.roof_mm,
                density=self.part.support_settings.density,
            )
        )

    def _keep(self, made: SupportTrial) -> None:
        part = self.part
        if part.printer_id is None:
            self.workspace.said.emit("Add your printer at Workshop first; trials belong to one.")
            return
        study = SupportStudy(printer=part.printer_id, material=part.material, trials=(*self.trials, made))
        self.gap, self.force = None, None
        self.workspace.runs.put_gaps(self.number, study, f"support gap of {made.gap_mm:.2f} mm: {made.outcome}")

    def forget(self) -> None:
        """The last trial was none."""
        number = self.number
        if number is not None and self.trials:
            study = self.workspace.shelf.gaps[number]
            self.workspace.runs.put_gaps(
                number, study.model_copy(update={"trials": self.trials[:-1]}), "the last trial was none"
            )

    def simulate(self) -> None:
        """The stand-in prints the next trial and takes its support off."""
        part, gap = self.part, self.found().next if self.gap is None else self.gap
        hidden = supports_named(f"{part.printer.name} {part.material}")
        how = self.fan, self.slow, self.pattern, self.roof_mm, part.support_settings.density
        self._keep(hidden.tried(gap, np.random.default_rng(len(self.trials) + 17), *how))

    def use(self) -> None:
        """The settled gap goes to the supports of this part's way."""
        part = self.part
        best = self.found().best
        orientation = part.orientation or Orientation(direction=_UP)
        made = orientation.support_settings.model_copy(update={"gap_mm": best})
        changed = orientation.model_copy(update={"support_settings": made})
        self.workspace.edit({Kind.ORIENTATION: changed}, f"support gap {best:.2f} mm")

    # Showing

    def refresh(self) -> None:
        found = self.found()
        self.chart.put(found, self.trials)
        used = self.part.support_settings.gap_mm
        asked = self.fan, self.slow, self.pattern, self.gap, self.roof_mm
        if self.fresh((self.trials, *asked, used, self.part.printer_id)):
            self._fill(found, used)

    def _fill(self, found: Settled, used: float) -> None:
        self.add(heading("Support gap", f"Lay uses {used:.2f} mm"))
        words = "Print a small piece of a supported face with this gap, take the support off, say how it came off."
        self.add(label(words, dim=True, wrap=True))
        gap = NumberField("Gap to try", "length", "mm", 0.02, *bounds_of(SupportTrial, "gap_mm"), 2, 82)
        gap.put(found.next if self.gap is None else self.gap)
        gap.entered.connect(self._type_gap)
        force = NumberField("Force to take it off", "force", "N", 1, 0, 500, 0, 82)
        force.line.setPlaceholderText("felt, N")
        force.entered.connect(lambda v: setattr(self, "force", v or None))
        sides = [self._side(k, name) for k, name in enumerate(("Short side of its roof", "Long side of its roof"))]
        slow = QCheckBox("roof laid slow")
        slow.setChecked(self.slow)
        slow.clicked.connect(self._slow)
        pattern = Dropdown("Pattern of the support's roof", [(p, p) for p in get_args(RoofPattern)], 6)
        pattern.put(self.pattern)
        pattern.chose.connect(self._roof)
        self.add(
            row(
                named("gap", gap),
                named("force", force),
                named("its top", pattern),
                spacing=6,
                stretch=-2,
            )
        )
        self.add(row(label("it holds", dim=True), *sides, slow, spacing=6, stretch=-2))
        for outcome, said in _HOW.items():
            self.add(row(button(said, partial(self.keep, outcome)), stretch=-2))
        face = button("Print the piece at Proof", self.wanted.emit, tip="A roof as large as a held face of this part")
        self.add(row(face, button("Try it, simulated", self.simulate), spacing=8, stretch=-2), rule())
        self.add(*self._said(found, used))

    def _side(self, k: int, name: str) -> NumberField:
        field = NumberField(name, "length", "mm", 1, 1, 400, 0, 66)
        field.put(self.roof_mm[k])
        field.entered.connect(partial(self._type_side, k))
        return field

    def _type_side(self, k: int, value: float) -> None:
        other = self.roof_mm[1 - k]
        self.roof = self.part.id, (value, other) if k == 0 else (other, value)
        self.session.touch()

    def _type_gap(self, value: float) -> None:
        self.gap = value
        self.session.touch()

    def _roof(self, pattern: object) -> None:
        self.pattern = pattern  # type: ignore[assignment]
        self.session.touch()

    def _slow(self, on: bool) -> None:
        self.slow = on
        self.session.touch()

    def _said(self, found: Settled, used: float) -> list[QWidget]:
        welds, lifts = found.edges
        under = f"with the fan at {100 * self.fan:.0f} %{', roofs slow' if self.slow else ''}, as believed"
        out: list[QWidget] = [line(f"Clean at {found.best:.2f} mm", f"{100 * found.chance:.0f} of 100", under)]
        out.append(label(f"Welds up to {_ends(welds)}, lifts from {_ends(lifts)} mm.", dim=True, wrap=True))
        out += [label(words, 13, 600, wrap=True) for words in found.notes]
        out.append(self._force(used))
        if found.settled and abs(used - found.best) > 1e-9:
            out.append(row(button(f"Use {found.best:.2f} mm at Lay", self.use), stretch=-2))
        for k, t in list(enumerate(self.trials))[-_SHOWN:][::-1]:
            felt = f", {t.force_N:.0f} N" if t.force_N is not None else ""
            more = f"{t.pattern}, fan {100 * t.fan:.0f} %{', slow' if t.slow else ''}{felt}"
            out.append(label(f"{k + 1}  {t.gap_mm:.2f} mm {t.outcome}, {more}, {t.source}", dim=True, wrap=True))
        if self.trials:
            out.append(row(button("The last one was none", self.forget, plain=True), stretch=-2))
        return out

    def _force(self, used: float) -> QWidget:
        """What a support over such a roof takes with the gap in use; what no trial has told is said."""
        peel, (short, long) = self.part.peel, self.roof_mm
        force = peel.force(short * long, short, used, self.part.support_settings.density)
        tell = "" if peel.trials else " Type what you felt and it is yours, at Lay and Clean up too."
        return label(f"At {used:.2f} mm such a roof comes off at {newtons(force)}.{tell}", dim=True, wrap=True)

    # The verdict

    def verdict(self) -> Verdict:
        found, n = self.found(), len(self.trials)
        sim = Act("Try it, simulated", self.simulate)
        tried = f"{n} trial{'s' if n != 1 else ''}" if n else "typical until tried"
        if not found.settled:
            return Verdict(
                f"Try {found.next:.2f} mm next.",
                " ".join(found.notes) or f"{100 * found.chance:.0f} of 100 are believed to come off clean at it.",
                number=f"{found.next:.2f}",
                unit="mm",
                source=f"{tried[0].upper()}{tried[1:]}.",
                acts=(sim,),
            )
        used = self.part.support_settings.gap_mm
        acts = (sim,) if abs(used - found.best) < 1e-9 else (Act("Use it at Lay", self.use), sim)
        return Verdict(
            f"{found.best:.2f} mm comes off clean.",
            " ".join((f"Believed of {100 * found.chance:.0f} in 100.", *found.notes)),
            number=f"{found.best:.2f}",
            unit="mm",
            tone="moss",
            source=f"Yours, {tried}.",
            acts=acts,
        )


def _ends(r) -> str:  # type: ignore[no-untyped-def]
    return f"{max(r.low, 0):.2f} to {r.high:.2f}"
