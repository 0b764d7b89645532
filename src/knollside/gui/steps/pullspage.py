"""Bench's page of pull tests: bars over levels of one setting, what they say, and the bond they give the card."""

from __future__ import annotations

from functools import partial

import numpy as np
from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QCheckBox, QVBoxLayout, QWidget

from knollside.core.fit.dryfit import GRAVITY
from knollside.core.learning.bondcurve import CURVES, curve_of
from knollside.core.learning.pulls import Studied, Verdict, advice, bars_for_study, studied
from knollside.core.material.bond import usual_nozzle
from knollside.core.model import Refused, bounds_of
from knollside.core.model.trials import UNITS, Pull, PullStudy
from knollside.core.proof.pullplan import PlannedPlate, awaited, planned
from knollside.gui.instruments.pullchart import PullChart
from knollside.gui.instruments.widgets import Dropdown, NumberField, button, heading, label, named, row, rule
from knollside.gui.session import Seeing, Session
from knollside.gui.stepbase import Act
from knollside.gui.stepbase import Verdict as VerdictLine
from knollside.gui.steps.page import Page, line
from knollside.gui.steps.pullplanlist import plan_of
from knollside.gui.steps.scaleport import ScalePort
from knollside.sim.pulling import bond_named

_VARIES = tuple((v, v) for v in UNITS)
_SPREAD = 0.08  # of single bars: typical
_RUNS, _EACH, _STEP = 3, 6, 12.0
_CARE = "Pull in a vice or with a rope and a bucket, from the side; wear glasses: bars fly when they break."


class PullsPage(Page, Seeing):
    """``chart`` is its strip under the stage; ``wanted``: a test piece is to be made at Proof, with sizes."""

    wanted = pyqtSignal(str, dict)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.chart = PullChart()
        self.at: int | None = None
        self._typed: dict[str, float] = {}
        self.scale = ScalePort()
        self.scale.weighed.connect(self.weighed)
        self.scale.said.connect(self.workspace.said.emit)
        self.margins(16, 14)
        lay = self.layout()
        assert isinstance(lay, QVBoxLayout)
        lay.insertWidget(1, self.scale)

    # What is stored

    @property
    def studies(self) -> dict[int, PullStudy]:
        """Those of the part's printer and material."""
        part = self.part
        told = self.workspace.shelf.studies.items()
        return {n: s for n, s in told if (s.printer, s.material) == (part.printer_id, part.material)}

    @property
    def study(self) -> PullStudy | None:
        mine = self.studies
        if self.at not in mine:
            self.at = max(mine, default=None)
        return mine[self.at] if self.at is not None else None

    def found(self) -> Studied | str:
        """What the bars say, or why they say nothing yet."""
        study = self.study
        if study is None:
            return ""
        try:
            return studied(study.pulls, study.margin, study.against)
        except Refused as refusal:
            return str(refusal)

    def begin(self) -> None:
        part = self.part
        if part.printer_id is None:
            self.workspace.said.emit("Add your printer at Workshop first; bars belong to one.")
            return
        name = f"{part.material} on {part.printer.name}"[:80]
        made = PullStudy(
            name=name, printer=part.printer_id, material=part.material, hard_nozzle=part.printer.hard_nozzle
        )
        self.at = self.workspace.runs.put_study(None, made, f"pull tests of {name}") or self.at
        self._typed.clear()
        self.session.touch()

    def _change(self, change: dict[str, object], words: str) -> None:
        study = self.study
        if study is not None and self.at is not None:
            made = PullStudy.model_validate(study.model_dump() | change)
            self.workspace.runs.put_study(self.at, made, words)

    def weighed(self, grams: float) -> None:
        """What hung on the scale when it broke, as the load of the bar in hand."""
        self._typed["load"] = round(grams * GRAVITY, 1)
        self._shown = self
        self.session.touch()

    def record(self) -> None:
        """One bar as it is typed."""
        study = self.study
        if study is None:
            self.workspace.said.emit("Begin a study first.")
            return
        bar = self._bar(study)
        missing = next((w for k, w in (("level", "Its level"), ("load", "Its load")) if k not in bar), "")
        if missing:
            self.workspace.said.emit(f"{missing} is still to be typed.")
            return
        made = Pull(
            level=bar["level"],
            load_N=bar["load"],
            area_mm2=bar["area"],
            run=round(bar["run"]),
            standing=bool(bar["standing"]),
        )
        # The next one is of the plan, as long as there is one.
        for key in ("load", "level", "run", "standing") if study.levels else ("load",):
            self._typed.pop(key, None)
        self._change({"pulls": (*study.pulls, made)}, f"a bar of {made.level:g} at {made.load_N:.0f} N")

    def simulate(self) -> None:
        """Bars of the plan, else six each of four heats over three prints and six lying ones, by the hidden bond."""
        study, part = self.study, self.part
        if study is None:
            return
        hidden, rng = bond_named(f"{part.printer.name} {part.material}"), np.random.default_rng(len(study.pulls) + 5)
        if study.levels and study.varies == "nozzle temperature":
            plates, pulled = planned(study, self.at or 0), list(study.pulls)
            while (at := awaited(plates, pulled)) is not None:
                pulled.append(hidden.pull(at[0].level, at[0].round, rng, standing=at[0].standing))
            many = len(pulled) - len(study.pulls)
            self._change({"pulls": tuple(pulled)}, f"{many} bars of the plan pulled, simulated")
            return
        middle = usual_nozzle(part.plain_card)
        heats = [middle + _STEP * k for k in (-2, -1, 0, 1)]
        first = max((p.run for p in study.pulls), default=0)
        made = [hidden.pull(t, first + 1 + b % _RUNS, rng) for t in heats for b in range(_EACH)]
        made += [hidden.pull(middle, first + 1 + b % _RUNS, rng, standing=False) for b in range(_EACH)]
        self._change({"pulls": (*study.pulls, *made)}, f"{len(made)} bars pulled, simulated")

    def slip(self, number: int) -> None:
        """Say that a bar's grip slipped: it counts no more."""
        study = self.study
        if study is not None:
            kept = list(study.pulls)
            kept[number] = kept[number].model_copy(update={"slipped": True})
            self._change({"pulls": tuple(kept)}, "a grip slipped")

    def take(self) -> None:
        """The bond over what varies becomes the card's own."""
        study = self.study
        if study is None:
            return
        try:
            curve = curve_of(study, self.part.printer.nozzle_mm)
        except Refused as refusal:
            self.workspace.said.emit(str(refusal))
            return
        self.workspace.kept.put_bond_curve(study.material, curve)

    def _make(self, plate: PlannedPlate) -> None:
        """The plate's bars as a test piece, in places drawn by lot."""
        sizes = {"bars": float(plate.bars), "lot": float(plate.lot)}
        self.wanted.emit("pull" if plate.standing else "pull lying", sizes)

    # Showing

    def refresh(self) -> None:
        study, found = self.study, self.found()
        said = found if isinstance(found, Studied) else None
        self.chart.put(study, said)
        own = self.workspace.shelf.own.get(self.part.material)
        if self.fresh((study, self.at, tuple(self.studies), own, self.part.printer_id)):
            self._fill(study, found)

    def _fill(self, study: PullStudy | None, found: Studied | str) -> None:
        self.add(heading("Pull tests", button("New study", self.begin)))
        if study is None:
            words = "Bars of several settings are pulled until they break: which setting is as strong as the best?"
            self.add(label(words, dim=True, wrap=True))
            return
        mine = self.studies
        pick = Dropdown("Study", [(f"{n}: {s.varies}, {len(s.pulls)} bars", n) for n, s in mine.items()], 14)
        pick.put(self.at)
        pick.chose.connect(self._pick)
        varies = Dropdown("What varies", _VARIES, 12)
        varies.put(study.varies)
        varies.chose.connect(lambda v: self._change({"varies": v}, f"{v} varies"))
        margin = NumberField("As strong within", "share", "%", 0.01, 0.01, 0.5, 0, 64)
        margin.put(study.margin)
        margin.entered.connect(lambda v: self._change({"margin": v}, f"as strong within {100 * v:.0f} %"))
        many = max(len(study.levels or {p.level for p in study.pulls if p.standing}), 2)
        need = bars_for_study(many, _SPREAD, -float(np.log(1 - study.margin)))
        bars = f"{need} bars of each of {many} levels" if need is not None else "more bars than one pulls"
        words = f"{bars} show it in four of five, where single bars differ by 8 % (typical)."
        self.add(pick, row(varies, label("within", dim=True), margin, spacing=4, stretch=-2))
        self.add(label(words, dim=True, wrap=True))
        self.add(*plan_of(study, self.at or 0, need, self._change, self.workspace.said.emit, self._make))
        self.add(rule(), *self._entry(study))
        self.add(rule(), *self._said(study, found), label(_CARE, dim=True, wrap=True))

    def _bar(self, study: PullStudy) -> dict[str, float]:
        """What is said of the bar in hand: as typed, else as the plan has the next one, else as bars usually are."""
        told = {"area": 24.0, "run": 1.0, "standing": 1.0}
        at = awaited(planned(study, self.at or 0), study.pulls)
        if at is not None:
            told |= {"level": at[0].level, "run": float(at[0].round), "standing": float(at[0].standing)}
        return told | self._typed

    def _pick(self, number: object) -> None:
        self.at = int(str(number))
        self._typed.clear()
        self.session.touch()

    def _entry(self, study: PullStudy) -> tuple[QWidget, ...]:
        """Fields of one bar."""
        unit, bar = UNITS[study.varies], self._bar(study)
        fields = []
        for key, name, kind, of, low, high, digits, wide in (
            ("level", f"Level, {unit}" if unit else "Level", "share", "", -1000, 10_000, 2, 70),
            ("load", "Load when it broke", "force", "N", 0, bounds_of(Pull, "load_N")[1], 0, 78),
            ("area", "Narrowest area, mm²", "share", "", 0.1, 10_000, 1, 62),
            ("run", "Print number", "share", "", 1, 1000, 0, 50),
        ):
            f = NumberField(name, kind, of, 1, low, high, digits, wide)
            f.plain = kind == "share"
            if key in bar:
                f.put(bar[key])
            f.entered.connect(lambda v, key=key: self._typed.update({key: v}))
            words = {"level": unit or "level", "load": "broke at", "area": "mm²", "run": "print"}[key]
            fields.append(named(words, f))
        stands = QCheckBox("printed standing")
        stands.setChecked(bool(bar["standing"]))
        stands.clicked.connect(lambda on: self._typed.update(standing=float(on)))
        go = button("Record the bar", self.record)
        sim = button(
            "Pull them, simulated", self.simulate, tip="Those of the plan, else 30 bars at four heats, by a hidden bond"
        )
        return row(*fields, spacing=4, stretch=-2), row(stands, go, spacing=4, stretch=-2), row(sim, stretch=-2)

    def _said(self, study: PullStudy, found: Studied | str) -> list[QWidget]:
        if isinstance(found, str):
            return [label(found, 13, 600, wrap=True)]
        unit = UNITS[study.varies]
        out: list[QWidget] = [heading("What they say", f"{len(study.pulls)} bars")]
        claims = {c.level: c for c in found.claims}
        for level in found.levels:
            m, claim = level.mean, claims.get(level.value)
            how = "held against" if claim is None else claim.verdict.value
            runs = f"{level.runs} print{'s' if level.runs > 1 else ''}"
            many = f"{len(level.strengths)} bars of {runs}, ± {100 * level.spread:.0f} %"
            under = f"{m.low:.1f} to {m.high:.1f} MPa, {many}"
            out.append(line(f"{level.value:g} {unit}: {how}", f"{m.value:.1f} MPa", under, claim is None))
        out.append(label(advice(found, unit), 14, 600, wrap=True))
        out += [label(words, dim=True, wrap=True) for words in found.notes]
        for k in found.slips:
            out.append(row(button(f"Bar {k + 1}: the grip slipped", partial(self.slip, k)), stretch=-2))
        own = self.workspace.shelf.own.get(study.material)
        taken = own is not None and (study.varies, study.hard_nozzle) in [c.of for c in own.bond_curves]
        words = "Take it into the card again" if taken else "Take it into the card"
        out.append(row(button(words, self.take, tip=f"The bond over {study.varies} becomes yours"), stretch=-2))
        return out

    # The verdict

    def verdict(self) -> VerdictLine:
        study, found = self.study, self.found()
        if study is None:
            return VerdictLine(
                "Which setting really bonds?", "Pull bars of each.", acts=(Act("New study", self.begin),)
            )
        if isinstance(found, str):
            return VerdictLine("Not enough bars yet.", found, acts=(Act("Pull them, simulated", self.simulate),))
        settled = all(c.verdict is not Verdict.OPEN for c in found.claims)
        unit = UNITS[study.varies]
        acts = (Act("Take it into the card", self.take),) if study.varies in CURVES else ()
        return VerdictLine(
            f"{found.lowest:g} {unit} will do." if found.lowest != found.reference else "None lower is proved.",
            advice(found, unit),
            number=f"{found.lowest:g}",
            unit=unit,
            tone="moss" if settled else "peat",
            source=f"Yours, {len(study.pulls)} bars, one in twenty may err.",
            acts=acts,
        )
