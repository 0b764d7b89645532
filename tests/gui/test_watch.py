"""What prints now, watched: by layers read off, by a simulated printer, and when something goes wrong."""

from __future__ import annotations

from datetime import datetime, timedelta

import pytest
from conftest import Desk, pick, press, press_in_panel, seen, turn_to, type_in
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

from knollside.core.run.watching import whole_hours
from knollside.gui.instruments.firstlayer import FirstLayerView
from knollside.sim.monitor import Mishap

START = datetime(2026, 11, 30, 17, 10)


@pytest.fixture
def watched(desk: Desk) -> Desk:
    """A plate of clips has been begun on Old Tom."""
    desk.settle(lambda: desk.facts is not None)
    now = [START]
    desk.workspace.clock = lambda: now[0]
    desk.now = now  # type: ignore[attr-defined]
    desk.window.take("Run")
    turn_to(desk, "Plates")
    pick(desk, "Run", "A new run")
    pick(desk, "Add a part", "Trellis clip")
    type_in(desk, "Copies of Trellis clip", "6")
    run = desk.window.steps["Run"].plates.desk
    desk.settle(lambda: run.laid.fresh is not None, 240)
    press_in_panel(desk, "It is printing")
    turn_to(desk, "Watch")
    return desk


def page(desk: Desk):  # type: ignore[no-untyped-def]
    return desk.window.steps["Run"].watch


def after(desk: Desk, hours: float) -> None:
    desk.now[0] = START + timedelta(hours=hours)  # type: ignore[attr-defined]
    desk.session.touch()
    desk.settle()


def test_layers_read_off_tell_when_it_ends(watched: Desk) -> None:
    w = page(watched).shown
    expected, layers = w.done.expected, w.done.layers
    assert layers > 20 and expected[1] < expected[0] < expected[2] and w.done.pace[-1] == 1.0
    pick(watched, "Who tells how far it is", "layers you read off")
    assert not page(watched).shown.simulated and "layer now" in seen(watched)
    # At half its layers after nine tenths of the hours that it was to take: it takes longer.
    after(watched, 0.9 * expected[0])
    type_in(watched, "Layer it is at", str(layers // 2))
    w = page(watched).shown
    assert w.layer == layers // 2 and w.done.seen[-1].layer == layers // 2
    assert w.whole.value > 1.1 * expected[0] and w.whole.low > w.elapsed
    from knollside.core.model import Range

    told = whole_hours(Range(*expected), w.share, 0.9 * expected[0])
    assert w.whole.value == pytest.approx(told.value, abs=1e-3) and w.whole.high == pytest.approx(told.high, abs=1e-3)
    type_in(watched, "Layer it is at", str(layers + 50))  # there is no such layer
    assert page(watched).shown.layer in (layers // 2, layers)
    watched.workspace.take_back()
    watched.settle()
    assert page(watched).shown.layer in (0, layers // 2)


def test_the_first_layer_is_looked_at_and_a_wrong_one_stops_the_print(watched: Desk) -> None:
    assert "Look at the first layer." in watched.window.verdict_line.title.text()
    monitor = page(watched).desk.watch.monitor(page(watched).shown.number, page(watched).shown.done)
    monitor.first_layer = "too low"
    after(watched, (monitor.heating + 60) / 3600)
    assert "The simulated one: thin and see-through" in seen(watched)
    cards = next(c for c in page(watched).findChildren(FirstLayerView) if c.isVisible())
    box = cards._box(2)
    QTest.mouseClick(cards, Qt.MouseButton.LeftButton, pos=box.center().toPoint())
    watched.settle()
    assert page(watched).shown.done.first_layer == "too low"
    assert "The first layer: too low." in watched.window.verdict_line.title.text()
    assert "0.05 mm higher" in seen(watched)
    prints = len(watched.shop.learned.prints())
    press(watched, "It failed")
    made = watched.shop.learned.prints()[prints:]
    assert [r.outcome for r in made] == ["failed: 6 × Trellis clip; first layer too low"]
    # By the keys: the next card, and that is it.
    run = watched.window.steps["Run"].plates.desk
    watched.settle(lambda: run.question() is not None)


@pytest.mark.parametrize(
    ("mishap", "words", "act"),
    [
        (Mishap.HEATER, "The nozzle has fallen to", "Stop it and stay by"),
        (Mishap.EMPTY, "The filament has run out.", "Load the next spool"),
        (Mishap.QUIET, "It says nothing any more.", "Go and look"),
    ],
)
def test_what_a_printer_tells_that_is_wrong_is_said_with_what_to_do(
    watched: Desk, mishap: Mishap, words: str, act: str
) -> None:
    w = page(watched).shown
    monitor = page(watched).desk.watch.monitor(w.number, w.done)
    monitor.mishap = mishap
    after(watched, monitor.strikes / 3600 - 0.02)
    assert not page(watched).shown.alarms
    after(watched, monitor.strikes / 3600 + 0.3)
    assert words in watched.window.verdict_line.title.text() and act in seen(watched)
    prints = len(watched.shop.learned.prints())
    press(watched, "It failed")
    (made,) = watched.shop.learned.prints()[prints:]
    assert words.split(" to")[0].rstrip(".") in made.outcome and made.actual_hours is None


def test_hours_go_by_for_a_simulated_print_and_its_own_hours_are_kept(watched: Desk) -> None:
    w = page(watched).shown
    monitor = page(watched).desk.watch.monitor(w.number, w.done)
    monitor.mishap = Mishap.NONE
    press_in_panel(watched, "An hour goes by")
    assert page(watched).shown.elapsed == pytest.approx(1.0) and page(watched).shown.layer > 0
    press_in_panel(watched, "To its end")
    assert page(watched).shown.over and "Old Tom is done." in watched.window.verdict_line.title.text()
    press(watched, "It came out")
    made = watched.shop.learned.prints()[-1]
    assert made.actual_hours == pytest.approx(monitor.total / 3600, abs=0.02)
    # It is kept with all that it was printed as.
    clip = watched.shop.parts.get(made.part_id)
    assert made.details.plate == "6 × Trellis clip" and made.details.recipe == clip.recipe
    assert made.details.revision == 1 and made.details.spool == "PETG white" and made.details.estimate_g > 10
    assert "Nothing prints now." in watched.window.verdict_line.title.text()
    watched.workspace.take_back()
    watched.settle()
    assert page(watched).shown.over
