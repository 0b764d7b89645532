"""Duty: what the part must do, where it lives, and who is hurt if it lets go."""

from __future__ import annotations

from functools import partial

from PyQt6.QtWidgets import QButtonGroup, QCheckBox, QRadioButton, QVBoxLayout, QWidget

from knollside.core.job import edits
from knollside.core.material.allowables import Allowables, target_reserve, withheld
from knollside.core.mesh.identity import Named
from knollside.core.model import GRAVITY, Danger, Fixture, LoadCase, Surroundings, bounds_of
from knollside.gui.instruments.knock_downs import KnockDownStrip
from knollside.gui.instruments.widgets import (
    NumberField,
    button,
    clear,
    heading,
    label,
    row,
    rule,
    scrolled,
)
from knollside.gui.session import Session
from knollside.gui.stepbase import Act, Mark, Standing, Step, Verdict, no_verdict
from knollside.gui.steps.heldrow import held_row
from knollside.gui.steps.loadcard import load_card
from knollside.gui.steps.lost import lost_standing, lost_verdict, with_lost
from knollside.gui.steps.scenes import base_scene, load_arrows, reaction_arrows
from knollside.gui.viewport.scene import Scene


class DutyStep(Step):
    name = "Duty"
    strip_height = 188

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.strip = self.knock_downs = KnockDownStrip()
        self.knock_downs.changed.connect(self._knock_down)
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
        self.heat = NumberField(
            "Greatest heat", "temperature", "°C", 5, *bounds_of(Surroundings, "temperature_c"), 0, 64
        )
        self.heat.entered.connect(lambda v: self._place({"temperature_c": v}, f"heat {v:.0f} °C"))
        self.sun, self.wet, self.chem = QCheckBox("Sun"), QCheckBox("Rain"), QCheckBox("Chemicals")
        for box, key in ((self.sun, "sun"), (self.wet, "wet"), (self.chem, "chemicals")):
            box.clicked.connect(partial(self._tick, key))
        self.cold = NumberField("Greatest cold", "temperature", "°C", 5, *bounds_of(Surroundings, "coldest_c"), 0, 64)
        self.cold.setToolTip("Below some cold a plastic breaks rather than gives")
        self.cold.entered.connect(lambda v: self._place({"coldest_c": v}, f"cold {v:.0f} °C"))
        self.lay.addWidget(row(self.cold, label("to", dim=True), self.heat, stretch=-2))
        self.lay.addWidget(row(self.sun, self.wet, self.chem, stretch=-2))
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
        self.session.put_design_case(self.part.design_case.model_copy(update=change), text)

    def _place(self, change: dict[str, object], text: str) -> None:
        self._put({"surroundings": self.part.design_case.surroundings.model_copy(update=change)}, text)

    def _tick(self, key: str, on: bool) -> None:
        self._place({key: on}, f"{key} {'yes' if on else 'no'}")

    def _add(self) -> None:
        facts = self.view.facts
        if facts is None:
            return
        name = self.session.picked or next((f.id for f in facts.features if f.kind == "flat"), "")
        if not name:
            self.workspace.said.emit("Click a face of the part first; the load goes there.")
            return
        self.session.put_design_case(edits.loaded(self.part.design_case, name), f"load on {name.replace('-', ' ')}")

    def _put_case(self, i: int, case: LoadCase, text: str) -> None:
        self.session.put_design_case(edits.case_changed(self.part.design_case, i, case), text)

    def aim(self, handle: tuple[int, int], unit: tuple[float, float, float]) -> None:
        """Turn one load to the direction its arrow was dragged to."""
        cases = self.part.design_case.cases
        if handle[0] < len(cases):
            words = f"{cases[handle[0]].name}: turned by hand"
            self.session.put_design_case(edits.aimed(self.part.design_case, *handle, unit), words)

    def _put_fixture(self, i: int, fixture: Fixture, text: str) -> None:
        self.session.put_design_case(edits.with_fixture(self.part.design_case, i, fixture), text)

    def _let_go(self, i: int) -> None:
        self.session.put_design_case(edits.let_go(self.part.design_case, i), "no longer held")

    def _knock_down(self, name: str, value: float | None) -> None:
        """One's own factor on the stair, or the typical one again."""
        words = f"stair: {name.lower()} " + ("typical" if value is None else f"{value:.2f}")
        self.session.put_design_case(edits.with_knock_down(self.part.design_case, name, value), words)

    def _drop(self, i: int) -> None:
        self.session.put_design_case(edits.case_dropped(self.part.design_case, i), "load taken away")

    # Showing

    def _together(self) -> str:
        """Sum and moment of the largest case, and how well the solve balanced them."""
        design_case = self.part.design_case
        if not design_case.cases:
            return ""
        ranked = self.view.ranked.fresh
        if ranked is not None:
            f = ranked.strength.field
            case = max(f.cases, key=lambda c: c.pushing)
            falls = f" Caught, it pushes with {case.impact:.1f} times its weight." if case.impact > 1 else ""
            return (
                f"Largest, {case.name}: {case.pushing:.0f} N and {case.turning / 1000:.1f} N m about the holds; "
                f"balanced to {max(f.balance_error, 1e-5) * 100:.1g} %.{falls} {ranked.strength.loosened}"
            ).strip()
        force = max(sum(ld.newtons for ld in c.loads) for c in design_case.cases)
        return f"Largest: {force:.0f} N. Reactions show once Lay has solved it." if force else ""

    def refresh(self) -> None:
        d = self.part.design_case
        self.heat.put(d.surroundings.temperature_c)
        self.cold.put(d.surroundings.coldest_c)
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
        if self._shown != (d.cases, d.fixtures):
            self._shown = (d.cases, d.fixtures)
            clear(self.cards)
            clear(self.holds)
            for i, case in enumerate(d.cases):
                if case.loads:
                    self.cards.addWidget(load_card(i, case, partial(self._put_case, i), partial(self._drop, i)))
            for i, held in enumerate(d.fixtures):
                self.holds.addWidget(self._held_row(i, held))
            if not d.fixtures:
                self.holds.addWidget(
                    label("Nothing holds it yet: click a hole or face, then “held”.", dim=True, wrap=True)
                )
            if not d.cases:
                self.cards.addWidget(
                    label(
                        "No load yet. Click the face that is pushed on the stage, then “pushed”.", dim=True, wrap=True
                    )
                )
        allowables = self.part.allowables
        if isinstance(allowables, tuple) and allowables and d.cases:
            worst = min(range(min(len(allowables), len(d.cases))), key=lambda i: allowables[i].interlayer)
            self.knock_downs.put(allowables[worst], d.cases[worst].name, self.part.material)
        else:
            self.knock_downs.put(None, "", "")

    def _held_row(self, i: int, held: Fixture) -> QWidget:
        facts = self.view.facts
        feature = facts.feature(held.feature) if facts is not None and held.feature else None
        hole = feature.diameter if feature is not None else None
        return held_row(held, hole, partial(self._put_fixture, i), partial(self._let_go, i))

    def standing(self) -> Standing:
        d, lost = self.part.design_case, self.view.lost_of_design_case()
        if lost:
            return lost_standing(lost)
        if not d.cases and not d.fixtures:
            return Standing(
                Mark.FULL if d.danger is not Danger.UNASKED else Mark.OPEN,
                f"{d.purpose.value.capitalize()}, carries nothing.",
            )
        if not d.fixtures or not d.cases:
            return Standing(Mark.HALF, "Nothing holds it." if not d.fixtures else "Nothing pushes it.")
        if d.danger is Danger.UNASKED:
            return Standing(Mark.HALF, "Who is hurt if it lets go?")
        force = max(sum(ld.newtons for ld in c.loads) for c in d.cases)
        return Standing(
            Mark.FULL,
            f"{len(d.cases)} load{'s' if len(d.cases) > 1 else ''}, up to {force / GRAVITY:.0f} kg. "
            f"Needed {target_reserve(d):g}.",
        )

    def verdict(self) -> Verdict:
        d, lost = self.part.design_case, self.view.lost_of_design_case()
        if lost:
            return self._lost(lost)
        if withheld(d):
            return no_verdict(withheld(d) or "", Act("Lay it", lambda: self.go("Lay")))
        allowables = self.part.allowables
        if isinstance(allowables, str):
            return Verdict(
                "This material cannot do it.",
                allowables,
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
        return self._needed(allowables)

    def _needed(self, allowables: tuple[Allowables, ...]) -> Verdict:
        """What it must hold, and why so much."""
        d = self.part.design_case
        force = max(sum(ld.newtons for ld in c.loads) for c in d.cases)
        need = target_reserve(d)
        why = {
            2.0: "An ordinary load; twice is the usual need.",
            3.0: "Three times, because it is used often or knocked.",
            4.0: "Four times, because someone may stand below.",
        }[need]
        source = ""
        if allowables:
            source = f"Layer bond: {allowables[0].bond.source}. " + (
                "Other treads: typical." if allowables[0].knock_downs else ""
            )
        return Verdict(
            f"It must hold {force * need / GRAVITY:.0f} kg before it lets go.",
            why,
            number=f"{force * need / GRAVITY:.0f}",
            unit="kg",
            under=(f"{need:g} times {force / GRAVITY:.1f} kg", f"needed {need:g}"),
            tone="peat",
            source=source,
            acts=(
                Act("Lay it", lambda: self.go("Lay"), bool(d.fixtures)),
                Act("Open the part", lambda: self.go("Part")),
            ),
        )

    def _lost(self, lost: tuple[Named, ...]) -> Verdict:
        before = f"Something was said of {'it' if len(lost) == 1 else 'them'}"
        acts = Act("Take what was said away", partial(self._forget, lost)), Act("Part", lambda: self.go("Part"))
        return lost_verdict(lost, "faces", before, "Say it of another face", acts)

    def _forget(self, lost: tuple[Named, ...]) -> None:
        self.session.put_design_case(
            edits.without(self.part.design_case, {e.id for e in lost}), "what was said of lost faces"
        )

    def scene(self) -> Scene:
        n = len(self.part.design_case.cases)
        scene = base_scene(
            self.session,
            False,
            "As it is used",
            f"{n} load case{'s' if n != 1 else ''}. Down is −Z.",
            show_bed=False,
            arrows=load_arrows(self.session, True) + reaction_arrows(self.session),
            legend=("held", "pushed", "shown"),
        )
        return with_lost(scene, self.view.lost_of_design_case())
