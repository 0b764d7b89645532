"""Acts taken back and made again in any order: what is stored is what the acts in force say, and nothing else moves.

The truth here is a dictionary of plain values folded over the list of acts in force; it knows no rows.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from conftest import box

from knollside.core.job.ask import Meshes
from knollside.core.material.own import OwnValue
from knollside.core.model import Measurement, Orientation, PrinterFacts, Recipe, Refused
from knollside.core.model.running import Run, SpoolLog
from knollside.gui.history import SHOP
from knollside.gui.workspace import Workspace
from knollside.store.records import Kind, Spool
from knollside.store.workshop import Workshop


@dataclass
class Done:
    """An act by its line, what it said of which record, and whether it is in force."""

    line: int
    wrote: dict[Any, Any]
    at: int
    force: bool = True


class Told:
    """A person at three parts; what they did, and what should be stored."""

    def __init__(self, path: Path, seed: int) -> None:
        shop = Workshop(path)
        with shop.together():
            job = shop.parts.add_job("J")
            printers = [shop.machines.add_printer(PrinterFacts(name=n)) for n in ("One", "Two")]
            self.parts = [
                shop.parts.add(job, f"Part {k}", box(10 + k, 20, 30), "made", printers[k % 2]) for k in (0, 1, 2)
            ]
        self.shop, self.w = shop, Workspace(shop, Meshes())
        self.refused: list[str] = []
        self.w.said.connect(self.refused.append)
        self.rng, self.acts, self.n = np.random.default_rng(seed), list[Done](), 0
        self.now = datetime(2026, 1, 2, 8)
        self.w.clock = lambda: self.now
        self.w.open(self.parts[0])
        self.base = self.stored()
        self.used: dict[str, set[int]] = {"readings": set(), "runs": set(), "printers": set(), "spools": set()}

    def stored(self) -> dict[Any, Any]:
        """Every record by a key of its own."""
        out: dict[Any, Any] = {}
        for p in self.shop.parts.names():
            doc = self.shop.parts.get(p.id)
            out |= {("recipe", p.id): doc.recipe.walls, ("way", p.id): doc.orientation, ("name", p.id): p.name}
            out |= {("machine", p.id): (doc.printer_id, doc.spool_id)}
            out |= {("mesh", p.id, r.number): r.mesh_hash for r in self.shop.parts.revisions(p.id)}
        for place in self.shop.learned.places():
            for n, when, m in self.shop.learned.measurements(*place):
                out[("reading", n)] = (place, when, m)
        out |= {("printer", n): f for n, f in self.shop.machines.printers().items()}
        out |= {("spool", s.id): s for s in self.shop.machines.spools()}
        out |= {("own", n): c.values for n, c in self.shop.machines.own_cards().items()}
        out |= {("run", n): r for n, r in self.shop.running.runs().items()}
        out |= {("log", n): r for n, r in self.shop.running.spool_logs().items()}
        return {k: v for k, v in out.items() if v is not None}

    def expected(self) -> dict[Any, Any]:
        out = dict(self.base)
        for act in sorted((a for a in self.acts if a.force), key=lambda a: a.at):
            out |= act.wrote
        return {k: v for k, v in out.items() if v is not None}

    def any(self, things: Any) -> Any:
        return list(things)[int(self.rng.integers(len(list(things))))]

    def do(self, line: int, act: Callable[[], object]) -> None:
        """An act; what it wrote is read once, right after it, as the truth of that act."""
        before, said = self.stored(), len(self.refused)
        act()
        after = self.stored()
        wrote = {k: after.get(k) for k in before | after if before.get(k) != after.get(k)}
        if wrote and len(self.refused) == said:
            self.acts = [a for a in self.acts if a.force or a.line != line]
            self.n += 1
            self.acts.append(Done(line, wrote, self.n))

    def step(self) -> None:
        self.now += timedelta(minutes=int(self.rng.integers(1, 90)))
        kind = int(self.rng.integers(14))
        part, kept = self.w.open_part(), self.w.kept
        size = float(self.rng.integers(30, 90)) / 10
        if kind == 0:
            self.w.open(self.any(self.parts))
        elif kind == 1:
            self.do(part.id, lambda: self.w.edit({Kind.RECIPE: Recipe(walls=int(self.rng.integers(2, 20)))}, "walls"))
        elif kind == 2:
            way = Orientation(direction=tuple(self.rng.normal(size=3)))
            self.do(part.id, lambda: self.w.edit({Kind.ORIENTATION: way}, "way"))
        elif kind == 3:
            self.do(part.id, lambda: self.w.rename_part(f"Name {self.rng.integers(1000)}"))
        elif kind == 4:
            self.do(part.id, lambda: self.w.new_mesh(box(size, 5, 5 + self.n), "other", None))
        elif kind == 5:
            spools = [s.id for s in self.w.shelf.spools] + [None]
            self.do(part.id, lambda: self.w.put_machine(self.any(self.w.shelf.printers), self.any(spools), "machine"))
        elif kind == 6:
            made = tuple(Measurement(kind="hole", axis="upright", drawn=size, printed=size - 0.1) for _ in range(2))
            self.do(SHOP, lambda: kept.add_readings(made, "readings"))
        elif kind == 7 and part.dated_readings:
            n, _, m = self.any(part.dated_readings)
            self.do(SHOP, lambda: kept.leave_out(n, not m.left_out))
        elif kind == 8:
            name = f"Printer {self.n}"
            known = self.any([None, *self.w.shelf.printers])
            self.do(SHOP, lambda: kept.put_printer(known, PrinterFacts(name=name)))
        elif kind == 9:
            known = self.any([0, *(s.id for s in self.w.shelf.spools)])
            self.do(SHOP, lambda: kept.put_spool(Spool(known, f"Spool {self.n}", "PETG", 100 / 3 + self.n, True)))
        elif kind == 10:
            value = OwnValue(value=size * 10, low=size * 9, high=size * 11)
            self.do(SHOP, lambda: kept.put_own_value(self.any(["PETG", "PLA"]), "pull", value))
        elif kind == 11:
            known = self.any([None, *self.w.shelf.runs])
            self.do(SHOP, lambda: self.w.runs.put_run(known, Run(name=f"Run {self.n}"), "run"))
        elif kind == 12 and self.w.shelf.spools:
            spool = self.any(self.w.shelf.spools).id
            self.do(SHOP, lambda: self.w.runs.put_spool_log(spool, SpoolLog(colour=f"c{self.n}"), "log"))
        else:
            self.back(self.rng.random() < 0.4)

    def back(self, redo: bool) -> None:
        """Undo or redo, of whatever comes first or of a line by name."""
        here = self.w.open_part().id
        line = self.any([None, here, SHOP])
        which = [a for a in self.acts if a.line in ({here, SHOP} if line is None else {line})]
        said, before = len(self.refused), self.stored()
        (self.w.make_again if redo else self.w.take_back)(line)
        if len(self.refused) > said:
            assert self.stored() == before, "a refused one changes nothing"
            assert "changed it since" in self.refused[-1] or "rests on" in self.refused[-1], self.refused[-1]
            return
        ends = [self._end(which, ln, redo) for ln in {a.line for a in which}]
        ends = [e for e in ends if e is not None]
        if ends:
            last = max(ends, key=lambda a: a.at)
            self.n += 1
            last.force, last.at = redo, self.n

    @staticmethod
    def _end(acts: list[Done], line: int, redo: bool) -> Done | None:
        mine = [a for a in acts if a.line == line]
        if redo:
            return next((a for a in mine if not a.force), None)
        return next((a for a in reversed(mine) if a.force), None)


@pytest.mark.parametrize("seed", range(3))
def test_what_is_stored_is_what_the_acts_in_force_say(tmp_path: Path, seed: int) -> None:
    told = Told(tmp_path / "w.sqlite", seed)
    undone = 0
    for _ in range(220):
        told.step()
        assert told.stored() == told.expected()
        undone += sum(not a.force for a in told.acts) > 0
    assert undone >= 10 and len(told.acts) > 40
    told.shop.close()


def workshop(path: Path) -> tuple[Workshop, Workspace]:
    shop = Workshop(path)
    with shop.together():
        printer = shop.machines.add_printer(PrinterFacts(name="One"))
        job = shop.parts.add_job("J")
        for k in range(2):
            shop.parts.add(job, f"Part {k}", box(10 + k, 20, 30), "made", printer)
    w = Workspace(shop, Meshes())
    w.open(1)
    return shop, w


def reading(size: float) -> Measurement:
    return Measurement(kind="hole", axis="upright", drawn=size, printed=size - 0.2)


def test_one_part_taken_back_leaves_the_others_entries(tmp_path: Path) -> None:
    """What was entered with another part in front stays, whatever is taken back in which order."""
    shop, w = workshop(tmp_path / "w.sqlite")
    w.kept.add_reading(reading(5))
    w.open(2)
    w.kept.add_reading(reading(8))
    w.edit({Kind.RECIPE: Recipe(walls=9)}, "nine walls")
    w.open(1)
    w.edit({Kind.RECIPE: Recipe(walls=7)}, "seven walls")
    assert not w.history.of_shop() and w.history.undo_text == "seven walls"
    w.take_back()
    assert w.history.of_shop() and w.history.undo_text == "reading of hole 8"
    w.take_back(1)
    assert len(shop.learned.measurements(1, "PETG")) == 2, "this part's line has nothing left"
    w.take_back()
    assert [m.drawn for _, _, m in shop.learned.measurements(1, "PETG")] == [5]
    assert shop.parts.get(2).recipe.walls == 9
    w.make_again()
    assert [m.drawn for _, _, m in shop.learned.measurements(1, "PETG")] == [5, 8]
    shop.close()


def test_a_number_taken_back_is_never_given_again_and_a_date_stays(tmp_path: Path) -> None:
    shop, w = workshop(tmp_path / "w.sqlite")
    w.clock = lambda: datetime(2026, 1, 2, 9, 0)
    w.kept.add_reading(reading(5))
    (first,) = shop.learned.measurements(1, "PETG")
    w.clock = lambda: datetime(2026, 3, 4, 17, 0)
    w.take_back()
    w.make_again()
    assert shop.learned.measurements(1, "PETG") == [first], "with its number and the day it was taken"
    w.take_back()
    w.kept.add_reading(reading(6))
    ((second, _, _),) = shop.learned.measurements(1, "PETG")
    assert second > first[0]
    run = w.runs.put_run(None, Run(name="A"))
    w.take_back()
    assert w.runs.put_run(None, Run(name="B")) > run
    w.new_mesh(box(9, 9, 9), "another", None)
    w.take_back()
    w.new_mesh(box(8, 8, 8), "a third", None)
    assert [r.number for r in shop.parts.revisions(1)] == [1, 3]
    shop.close()


def test_what_was_changed_since_says_who_and_stays(tmp_path: Path) -> None:
    shop, w = workshop(tmp_path / "w.sqlite")
    said: list[str] = []
    w.said.connect(said.append)
    spool = w.kept.put_spool(Spool(0, "green", "PETG", 800, True))
    w.open(2)
    w.put_machine(1, spool, "spool green")
    w.open(1)
    w.take_back(SHOP)
    assert said == ["“spool green” was not taken back: “spool green” (Part 1) rests on it. Take that back first."]
    assert [s.name for s in shop.machines.spools()] == ["green"] and w.history.can_undo
    w.open(2)
    w.take_back(2)
    w.take_back(SHOP)
    assert shop.machines.spools() == []
    w.make_again(SHOP)
    assert [(s.id, s.name) for s in shop.machines.spools()] == [(spool, "green")]
    # A mesh set of several parts belongs to the workshop, and a later mesh of one rests on it.
    w.new_meshes(((1, box(7, 7, 7), None), (2, box(6, 6, 6), None)), "set scaled")
    w.new_mesh(box(5, 5, 5), "from a file", None)
    w.take_back(SHOP)
    assert "“set scaled” was not taken back" in said[-1] and "“from a file” (Part 1)" in said[-1]
    assert [r.number for r in shop.parts.revisions(1)] == [1, 2]
    shop.close()


def _full(path: Path) -> Callable[[], None]:
    """No page more for the workshop file, as on a full disk; returns what makes room again."""
    import resource

    soft, hard = resource.getrlimit(resource.RLIMIT_FSIZE)
    resource.setrlimit(resource.RLIMIT_FSIZE, (1, hard))
    return lambda: resource.setrlimit(resource.RLIMIT_FSIZE, (soft, hard))


def _moved(path: Path) -> Callable[[], None]:
    away = path.with_name("away")
    path.rename(away)
    return lambda: away.replace(path)


def _replaced(path: Path) -> Callable[[], None]:
    away = path.with_name("away")
    path.rename(away)
    path.write_bytes(b"")
    return lambda: away.replace(path)


def _locked(path: Path) -> Callable[[], None]:
    other = sqlite3.connect(path, isolation_level=None)
    other.execute("BEGIN IMMEDIATE")
    return other.close


@pytest.mark.parametrize("hinder", [_full, _moved, _replaced, _locked])
@pytest.mark.parametrize("redo", [False, True])
def test_a_step_that_the_store_refuses_can_be_tried_again(
    tmp_path: Path, hinder: Callable[[Path], Callable[[], None]], redo: bool
) -> None:
    path = tmp_path / "w.sqlite"
    shop, w = workshop(path)
    said: list[str] = []
    w.said.connect(said.append)
    w.edit({Kind.RECIPE: Recipe(walls=9)}, "nine walls")
    w.kept.add_reading(reading(5))
    if redo:
        w.take_back()
        w.take_back()
    told = w.history.undo_text, w.history.redo_text, w.history.count()
    walls, readings = w.open_part().recipe.walls, len(w.open_part().readings)
    free = hinder(path)
    try:
        for _ in range(3):
            (w.make_again if redo else w.take_back)()
    finally:
        free()
    assert len(said) == 3 and ("was not made again" if redo else "was not taken back") in said[0]
    assert "OperationalError" not in said[0] and "SQL" not in said[0]
    assert (w.history.undo_text, w.history.redo_text, w.history.count()) == told
    assert (w.open_part().recipe.walls, len(w.open_part().readings)) == (walls, readings)
    for _ in range(2):
        (w.make_again if redo else w.take_back)()
    assert shop.parts.get(1).recipe.walls == (9 if redo else Recipe().walls)
    assert len(shop.learned.measurements(1, "PETG")) == (1 if redo else 0) and len(said) == 3
    shop.close()


def test_a_name_that_is_taken_by_then_refuses_and_can_be_tried_again(tmp_path: Path) -> None:
    shop, w = workshop(tmp_path / "w.sqlite")
    said: list[str] = []
    w.said.connect(said.append)
    w.kept.put_printer(1, PrinterFacts(name="Uno"))
    with pytest.raises(Refused, match="taken already"), shop.together():
        shop.machines.add_printer(PrinterFacts(name="Uno"))
    other = shop.machines.add_printer(PrinterFacts(name="One"))
    w.take_back()
    assert "taken already" in said[-1] and shop.machines.printers()[1].name == "Uno"
    shop.machines.put_printer(other, PrinterFacts(name="Due"))
    w.take_back()
    assert shop.machines.printers()[1].name == "One"
    shop.close()
