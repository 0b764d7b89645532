"""Fits: hardware chosen for holes and pins, the odds, the correction, the corrected mesh."""

from __future__ import annotations

from functools import partial

from PyQt6.QtWidgets import QCheckBox, QVBoxLayout, QWidget

from knollside.core.fit.correction import Correction
from knollside.core.fit.hardware import names, suggestion
from knollside.core.fit.process import REFERENCE
from knollside.core.fit.scaling import Scaled
from knollside.core.fit.windows import CLASSES
from knollside.core.job.correcting import sag_of
from knollside.core.mesh.edit import Edited
from knollside.core.mesh.flare import Relieved
from knollside.core.model import FaceMark, Mate
from knollside.desk import tasks
from knollside.desk.instruments.ladder import FitLadder
from knollside.desk.instruments.strips import FitCut
from knollside.desk.instruments.widgets import Choice, button, clear, heading, label, row, rule, scrolled
from knollside.desk.stage.scene import Scene
from knollside.desk.state import State
from knollside.desk.stepbase import Act, Mark, Standing, Step, Verdict
from knollside.desk.steps.fitcards import BodiesCard, FlareCard, ScaleCard
from knollside.desk.steps.scenes import base_scene, face_marks

_FITS = ("close", "medium", "coarse", *CLASSES, "as drawn")


class FitsStep(Step):
    name = "Fits"
    strip_height = 176

    def __init__(self, state: State) -> None:
        super().__init__(state)
        self.ladder = FitLadder()
        self.ladder.taken.connect(self._take)
        self.strip = self.cut = FitCut()
        self.mates = QVBoxLayout()
        self.mates.setSpacing(3)
        self.moves = label("", 13, wrap=True)
        self.note = label("", dim=True, wrap=True)
        body = QWidget()
        body.setObjectName("paper")
        lay = QVBoxLayout(body)
        lay.setContentsMargins(16, 10, 12, 8)
        lay.addWidget(heading("What goes with it", button("Add every hole", self._add_all)))
        lay.addLayout(self.mates)
        lay.addWidget(rule())
        self.printer = label("", dim=True)
        lay.addWidget(heading("Fit ladder", self.printer))
        lay.addWidget(self.ladder)
        lay.addWidget(rule())
        lay.addWidget(heading("What moves", "outside and lettering: nothing"))
        lay.addWidget(self.moves)
        lay.addWidget(self.note)
        self.bodies = BodiesCard()
        self.bodies.margins(0, 0)
        self.scale = ScaleCard(state.request_scale, self._keep_scaled)
        self.flare = FlareCard(state.request_flare, self._keep_relieved)
        for card in (self.bodies, self.flare, self.scale):
            lay.addWidget(card)
        lay.addStretch(1)
        area = scrolled(body)
        self.panel = area
        self._shown: object = None
        state.work.finished.connect(self._done)

    @property
    def fitting(self) -> tasks.Fitting | None:
        return self.state.answers.get("fits")

    @property
    def correct_key(self) -> object:
        f = self.fitting
        return (self.state.fits_key, tuple((c.feature, round(c.to_mm, 4)) for c in f.corrections) if f else ())

    @property
    def edited(self) -> Edited | None:
        return self.state.answers.fresh("correct", self.correct_key) if self.state.doc else None

    def _take(self, name: str) -> None:
        self.state.picked = name
        self.state.changed.emit()

    def _set(self, i: int, change: dict[str, object]) -> None:
        doc = self.state.doc
        if doc is not None:
            mates = list(doc.mates)
            mates[i] = Mate.model_validate(mates[i].model_dump() | change)
            self.state.edit(
                "mates", tuple(mates), f"{mates[i].feature.replace('-', ' ')}: {mates[i].hardware}, {mates[i].fit}"
            )

    def _drop(self, i: int) -> None:
        doc = self.state.doc
        if doc is not None:
            self.state.edit("mates", tuple(m for k, m in enumerate(doc.mates) if k != i), "mate taken away")

    def _add_all(self) -> None:
        doc, facts = self.state.doc, self.state.facts
        if doc is None or facts is None:
            return
        have = {m.feature for m in doc.mates}
        fresh = []
        for f in facts.features:
            if f.kind == "hole" and f.through and f.id not in have and f.diameter:
                name, fit = suggestion(f.diameter)
                fresh.append(Mate(feature=f.id, hardware=name, fit=fit))
        if fresh:
            self.state.edit("mates", (*doc.mates, *fresh), f"{len(fresh)} holes with hardware")

    def correct(self) -> None:
        f, doc = self.fitting, self.state.doc
        if f is not None and doc is not None and self.state.facts is not None:
            self.state.work.ask(
                "correct",
                self.correct_key,
                tasks.correct,
                self.state.facts,
                doc.mates,
                f.corrections,
                self.state.way,
                doc.recipe,
                sag_of(self.state.readings, REFERENCE, self.state.fit_setting),
            )

    def _keep_scaled(self, made: Scaled) -> None:
        """The scaled mesh as a revision of its own; undo takes it away."""
        kept = [f"{len(made.sizes)} holes and pockets"] * bool(made.sizes) + ["gaps"] * bool(made.gaps)
        words = f"scaled to {made.factor * 100:g} %" + (f", {' and '.join(kept)} kept" if kept else "")
        self.state.new_mesh(made.mesh, words)

    def _keep_relieved(self, made: Relieved) -> None:
        self.state.new_mesh(made.mesh, f"{made.by:.2f} mm of flare taken off")

    def _fill_cards(self) -> None:
        state, facts = self.state, self.state.facts
        if facts is None or state.doc is None:
            return
        bodies, key = facts.soundness.bodies, state.gaps_key
        refused = state.missing("gaps", key, state.request_gaps) if bodies > 1 else ""
        self.bodies.put(state.answers.fresh("gaps", key), bodies, refused)
        as_laid, mesh = (state.doc.mesh_hash, state.way), state.doc.mesh_hash
        relieved, refused = state.answers.fresh("flare", as_laid), state.answers.refusal("flare", as_laid)
        self.flare.put(relieved, refused, state.work.waiting("flare"))
        scaled, busy = state.answers.fresh("scale", mesh), state.work.waiting("scale")
        self.scale.put(facts.features, bodies, scaled, state.answers.refusal("scale", mesh), busy)

    def _done(self, outcome) -> None:  # type: ignore[no-untyped-def]
        if outcome.name == "correct" and outcome.refused:
            self.state.said.emit(outcome.refused)

    def refresh(self) -> None:
        doc = self.state.doc
        if doc is None:
            return
        self.printer.setText(f"{self.state.printer.name}, {doc.material}")
        key = (doc.mates, doc.mesh_hash)
        if key != self._shown:
            self._shown = key
            clear(self.mates)
            for i, m in enumerate(doc.mates):
                self.mates.addWidget(self._mate(i, m))
            if not doc.mates:
                self.mates.addWidget(
                    label(
                        "Nothing yet: add every hole, or click one on the stage and say “mates”.", dim=True, wrap=True
                    )
                )
        f = self.fitting
        rows: tuple[Correction, ...] = f.corrections if f else ()
        chosen = {m.feature for m in doc.mates if m.apply}
        self.ladder.put(rows, self.state.picked, chosen)
        here = next((c for c in rows if c.feature == self.state.picked), rows[0] if rows else None)
        self.cut.put(here)
        lines = [
            f"{c.feature.replace('-', ' ').capitalize()}: {c.from_mm:.2f} to {c.to_mm:.2f} mm, "
            f"{c.to_mm - c.from_mm:+.2f} across"
            for c in rows
            if c.feature in chosen
        ]
        self.moves.setText("\n".join(lines) or "Nothing chosen to correct.")
        said = " ".join(f.refused) if f else ""
        done = self.edited
        if done is not None and done.changes:
            total = sum(c.volume_found for c in done.changes)
            said += (
                f" Corrected: {len(done.changes)} places, {sum(c.moved for c in done.changes)} corners moved, "
                f"every other corner exactly as it was; volume {total:+.1f} mm³ as predicted."
            )
        self.note.setText(said.strip())
        self._fill_cards()

    def _mate(self, i: int, m: Mate) -> QWidget:
        on = QCheckBox(m.feature.replace("-", " ").capitalize())
        on.setChecked(m.apply)
        on.setFixedWidth(96)
        on.setAccessibleName(f"Correct {m.feature}")
        on.clicked.connect(lambda v, i=i: self._set(i, {"apply": v}))
        hardware = Choice(f"Hardware in {m.feature}", [*((n, n) for n in names()), ("as drawn", "as drawn")])
        if m.hardware not in [*names(), "as drawn"]:
            hardware.insertItem(0, m.hardware, m.hardware)
        hardware.put(m.hardware)
        hardware.chose.connect(lambda v, i=i: self._set(i, {"hardware": v}))
        fit = Choice(f"Fit of {m.feature}", [(f, f) for f in _FITS])
        fit.put(m.fit)
        fit.chose.connect(lambda v, i=i: self._set(i, {"fit": v}))
        fit.setToolTip("close, medium, coarse: clearance holes of ISO 273; press to free: fit classes")
        drop = button("×", partial(self._drop, i), plain=True, tip="Take this mate away")
        drop.setAccessibleName(f"Remove mate of {m.feature}")
        return row(on, hardware, fit, drop, spacing=4, stretch=1)

    def standing(self) -> Standing:
        doc, f = self.state.doc, self.fitting
        if doc is None or not doc.mates:
            return Standing(Mark.OPEN, "Nothing goes with it yet.")
        if f is None:
            return Standing(Mark.HALF, "Working out the odds.")
        wrong = sum(c.chance_now[1] < 0.5 for c in f.corrections)
        if self.edited is not None:
            return Standing(Mark.FULL, f"{len(self.edited.changes)} places corrected.")
        if self.state.answers.get("correct") is not None:
            return Standing(Mark.CRACK, "Sizes or readings changed; correct again.")
        return Standing(
            Mark.HALF, f"{wrong} of {len(f.corrections)} would not fit as drawn." if wrong else "All would fit."
        )

    def verdict(self) -> Verdict:
        doc, f = self.state.doc, self.fitting
        if doc is None:
            return Verdict("Open a part first.")
        if not doc.mates:
            return Verdict(
                "Say what goes into the holes.",
                "Then the correction for this printer is worked out.",
                acts=(Act("Add every hole", self._add_all), Act("Go on to Proof", lambda: self.go("Proof"))),
            )
        if f is None or not f.corrections:
            return Verdict("No correction can be given.", " ".join(f.refused) if f else "", tone="clay")
        refused = self.state.answers.refusal("correct", self.correct_key)
        if refused:
            return Verdict(
                "Nothing was changed.",
                refused,
                number="0",
                unit="moved",
                tone="clay",
                acts=(Act("Try again", self.correct),),
            )
        wrong = sum(c.chance_now[1] < 0.5 for c in f.corrections)
        after = min((c.chance_then[1] for c in f.corrections), default=0)
        c = f.corrections[0]
        source = f"Shift {c.shift.value:+.2f} ± {c.shift.half:.2f} mm across, {c.axis}: {c.source}."
        if self.edited is not None:
            return Verdict(
                f"{len(self.edited.changes)} places are corrected.",
                f"Least chance to fit is now {after * 100:.0f} %. Nothing else moved.",
                number=f"{after * 100:.0f}",
                unit="%",
                under=("least chance", "to fit"),
                tone="moss" if after > 0.8 else "straw ink",
                source=source,
                acts=(Act("Make a test piece", lambda: self.go("Proof")), Act("Go on to Run", lambda: self.go("Run"))),
            )
        body = (
            f"On {self.state.printer.name} a {c.shift.kind} lying that way comes out {c.shift.value:+.2f} mm. "
            f"Corrected, the least chance to fit is {after * 100:.0f} %."
        )
        return Verdict(
            f"Move {sum(m.apply for m in doc.mates)} places and it fits.",
            body,
            number=f"{wrong} of {len(f.corrections)}",
            under=("do not fit as drawn",),
            tone="clay" if wrong else "moss",
            source=source,
            acts=(Act("Correct the mesh", self.correct), Act("Print a test first", lambda: self.go("Proof"))),
        )

    def scene(self) -> Scene:
        doc = self.state.doc
        n = len(doc.mates) if doc else 0
        return base_scene(
            self.state,
            doc is not None and doc.way is not None,
            doc.name if doc else "",
            f"{n} mates. What is not named stays as drawn.",
            marks=face_marks(self.state, {FaceMark.MATES}),
            legend=("mates",),
        )
