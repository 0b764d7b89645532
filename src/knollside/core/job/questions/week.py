"""The plates of a run on printers and hours."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from knollside.core.job.ask import Answerer, Question
from knollside.core.job.questions.plates import Plates
from knollside.core.job.runfile import week_of, zone_of
from knollside.core.job.running import Planned, plan_week
from knollside.core.model import PrinterFacts, Refused
from knollside.core.model.running import Presence
from knollside.core.run.hours import span_of
from knollside.core.run.spoollog import Stored, to_dry
from knollside.core.run.spools import OnShelf
from knollside.core.run.weeknumbers import Drying, Goal, Machine, School


@dataclass(frozen=True, eq=False)
class WeekOf(Question[Planned]):
    """The week's plan from ``begin`` on. ``due`` by the part's key; what of the ``stored`` spools is too wet is dried
    first, beside what is stated in ``drying``."""

    plates: Plates
    machines: tuple[tuple[PrinterFacts, Machine], ...]
    shelf: tuple[OnShelf, ...]
    drying: tuple[Drying, ...]
    due: tuple[tuple[str, datetime], ...]
    presence: Presence
    begin: datetime
    days: int
    school: School
    goal: Goal
    stored: tuple[Stored, ...] = ()

    def answer(self, ask: Answerer) -> Planned:
        laid = ask(self.plates, 0.0, 0.7)
        if not laid.plates:
            raise Refused(" ".join(laid.left) or "Every plate of this run is printed.")
        ask.tick(0.75, "planning the week")
        zone = zone_of(self.presence)
        span = span_of(week_of(self.presence), self.begin.astimezone(zone), self.days)
        machines = {m.name: (facts, m) for facts, m in self.machines}
        drying = (*self.drying, *to_dry(self.stored, self.begin))
        return plan_week(laid.plates, machines, self.shelf, drying, dict(self.due), span, self.school, self.goal)
