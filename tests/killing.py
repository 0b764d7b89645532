"""Edits of many statements, and a process that is gone in the middle of one. Imported by the process itself, so it
starts nothing."""

from __future__ import annotations

import os
from datetime import datetime
from pathlib import Path

from sqlalchemy import Engine, event

from knollside.core.job.file import Job
from knollside.core.model import Measurement, PrinterFacts
from knollside.store.jobs import put_job
from knollside.store.meshes import pack
from knollside.store.workshop import Workshop
from knollside.warm import box

GONE = 9


def edit(shop: Workshop, what: str) -> None:
    """Edits of many statements."""
    now = datetime(2026, 1, 2)

    def one(k: int) -> Measurement:
        return Measurement(kind="hole", axis="upright", drawn=5, printed=4 + 0.001 * k)

    if what == "readings":
        shop.learned.add_measurements(1, "PETG", now, [one(k) for k in range(500)])
    elif what == "set":
        with shop.together():
            for part in (1, 2, 3):
                shop.parts.add_revision(part, box(50 + part, 5, 5), "set scaled")
    elif what == "job":
        nine = tuple(one(k) for k in range(9))
        job = Job(name="From a job", mesh="x.ply", printer=PrinterFacts(name="New"), readings=nine)
        put_job(shop, 1, job, "j", pack(box(40, 30, 8)))
    else:
        with shop.together():
            shop.parts.put_machine(1, shop.machines.add_printer(PrinterFacts(name="Second")), None)


def _gone_at(at: int, of: object) -> None:
    """Be gone at the ``at``-th statement of an engine, or of all engines, as if the machine had lost its power."""
    left = [at]

    def count(*_: object) -> None:
        left[0] -= 1
        if left[0] <= 0:
            os._exit(GONE)

    for when in ("before_cursor_execute", "after_cursor_execute", "commit"):
        event.listen(of, when, count)


def edit_until(path: Path, what: str, at: int) -> None:
    """Make an edit and be gone at its ``at``-th statement."""
    shop = Workshop(path)
    _gone_at(at, shop._ledger._engine)
    edit(shop, what)
    os._exit(0)


def open_until(path: Path, at: int) -> None:
    """Open a workshop and be gone at its ``at``-th statement."""
    _gone_at(at, Engine)
    Workshop(path)
    os._exit(0)
