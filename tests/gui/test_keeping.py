"""The Workshop page by real clicks: a copy kept and brought back, everything written out and taken in, damage told."""

from __future__ import annotations

import sqlite3
from pathlib import Path

import pytest
from conftest import Desk, open_desk, pick, press, seen, turn_to
from PyQt6.QtWidgets import QFileDialog

from knollside.core.model import Recipe


@pytest.fixture
def kept(desk: Desk) -> Desk:
    desk.settle(lambda: desk.facts is not None)
    desk.window.take("Workshop")
    turn_to(desk, "Keeping")
    return desk


def test_a_copy_is_kept_and_brought_back_with_what_it_held(kept: Desk) -> None:
    name, before = kept.part.name, kept.part.recipe
    press(kept, "Keep a copy now")
    assert "Copied as" in seen(kept)
    kept.put("recipe", before.model_copy(update={"walls": 9}), "nine walls")
    newest = kept.window.steps["Workshop"].keeping.copies.itemText(0)
    pick(kept, "Copies of the workshop", newest)
    press(kept, "Restore it")
    kept.settle(lambda: kept.session.has_part and kept.facts is not None)
    assert "is back; what was there is kept as" in kept.window.note.text()
    assert kept.part.name == name and kept.part.recipe == before == kept.stored.recipe
    assert not kept.workspace.history.can_undo, "an edit of the workshop set aside is none of this one's"


def test_all_of_it_leaves_in_one_file_and_returns(kept: Desk, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    out, before = tmp_path / "mine.zip", kept.part.recipe
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(out), ""))
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *a, **k: (str(out), ""))
    press(kept, "Write it all out …")
    kept.settle(lambda: "Everything is written to mine.zip." in seen(kept), 20)
    names = sorted(p.name for p in kept.shop.parts.names())
    kept.put("recipe", Recipe(walls=11), "eleven walls")
    press(kept, "Take one in …")
    kept.settle(lambda: "It is taken in" in kept.window.note.text() and kept.facts is not None)
    assert sorted(p.name for p in kept.shop.parts.names()) == names
    part = next(p for p in kept.shop.parts.names() if p.name == "Hose arm")
    assert kept.shop.parts.get(part.id).recipe == before


def test_a_file_that_is_none_is_refused_and_nothing_changes(
    kept: Desk, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    bad = tmp_path / "bad.zip"
    bad.write_bytes(b"PK\x03\x04" + b"\x00" * 400)
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *a, **k: (str(bad), ""))
    names = [p.name for p in kept.shop.parts.names()]
    press(kept, "Take one in …")
    kept.settle(lambda: "bad.zip" in seen(kept))
    assert [p.name for p in kept.shop.parts.names()] == names and kept.facts is not None


def test_what_could_not_be_read_is_named_and_the_rest_works(qapp, filled: Path, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    path = tmp_path / "w.sqlite"
    path.write_bytes(filled.read_bytes())
    with sqlite3.connect(path) as db:
        changed = db.execute(
            "update documents set body = '{' where kind = 'duty'"
            " and part_id = (select id from parts where name = 'M6 knob')"
        )
        assert changed.rowcount == 1
    desk = open_desk(qapp, path)
    desk.settle(lambda: desk.facts is not None)
    knob = next(p for p in desk.shop.parts.names() if p.name == "M6 knob")
    desk.workspace.open(knob.id)
    desk.settle(lambda: desk.part.name == "M6 knob" and desk.facts is not None)
    assert not desk.part.design_case.cases and any("set aside" in words for words in desk.shop.told)
    desk.workspace.open(next(p.id for p in desk.shop.parts.names() if p.name == "Hose arm"))
    desk.settle(lambda: desk.part.name == "Hose arm" and desk.facts is not None)
    desk.window.take("Workshop")
    turn_to(desk, "Keeping")
    assert "set aside as it was" in seen(desk) and "M6 knob" in seen(desk)
    assert desk.part.name == "Hose arm" and desk.part.design_case.cases
    desk.window.close()
