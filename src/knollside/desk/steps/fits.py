"""Fits: what goes with each feature, the odds, the correction, and everything else that must come out true."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtWidgets import QVBoxLayout, QWidget

from knollside.core.fit.clearance import Gap
from knollside.core.fit.correction import Correction
from knollside.core.fit.hardware import suggestion
from knollside.core.fit.opening import Opened, Thickened
from knollside.core.fit.process import REFERENCE
from knollside.core.fit.scaling import Scaled
from knollside.core.fit.threadfit import Threaded, plan_thread
from knollside.core.job.correcting import sag_of
from knollside.core.mesh.edit import Edited
from knollside.core.mesh.flare import Relieved
from knollside.core.model import FaceMark, Mate
from knollside.desk import tasks
from knollside.desk.fittasks import SetPart
from knollside.desk.instruments.fitstrips import FitCut
from knollside.desk.instruments.widgets import chance, column
from knollside.desk.stage.scene import Scene
from knollside.desk.state import State
from knollside.desk.stepbase import Act, Mark, Standing, Step, Verdict
from knollside.desk.steps.changepage import ChangePage
from knollside.desk.steps.fitcards import BodiesCard, FlareCard, ScaleCard
from knollside.desk.steps.matespage import MatesPage
from knollside.desk.steps.scenes import base_scene, face_marks
from knollside.desk.steps.setcard import SetCard
from knollside.desk.steps.tabs import Tabs
from knollside.desk.steps.threadcard import ThreadCard
from knollside.desk.steps.wallcard import WallCard


class FitsStep(Step):
    name = "Fits"
    strip_height = 176

    def __init__(self, state: State) -> None:
        super().__init__(state)
        self.strip = self.cut = FitCut()
        self.mates = MatesPage(state, self._set, self._drop, self._add_all)
        self.ladder = self.mates.ladder
        self.ladder.taken.connect(self._take)
        self.bodies = BodiesCard(state.request_open_gap, self._keep_opened, self._show_gap)
        self.bodies.margins(0, 0)
        self.flare = FlareCard(state.request_flare, self._keep_relieved)
        self.scale = ScaleCard(state.request_scale, self._keep_scaled)
        self.set = SetCard(state.request_set, self._keep_set)
        self.wall = WallCard(state.request_wall, self._keep_wall)
        self.thread = ThreadCard(state.request_thread, self._keep_thread)
        self.thread.play.entered.connect(lambda _: self.refresh())
        self.report = ChangePage(state, self._keep_corrected)
        pages = (
            ("Mates", self.mates),
            ("Gaps", _stacked(self.bodies, self.flare)),
            ("Shape", _stacked(self.thread, self.scale, self.wall, self.set)),
            ("Changes", self.report),
        )
        self.tabs = Tabs(pages, 4, (16, 10, 14, 2), small=True)
        self.tabs.turned.connect(lambda _: self.state.changed.emit())
        self.panel = self.tabs.panel()
        self.shown_gap: Gap | None = None
        self.show_piece: Callable[[str], None] = lambda name: None
        state.work.finished.connect(self._done)

    @property
    def fitting(self) -> tasks.Fitting | None:
        return self.state.answers.get("fits")

    @property
    def correct_key(self) -> object:
        f, doc = self.fitting, self.state.doc
        sizes = tuple((c.feature, round(c.to_mm, 4)) for c in f.corrections) if f else ()
        return (self.state.fits_key, sizes, doc.recipe if doc is not None else None)

    @property
    def edited(self) -> Edited | None:
        return self.state.answers.fresh("correct", self.correct_key) if self.state.doc else None

    # What the person does

    def _take(self, name: str) -> None:
        self.state.picked = name
        self.state.changed.emit()

    def _set(self, feature: str, change: dict[str, object]) -> None:
        doc = self.state.doc
        if doc is None:
            return
        mates = tuple(Mate.model_validate(m.model_dump() | change) if m.feature == feature else m for m in doc.mates)
        m = next(m for m in mates if m.feature == feature)
        what = m.partner.replace("-", " ") if m.partner else m.hardware
        self.state.edit("mates", mates, f"{feature.replace('-', ' ')}: {what}, {m.fit}")

    def _drop(self, feature: str) -> None:
        doc = self.state.doc
        if doc is not None:
            self.state.edit("mates", tuple(m for m in doc.mates if m.feature != feature), "mate taken away")

    def _add_all(self) -> None:
        doc, facts = self.state.doc, self.state.facts
        if doc is None or facts is None:
            return
        have = {m.feature for m in doc.mates}
        fresh = []
        for f in facts.features:
            wanted = (f.kind == "hole" and f.through) or (f.kind == "hexagon" and f.inside)
            if wanted and f.id not in have and f.diameter and f.role not in ("counterbore", "step"):
                name, fit = suggestion(f.diameter, f.kind)
                fresh.append(Mate.model_validate({"feature": f.id, "hardware": name, "fit": fit}))
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

    def _keep_corrected(self) -> None:
        """The corrected mesh as a revision of its own. Corrected again, it stays: its sizes are what was wanted."""
        made = self.edited
        if made is not None and made.changes:
            self.state.new_mesh(made.mesh, f"{len(made.changes)} places corrected")

    def _keep_scaled(self, made: Scaled) -> None:
        """The scaled mesh as a revision of its own; undo takes it away."""
        kept = [f"{len(made.sizes)} holes and pockets"] * bool(made.sizes) + ["gaps"] * bool(made.gaps)
        kept += ["a wall"] * bool(made.walls)
        words = f"scaled to {made.factor * 100:g} %" + (f", {' and '.join(kept)} kept" if kept else "")
        self.state.new_mesh(made.mesh, words)

    def _keep_set(self, made: tuple[SetPart, ...]) -> None:
        good = tuple((p.id, p.scaled.mesh) for p in made if p.scaled is not None)
        if good:
            self.state.new_meshes(good, f"set scaled to {self.set.factor.value * 100:g} %, holes and gaps kept")

    def _keep_relieved(self, made: Relieved) -> None:
        self.state.new_mesh(made.mesh, f"{made.by:.2f} mm of flare taken off")

    def _keep_opened(self, made: Opened) -> None:
        i, j = (k + 1 for k in made.bodies)
        self.state.new_mesh(made.mesh, f"gap of bodies {i} and {j} made {made.now:.2f} mm")

    def _keep_wall(self, made: Thickened) -> None:
        name, by = made.moved[0]
        self.state.new_mesh(made.mesh, f"{name.replace('-', ' ')} moved by {by:.2f} mm")

    def _keep_thread(self, made: Threaded) -> None:
        self.state.new_mesh(made.mesh, f"{made.feature.replace('-', ' ')} opened by {made.flank:.2f} mm a flank")

    def _show_gap(self, gap: Gap) -> None:
        self.shown_gap = None if gap == self.shown_gap else gap
        self.state.changed.emit()

    def _done(self, outcome) -> None:  # type: ignore[no-untyped-def]
        if outcome.name == "correct" and outcome.refused:
            self.state.said.emit(outcome.refused)

    # Showing

    def refresh(self) -> None:
        doc, state = self.state.doc, self.state
        if doc is None:
            return
        f = self.fitting
        rows: tuple[Correction, ...] = f.corrections if f else ()
        chosen = {n for m in doc.mates if m.apply for n in (m.feature, m.partner) if n}
        done = self.edited
        said = " ".join(f.refused) if f else ""
        if done is not None and done.changes:
            total = sum(c.volume_found for c in done.changes)
            said += f" Corrected: {len(done.changes)} places, volume {total:+.1f} mm³ as foretold; see Changes."
        self.mates.put(rows, chosen, said.strip())
        here = next((c for c in rows if c.feature == state.picked), rows[0] if rows else None)
        self._fill_cut(here, done)
        self._fill_cards()
        made = state.answers.get("correct")
        if self.tabs.front == 3:
            told = None
            if done is not None:
                state.missing("report", id(done), lambda: state.request_report(done))
                told = state.answers.fresh("report", id(done))
            self.report.put(done or made, rows, told, done is None and made is not None)

    def _fill_cut(self, here: Correction | None, done: Edited | None) -> None:
        """The strip: numbers of the chosen mate, and the part cut across it once there is a corrected mesh."""
        cuts = None
        if here is not None and self.state.facts is not None and self.state.doc is not None:
            key = (self.state.doc.mesh_hash, here.feature, id(done))
            if done is not None:
                self.state.missing("fit cut", key, lambda: self.state.request_fit_cut(here.feature, key))
            cuts = self.state.answers.fresh("fit cut", key)
        self.cut.put(here, cuts)

    def _fill_cards(self) -> None:
        state, facts = self.state, self.state.facts
        if facts is None or state.doc is None:
            return
        bodies, key = facts.soundness.bodies, state.gaps_key
        refused = state.missing("gaps", key, state.request_gaps) if bodies > 1 else ""
        as_laid, mesh = (state.doc.mesh_hash, state.way), state.doc.mesh_hash
        opened = state.answers.fresh("open gap", mesh)
        self.bodies.put(
            state.answers.fresh("gaps", key), bodies, refused, opened, state.answers.refusal("open gap", mesh)
        )
        relieved, refused = state.answers.fresh("flare", as_laid), state.answers.refusal("flare", as_laid)
        self.flare.put(relieved, refused, state.work.waiting("flare"), state.flares)
        scaled, busy = state.answers.fresh("scale", mesh), state.work.waiting("scale")
        self.scale.put(facts.features, bodies, state.picked, scaled, state.answers.refusal("scale", mesh), busy)
        self.set.put(state.answers.fresh("set", mesh), state.answers.refusal("set", mesh), state.work.waiting("set"))
        f = next((g for g in facts.features if g.kind == "thread"), None)
        plan = plan_thread(f, state.readings, state.fit_setting, self.thread.play.value) if f is not None else None
        opened = state.answers.fresh("thread", mesh)
        self.thread.put(f, plan, opened, state.answers.refusal("thread", mesh), state.work.waiting("thread"))
        moved, busy = state.answers.fresh("wall", mesh), state.work.waiting("wall")
        self.wall.put(state.picked, bodies, moved, state.answers.refusal("wall", mesh), busy)

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
        if self.tabs.front == 1 and self.state.facts is not None and self.state.facts.soundness.bodies > 1:
            return self._gap_verdict()
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
                f"Least chance to fit is now {chance(after)} %. Nothing else moved.",
                number=chance(after),
                unit="%",
                under=("least chance", "to fit"),
                tone="moss" if after > 0.8 else "straw ink",
                source=source,
                acts=(Act("Make a test piece", lambda: self.go("Proof")), Act("Go on to Run", lambda: self.go("Run"))),
            )
        body = (
            f"On {self.state.printer.name} a {c.shift.kind} lying that way comes out {c.shift.value:+.2f} mm. "
            f"Corrected, the least chance to fit is {chance(after)} %."
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

    def _gap_verdict(self) -> Verdict:
        found = self.state.answers.fresh("gaps", self.state.gaps_key)
        if not found:
            return Verdict("Measuring between the bodies." if found is None else "No two bodies are near each other.")
        worst = min(found, key=lambda b: b.free.turns).free
        good = worst.turns >= 0.8
        frees = self.state.frees("in the layer")
        return Verdict(
            "It will turn." if good else "It may not come free." if worst.welds > worst.rattles else "It will rattle.",
            f"{worst.why[:1].upper()}{worst.why[1:]}." + (f" Cure: {worst.cure}." if worst.cure else ""),
            number=chance(worst.turns),
            unit="%",
            under=("chance to turn", "and not to rattle"),
            tone="moss" if good else "straw ink" if worst.turns > 0.4 else "clay",
            source=f"Gap that comes free: {frees.value:.2f} mm drawn, {frees.source}.",
            acts=(Act("Print a gap ladder first", self._ladder_first), Act("Go on to Run", lambda: self.go("Run"))),
        )

    def _ladder_first(self) -> None:
        self.go("Proof")
        self.show_piece("ladder")

    def scene(self) -> Scene:
        doc = self.state.doc
        n = len(doc.mates) if doc else 0
        scene = base_scene(
            self.state,
            doc is not None and doc.way is not None,
            doc.name if doc else "",
            f"{n} mates. What is not named stays as drawn.",
            marks=face_marks(self.state, {FaceMark.MATES}),
            legend=("mates",),
        )
        if self.tabs.front == 1 and self.shown_gap is not None:
            from dataclasses import replace

            g = self.shown_gap
            return replace(scene, place=g.at, place_words=f"{g.smallest:.2f} mm between them")
        return scene


def _stacked(*cards: QWidget) -> QWidget:
    out = column(*cards, spacing=8, margins=(16, 6, 12, 8))
    lay = out.layout()
    assert isinstance(lay, QVBoxLayout)
    lay.addStretch(1)
    return out
