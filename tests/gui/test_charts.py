"""The ordinary charts: what is told under the pointer, and the picture and the numbers as files."""

from __future__ import annotations

import csv
from datetime import datetime
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QPointF
from PyQt6.QtGui import QImage
from PyQt6.QtWidgets import QFileDialog

from knollside.core.fit.play import RunningIn
from knollside.core.fit.process import Moved
from knollside.core.material.cards import material
from knollside.core.model import Recipe
from knollside.core.recipe.breakeven import BreakEven
from knollside.core.recipe.price import time_factor
from knollside.gui.instruments.chart import Chart
from knollside.gui.instruments.charts import BondChart, EvenChart, HistoryChart, HoursChart, WearChart

DAY = datetime(2026, 5, 1)
PRINTS = tuple((DAY, h, 1.2 * h) for h in (1.0, 2.0, 4.0, 8.0))


def bond() -> Chart:
    made = BondChart()
    made.put(material("PETG"), 240)
    return made


def even() -> Chart:
    made = EvenChart()
    scales = np.geomspace(0.3, 4, 9)
    made.put(BreakEven(scales, np.stack([scales**2, scales**2 * 1.25], axis=1), Recipe(), Recipe(), None))
    return made


def moved() -> Chart:
    made = HistoryChart()
    made.put(tuple(Moved(DAY, f"bar {k}", 4 * k, -0.2, -0.2 - 0.1 / k, -0.2 + 0.1 / k) for k in (1, 2, 3)))
    return made


def wear() -> Chart:
    made = WearChart()
    made.put(RunningIn(0.1, 0.2, 100.0, "typical"), ((0, 0.1), (100, 0.22)), (0.2, 0.4))
    return made


def hours() -> Chart:
    made = HoursChart()
    made.put(PRINTS, time_factor([(e, a) for _, e, a in PRINTS]))
    return made


# Of each: a place, what is told there, a row of its numbers.
CASES = [
    (bond, (240.0, 0.3), "240 °C: 0.", None),
    (even, (0.0, 10.0), "saves 20 %", ["4", "20"]),
    (moved, (2.0, -0.2), "bar 3: -0.20 mm (-0.23 to -0.17)", ["2026-05-01", "bar 1", "4", "-0.2", "-0.3", "-0.1"]),
    (wear, (100.0, 0.2), "After 100 cycles about 0.23 mm, typical", ["100", "0.22", "logged"]),
    (hours, (5.0, 5.0), "Foretold 5.0 h: expect", ["2026-05-01", "8", "9.6"]),
]


@pytest.mark.parametrize(("make", "place", "words", "row"), CASES, ids=lambda v: getattr(v, "__name__", ""))
def test_a_chart_tells_what_is_under_the_pointer_and_leaves_as_files(
    qtbot, monkeypatch, tmp_path: Path, make, place, words, row
) -> None:  # type: ignore[no-untyped-def]
    chart = make()
    qtbot.addWidget(chart)
    chart.resize(340, 150)
    with qtbot.waitExposed(chart):
        chart.show()
    told = []
    monkeypatch.setattr("knollside.gui.instruments.chart.QToolTip.showText", lambda at, text, *more: told.append(text))
    chart._over(chart.getPlotItem().vb.mapViewToScene(QPointF(*place)))
    assert told and words in told[0]
    for action, name in zip(chart.menu().actions(), ("a.png", "a"), strict=True):
        monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, name=name, **k: (str(tmp_path / name), ""))
        action.trigger()
    image = QImage(str(tmp_path / "a.png"))
    assert image.width() == chart.grab().width() and len({image.pixel(x, 40) for x in range(image.width())}) > 3
    rows = list(csv.reader((tmp_path / "a.csv").read_text().splitlines()))
    assert tuple(rows[0]) == chart.header and all(len(r) == len(chart.header) for r in rows)
    assert row is None or row in rows


def test_a_chart_that_cannot_be_saved_says_so(qtbot, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    chart = hours()
    qtbot.addWidget(chart)
    (tmp_path / "file").write_text("in the way")
    with qtbot.waitSignal(chart.refused) as said:
        chart.save(tmp_path / "file" / "a.csv")
    assert "a.csv could not be written" in said.args[0]
