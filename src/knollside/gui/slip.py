"""The measuring slip as it is being filled in: which piece, which place is next, readings still to be settled."""

from __future__ import annotations

from datetime import date
from typing import Literal

from knollside.core.fit.gauges import GaugeSet, Tried
from knollside.core.fit.posterior import Foretold
from knollside.core.fit.process import learn, process_of
from knollside.core.model import GapTrial, Measurement, Refused, bounds_of
from knollside.core.proof.piece import GapStep, Spot
from knollside.core.proof.slip import middle_of, read_entry, wants_another
from knollside.gui import nodes
from knollside.gui.session import Seeing, Session
from knollside.sim.desk import PrintedPiece, printer_named

Source = Literal["typed", "calliper", "simulated", "imported"]
_PRINT = 7  # the simulated twin's first print of each piece: measured again it is the same size
_ODD = 0.15  # mm off what is expected; a lone reading farther off is asked for again


class Slip(Seeing):
    """Goes through the places of one piece in order. A reading is kept, as one step of undo, once its place is settled;
    what cannot be is refused with a sentence and nothing is taken."""

    def __init__(self, session: Session) -> None:
        self.session = session
        self.name = ""
        self.spots: tuple[Spot, ...] = ()
        self.gap_steps: tuple[GapStep, ...] = ()
        self.at = 0
        self.times = 1
        self.pending: list[float] = []
        self.found: dict[str, float] = {}
        self.across = ""
        self.lot, self.sheet = "", ""
        self.nozzle_hours: float | None = None
        self.print_number = 1
        self.tool: GaugeSet | None = None
        self.tried: Tried | None = None

    def put(self, name: str, spots: tuple[Spot, ...], gap_steps: tuple[GapStep, ...]) -> None:
        """The piece to measure; another one starts at its first place."""
        if name != self.name or spots != self.spots or gap_steps != self.gap_steps:
            if name != self.name:
                self.found = {}
                self.at = 0
                self.print_number = 1
            self.tried = None
            self.name, self.spots, self.gap_steps, self.pending = name, spots, gap_steps, []

    @property
    def spot(self) -> Spot | None:
        return self.spots[self.at % len(self.spots)] if self.spots else None

    @property
    def gap_step(self) -> GapStep | None:
        """The gap to try next, once there is nothing left to measure."""
        return self.gap_steps[self.at % len(self.gap_steps)] if self.gap_steps and not self.spots else None

    @property
    def count(self) -> int:
        return len(self.spots) or len(self.gap_steps)

    @property
    def bar(self) -> str:
        """What names this print of the piece among those of one day."""
        return self.name if self.print_number == 1 else f"{self.name}, print {self.print_number}"

    def another_print(self) -> str:
        """The piece was printed once more: its places from the first on. What prints differ by is learned from this."""
        self.print_number += 1
        self.at, self.pending, self.tried, self.found = 0, [], None, {}
        return f"Print {self.print_number} of the {self.name}: from its first place."

    def printed_with(self, lot: str, sheet: str, hours: str) -> None:
        """What the piece was printed with, as far as the person says: spool lot, sheet, hours of the nozzle. Raises
        :class:`Refused` where the hours are no number."""
        try:
            told = float(hours.replace(",", ".")) if hours.strip() else None
        except ValueError:
            raise Refused(f"'{hours}' is no number of hours.") from None
        least, most = bounds_of(Measurement, "nozzle_hours")
        if told is not None and not least <= told <= most:
            raise Refused(f"A nozzle of {hours} hours is none; up to {most:,.0f} are taken.")
        self.lot, self.sheet, self.nozzle_hours = lot.strip()[:60], sheet.strip()[:60], told

    def skip(self) -> None:
        self.at += 1
        self.pending, self.tried = [], None

    @property
    def gauge(self) -> float | None:
        """The gauge to try next at the place that is lit, mm; None without gauges, or for what none goes into. Raises
        :class:`Refused` where the set has none."""
        spot = self.spot
        if spot is None or self.tool is None or spot.kind != "hole":
            return None
        tried = self.tried or Tried(self.tool)
        return tried.next(self._expected(spot))

    def _expected(self, spot: Spot) -> Foretold:
        process = process_of(self.part.readings, spot.axis, self.part.fit_setting)
        return process.shift("hole", spot.drawn).one.moved(spot.drawn)

    def try_gauge(self, went_in: bool) -> str:
        """The gauge that is asked for went in, or did not; a reading once its neighbours disagree. Raises
        :class:`Refused`."""
        spot, size = self.spot, self.gauge
        if spot is None or size is None or self.tool is None:
            raise Refused("There is no hole to try a gauge in here.")
        self.need_printer()
        self.tried = (self.tried or Tried(self.tool)).told(size, went_in)
        said = f"{size:.2f} mm {'went in' if went_in else 'did not go in'}."
        between = self.tried.between
        if between is None:
            return said
        self.tried = None
        self.at += 1
        value = sum(between) / 2
        self.found[spot.name] = value
        self.workspace.kept.add_reading(self._reading(spot, value, "typed", 1, between))
        return f"{said} {spot.name.capitalize()}: between {between[0]:.2f} and {between[1]:.2f} mm."

    def take(self, text: str, source: Source) -> str:
        """One number for the place that is lit; a sentence of what came of it. Raises :class:`Refused`."""
        spot = self.spot
        if spot is None:
            raise Refused("There is nothing to measure here; choose a piece that has places.")
        entry = read_entry(text, spot, self.spots)
        self.need_printer()
        self.pending.append(entry.value)
        values = tuple(self.pending)
        said = f"{entry.note} " if entry.note else ""
        more = wants_another(values)
        if not more and len(values) == 1 and self.times == 1:
            more = self._odd(spot, entry.value)
        if more or len(values) < self.times:
            left = self.times - len(values)
            return f"{said}{entry.value:.2f} mm. {more or f'{left} more of this place.'}"
        value = middle_of(values)
        self.pending = []
        self.at += 1
        self.found[spot.name] = value
        self.workspace.kept.add_reading(self._reading(spot, value, source, len(values)))
        return f"{said}{spot.name.capitalize()}: {value:.2f} mm, {value - spot.drawn:+.2f} off."

    def _odd(self, spot: Spot, value: float) -> str:
        """Whether a lone reading is far from all that is known of this printer."""
        if spot.kind in ("known hole", "known outside"):
            return ""
        kind = "hole" if spot.kind == "hole" else "pin"
        shift = learn(self.part.readings, kind, spot.axis, spot.drawn, self.part.fit_setting)
        flare = 2 * self.part.flares.value if spot.kind == "foot" else 0.0
        expected = spot.drawn + shift.value + flare
        room = max(_ODD, 4 * shift.scatter) + (0.3 if spot.kind == "foot" else 0.0)
        if shift.count >= 3 and abs(value - expected) > room:
            return f"About {expected:.2f} was to be expected; measure this place once more."
        return ""

    def _reading(
        self, spot: Spot, value: float, source: Source, repeats: int, between: tuple[float, float] | None = None
    ) -> Measurement:
        setting = self.part.fit_setting
        across = self.across if spot.axis == "upright" and spot.kind in ("hole", "pin") else ""
        return Measurement.model_validate(
            {
                "kind": spot.kind,
                "axis": spot.axis,
                "drawn": spot.drawn,
                "printed": round(value, 4),
                "source": source,
                "nozzle_mm": setting.nozzle_mm,
                "layer_height": setting.layer_height,
                "bar": self.bar,
                "repeats": repeats,
                "between": between,
                "on": date.today(),
                "place": spot.name[:60],
                "across": across,
                "lot": self.lot,
                "sheet": self.sheet,
                "nozzle_hours": self.nozzle_hours,
            }
        )

    def try_gap_step(self, freed: bool, source: Literal["typed", "simulated", "imported"] = "typed") -> str:
        """One gap came free, or did not."""
        gap_step = self.gap_step
        if gap_step is None:
            raise Refused("There is no gap to try here.")
        self.need_printer()
        self.at += 1
        trial = self._trial(gap_step, freed, source)
        words = f"{gap_step.drawn:.2f} mm {gap_step.direction}: {'came free' if freed else 'stuck'}"
        self.workspace.kept.add_trials((trial,), words)
        return f"{words}."

    def _trial(self, gap_step: GapStep, freed: bool, source: Literal["typed", "simulated", "imported"]) -> GapTrial:
        return GapTrial.model_validate(
            {
                "direction": gap_step.direction,
                "drawn": gap_step.drawn,
                "freed": freed,
                "layer_height": self.part.fit_setting.layer_height,
                "source": source,
            }
        )

    def need_printer(self) -> None:
        """Readings belong to a printer; raises :class:`Refused` where the part has none."""
        if not self.session.has_part or self.part.printer_id is None:
            self.pending = []
            raise Refused("Add your printer at Workshop (Alt+9) first; readings belong to one.")

    # The simulated workshop

    @property
    def printed(self) -> PrintedPiece:
        """This piece as the simulated twin of the printer has printed it."""
        return PrintedPiece(printer_named(self.part.printer.name), _PRINT + self.print_number - 1)

    def simulated_reading(self) -> float:
        """What the simulated calliper shows at the place that is lit."""
        spot = self.spot
        if spot is None:
            raise Refused("There is nothing to measure here; choose a piece that has places.")
        return self.printed.read(spot, len(self.pending))

    def simulate_rest(self) -> str:
        """Print the piece on the simulated twin and measure or try all that is left, as one step of undo."""
        self.need_printer()
        printed, left = self.printed, max(self.count - self.at % max(self.count, 1), 0)
        if self.spots:
            taken = []
            for spot in self.spots[self.count - left :]:
                value = middle_of(tuple(printed.read(spot, k) for k in range(self.times)))
                self.found[spot.name] = value
                taken.append(self._reading(spot, value, "simulated", self.times))
            self.at += left
            self.workspace.kept.add_readings(tuple(taken), f"{len(taken)} readings of a simulated print")
            return f"{len(taken)} places measured on a simulated print of {self.part.printer.name}."
        if self.gap_steps:
            rest = self.gap_steps[self.count - left :]
            freed = {r: printed.came_free(r) for r in rest}
            self.at += left
            trials = tuple(self._trial(r, v, "simulated") for r, v in freed.items())
            self.workspace.kept.add_trials(trials, f"{len(trials)} gaps of a simulated print")
            return f"{sum(freed.values())} of {len(freed)} gaps came free on a simulated print."
        raise Refused("There is nothing to measure or try on this piece.")


def part_spots(session: Session, corrected: dict[str, float]) -> tuple[Spot, ...]:
    """The part's own mates as places to measure, with the sizes they are drawn with once corrected."""
    fitting = session.view.get(nodes.FITS).fresh
    facts = session.view.facts
    if fitting is None or facts is None:
        return ()
    out = []
    for c in fitting.corrections:
        f = facts.feature(c.feature)
        if f is not None:
            kind = "pin" if f.kind == "pin" else "hole"
            out.append(Spot(f.title.lower(), kind, round(corrected.get(c.feature, c.from_mm), 3), f.centre, c.axis))
    return tuple(out)
