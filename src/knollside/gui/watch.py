"""Plates that print now: how far each is, when it ends, and what its monitor says is wrong."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta

import numpy as np

from knollside.core.material.cards import MATERIALS
from knollside.core.model import Range
from knollside.core.model.running import PlateDone
from knollside.core.run.watching import Alarm, Reading, alarms, share_at, whole_hours
from knollside.core.run.weeknumbers import eightieth
from knollside.gui.workspace import Workspace
from knollside.sim.monitor import SimulatedMonitor

USUAL_HOURS = Range(1.0, 0.8, 1.3)


@dataclass(frozen=True)
class Watched:
    """A plate of run ``number`` that prints: hours since it was begun and in all, the ``share`` of its work done, its
    layer, what its monitor told (nothing where none is), what is wrong."""

    number: int
    done: PlateDone
    elapsed: float
    whole: Range
    share: float
    layer: int
    readings: tuple[Reading, ...]
    alarms: tuple[Alarm, ...]
    simulated: bool

    @property
    def over(self) -> bool:
        """Whether its monitor says that it is done."""
        return bool(self.readings) and self.readings[-1].done

    def end(self, hours: float) -> datetime:
        """The hour by the clock at which so many hours of it are over."""
        assert self.done.begun is not None
        return self.done.begun + timedelta(hours=hours - self.done.ahead)

    @property
    def planned_end(self) -> datetime:
        """When its printer is counted on to be free: four in five are done by then."""
        return self.end(eightieth(self.whole))


class Watch:
    """What is seen of the plates that print, at the workspace's hour."""

    def __init__(self, workspace: Workspace) -> None:
        self.workspace = workspace
        self._monitors: dict[object, SimulatedMonitor] = {}

    def all(self) -> tuple[Watched, ...]:
        now, shelf = self.workspace.now(), self.workspace.shelf
        return tuple(
            self._watched(number, d, now)
            for number, run in shelf.runs.items()
            for d in run.done
            if d.state == "printing" and d.begun is not None
        )

    def monitor(self, number: int, d: PlateDone) -> SimulatedMonitor | None:
        """The stand-in that prints this plate; None where its printer tells nothing."""
        shelf = self.workspace.shelf
        printer = next((n for n, f in shelf.printers.items() if f.name == d.printer), None)
        if shelf.printer_log(printer).monitor != "simulated" or not d.layers:
            return None
        key = number, d.pieces, d.begun
        if key not in self._monitors:
            card = MATERIALS.get(d.material)
            heat = (float(np.mean(card.nozzle)), float(card.bed[1])) if card is not None else (220.0, 60.0)
            name = f"{d.printer} {d.title} {d.begun:%Y-%m-%d %H:%M:%S}"
            self._monitors[key] = SimulatedMonitor(name, d.layers, d.pace, _expected(d).value, heat)
        return self._monitors[key]

    def _watched(self, number: int, d: PlateDone, now: datetime) -> Watched:
        assert d.begun is not None
        elapsed = max((now - d.begun).total_seconds() / 3600, 0.0) + d.ahead
        expected, monitor = _expected(d), self.monitor(number, d)
        if monitor is None:
            return self._by_eye(number, d, elapsed, expected)
        readings = monitor.readings(3600 * elapsed)
        last = readings[-1]
        heated = next((r.at for r in readings if r.layer > 0), last.at) / 3600
        share = 1.0 if last.done else share_at(max(last.layer - 0.5, 0.0), d.layers, d.pace)
        told = last.at / 3600 if not last.done else next(r.at for r in readings if r.done) / 3600
        rest = whole_hours(expected, share, told - heated)
        whole = Range(rest.value + heated, rest.low + heated, rest.high + heated, rest.source)
        found = alarms(readings, 3600 * elapsed, _longest_layer(d, expected.high))
        return Watched(number, d, elapsed, whole, share, last.layer, readings, found, True)

    def _by_eye(self, number: int, d: PlateDone, elapsed: float, expected: Range) -> Watched:
        """By the layers that the person read off, if any."""
        seen = d.seen[-1] if d.seen else None
        if seen is None or d.begun is None:
            share = min(elapsed / max(expected.value, 1e-6), 1.0)
            whole = whole_hours(expected, 0.0, elapsed)
            return Watched(number, d, elapsed, whole, share, 0, (), (), False)
        share = share_at(max(seen.layer - 0.5, 0.0), d.layers, d.pace)
        at = (seen.at - d.begun).total_seconds() / 3600
        whole = whole_hours(expected, share, at)
        value, low, high = (max(v, elapsed) for v in (whole.value, whole.low, whole.high))
        late = Range(value, low, high, whole.source)
        return Watched(number, d, elapsed, late, share, seen.layer, (), (), False)


def _expected(d: PlateDone) -> Range:
    if d.expected is not None:
        return Range(*d.expected)
    hours = d.hours or USUAL_HOURS.value
    return Range(hours, hours * USUAL_HOURS.low, hours * USUAL_HOURS.high)


def _longest_layer(d: PlateDone, hours: float) -> float:
    """Seconds of the longest layer there is to expect."""
    most = float(np.max(np.diff(d.pace))) if len(d.pace) > 1 else 1 / max(d.layers, 1)
    each = d.layers / max(len(d.pace) - 1, 1) if len(d.pace) > 1 else 1.0
    return most * hours * 3600 / max(each, 1.0)
