"""Edits of runs, hours and logs; each is one named step of undo, in one transaction."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

from knollside.core.model import GapTrial, Mate, Record
from knollside.core.model.faults import FaultCase
from knollside.core.model.fitchecks import FitChecks
from knollside.core.model.running import Presence, PrinterLog, Run, SpoolLog
from knollside.core.model.trials import PullStudy, SupportStudy
from knollside.store.records import Kind
from knollside.store.running import Log

if TYPE_CHECKING:
    from knollside.gui.workspace import Workspace


def next_number(kept: Mapping[int, Record]) -> int:
    """The number of one more."""
    return max(kept, default=0) + 1


class RunEdits:
    """The commands."""

    def __init__(self, workspace: Workspace) -> None:
        self._w = workspace

    def put_run(self, number: int, run: Run, words: str) -> None:
        self._put(Log.RUN, number, self._w.shelf.runs.get(number), run, words)

    def add_run(self, run: Run) -> int:
        """A new run beside the others; its number."""
        number = next_number(self._w.shelf.runs)
        self._put(Log.RUN, number, None, run, f"run {run.name}")
        return number

    def drop_run(self, number: int) -> None:
        run = self._w.shelf.runs.get(number)
        if run is not None:
            self._put(Log.RUN, number, run, None, f"run {run.name} taken away")

    def put_spool_log(self, spool: int, log: SpoolLog, words: str) -> None:
        self._put(Log.SPOOL, spool, self._w.shelf.spool_logs.get(spool), log, words)

    def put_printer_log(self, printer: int, log: PrinterLog, words: str) -> None:
        self._put(Log.PRINTER, printer, self._w.shelf.printer_logs.get(printer), log, words)

    def put_presence(self, presence: Presence, words: str) -> None:
        self._put(Log.PRESENCE, 0, self._w.shelf.presence, presence, words)

    def put_study(self, number: int, study: PullStudy | None, words: str) -> None:
        self._put(Log.STUDY, number, self._w.shelf.studies.get(number), study, words)

    def put_gaps(self, number: int, study: SupportStudy, words: str) -> None:
        self._put(Log.GAPS, number, self._w.shelf.gaps.get(number), study, words)

    def put_fault(self, number: int, case: FaultCase | None, words: str) -> None:
        self._put(Log.FAULT, number, self._w.shelf.faults.get(number), case, words)

    def put_fit_checks(
        self,
        part: int,
        checks: FitChecks,
        words: str,
        trial: GapTrial | None = None,
        mates: tuple[Mate, ...] | None = None,
    ) -> None:
        """What mates did; a gap that was tried besides counts with the ladders of this printer, and what was measured
        of it with the ``mates`` of the open part."""
        then = self._w.open_part().mates
        before, put = self._w.shelf.fit_checks.get(part), self._w.shop.running.put
        learned, place, rows = self._w.shop.learned, self._w.kept.place() if trial is not None else (0, ""), [0]

        def do() -> None:
            put(Log.FIT_CHECKS, part, checks)
            if mates is not None:
                self._w.shop.parts.put(part, Kind.MATES, mates)
            if trial is not None:
                rows[:] = learned.add_gap_trials(*place, self._w.now(), (trial,))

        def undo() -> None:
            put(Log.FIT_CHECKS, part, before)
            if mates is not None:
                self._w.shop.parts.put(part, Kind.MATES, then)
            if trial is not None:
                learned.remove_gap_trials(rows)

        self._w.push(words, do, undo)

    def _put(self, kind: Log, owner: int, before: Record | None, after: Record | None, words: str) -> None:
        put = self._w.shop.running.put
        if before != after:
            self._w.push(words, lambda: put(kind, owner, after), lambda: put(kind, owner, before))
