"""What goes wrong inside is told, kept and can be copied; a window that ended badly starts without its last part."""

from __future__ import annotations

import logging
import subprocess
import sys
from dataclasses import dataclass
from pathlib import Path

import pytest
from conftest import Desk
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from knollside.core.job.ask import Answerer, Question
from knollside.gui.main import begin
from knollside.gui.mishaps import Mishaps, Running, keep_log


@dataclass(frozen=True, eq=False)
class Faulty(Question[int]):
    """A question whose answering has a fault of its own."""

    divisor: int

    def answer(self, ask: Answerer) -> int:
        return 1 // self.divisor


def copied(desk: Desk) -> str:
    QTest.mouseClick(desk.window.note.copy, Qt.MouseButton.LeftButton)
    board = QApplication.clipboard()
    assert board is not None and not desk.window.note.isVisible()
    return board.text()


@pytest.fixture
def hooked(desk: Desk, monkeypatch: pytest.MonkeyPatch):  # type: ignore[no-untyped-def]
    monkeypatch.setattr(sys, "excepthook", sys.excepthook)
    mishaps = Mishaps()
    mishaps.happened.connect(desk.window.say)
    mishaps.install()
    return mishaps


def test_a_fault_in_the_window_is_told_and_its_report_copied(desk: Desk, hooked: Mishaps, caplog) -> None:  # type: ignore[no-untyped-def]
    desk.settle(lambda: desk.facts is not None)

    def fault() -> None:
        raise ZeroDivisionError("of the test")

    with caplog.at_level(logging.ERROR, "knollside"):
        # As from a slot: nothing of ours is above it.
        try:
            fault()
        except ZeroDivisionError as error:
            sys.excepthook(type(error), error, error.__traceback__)
    desk.app.processEvents()
    assert desk.window.note.isVisible() and "went wrong inside" in desk.window.note.text()
    assert "ZeroDivisionError: of the test" in caplog.text
    report = copied(desk)
    assert "Traceback" in report and "ZeroDivisionError: of the test" in report
    desk.window.take("Duty")
    assert desk.window.current.name == "Duty", "the window goes on"


def test_a_fault_in_the_worker_carries_the_workers_own_report(desk: Desk) -> None:
    desk.settle(lambda: desk.facts is not None)
    outcomes: list[object] = []
    desk.session.once("faulty", Faulty(0), outcomes.append)
    desk.settle(lambda: bool(outcomes))
    assert "ZeroDivisionError" in desk.window.note.text()
    assert "in answer" in copied(desk)


def test_sentences_stand_together_and_plain_ones_have_nothing_to_copy(desk: Desk) -> None:
    for words in ("One thing.", "Another.", "One thing."):
        desk.window.say(words)
    assert desk.window.note.text() == "Another.\nOne thing." and not desk.window.note.copy.isVisible()


def test_after_a_bad_end_no_part_opens_by_itself(desk: Desk, tmp_path: Path) -> None:
    shop = desk.shop.path
    first = Running(tmp_path / "state", shop)
    assert not first.crashed
    again = Running(tmp_path / "state", shop)
    assert again.crashed and not Running(tmp_path / "state", tmp_path / "other.sqlite").crashed
    again.done()
    assert not Running(tmp_path / "state", shop).crashed
    desk.settle(lambda: desk.facts is not None)
    desk.workspace.close_part()
    begin(desk.window, crashed=True)
    assert not desk.session.has_part and "did not close as it should" in desk.window.note.text()
    desk.window.header.part_choice.setCurrentIndex(1)
    desk.window.header.part_choice.activated.emit(1)
    desk.settle(lambda: desk.facts is not None)
    assert desk.session.has_part


ENDED = """
import os, signal, sys
from pathlib import Path
from knollside.gui.mishaps import keep_log, log
keep_log(Path(sys.argv[1]))
for k in range(30_000):
    log.info("line %d of a log that must not grow for ever", k)
os.kill(os.getpid(), signal.SIGSEGV)
"""


def test_the_log_is_bounded_and_a_native_end_leaves_its_stack(tmp_path: Path) -> None:
    state = tmp_path / "state"
    for _ in range(2):
        done = subprocess.run([sys.executable, "-c", ENDED, str(state)], capture_output=True, timeout=60, check=False)
        assert done.returncode != 0
    assert (state / "ended.log").read_text().count("Segmentation fault") == 2
    logs = list(state.glob("knollside.log*"))
    assert len(logs) == 4 and sum(p.stat().st_size for p in logs) < 2_200_000
    assert (state.stat().st_mode & 0o777) == 0o700


def test_a_folder_that_cannot_be_written_costs_only_the_log(tmp_path: Path) -> None:
    (tmp_path / "file").write_text("in the way")
    keep_log(tmp_path / "file" / "state")
    Running(tmp_path / "file" / "state", tmp_path / "w.sqlite").done()
