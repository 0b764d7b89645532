"""Fits: what goes with each feature, the odds, the correction, and everything else that must come out true."""

from __future__ import annotations

from dataclasses import replace
from functools import partial
from typing import Any

from PyQt6.QtWidgets import QVBoxLayout, QWidget

from knollside.core.fit.clearance import Freedom, Gap
from knollside.core.fit.correction import Correction
from knollside.core.fit.threadfit import plan_thread
from knollside.core.job import edits
from knollside.core.job.questions.fits import Fitting, SetPart
from knollside.core.job.questions.motion import motion_of
from knollside.core.mesh.edit import Edited
from knollside.core.mesh.identity import Named
from knollside.core.model import FaceMark
from knollside.gui import nodes
from knollside.gui.derived import Node
from knollside.gui.instruments.fitstrips import FitCut
from knollside.gui.instruments.widgets import chance, column
from knollside.gui.nodes import GapWish, ScaleWish, SetWish, ThreadWish, WallWish
from knollside.gui.pieces import Pieces
from knollside.gui.session import Session
from knollside.gui.stepbase import Act, Mark, Standing, Step, Verdict
from knollside.gui.steps.changepage import ChangePage
from knollside.gui.steps.fitcards import BodiesCard, FlareCard, ScaleCard
from knollside.gui.steps.lost import lost_standing, lost_verdict, with_lost
from knollside.gui.steps.matespage import MatesPage
from knollside.gui.steps.scenes import base_scene, face_marks
from knollside.gui.steps.setcard import SetCard
from knollside.gui.steps.tabs import Tabs
from knollside.gui.steps.threadcard import ThreadCard
from knollside.gui.steps.wallcard import WallCard
from knollside.gui.viewport.scene import Scene
from knollside.store.records import Kind

MATES, GAPS, SHAPE, CHANGES = range(4)


class FitsStep(Step):
    name = "Fits"
    strip_height = 176

    def __init__(self, session: Session, pieces: Pieces) -> None:
        super().__init__(session)
        self.pieces = pieces
        self.strip = self.cut = FitCut()
        self.mates = MatesPage(session, self._set, self._drop, self._add_all)
        self.ladder = self.mates.ladder
        self.ladder.taken.connect(session.pick)
        self.bodies = BodiesCard(self._open_gap, self._keep_opened, self._show_gap, self._lay_first)
        self.bodies.margins(0, 0)
        self.flare = FlareCard(partial(session.ask, nodes.FLARE), self._keep_relieved)
        self.scale = ScaleCard(self._scale, self._keep_scaled)
        self.set = SetCard(self._scale_set, self._keep_set)
        self.wall = WallCard(self._move_wall, self._keep_wall)
        self.thread = ThreadCard(self._open_thread, self._keep_thread)
        self.thread.play.entered.connect(lambda _: session.changed.emit())
        self.report = ChangePage(session, self._keep_corrected)
        pages = (
            ("Mates", self.mates),
            ("Gaps", _stacked(self.bodies, self.flare)),
            ("Shape", _stacked(self.thread, self.scale, self.wall, self.set)),
            ("Changes", self.report),
        )
        self.tabs = Tabs(pages, 4, (16, 10, 14, 2), small=True)
        self.tabs.turned.connect(lambda _: session.touch())
        self.panel = self.tabs.panel()
        self.shown_gap: Gap | None = None
        session.derived.refused.connect(self._refused)

    def needs(self) -> tuple[Node[Any], ...]:
        view, facts = self.view, self.view.facts
        wanted: tuple[Node[Any], ...] = (nodes.FITS,)
        if facts is not None and facts.soundness.bodies > 1:
            wanted += (nodes.GAPS, *((nodes.TRAVELS,) if self.tabs.front == GAPS else ()))
        if view.get(nodes.CORRECT).fresh is not None:
            wanted += (nodes.FIT_CUT, *((nodes.REPORT,) if self.tabs.front == CHANGES else ()))
        return wanted

    @property
    def fitting(self) -> Fitting | None:
        return self.view.get(nodes.FITS).fresh

    @property
    def edited(self) -> Edited | None:
        """The corrected mesh, made of exactly what is stored."""
        return self.view.get(nodes.CORRECT).fresh

    # What the person does

    def _set(self, feature: str, change: dict[str, object]) -> None:
        mates = edits.mate_changed(self.part.mates, feature, change)
        m = next(m for m in mates if m.feature == feature)
        what = m.partner.replace("-", " ") if m.partner else m.hardware
        self.session.put_mates(mates, f"{feature.replace('-', ' ')}: {what}, {m.fit}")

    def _drop(self, feature: str) -> None:
        self.session.put_mates(edits.mate_dropped(self.part.mates, feature), "mate taken away")

    def _add_all(self) -> None:
        facts = self.view.facts
        if facts is not None:
            mates = edits.all_mated(self.part.mates, facts.features)
            self.session.put_mates(mates, f"{len(mates) - len(self.part.mates)} holes with hardware")

    def correct(self) -> None:
        self.session.ask(nodes.CORRECT)

    def _open_gap(self, bodies: tuple[int, int], to: float) -> None:
        self.session.ask(nodes.OPEN_GAP, GapWish(bodies, to))

    def _scale(
        self, factor: float, keep: tuple[str, ...], keep_gaps: bool, walls: tuple[str, ...], only: int | None
    ) -> None:
        self.session.ask(nodes.SCALE, ScaleWish(factor, keep, keep_gaps, walls, only))

    def _scale_set(self, factor: float) -> None:
        self.session.ask(nodes.SET, SetWish(self.workspace.set_of_meshes(), factor))

    def _move_wall(self, name: str, by: float, side: str, follow: bool) -> None:
        self.session.ask(nodes.WALL, WallWish(name, by, side, follow))

    def _lay_first(self, height: float) -> None:
        recipe = self.part.recipe.model_copy(update={"first_layer": height})
        self.workspace.edit({Kind.RECIPE: recipe}, f"recipe: first layer {height:g} mm")

    def _open_thread(self, name: str, flank: float) -> None:
        self.session.ask(nodes.THREAD, ThreadWish(name, flank))

    def _keep(self, made: Any, words: str) -> None:
        """An edited mesh as a revision of its own; undo takes it away."""
        facts = self.view.facts
        if facts is not None:
            self.workspace.new_mesh(made.mesh, words, motion_of(made, facts.mesh))

    def _keep_corrected(self) -> None:
        """Corrected again, it stays: its sizes are what was wanted."""
        made = self.edited
        if made is not None and made.changes:
            self._keep(made, f"{len(made.changes)} places corrected")

    def _keep_scaled(self, _: object) -> None:
        made = self.view.get(nodes.SCALE).fresh
        if made is not None:
            kept = [f"{len(made.sizes)} holes and pockets"] * bool(made.sizes) + ["gaps"] * bool(made.gaps)
            kept += ["a wall"] * bool(made.walls)
            words = f"scaled to {made.factor * 100:g} %" + (f", {' and '.join(kept)} kept" if kept else "")
            self._keep(made, words)

    def _keep_set(self, made: tuple[SetPart, ...]) -> None:
        meshes = self.workspace.meshes
        before = {number: key for number, _, key in self.workspace.set_of_meshes()}
        good = tuple(
            (p.id, p.scaled.mesh, motion_of(p.scaled, meshes.get(before[p.id])))
            for p in made
            if p.scaled is not None and p.id in before
        )
        if good and self.view.get(nodes.SET).fresh is not None:
            words = f"set scaled to {self.set.factor.value * 100:g} %, holes and gaps kept"
            self.workspace.new_meshes(good, words)

    def _keep_relieved(self, _: object) -> None:
        made = self.view.get(nodes.FLARE).fresh
        if made is not None:
            self._keep(made, f"{made.by:.2f} mm of flare taken off")

    def _keep_opened(self, _: object) -> None:
        made = self.view.get(nodes.OPEN_GAP).fresh
        if made is not None:
            i, j = (k + 1 for k in made.bodies)
            self._keep(made, f"gap of bodies {i} and {j} made {made.now:.2f} mm")

    def _keep_wall(self, _: object) -> None:
        made = self.view.get(nodes.WALL).fresh
        if made is not None:
            name, by = made.moved[0]
            self._keep(made, f"{name.replace('-', ' ')} moved by {by:.2f} mm")

    def _keep_thread(self, _: object) -> None:
        made = self.view.get(nodes.THREAD).fresh
        if made is not None:
            self._keep(made, f"{made.feature.replace('-', ' ')} opened by {made.flank:.2f} mm a flank")

    def _show_gap(self, gap: Gap) -> None:
        self.shown_gap = None if gap == self.shown_gap else gap
        self.session.changed.emit()

    def _refused(self, name: str, words: str) -> None:
        if name == nodes.CORRECT.name:
            self.workspace.said.emit(words)

    # Showing

    def refresh(self) -> None:
        f, corrected = self.view.get(nodes.FITS), self.view.get(nodes.CORRECT)
        fitting = f.fresh
        rows: tuple[Correction, ...] = fitting.corrections if fitting else ()
        chosen = {n for m in self.part.mates if m.apply for n in (m.feature, m.partner) if n}
        done = corrected.fresh
        words = " ".join([*fitting.refused, *(t.words for t in fitting.together)]) if fitting else f.refusal
        if done is not None and done.changes:
            total = sum(c.volume_found for c in done.changes)
            words += f" Corrected: {len(done.changes)} places, volume {total:+.1f} mm³ as foretold; see Changes."
        if done is not None and done.refused:
            words += f" Left as drawn: {' '.join(why for _, why in done.refused)}"
        self.mates.put(rows, chosen, f"{words} {self.part.doubtful}".strip())
        here = nodes.spoken_of(self.view.inputs)
        cuts = self.view.get(nodes.FIT_CUT).fresh if done is not None else None
        self.cut.put(here, cuts if cuts is not None and here is not None and cuts.feature == here.feature else None)
        self._fill_cards()
        if self.tabs.front == CHANGES:
            self.report.put(corrected.shown, rows, self.view.get(nodes.REPORT).fresh, corrected.old)

    def _fill_cards(self) -> None:
        view, facts, part, picked = self.view, self.view.facts, self.part, self.session.picked
        if facts is None:
            return
        bodies, gaps, opened = facts.soundness.bodies, view.get(nodes.GAPS), view.get(nodes.OPEN_GAP)
        self.bodies.put(
            gaps.fresh, dict(view.get(nodes.TRAVELS).fresh or ()), bodies, gaps.refusal, opened.fresh, opened.refusal
        )
        flare = view.get(nodes.FLARE)
        self.flare.put(flare.fresh, flare.refusal, view.waiting(nodes.FLARE), part.flares)
        scaled = view.get(nodes.SCALE)
        self.scale.put(facts.features, bodies, picked, scaled.fresh, scaled.refusal, view.waiting(nodes.SCALE))
        every = view.get(nodes.SET)
        self.set.put(every.fresh, every.refusal, view.waiting(nodes.SET))
        f = next((g for g in facts.features if g.kind == "thread"), None)
        plan = plan_thread(f, part.readings, part.fit_setting, self.thread.play.value) if f is not None else None
        thread = view.get(nodes.THREAD)
        self.thread.put(f, plan, thread.fresh, thread.refusal, view.waiting(nodes.THREAD))
        wall = view.get(nodes.WALL)
        self.wall.put(picked, bodies, wall.fresh, wall.refusal, view.waiting(nodes.WALL))

    def standing(self) -> Standing:
        lost = self.view.lost_of_mates()
        if lost:
            return lost_standing(lost)
        if not self.part.mates:
            return Standing(Mark.OPEN, "Nothing goes with it yet.")
        f, corrected = self.fitting, self.view.get(nodes.CORRECT)
        if corrected.fresh is not None:
            return Standing(Mark.FULL, f"{len(corrected.fresh.changes)} places corrected.")
        if corrected.old:
            return Standing(Mark.CRACK, "Sizes or readings changed; correct again.")
        if f is None:
            refused = self.view.get(nodes.FITS).refusal
            return Standing(Mark.CRACK if refused else Mark.HALF, refused[:60] or "Working out the odds.")
        wrong = sum(c.chance_now[1] < 0.5 for c in f.corrections)
        return Standing(
            Mark.HALF, f"{wrong} of {len(f.corrections)} would not fit as drawn." if wrong else "All would fit."
        )

    def verdict(self) -> Verdict:
        facts, lost = self.view.facts, self.view.lost_of_mates()
        if self.tabs.front == GAPS and facts is not None and facts.soundness.bodies > 1:
            return self._gap_verdict()
        if lost:
            return self._lost(lost)
        if not self.part.mates:
            return Verdict(
                "Say what goes into the holes.",
                "Then the correction for this printer is worked out.",
                acts=(Act("Add every hole", self._add_all), Act("Go on to Proof", lambda: self.go("Proof"))),
            )
        answer = self.view.get(nodes.FITS)
        f = answer.fresh
        if f is None and not answer.refusal:
            return Verdict("Working out the odds.", "Each size against its window, on this printer.")
        if f is None or not f.corrections:
            return Verdict("No correction can be given.", " ".join(f.refused) if f else answer.refusal, tone="clay")
        refused = self.view.get(nodes.CORRECT).refusal
        if refused:
            return Verdict(
                "Nothing was changed.",
                refused,
                number="0",
                unit="moved",
                tone="clay",
                acts=(Act("Try again", self.correct),),
            )
        return self._odds(f)

    def _odds(self, f: Fitting) -> Verdict:
        """How many would fit as drawn, and how likely once corrected."""
        wrong = sum(c.chance_now[1] < 0.5 for c in f.corrections)
        after = min((c.chance_then[1] for c in f.corrections), default=0)
        c = f.corrections[0]
        source = f"Shift {c.shift.value:+.2f} ± {c.shift.half:.2f} mm across, {c.axis}: {c.source}."
        done = self.edited
        if done is not None:
            left = {name for name, _ in done.refused}
            after = min((c.chance_now[1] if c.feature in left else c.chance_then[1] for c in f.corrections), default=0)
            undone = f" {len(left)} left as drawn: {' '.join(why for _, why in done.refused)}" if left else ""
            places = f"{len(done.changes)} place is" if len(done.changes) == 1 else f"{len(done.changes)} places are"
            return Verdict(
                f"{places} corrected.",
                f"Least chance to fit is now {chance(after)} %. Nothing else moved.{undone}",
                number=chance(after),
                unit="%",
                under=("least chance", "to fit"),
                tone="moss" if after > 0.8 else "straw ink",
                source=source,
                acts=(Act("Make a test piece", lambda: self.go("Proof")), Act("Go on to Run", lambda: self.go("Run"))),
            )
        lies = "an upright" if c.axis == "upright" else "a lying"
        body = (
            f"On {self.part.printer.name} {lies} {c.shift.kind} comes out {c.shift.value:+.2f} mm. "
            f"Corrected, the least chance to fit is {chance(after)} %."
        )
        many = sum(m.apply for m in self.part.mates)
        return Verdict(
            f"Move {many} place{'s' if many != 1 else ''} and it fits.",
            body,
            number=f"{wrong} of {len(f.corrections)}",
            under=("do not fit as drawn" if wrong != 1 else "does not fit as drawn",),
            tone="clay" if wrong else "moss",
            source=source,
            acts=(Act("Correct the mesh", self.correct), Act("Print a test first", lambda: self.go("Proof"))),
        )

    def _lost(self, lost: tuple[Named, ...]) -> Verdict:
        acts = Act("Take these mates away", partial(self._forget, lost)), Act("Part", lambda: self.go("Part"))
        return lost_verdict(lost, "places", "Something went with it", "Name another place", acts)

    def _forget(self, lost: tuple[Named, ...]) -> None:
        gone = {e.id for e in lost}
        left = tuple(m for m in self.part.mates if m.feature not in gone and m.partner not in gone)
        self.session.put_mates(left, "mates of lost places")

    def _gap_verdict(self) -> Verdict:
        answer = self.view.get(nodes.GAPS)
        found: tuple[Freedom, ...] | None = answer.fresh
        if not found:
            words = "Measuring between the bodies." if found is None else "No two bodies are near each other."
            return Verdict("It cannot be measured." if answer.refusal else words, answer.refusal)
        worst = min(found, key=lambda f: f.turns)
        good = worst.turns >= 0.8
        frees = self.part.frees("in the layer")
        return Verdict(
            "It will turn." if good else "It may not come free." if worst.welds > worst.rattles else "It will rattle.",
            f"{worst.why[:1].upper()}{worst.why[1:]}.",
            number=chance(worst.turns),
            unit="%",
            under=("chance to turn", "and not to rattle"),
            tone="moss" if good else "straw ink" if worst.turns > 0.4 else "clay",
            source=f"Gap that comes free: {frees.value:.2f} mm drawn, {frees.source}.",
            acts=(Act("Print a gap ladder first", self._ladder_first), Act("Go on to Run", lambda: self.go("Run"))),
        )

    def _ladder_first(self) -> None:
        self.go("Proof")
        self.pieces.choose("ladder")

    def scene(self) -> Scene:
        n = len(self.part.mates)
        scene = base_scene(
            self.session,
            self.part.orientation is not None,
            self.part.name,
            f"{n} mate{'s' if n != 1 else ''}. What is not named stays as drawn.",
            marks=face_marks(self.session, {FaceMark.MATES}),
            legend=("mates",),
        )
        if self.tabs.front == GAPS and self.shown_gap is not None:
            g = self.shown_gap
            return replace(scene, place=g.at, place_words=f"{g.smallest:.2f} mm between them")
        return with_lost(scene, self.view.lost_of_mates())


def _stacked(*cards: QWidget) -> QWidget:
    out = column(*cards, spacing=8, margins=(16, 6, 12, 8))
    lay = out.layout()
    assert isinstance(lay, QVBoxLayout)
    lay.addStretch(1)
    return out
