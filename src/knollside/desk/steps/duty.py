"""Duty: what the part must do, where it lives, and who is hurt if it lets go."""

from __future__ import annotations

from functools import partial

from PyQt6.QtWidgets import QButtonGroup, QCheckBox, QRadioButton, QVBoxLayout, QWidget

from knollside.core.material.allowables import Allowables, target_reserve, withheld
from knollside.core.model import GRAVITY, Danger, Duty, FaceMark, Held, Load, LoadCase
from knollside.desk import tasks
from knollside.desk.instruments.stair import Stair
from knollside.desk.instruments.widgets import (
    Choice,
    NumberField,
    button,
    clear,
    heading,
    label,
    row,
    rule,
    scrolled,
)
from knollside.desk.stage.scene import Scene
from knollside.desk.state import State
from knollside.desk.stepbase import Act, Mark, Standing, Step, Verdict
from knollside.desk.steps.loadcard import amount, load_card
from knollside.desk.steps.scenes import base_scene, load_arrows, reaction_arrows

HELD = {
    "fixed": "fixed",
    "slides along its face": "sliding",
    "under a screw's head": "screw",
    "on a pin": "pin",
    "clamped at an edge": "edge",
}


class DutyStep(Step):
    name = "Duty"
    strip_height = 188

    def __init__(self, state: State) -> None:
        super().__init__(state)
        self.strip = self.stair = Stair()
        self.stair.changed.connect(self._tread)
        body = QWidget()
        self.lay = QVBoxLayout(body)
        self.lay.setContentsMargins(16, 10, 16, 10)
        self.lay.setSpacing(6)
        self.cards = QVBoxLayout()
        self.cards.setSpacing(8)
        self.lay.addWidget(heading("What it must carry", button("Add a load", self._add)))
        self.lay.addLayout(self.cards)
        self.together = label("", dim=True, wrap=True)
        self.lay.addWidget(self.together)
        self.holds = QVBoxLayout()
        self.holds.setSpacing(3)
        self.lay.addWidget(rule())
        self.lay.addWidget(heading("What holds it"))
        self.lay.addLayout(self.holds)
        self.lay.addWidget(rule())
        self.lay.addWidget(heading("Where it lives"))
        self.heat = NumberField("Greatest heat", "temperature", "°C", 5, -60, 400, 0, 80)
        self.heat.entered.connect(lambda v: self._place({"temperature_c": v}, f"heat {v:.0f} °C"))
        self.sun, self.wet, self.chem = QCheckBox("Sun"), QCheckBox("Rain"), QCheckBox("Chemicals")
        for box, key in ((self.sun, "sun"), (self.wet, "wet"), (self.chem, "chemicals")):
            box.clicked.connect(partial(self._tick, key))
        self.lay.addWidget(row(self.heat, self.sun, self.wet, self.chem, stretch=-2))
        self.lay.addWidget(rule())
        self.lay.addWidget(heading("If it lets go, who is hurt?", "asked once"))
        self.danger = QButtonGroup(body)
        for d, words in (
            (Danger.NOBODY, "No one. Needed: 2, or 3 if knocked or repeated."),
            (Danger.BELOW, "Someone may stand below. Needed: 4."),
            (Danger.PERSON, "It carries a person, or is part of a\nvehicle, mains, gas or medical. No verdict."),
        ):
            option = QRadioButton(words)
            option.setProperty("danger", d)
            self.danger.addButton(option)
            self.lay.addWidget(option)
        self.danger.buttonClicked.connect(lambda b: self._put({"danger": b.property("danger")}, "who is hurt"))
        self.lay.addWidget(
            label(
                "Never for climbing or lifting people. Local rules and licensed practice come first.",
                dim=True,
                wrap=True,
            )
        )
        self.lay.addStretch(1)
        area = scrolled(body)
        self.panel = area
        self._shown: object = None

    # Edits

    def _put(self, change: dict[str, object], text: str) -> None:
        if self.state.doc is not None:
            self.state.edit("duty", self.state.doc.duty.model_copy(update=change), text)

    def _place(self, change: dict[str, object], text: str) -> None:
        if self.state.doc is not None:
            self._put({"surroundings": self.state.doc.duty.surroundings.model_copy(update=change)}, text)

    def _tick(self, key: str, on: bool) -> None:
        self._place({key: on}, f"{key} {'yes' if on else 'no'}")

    def _add(self) -> None:
        facts, doc = self.state.facts, self.state.doc
        if facts is None or doc is None:
            return
        name = self.state.picked or next((f.id for f in facts.features if f.kind == "flat"), "")
        if not name:
            self.state.said.emit("Click a face of the part first; the load goes there.")
            return
        case = LoadCase(name=f"load {len(doc.duty.cases) + 1}", loads=(Load(feature=name, force_N=(0, 0, -50)),))
        self._put(
            {"cases": (*doc.duty.cases, case), "marks": {**doc.duty.marks, name: FaceMark.PUSHED}},
            f"load on {name.replace('-', ' ')}",
        )

    def _put_case(self, i: int, case: LoadCase, text: str) -> None:
        if self.state.doc is not None:
            cases = list(self.state.doc.duty.cases)
            cases[i] = case
            self._put({"cases": tuple(cases)}, text)

    def aim(self, handle: tuple[int, int], unit: tuple[float, float, float]) -> None:
        """Turn one load to the direction its arrow was dragged to."""
        if self.state.doc is None or handle[0] >= len(self.state.doc.duty.cases):
            return
        case = self.state.doc.duty.cases[handle[0]]
        loads = list(case.loads)
        load = loads[handle[1]]
        key = "deflection_mm" if load.kind == "deflection" else "force_N"
        loads[handle[1]] = load.model_copy(update={key: tuple(c * amount(load) for c in unit)})
        self._put_case(handle[0], case.model_copy(update={"loads": tuple(loads)}), f"{case.name}: turned by hand")

    def _hold(self, i: int, kind: str) -> None:
        if self.state.doc is not None:
            held = list(self.state.doc.duty.held)
            held[i] = held[i].model_copy(update={"kind": kind})
            where = (held[i].feature or "a point").replace("-", " ")
            self._put({"held": tuple(held)}, f"{where} held: {kind}")

    def _let_go(self, i: int) -> None:
        if self.state.doc is not None:
            d = self.state.doc.duty
            gone = d.held[i]
            marks = {k: v for k, v in d.marks.items() if not (k == gone.feature and v is FaceMark.HELD)}
            self._put({"held": (*d.held[:i], *d.held[i + 1 :]), "marks": marks}, "no longer held")

    def _tread(self, name: str, value: float | None) -> None:
        """One's own factor on the stair, or the typical one again."""
        if self.state.doc is not None:
            treads = {k: v for k, v in self.state.doc.duty.treads.items() if k != name}
            if value is not None:
                treads[name] = value
            self._put({"treads": treads}, f"stair: {name.lower()} " + ("typical" if value is None else f"{value:.2f}"))

    def _drop(self, i: int) -> None:
        if self.state.doc is not None:
            gone = {ld.feature for ld in self.state.doc.duty.cases[i].loads}
            left = tuple(c for k, c in enumerate(self.state.doc.duty.cases) if k != i)
            still = {ld.feature for c in left for ld in c.loads}
            marks = {
                k: v for k, v in self.state.doc.duty.marks.items() if not (k in gone - still and v is FaceMark.PUSHED)
            }
            self._put({"cases": left, "marks": marks}, "load taken away")

    # Showing

    def _together(self) -> str:
        """Sum and moment of the largest case, and how well the solve balanced them."""
        doc, facts = self.state.doc, self.state.facts
        if doc is None or facts is None or not doc.duty.cases:
            return ""
        laying: tasks.Laying | None = self.state.fresh_laying
        if laying is not None:
            f = laying.strength.field
            case = max(f.cases, key=lambda c: c.pushing)
            return (
                f"Largest, {case.name}: {case.pushing:.0f} N and {case.turning / 1000:.1f} N m about the holds; "
                f"balanced to {max(f.balance_error, 1e-5) * 100:.1g} %."
            )
        force = max(sum(ld.newtons for ld in c.loads) for c in doc.duty.cases)
        return f"Largest: {force:.0f} N. Reactions show once Lay has solved it." if force else ""

    def enter(self) -> None:
        self._ask_stair()

    def _ask_stair(self) -> None:
        doc = self.state.doc
        if doc is not None and doc.duty.cases:
            key = self.state.stair_key
            if self.state.answers.fresh("stair", key) is None and not self.state.answers.refusal("stair", key):
                self.state.work.ask("stair", key, tasks.stair, self.state.card, doc.duty)

    def refresh(self) -> None:
        doc = self.state.doc
        if doc is None:
            return
        d = doc.duty
        self.heat.put(d.surroundings.temperature_c)
        for box, on in (
            (self.sun, d.surroundings.sun),
            (self.wet, d.surroundings.wet),
            (self.chem, d.surroundings.chemicals),
        ):
            box.setChecked(on)
        self.danger.setExclusive(False)
        for b in self.danger.buttons():
            b.setChecked(b.property("danger") == d.danger)
        self.danger.setExclusive(True)
        self.together.setText(self._together())
        if self._shown != (d.cases, d.held):
            self._shown = (d.cases, d.held)
            clear(self.cards)
            clear(self.holds)
            for i, case in enumerate(d.cases):
                if case.loads:
                    self.cards.addWidget(load_card(i, case, partial(self._put_case, i), partial(self._drop, i)))
            for i, held in enumerate(d.held):
                self.holds.addWidget(self._held_row(i, held))
            if not d.held:
                self.holds.addWidget(
                    label("Nothing holds it yet: click a hole or face, then “held”.", dim=True, wrap=True)
                )
            if not d.cases:
                self.cards.addWidget(
                    label(
                        "No load yet. Click the face that is pushed on the stage, then “pushed”.", dim=True, wrap=True
                    )
                )
        self._ask_stair()
        limits: tuple[Allowables, ...] | None = self.state.answers.get("stair")
        if limits and d.cases:
            worst = min(range(min(len(limits), len(d.cases))), key=lambda i: limits[i].apart)
            self.stair.put(limits[worst], d.cases[worst].name, doc.material)
        else:
            self.stair.put(None, "", "")

    def _held_row(self, i: int, held: Held) -> QWidget:
        name = (held.feature or "a point").replace("-", " ")
        kind = Choice(f"How {name} is held", HELD.items(), 11)
        kind.put(held.kind)
        kind.chose.connect(partial(self._hold, i))
        gone = button("×", partial(self._let_go, i), plain=True, tip="No longer held")
        gone.setAccessibleName(f"{name} no longer held")
        gone.setFixedWidth(26)
        title = label(name.capitalize(), 14, 600)
        title.setFixedWidth(86)
        return row(title, kind, gone, stretch=1, spacing=6)

    def standing(self) -> Standing:
        doc = self.state.doc
        if doc is None:
            return Standing(Mark.OPEN, "Nothing said.")
        d: Duty = doc.duty
        if not d.cases and not d.held:
            return Standing(
                Mark.FULL if d.danger is not Danger.UNASKED else Mark.OPEN,
                f"{d.purpose.value.capitalize()}, carries nothing.",
            )
        if not d.held or not d.cases:
            return Standing(Mark.HALF, "Nothing holds it." if not d.held else "Nothing pushes it.")
        if d.danger is Danger.UNASKED:
            return Standing(Mark.HALF, "Who is hurt if it lets go?")
        force = max(sum(ld.newtons for ld in c.loads) for c in d.cases)
        return Standing(
            Mark.FULL,
            f"{len(d.cases)} load{'s' if len(d.cases) > 1 else ''}, up to {force / GRAVITY:.0f} kg. "
            f"Needed {target_reserve(d):g}.",
        )

    def verdict(self) -> Verdict:
        doc = self.state.doc
        if doc is None:
            return Verdict("")
        d = doc.duty
        if withheld(d):
            return Verdict(
                "No verdict, and that is an answer.",
                withheld(d) or "",
                number="none",
                tone="clay",
                acts=(Act("Lay it", lambda: self.go("Lay")),),
            )
        key = self.state.stair_key
        refused = self.state.answers.refusal("stair", key)
        if refused:
            return Verdict(
                "This material cannot do it.",
                refused,
                number="0",
                unit="MPa",
                tone="clay",
                acts=(Act("Choose another", lambda: self.go("Build")),),
            )
        if not d.cases:
            return Verdict(
                "It carries nothing.",
                "Add a load, or go on: only surface, time and fit are weighed then.",
                acts=(Act("Add a load", self._add), Act("Lay it", lambda: self.go("Lay"))),
            )
        force = max(sum(ld.newtons for ld in c.loads) for c in d.cases)
        need = target_reserve(d)
        why = {
            2.0: "An ordinary load; twice is the usual need.",
            3.0: "Three times, because it is used often or knocked.",
            4.0: "Four times, because someone may stand below.",
        }[need]
        limits = self.state.answers.get("stair")
        source = ""
        if limits:
            a = limits[0]
            source = f"Layer bond: {a.bond.source}. " + ("Other treads: typical." if a.steps else "")
        return Verdict(
            f"It must hold {force * need / GRAVITY:.0f} kg before it lets go.",
            why,
            number=f"{force * need / GRAVITY:.0f}",
            unit="kg",
            under=(f"{need:g} times {force / GRAVITY:.1f} kg", f"needed {need:g}"),
            tone="peat",
            source=source,
            acts=(Act("Lay it", lambda: self.go("Lay"), bool(d.held)), Act("Open the part", lambda: self.go("Part"))),
        )

    def scene(self) -> Scene:
        n = len(self.state.doc.duty.cases) if self.state.doc else 0
        return base_scene(
            self.state,
            False,
            "As it is used",
            f"{n} load case{'s' if n != 1 else ''}. Down is −Z.",
            show_bed=False,
            arrows=load_arrows(self.state, True) + reaction_arrows(self.state),
            legend=("held", "pushed", "shown"),
        )
