"""One spool: what is left and how that is known, its water, drying, and what was weighed, read and printed."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime, timedelta

from knollside.core.material.cards import material
from knollside.core.model import Range, Refused
from knollside.core.model.running import SpoolLog, Stay, Took, Weighing
from knollside.core.run.moisture import Drying, Water, uptake_of
from knollside.core.run.spoollog import left_of
from knollside.core.run.spools import Left
from knollside.gui.drier import came_out_dry, into_drier
from knollside.gui.instruments.widgets import (
    Dropdown,
    NumberField,
    button,
    chance,
    heading,
    label,
    named,
    row,
    rule,
)
from knollside.gui.session import Session
from knollside.gui.spoolfacts import drying_now, log_of, water_now
from knollside.gui.stepbase import Act, Verdict
from knollside.gui.steps.page import Page, line
from knollside.gui.steps.scaleport import ScalePort
from knollside.sim.shelf import SimulatedHygrometer, SimulatedScale, spool_named
from knollside.store.records import Spool


class SpoolPage(Page):
    """``at``: the spool's number, asked of the form above."""

    def __init__(self, session: Session, at: Callable[[], int | None]) -> None:
        super().__init__()
        self.session, self.workspace, self._at = session, session.workspace, at
        self.scale, self.hygrometer = SimulatedScale(), SimulatedHygrometer()
        self.fine = SimulatedScale(fine=True)
        self.port = ScalePort()
        self.port.weighed.connect(lambda grams: self.weigh(grams, "scale"))
        self.port.said.connect(self.workspace.said)
        self.margins(0, 0)
        self.layout().insertWidget(1, self.port)  # type: ignore[union-attr]

    @property
    def spool(self) -> Spool | None:
        return next((s for s in self.workspace.shelf.spools if s.id == self._at()), None)

    def log_of(self, spool: Spool) -> SpoolLog:
        """As :func:`log_of`."""
        return log_of(spool, self.workspace.shelf)

    def put(self, change: dict[str, object], words: str) -> None:
        spool = self.spool
        if spool is not None:
            log = SpoolLog.model_validate(self.log_of(spool).model_dump() | change)
            self.workspace.runs.put_spool_log(spool.id, log, f"{spool.name}: {words}")

    # Acts

    def weigh(self, grams: float, source: str = "typed", drying: float | None = None) -> None:
        spool = self.spool
        if spool is None or grams <= 0:
            return
        log = self.log_of(spool)
        made = Weighing.model_validate(
            {"at": self.workspace.now(), "gross_g": grams, "source": source, "drying": drying}
        )
        try:
            left_of(log.model_copy(update={"weighings": (*log.weighings, made)}))
        except Refused as refusal:
            self.workspace.said.emit(str(refusal))
            return
        self.put({"weighings": (*log.weighings, made)}, f"weighed, {grams:.1f} g")

    def read_scale(self) -> None:
        """A reading of the simulated scale, through its port where that is open."""
        spool = self.spool
        if spool is None:
            return
        try:
            if self.port.simulates:
                self.port.send(lambda: self.scale.read(spool_named(spool.name, spool.grams_left)))
                return
            self.weigh(self.scale.read(spool_named(spool.name, spool.grams_left)), "simulated")
        except Refused as refusal:
            self.workspace.said.emit(str(refusal))

    def dry_simulated(self) -> None:
        """Four hours in the simulated drier, weighed to a tenth of a gram at 0, 1, 2 and 4 h."""
        spool = self.spool
        if spool is None:
            return
        truth, now = spool_named(spool.name, spool.grams_left), self.workspace.now()
        made = tuple(
            Weighing(at=now + timedelta(hours=h), gross_g=self.fine.read(truth, h), drying=h, source="simulated")
            for h in (0.0, 1.0, 2.0, 4.0)
        )
        self.put({"weighings": (*self.log_of(spool).weighings, *made)}, "weighed while it dries, simulated")

    def keep(self, where: str) -> None:
        spool = self.spool
        if spool is not None:
            stay = Stay.model_validate(
                {"since": self.workspace.now(), "where": where, "humidity": self.hygrometer.read(where)}
            )
            said = "in a box" if where == "box" else "in the open"
            self.put({"stays": (*self.log_of(spool).stays, stay)}, f"kept {said}")

    def dried(self, hours: float) -> None:
        spool = self.spool
        if spool is not None:
            came_out_dry(self.workspace, spool, hours)

    def into_drier(self, there: bool) -> None:
        spool = self.spool
        if spool is not None:
            into_drier(self.workspace, spool, there)

    def _stringy(self, was: bool) -> None:
        spool = self.spool
        if spool is None:
            return
        log = self.log_of(spool)
        if log.took and log.took[-1].stringy is None:
            took = (*log.took[:-1], log.took[-1].model_copy(update={"stringy": was}))
        else:
            took = (*log.took, Took(at=self.workspace.now(), grams=0.0, title="a print", stringy=was))
        self.put({"took": took}, "matte and stringy" if was else "printed clean")

    # Showing

    def refresh(self) -> None:
        spool = self.spool
        log = self.log_of(spool) if spool is not None else None
        hour = self.workspace.now().replace(minute=0, second=0, microsecond=0)
        if not self.fresh((spool, log, hour)) or spool is None or log is None:
            return
        self._grams(spool, log)
        self.add(rule())
        self._water(spool, log)

    def _grams(self, spool: Spool, log: SpoolLog) -> None:
        try:
            left = left_of(log)
        except Refused as refusal:
            left = Left(Range(0, 0, 0), str(refusal))
        r = left.grams
        self.add(line("Left on it", f"{r.value:.0f} g", f"{r.low:.0f} to {r.high:.0f}, {r.source}"))
        if left.contradicts:
            self.add(label(left.contradicts, 13, 600, wrap=True))
        gross = NumberField("Gross grams", "mass", "g", 1, 0, 20_000, 1, 80)
        gross.line.setPlaceholderText("g")
        gross.entered.connect(self.weigh)
        tare = NumberField("Empty spool's grams", "mass", "g", 1, 0, 5000, 0, 80)
        if log.tare_g is not None:
            tare.put(log.tare_g)
        tare.line.setPlaceholderText("g")
        tare.entered.connect(lambda v: self.put({"tare_g": v or None}, f"tare {v:.0f} g"))
        read = button("Read the scale", self.read_scale, tip="A simulated one, to the gram")
        self.add(
            row(
                named("weighs now", gross),
                named("empty spool", tare),
                named(" ", read),
                stretch=-2,
            )
        )
        if log.weighings:
            w = log.weighings[-1]
            self.add(label(f"Last weighed {w.at:%d %b %H:%M}: {w.gross_g:.1f} g, {w.source}.", dim=True))

    def _water(self, spool: Spool, log: SpoolLog) -> None:
        water = water_now(spool, log, self.workspace.now())
        if water is None:
            self.add(label(f"How much water {spool.material} takes up is not known.", dim=True, wrap=True))
            return
        n = water.now
        under = f"{n.low:.2f} to {n.high:.2f} % of its mass, {n.source}; {water.harm.value:.2f} % harms (typical)"
        self.add(line("Too wet to print well", f"{chance(water.wet)} %", under))
        kept = Dropdown(f"Where {spool.name} is kept", (("in the open", "open"), ("in a box, desiccant", "box")), 14)
        kept.setPlaceholderText("not said")
        kept.put(log.stays[-1].where if log.stays else None)
        kept.chose.connect(lambda v: self.keep(str(v)))
        air = f"{100 * log.stays[-1].humidity:.0f} % humid there" if log.stays and log.stays[-1].humidity else ""
        self.add(row(label("kept", dim=True), kept, label(air, dim=True), stretch=-2))
        self.add(
            row(
                label("last print", dim=True),
                button("matte, stringy", lambda: self._stringy(True)),
                button("clean", lambda: self._stringy(False)),
                spacing=4,
                stretch=-2,
            )
        )
        self._drying(spool, log, water)

    def _drying(self, spool: Spool, log: SpoolLog, water: Water) -> None:
        found = drying_now(spool, log, self.workspace.now())
        usual = material(spool.material).dry or (55, 6)
        self.add(heading("Drying", f"at {usual[0]} °C"))
        if found is not None:
            self.add(line("Dry enough after", _hours(found), _why(found, spool.material)))
            if found.trouble:
                self.add(label(found.trouble, dim=True, wrap=True))
        hours = NumberField("Hours in the drier", "share", "", 0.5, 0, 200, 1, 60)
        hours.plain = True
        hours.line.setPlaceholderText("h")
        grams = NumberField("Grams then", "mass", "g", 0.1, 0, 20_000, 1, 80)
        grams.line.setPlaceholderText("g")
        log_it = button(
            "Log it", lambda: self.weigh(grams.value, "typed", hours.value), tip="A weighing while it dries"
        )
        done = button("It is dried", lambda: self.dried(hours.value or float(usual[1])))
        self.add(row(label("after", dim=True), hours, label("h it weighs", dim=True), grams, spacing=4, stretch=-2))
        simulated = button("4 h, simulated", self.dry_simulated, tip="Weighed at 0, 1, 2 and 4 h by stand-ins")
        self.add(row(log_it, done, simulated, spacing=4, stretch=-2))

    # The verdict

    def verdict(self) -> Verdict:
        spool = self.spool
        if spool is None:
            return Verdict("Add a spool.", "Then Run says whether enough is left, and when to dry it.")
        log = self.log_of(spool)
        water, found = water_now(spool, log, self.workspace.now()), drying_now(spool, log, self.workspace.now())
        if water is not None and found is not None and water.wet >= 0.5:
            usual = material(spool.material).dry or (55, 6)
            if found.reaches < 0.5:
                return Verdict(
                    f"{spool.name} will not get dry at {usual[0]} °C.",
                    "Heated room air leaves too much in it: drier air, or desiccant in the drier.",
                    number="!",
                    tone="clay",
                )
            if log.drying_since is not None:
                return self._in_drier(spool, log.drying_since, found.planned, float(usual[0]))
            return Verdict(
                f"Dry {spool.name} before it prints.",
                f"{found.planned:.0f} h at {usual[0]} °C, then it is dry in nine of ten. Weigh it before and every "
                "hour or two in between, and the hours are learned.",
                number=f"{found.planned:.0f}",
                unit="h",
                tone="clay",
                source=f"Hours: {found.hours.source}.",
                acts=(
                    Act("It is in the drier", lambda: self.into_drier(True)),
                    Act("It is dried", lambda: self.dried(found.planned)),
                ),
            )
        try:
            r = left_of(log).grams
        except Refused as refusal:
            return Verdict("Its weighings cannot be right.", str(refusal), number="!", tone="clay")
        return Verdict(
            f"{spool.name} is fit to print.",
            f"{r.low:.0f} to {r.high:.0f} g are left, {r.source}.",
            number=f"{r.value:.0f}",
            unit="g",
            tone="moss",
            acts=(Act("Read the scale", self.read_scale),),
        )

    def _in_drier(self, spool: Spool, since: datetime, hours: float, celsius: float) -> Verdict:
        until = since + timedelta(hours=hours)
        over = self.workspace.now() >= until
        return Verdict(
            f"{spool.name} is dry: take it out." if over else f"{spool.name} is in the drier until {until:%a %H:%M}.",
            f"In it since {since:%a %H:%M}, at {celsius:.0f} °C.",
            number=f"{hours:.0f}",
            unit="h",
            tone="moss" if over else "peat",
            acts=(
                Act("It is dried", lambda: self.dried(hours)),
                Act("It came out too soon", lambda: self.into_drier(False)),
            ),
        )


def _hours(found: Drying) -> str:
    if found.reaches < 0.5:
        return "never"
    return f"{found.hours.low:.0f} to {found.hours.high:.0f} h"


def _why(found: Drying, name: str) -> str:
    seen = uptake_of(name).seen
    if found.learned >= 3:
        return f"to {found.target:.2f} % in nine of ten; {found.hours.source}"
    more = "weigh it at 0, 2 and 4 h to learn it" if seen else "a scale hardly sees this little water"
    return f"to {found.target:.2f} % in nine of ten, {found.hours.source}; {more}"
