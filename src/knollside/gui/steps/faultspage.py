"""Bench's page of what went wrong: what it looked like and where, what lies behind it, what to try, what helped."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QWidget

from knollside.core.learning.faultnet import CAUSES
from knollside.core.learning.faults import Ask, Believed, believed
from knollside.core.learning.faultstate import Known
from knollside.core.learning.faulttests import TESTS
from knollside.core.model.faults import Answered, Cause, Cured, FaultCase, FaultTest, Symptom
from knollside.gui import faultfacts, nodes
from knollside.gui.instruments.causestrata import CauseStrata, percent
from knollside.gui.instruments.swatches import Swatches
from knollside.gui.instruments.widgets import Chip, button, heading, label, row, rule
from knollside.gui.session import Seeing, Session
from knollside.gui.stepbase import Act, Verdict
from knollside.gui.steps.flowtrial import FlowTrial
from knollside.gui.steps.page import Page
from knollside.sim.faulty import Befallen, FaultyPrinter, printer_with_faults

Vec = tuple[float, float, float]
_OF_FLOW = (Cause.LITTLE_FLOW, Cause.MUCH_FLOW)


class FaultsPage(Page, Seeing):
    """One case in hand: the part's newest that is not closed. ``wanted``: a test piece of flow is to be printed."""

    wanted = pyqtSignal(str)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.looking = True  # at the swatches; else at the causes
        self.chosen: Cause | None = None
        self._found: tuple[object, Believed | None] = (None, None)
        self._stand_in: tuple[str, FaultyPrinter] | None = None
        self._befell: tuple[int, Befallen] | None = None  # case and what truly was at work in it, simulated
        self.flow = FlowTrial()
        self.flow.measured.connect(self._measured)
        self.flow.tried.connect(lambda tops: self._put({"tops": tops}, "a top tried"))
        self.flow.said.connect(self.workspace.said.emit)
        self.flow.wanted.connect(self.wanted.emit)
        self.margins(16, 12)

    # What is stored

    @property
    def number(self) -> int | None:
        """The number of the case in hand."""
        cases = self.workspace.shelf.faults.items()
        return max((n for n, c in cases if c.part == self.part.id and not c.closed), default=None)

    @property
    def case(self) -> FaultCase | None:
        n = self.number
        return None if n is None else self.workspace.shelf.faults[n]

    @property
    def closed(self) -> list[tuple[int, FaultCase]]:
        """Cases of this printer that are over, by their numbers, the newest first."""
        cases = self.workspace.shelf.faults.items()
        mine = [(n, c) for n, c in cases if c.closed and c.printer == self.part.printer_id]
        return sorted(mine, key=lambda of: of[1].opened, reverse=True)

    def known(self, case: FaultCase) -> Known:
        told = self.view.get(nodes.SUPPORTS).fresh
        return faultfacts.known_of(self.part, case, told, self.workspace.now())

    def found(self) -> Believed | None:
        """What is believed of the case in hand."""
        case = self.case
        if case is None or not case.seen:
            return None
        known = self.known(case)
        key = case, known, tuple(self.workspace.shelf.faults.items())
        if self._found[0] != key:
            self._found = key, believed(case, faultfacts.odds(self.part, known))
        return self._found[1]

    # Acts

    def _put(self, change: dict[str, object], words: str) -> None:
        case, number = self.case, self.number
        if case is None:
            part = self.part
            if part.printer_id is None:
                self.workspace.said.emit("Add your printer at Workshop first; what went wrong belongs to one.")
                return
            case = FaultCase(part=part.id, printer=part.printer_id, material=part.material, opened=self.workspace.now())
        self.workspace.runs.put_fault(number, case.model_copy(update=change), words)

    def take(self, symptom: Symptom) -> None:
        """It looks like this; or it does not, after all."""
        case = self.case
        seen = case.seen if case is not None else ()
        now = tuple(s for s in seen if s != symptom) if symptom in seen else (*seen, symptom)
        lacking = tuple(s for s in case.lacking if s != symptom) if case is not None else ()
        self._put({"seen": now, "lacking": lacking}, symptom.value)

    def point(self, place: Vec) -> None:
        """It went wrong there."""
        facts = self.view.facts
        if facts is not None:
            height = faultfacts.height_of(self.part, place, facts.mesh.vertices)
            self._put({"place": place, "height": max(round(height, 2), 0.0)}, f"went wrong at {height:.1f} mm")

    def answer(self, test: FaultTest, answer: str) -> None:
        case = self.case
        if case is not None:
            made = Answered(test=test, answer=answer, at=self.workspace.now())
            self._put({"answers": (*case.answers, made)}, f"{test.value}: {answer}")

    def _measured(self, readings: tuple[float, ...], answer: str) -> None:
        """Readings of the single wall: the test's answer, and the flow that mends it."""
        case = self.case
        if case is not None:
            made = Answered(test=FaultTest.WALL, answer=answer, at=self.workspace.now())
            self._put({"walls_mm": readings, "answers": (*case.answers, made)}, f"a single wall: {answer}")

    def came_back(self, number: int) -> None:
        """What was cured went wrong again: its case is in hand once more, and its cure tells nothing."""
        case = self.workspace.shelf.faults[number]
        now = self.workspace.now()
        last = max(k for k, c in enumerate(case.cures) if c.helped and c.back is None)
        cures = tuple(c.model_copy(update={"back": now}) if k == last else c for k, c in enumerate(case.cures))
        again = case.model_copy(update={"cures": cures, "closed": False, "part": self.part.id})
        self.workspace.runs.put_fault(number, again, f"{case.cures[last].cause.value}: it came back")
        self.turn(False)

    def looked(self, symptom: Symptom, there: bool) -> None:
        """A closer look found it, or did not."""
        case = self.case
        if case is not None:
            field = "seen" if there else "lacking"
            told = getattr(case, field)
            self._put({field: (*told, symptom)}, f"{symptom.value}: {'there' if there else 'not there'}")

    def cure(self, cause: Cause) -> None:
        """What was done about it; whether it helped is asked after the next print."""
        case = self.case
        if case is not None:
            self.chosen = None
            made = Cured(cause=cause, at=self.workspace.now())
            self._put({"cures": (*case.cures, made)}, f"done about: {cause.value}")

    # The stand-in

    def befall(self) -> None:
        """A simulated print goes wrong: what is seen of it, by faults that are not told."""
        name = f"{self.part.printer.name} {self.part.material}"
        if self._stand_in is None or self._stand_in[0] != name:
            self._stand_in = name, printer_with_faults(name)
        of = self._stand_in[1].befall()
        self._put({"seen": of.seen, "lacking": ()}, "a simulated print went wrong")
        if self.number is not None:
            self._befell = self.number, of
            self.turn(False)

    @property
    def simulated(self) -> Befallen | None:
        """What truly is at work in the case in hand, where the stand-in printed it."""
        return self._befell[1] if self._befell is not None and self._befell[0] == self.number else None

    def answer_simulated(self) -> None:
        """The stand-in makes the test that is asked for, or looks again, or prints with what was done."""
        of, case, found = self.simulated, self.case, self.found()
        if of is None or case is None or found is None or self._stand_in is None:
            return
        printer = self._stand_in[1]
        if case.cures and case.cures[-1].helped is None:
            self.helped(printer.cured(case.cures[-1].cause, of))
            return
        ask = found.asks[0][0]
        if isinstance(ask, FaultTest):
            self.answer(ask, printer.answer(ask, of))
            return
        there = tuple(s for s in ask if printer.looks(s, of))
        gone = tuple(s for s in ask if s not in there)
        words = "looked at again, simulated"
        self._put({"seen": (*case.seen, *there), "lacking": (*case.lacking, *gone)}, words)

    def helped(self, so: bool) -> None:
        """Whether the last thing that was done helped; what helped closes the case."""
        case = self.case
        if case is not None and case.cures:
            last = case.cures[-1].model_copy(update={"helped": so})
            words = f"{last.cause.value}: {'it helped' if so else 'it did not help'}"
            self._put({"cures": (*case.cures[:-1], last), "closed": so}, words)
            self.looking = so or self.looking

    def close_case(self) -> None:
        self._put({"closed": True}, "what went wrong left as it is")
        self.looking = True

    def turn(self, looking: bool) -> None:
        self.looking = looking
        self.session.touch()

    def _choose(self, cause: Cause) -> None:
        self.chosen = None if cause == self.chosen else cause
        self.session.touch()

    # Showing

    def refresh(self) -> None:
        case, found = self.case, self.found()
        if found is None:
            self.looking = True
        if self.fresh((case, found, self.looking, self.chosen, len(self.closed), self.part.printer_id)):
            self._fill(case, found)

    def _fill(self, case: FaultCase | None, found: Believed | None) -> None:
        if self.looking or case is None or found is None:
            self._fill_board(case)
            return
        seen = ", ".join(s.value for s in case.seen)
        words = f"{seen[0].upper()}{seen[1:]}. {self._where(case)}".strip()
        self.add(heading("What lies behind it"), label(words, dim=True, wrap=True))
        self.add(row(button("Change what it looks like", lambda: self.turn(True), plain=True), stretch=-2))
        waits = case.cures[-1] if case.cures and case.cures[-1].helped is None else None
        back = case.came_back
        if back is not None and back.back is not None and waits is None:
            words = f"Cured on {back.at:%d %b}: {CAUSES[back.cause].words.lower()}. It came back on {back.back:%d %b}."
            self.add(label(f"{words} Some come back by themselves: do it again, or look further.", 13, wrap=True))
        if waits is not None:
            self._ask_helped(waits)
        elif not found.settled and found.asks:
            self._ask(found.asks[0][0])
        if self.simulated is not None and (waits is not None or not found.settled):
            self.add(row(button("Do it, simulated", self.answer_simulated), stretch=-2))
        strata = CauseStrata(216)
        strata.put(found, self.chosen)
        strata.taken.connect(self._choose)
        self.add(strata)
        cause = self.chosen or found.best[0]
        self._of_cause(case, found, cause, waits is None)

    def _fill_board(self, case: FaultCase | None) -> None:
        many = len(case.seen) if case is not None else 0
        self.add(heading("What does it look like?", f"{many} taken" if many else "take what you see"))
        board = Swatches(Symptom, case.seen if case is not None else (), case.lacking if case is not None else ())
        board.taken.connect(self.take)
        self.add(board)
        words = self._where(case) if case is not None and case.place is not None else "Click the place on the part."
        self.add(label(words, dim=True, wrap=True))
        if not many:
            sim = button("A print goes wrong, simulated", self.befall, plain=True)
            self.add(row(sim, stretch=-2))
        over = self.closed
        if over:
            n, c = over[0]
            end = f"{CAUSES[c.helped].words.lower()}: cured" if c.helped is not None else "left as it was"
            self.add(label(f"{c.opened:%d %b}: {', '.join(s.value for s in c.seen)}; {end}.", dim=True, wrap=True))
            if c.helped is not None and not many:
                self.add(row(button("It came back", partial(self.came_back, n), plain=True), stretch=-2))

    def _where(self, case: FaultCase) -> str:
        if case.height is None:
            return ""
        k = self.known(case)
        more = [f"{k.layer_s:.0f} s a layer"] if k.layer_s is not None else []
        more += [f"fan {100 * k.fan:.0f} %"] if k.fan is not None else []
        more += ["an overhang there lacks a support"] if k.hangs else []
        return f"At {case.height:.1f} mm: {', '.join(more)}." if more else f"At {case.height:.1f} mm."

    def _ask(self, ask: Ask) -> None:
        """The question that tells most, on top."""
        if isinstance(ask, FaultTest):
            facts = TESTS[ask]
            self.add(label(f"Tells most: {ask.value}, {facts.minutes:.0f} min", 14, 700, wrap=True))
            self.add(label(f"{facts.do} {facts.ask}", 13, wrap=True))
            self.add(*_rows([(w, partial(self.answer, ask, w)) for w in facts.words]))
            case = self.case
            if ask is FaultTest.WALL and case is not None:
                self.add(*self.flow.wall(case, self.part.recipe.line_width))
            return
        self.add(label("Tells most: look at the print again", 14, 700, wrap=True))
        for s in ask:
            yes, no = (
                button("there", partial(self.looked, s, True)),
                button("not there", partial(self.looked, s, False)),
            )
            for b in (yes, no):
                b.setAccessibleName(f"{s.value}: {b.text()}")
            self.add(row(label(s.value, 13), yes, no, spacing=4, stretch=0))

    def _ask_helped(self, waits: Cured) -> None:
        self.add(label(f"Done: {CAUSES[waits.cause].cure}", 13, 600, wrap=True))
        self.add(label("Print the same again. Is it well now?", 13, wrap=True))
        self.add(*_rows([("It helped", partial(self.helped, True)), ("It did not", partial(self.helped, False))]))

    def _of_cause(self, case: FaultCase, found: Believed, cause: Cause, may: bool) -> None:
        facts = CAUSES[cause]
        cases = sum(c.helped == cause for _, c in self.closed)
        chip = Chip("yours" if cases else "typical")
        self.add(row(label(facts.words, 14, 700, wrap=True), chip, stretch=0))
        self.add(label(facts.cure, 13, wrap=True))
        why = faultfacts.reasons(self.known(case), cause)
        if why:
            told = "; ".join(why)
            self.add(label(f"{told[0].upper()}{told[1:]}.", dim=True, wrap=True))
        if found.pair is not None and cause in found.pair[:2]:
            a, b, share = found.pair
            other = b if cause == a else a
            self.add(label(f"With “{CAUSES[other].words.lower()}” at once: {percent(share)}.", dim=True, wrap=True))
        if cause in _OF_FLOW:
            asked = bool(found.asks) and found.asks[0][0] is FaultTest.WALL and may and not found.settled
            self.add(*(() if asked else self.flow.wall(case, self.part.recipe.line_width)), *self.flow.tops(case))
        if may:
            self.add(row(button("I did this", partial(self.cure, cause)), stretch=-2))
        self.add(rule(), row(button("Leave it", self.close_case, plain=True), stretch=-2))

    # The verdict

    def verdict(self) -> Verdict:
        case, found = self.case, self.found()
        if case is None or found is None:
            return Verdict(
                "What went wrong?",
                "Take what it looks like, click the place. No machine sees it for you.",
            )
        cause, share = found.best
        waits = case.cures[-1] if case.cures and case.cures[-1].helped is None else None
        acts = (Act("See what lies behind it", lambda: self.turn(False)),) if self.looking else ()
        if waits is not None:
            yes, no = Act("It helped", partial(self.helped, True)), Act("It did not", partial(self.helped, False))
            return Verdict("Print the same again.", CAUSES[waits.cause].cure, acts=(yes, no))
        if not self.looking:
            acts = (Act("I did this", partial(self.cure, cause)),)
        sure = "Likely" if found.settled else "Perhaps"
        nine = f"{len(case.answers)} test{'s' if len(case.answers) != 1 else ''} made"
        return Verdict(
            f"{sure}: {CAUSES[cause].words.lower()}.",
            CAUSES[cause].cure,
            number=f"{100 * share:.0f}",
            unit="%",
            under=("the next one", percent(found.causes[1][1])),
            tone="moss" if found.settled else "straw ink",
            source=f"Typical odds, moved by what is known here; {nine}.",
            acts=acts,
        )


def _rows(acts: list[tuple[str, object]]) -> list[QWidget]:
    """Buttons, as many in a row as fit."""
    out: list[QWidget] = []
    line: list[QWidget] = []
    wide = 0
    for words, do in acts:
        b = button(words, do)  # type: ignore[arg-type]
        mine = b.sizeHint().width() + 6
        if line and wide + mine > 336:
            out.append(row(*line, spacing=6, stretch=-2))
            line, wide = [], 0
        line.append(b)
        wide += mine
    out.append(row(*line, spacing=6, stretch=-2))
    return out
