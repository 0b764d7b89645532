"""Runs, hours somebody is in, and the logs of spools and printers."""

from __future__ import annotations

from enum import StrEnum
from typing import TypeVar

from sqlalchemy import select

from knollside.core.model import Record
from knollside.core.model.faults import FaultCase
from knollside.core.model.fitchecks import FitChecks
from knollside.core.model.running import Presence, PrinterLog, Run, SpoolLog
from knollside.core.model.trials import PullStudy, SupportStudy
from knollside.store.ledger import Ledger, seal_of
from knollside.store.tables import RunningRow

T = TypeVar("T", bound=Record)


class Log(StrEnum):
    """What a row is, by the words it is stored under."""

    RUN = "run"
    SPOOL = "spool"
    PRINTER = "printer"
    PRESENCE = "presence"
    STUDY = "study"
    GAPS = "support gap"
    FAULT = "fault"
    FIT_CHECKS = "dry fit"


_WHAT = {
    Log.RUN: ("A run", Run),
    Log.SPOOL: ("A spool's log", SpoolLog),
    Log.PRINTER: ("A printer's log", PrinterLog),
    Log.PRESENCE: ("Your hours", Presence),
    Log.STUDY: ("A study of pull tests", PullStudy),
    Log.GAPS: ("Trials of the support gap", SupportStudy),
    Log.FAULT: ("A print that went wrong", FaultCase),
    Log.FIT_CHECKS: ("What mates did", FitChecks),
}


class Running:
    """Every method that changes something is one transaction, or part of the one it is called in. A row has its
    ``owner``: a run's own number, a spool's, a printer's; hours have none (0)."""

    def __init__(self, ledger: Ledger) -> None:
        self._ledger = ledger

    def put(self, kind: Log, owner: int, record: Record | None) -> None:
        """Keep one record of an owner; None takes it away."""
        with self._ledger.edit() as s:
            row = s.get(RunningRow, (str(kind), owner))
            if record is None:
                if row is not None:
                    s.delete(row)
                return
            body = record.model_dump_json()
            if row is None:
                s.add(RunningRow(kind=str(kind), owner=owner, body=body, seal=seal_of(body)))
            else:
                row.body, row.seal = body, seal_of(body)

    def add(self, kind: Log, record: Record) -> int:
        """A new record of a kind whose owners are numbered by themselves, such as runs; its number."""
        with self._ledger.edit():
            number = self._ledger.number(RunningRow.owner, RunningRow.kind == str(kind), of=f": {kind}")
            self.put(kind, number, record)
            return number

    def runs(self) -> dict[int, Run]:
        return self._all(Log.RUN, Run)

    def spool_logs(self) -> dict[int, SpoolLog]:
        return self._all(Log.SPOOL, SpoolLog)

    def printer_logs(self) -> dict[int, PrinterLog]:
        return self._all(Log.PRINTER, PrinterLog)

    def studies(self) -> dict[int, PullStudy]:
        return self._all(Log.STUDY, PullStudy)

    def gaps(self) -> dict[int, SupportStudy]:
        return self._all(Log.GAPS, SupportStudy)

    def faults(self) -> dict[int, FaultCase]:
        return self._all(Log.FAULT, FaultCase)

    def fit_checks(self) -> dict[int, FitChecks]:
        return self._all(Log.FIT_CHECKS, FitChecks)

    def presence(self) -> Presence | None:
        return self._all(Log.PRESENCE, Presence).get(0)

    def _all(self, kind: Log, record: type[T]) -> dict[int, T]:
        with self._ledger.read() as s:
            rows = s.execute(
                select(RunningRow.owner, RunningRow.body, RunningRow.seal)
                .where(RunningRow.kind == str(kind))
                .order_by(RunningRow.owner)
            ).all()
        out = {}
        for owner, body, seal in rows:
            made = self._ledger.tried(_WHAT[kind][0], body, seal, record.model_validate_json)
            if made is not None:
                out[owner] = made
        return out
