"""The workshop file: what is kept, what is refused, and what survives a kill."""

import os
import signal
import sqlite3
import subprocess
import sys
import textwrap
from datetime import datetime
from pathlib import Path

import pytest
from conftest import box

from knollside.core.model import (
    BreakTest,
    DesignCase,
    FixedFixture,
    GapTrial,
    Mate,
    Measurement,
    Orientation,
    PrinterFacts,
    Recipe,
    Refused,
)
from knollside.core.model.running import (
    Presence,
    PrinterEvent,
    PrinterLog,
    Run,
    RunPiece,
    SpoolLog,
    Stay,
    Weighing,
)
from knollside.demo.fill import fill_demo
from knollside.store.opening import HEAD
from knollside.store.records import Kind, PrintRecord
from knollside.store.running import Log
from knollside.store.whole import fill, gathered
from knollside.store.workshop import Workshop


def test_everything_put_in_comes_out_after_reopening(tmp_path: Path) -> None:
    path = tmp_path / "w.sqlite"
    shop = Workshop(path)
    printer = shop.machines.add_printer(PrinterFacts(name="P"))
    part = shop.parts.add(shop.parts.add_job("J"), "Box", box(1, 2, 3), "as made", printer)
    design_case = DesignCase(fixtures=(FixedFixture(feature="flat-1"),))
    for kind, value in (
        ("duty", design_case),
        ("recipe", Recipe(walls=7)),
        ("way", Orientation(direction=(0, 0, 2))),
        ("material", "ASA"),
        ("mates", (Mate(feature="hole-1", hardware="M5"),)),
    ):
        shop.parts.put(part, Kind(kind), value)
    shop.parts.add_revision(part, box(4, 5, 6), "longer")
    shop.learned.add_measurements(
        printer, "ASA", datetime(2026, 1, 2), [Measurement(kind="pin", axis="lying", drawn=5, printed=5.1)]
    )
    trial = GapTrial(direction="in the layer", drawn=0.25, freed=True)
    (kept,) = shop.learned.add_gap_trials(printer, "ASA", datetime(2026, 1, 2), [trial])
    test = BreakTest(mode="along a layer", ratio=0.5)
    shop.learned.add_print(PrintRecord(0, part, printer, "ASA", datetime(2026, 1, 3), 1.0, 1.2, "well", test))
    shop.close()
    shop = Workshop(path)
    doc = shop.parts.get(part)
    assert (doc.design_case, doc.recipe.walls, doc.orientation, doc.material, doc.revision) == (
        design_case,
        7,
        Orientation(direction=(0, 0, 1)),
        "ASA",
        2,
    )
    assert shop.parts.mesh(doc.mesh_hash).volume == pytest.approx(120) and doc.mates[0].hardware == "M5"
    assert shop.learned.measurements(printer, "ASA")[0][2].printed == 5.1
    assert shop.learned.prints(printer)[0].broke == test
    assert shop.learned.gap_trials(printer, "ASA") == [(kept, datetime(2026, 1, 2), trial)]
    assert shop.learned.gap_trials(printer, "PLA") == []
    number, _, reading = shop.learned.measurements(printer, "ASA")[0]
    shop.learned.put_measurement(number, reading.model_copy(update={"left_out": True}))
    assert shop.learned.measurements(printer, "ASA")[0][2].left_out
    with pytest.raises(Refused, match="no longer"):
        shop.parts.get(part + 1)
    shop.close()


def test_a_second_window_is_refused_and_the_first_goes_on(tmp_path: Path) -> None:
    shop = Workshop(tmp_path / "w.sqlite")
    with pytest.raises(Refused, match="already open in another window"):
        Workshop(tmp_path / "w.sqlite")
    assert shop.parts.add_job("still works") == 1
    shop.close()
    Workshop(tmp_path / "w.sqlite").close()


def test_killed_at_any_moment_it_keeps_every_finished_edit(tmp_path: Path) -> None:
    path = tmp_path / "w.sqlite"
    script = textwrap.dedent(f"""
        from pathlib import Path
        from knollside.store.workshop import Workshop
        shop = Workshop(Path({str(path)!r}))
        for i in range(100000):
            shop.parts.add_job(f"job {{i}}")
            print(i, flush=True)
    """)
    child = subprocess.Popen([sys.executable, "-c", script], stdout=subprocess.PIPE, text=True)
    assert child.stdout is not None
    finished = [int(child.stdout.readline()) for _ in range(25)][-1]
    os.kill(child.pid, signal.SIGKILL)
    child.wait()
    rest = child.stdout.read().split()
    finished = int(rest[-1]) if rest else finished
    shop = Workshop(path)
    assert shop.parts.add_job("after") >= finished + 2
    shop.close()


def test_a_full_disk_or_a_closed_file_gets_a_sentence(tmp_path: Path) -> None:
    from sqlalchemy import event

    shop = Workshop(tmp_path / "w.sqlite")
    job = shop.parts.add_job("before")

    @event.listens_for(shop._ledger._engine, "connect")
    def _small(connection, _) -> None:  # type: ignore[no-untyped-def]
        connection.execute("PRAGMA max_page_count=40")

    shop._ledger._engine.dispose()
    with pytest.raises(Refused, match="could not keep this edit"):
        for _ in range(50):
            shop.parts.add(job, "big", box(1, 1, 1), "x" * 9000)
    shop.close()
    again = Workshop(tmp_path / "w.sqlite")
    assert again.parts.add_job("after") == job + 1
    again.close()


def test_no_workshop_of_a_newer_program_or_of_no_sense_is_touched(tmp_path: Path) -> None:
    path = tmp_path / "w.sqlite"
    path.write_bytes(b"this is no database, " * 400)
    with pytest.raises(Refused, match="is no workshop"):
        Workshop(path)
    assert path.read_bytes().startswith(b"this is no database")


def test_the_demo_fills_an_empty_workshop_once(tmp_path: Path) -> None:
    shop = Workshop(tmp_path / "w.sqlite")
    fill_demo(shop)
    fill_demo(shop)
    names = [p.name for p in shop.parts.names()]
    assert names[:5] == ["Hose arm", "Vent hinge", "M6 knob", "Label plate", "Trellis clip"]
    assert names[5:] == ["Stay bar", "Stay pawl", "Gate latch", "Union nut"]
    assert len(shop.machines.printers()) == 2 and len(shop.machines.spools()) == 4 and len(shop.learned.prints()) == 16
    shop.close()


def test_a_workshop_of_the_version_before_is_brought_up_to_date(tmp_path: Path) -> None:
    """What an older Knollside kept opens, gains the table of gap trials, and loses nothing."""
    path = tmp_path / "old.sqlite"
    shop = Workshop(path)
    printer = shop.machines.add_printer(PrinterFacts(name="P"))
    part = shop.parts.add(shop.parts.add_job("J"), "Box", box(1, 2, 3), "as made", printer)
    reading = Measurement(kind="hole", axis="upright", drawn=5, printed=4.8)
    shop.learned.add_measurements(printer, "PETG", datetime(2026, 1, 2), [reading])
    shop.close()
    with sqlite3.connect(path) as old:
        old.execute("DROP TABLE gap_trials")
        old.execute("DROP TABLE set_aside")
        old.execute("DROP TABLE numbers")
        old.execute("DROP TABLE running")
        old.execute("DROP TABLE photos")
        for column in ("details", "details_seal"):
            old.execute(f"ALTER TABLE prints DROP COLUMN {column}")
        for table in ("printers", "documents", "measurements", "prints", "own_cards"):
            old.execute(f"ALTER TABLE {table} DROP COLUMN seal")
        for column in ("names", "motion"):
            old.execute(f"ALTER TABLE revisions DROP COLUMN {column}")
        old.execute("UPDATE alembic_version SET version_num = '0002'")
        # As it was written before readings had a nozzle, a layer height and a piece.
        body = '{"kind":"hole","axis":"upright","drawn":5.0,"printed":4.8,"source":"typed","left_out":false}'
        old.execute("UPDATE measurements SET body = ?", (body,))
        # As it was when held and pushed faces were also kept among the marks.
        design_case = (
            '{"marks":{"hole-1":"held","flat-2":"shown"},"held":[{"feature":"hole-1","at":null,"kind":"fixed"}]}'
        )
        old.execute("INSERT INTO documents VALUES (?, 'duty', ?)", (part, design_case))
    old.close()
    shop = Workshop(path)
    assert shop.learned.measurements(printer, "PETG")[0][2] == reading
    assert shop.learned.gap_trials(printer, "PETG") == []
    doc = shop.parts.get(part)
    assert {k: v.value for k, v in doc.design_case.marks.items()} == {"flat-2": "shown"}
    assert doc.design_case.fixtures[0].feature == "hole-1" and not shop.told
    # What was there before the change of version is kept as a copy.
    assert [c.why for c in shop.copies() if c.why.startswith("before")] == [f"before version {HEAD}"]
    shop.close()


def test_runs_logs_and_hours_are_kept_told_when_damaged_and_go_with_what_they_are_of(tmp_path: Path) -> None:
    path = tmp_path / "shop.knoll"
    shop = Workshop(path)
    printer = shop.machines.add_printer(PrinterFacts(name="Old Tom"))
    spool = shop.machines.add_spool("Green", "PETG", 500, True)
    at = datetime(2026, 11, 28, 9, 30)
    run = Run(name="Allotment", pieces=(RunPiece(part=1, copies=3, due=at),), goal="due first")
    log = SpoolLog(colour="green", weighings=(Weighing(at=at, gross_g=812.5),), stays=(Stay(since=at, where="box"),))
    printed = PrinterLog(loaded="PETG green", events=(PrinterEvent(kind="nozzle", at=at, note="0.4 brass"),))
    hours = Presence(zone="Europe/Berlin", days={"Monday": (("17:00", "24:00"),)})
    assert (shop.running.add(Log.RUN, run), shop.running.add(Log.RUN, Run())) == (1, 2)
    for kind, owner, record in ((Log.SPOOL, spool, log), (Log.PRINTER, printer, printed), (Log.PRESENCE, 0, hours)):
        shop.running.put(kind, owner, record)
    told, raw = gathered(shop)
    shop.close()
    shop = Workshop(path)
    assert shop.running.runs() == {1: run, 2: Run()} and shop.running.presence() == hours
    assert shop.running.spool_logs() == {spool: log} and shop.running.printer_logs() == {printer: printed}
    shop.running.put(Log.RUN, 2, None)
    assert shop.running.runs() == {1: run}
    shop.close()
    with sqlite3.connect(path) as db:
        db.execute("UPDATE running SET body = replace(body, 'Allotment', 'Allotmint') WHERE kind = 'run'")
    shop = Workshop(path)
    assert shop.running.runs() == {} and shop.running.presence() == hours
    assert any("A run could not be read" in t for t in shop.told) and any("Allotmint" in a.body for a in shop.aside)
    shop.close()
    # The whole as one open file carries them.
    fill(tmp_path / "other.knoll", told, raw)
    other = Workshop(tmp_path / "other.knoll")
    assert other.running.runs() == {1: run, 2: Run()} and other.running.spool_logs() == {spool: log}
    assert other.running.printer_logs() == {printer: printed} and other.running.presence() == hours
    other.close()
