"""Edits of runs, hours and logs; each is one named act, in one transaction."""

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


class RunEdits:
    """The commands. What is new (no number yet) gets a number that nothing ever had; it is returned."""

    def __init__(self, workspace: Workspace) -> None:
        self._w = workspace

    def put_run(self, number: int | None, run: Run, words: str = "") -> int:
        return self._put(Log.RUN, number, run, words or f"run {run.name}")

    def drop_run(self, number: int) -> None:
        run = self._w.shelf.runs.get(number)
        if run is not None:
            self._put(Log.RUN, number, None, f"run {run.name} taken away")

    def put_spool_log(self, spool: int, log: SpoolLog, words: str) -> None:
        self._put(Log.SPOOL, spool, log, words)

    def put_printer_log(self, printer: int, log: PrinterLog, words: str) -> None:
        self._put(Log.PRINTER, printer, log, words)

    def put_printer_logs(self, logs: Mapping[int, PrinterLog], words: str) -> None:
        """Logs of several printers at once, as when a spool moves from one to another."""

        def do() -> None:
            for printer, log in logs.items():
                self._w.shop.running.put(Log.PRINTER, printer, log)

        self._w.push(words, do)

    def put_presence(self, presence: Presence, words: str) -> None:
        self._put(Log.PRESENCE, 0, presence, words)

    def put_study(self, number: int | None, study: PullStudy, words: str) -> int:
        return self._put(Log.STUDY, number, study, words)

    def put_gaps(self, number: int | None, study: SupportStudy, words: str) -> int:
        return self._put(Log.GAPS, number, study, words)

    def put_fault(self, number: int | None, case: FaultCase, words: str) -> int:
        return self._put(Log.FAULT, number, case, words)

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
        shop, now = self._w.shop, self._w.now()
        place = self._w.kept.place() if trial is not None else (0, "")

        def do() -> None:
            shop.running.put(Log.FIT_CHECKS, part, checks)
            if mates is not None:
                shop.parts.put(part, Kind.MATES, mates)
            if trial is not None:
                shop.learned.add_gap_trials(*place, now, (trial,))

        self._w.push(words, do)

    def _put(self, kind: Log, owner: int | None, record: Record | None, words: str) -> int:
        """Keep a record of an owner, or a new one of its own number; its number, 0 where it was not kept."""
        running = self._w.shop.running

        def do() -> int:
            if owner is None and record is not None:
                return running.add(kind, record)
            running.put(kind, owner or 0, record)
            return owner or 0

        return self._w.push(words, do) or 0
