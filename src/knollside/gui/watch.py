"""Plates that print now: how far each is, when it ends, and what its monitor says is wrong."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta

import numpy as np

from knollside.core.material.cards import MATERIALS
from knollside.core.model import Range
from knollside.core.model.running import PlateDone
from knollside.core.run.watching import Alarm, Reading, alarms, by_eye, by_readings, longest_layer
from knollside.core.run.weeknumbers import eightieth
from knollside.gui.runprogress import ran
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
        return tuple(self.of(number, d) for number, d in self.workspace.shelf.printing if d.begun is not None)

    def monitor(self, number: int, d: PlateDone) -> SimulatedMonitor | None:
        """The stand-in that prints this plate; None where its printer tells nothing."""
        shelf = self.workspace.shelf
        if shelf.printer_log(shelf.printer_named(d.printer)).monitor != "simulated" or not d.layers:
            return None
        key = number, d.pieces, d.begun
        if key not in self._monitors:
            card = MATERIALS.get(d.material)
            heat = (float(np.mean(card.nozzle)), float(card.bed[1])) if card is not None else (220.0, 60.0)
            name = f"{d.printer} {d.title} {d.begun:%Y-%m-%d %H:%M:%S}"
            self._monitors[key] = SimulatedMonitor(name, d.layers, d.pace, _expected(d).value, heat)
        return self._monitors[key]

    def of(self, number: int, d: PlateDone) -> Watched:
        """One plate of a run that was begun."""
        elapsed = max(ran(d, self.workspace.now()), 0.0)
        expected, monitor = _expected(d), self.monitor(number, d)
        if monitor is None:
            last = d.seen[-1] if d.seen else None
            seen = None if last is None else (last.layer, ran(d, last.at) - d.ahead)
            p = by_eye(expected, d.layers, d.pace, seen, elapsed)
            return Watched(number, d, elapsed, p.whole, p.share, p.layer, (), (), False)
        readings = monitor.readings(3600 * elapsed)
        p = by_readings(expected, d.layers, d.pace, readings)
        found = alarms(readings, 3600 * elapsed, longest_layer(d.layers, d.pace, expected.high))
        return Watched(number, d, elapsed, p.whole, p.share, p.layer, readings, found, True)


def _expected(d: PlateDone) -> Range:
    if d.expected is not None:
        return Range(*d.expected)
    hours = d.hours or USUAL_HOURS.value
    return Range(hours, hours * USUAL_HOURS.low, hours * USUAL_HOURS.high)
