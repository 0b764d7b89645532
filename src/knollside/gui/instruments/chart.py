"""The ordinary charts' common ground: axes with their units, what lies under the pointer in words, and saving.

Drawn by pyqtgraph in the colours of the theme. A chart is read, not moved: the wheel scrolls the page it stands on.
"""

from __future__ import annotations

import csv
import io
import os
from collections.abc import Sequence
from pathlib import Path

os.environ.setdefault("PYQTGRAPH_QT_LIB", "PyQt6")

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QPointF, Qt, pyqtSignal
from PyQt6.QtWidgets import QFileDialog, QMenu, QToolTip

from knollside.core.model import Array, Refused
from knollside.gui.theme.look import font, look
from knollside.report.export import write_whole

Row = Sequence[float | str]
SOLID = Qt.PenStyle.SolidLine


class Chart(pg.PlotWidget):  # type: ignore[misc]
    """One chart. A subclass draws in ``draw``, and tells with ``words`` what is at a place and with ``rows`` all of it.

    A right click offers the picture and the numbers as files.
    """

    header: tuple[str, ...] = ()
    refused = pyqtSignal(str)

    def __init__(self, name: str, x: str, y: str, height: int) -> None:
        super().__init__()
        self.setAccessibleName(name)
        self.setToolTip(f"{name}. Right click to save it.")
        self.setFixedHeight(height)
        self._titles = {"bottom": x, "left": y}
        self._last: object = None
        plot = self.getPlotItem()
        plot.setMenuEnabled(False)
        plot.hideButtons()
        plot.setMouseEnabled(False, False)
        self.setFrameShape(self.Shape.NoFrame)
        self.scene().sigMouseMoved.connect(self._over)
        look.changed.connect(self._dress)
        self._dress()

    # What a chart says of itself

    def draw(self) -> None:
        """Add curves and marks to a cleared chart."""

    def words(self, x: float, y: float) -> str:
        """What is at a place of the chart."""
        return ""

    def rows(self) -> list[Row]:
        """All that is drawn, as rows under ``header``."""
        return []

    # Drawing

    def redraw(self) -> None:
        self.clear()
        self.draw()

    def blank(self, words: str) -> None:
        """Nothing to draw, and why; no axes of numbers that mean nothing. Without words, axes again."""
        for side in self._titles:
            self.getAxis(side).setVisible(not words)
        self.getPlotItem().showGrid(x=False, y=not words, alpha=0.25)
        if words:
            said = pg.TextItem(words, color=look.colour("slate"), anchor=(0.5, 0.5))
            said.setFont(font(13))
            self.addItem(said)
            said.setPos(0.5, 0.5)
            self.setRange(xRange=(0, 1), yRange=(0, 1), padding=0)

    def _dress(self) -> None:
        self.setBackground(look.colour("paper"))
        for side, title in self._titles.items():
            axis = self.getAxis(side)
            axis.enableAutoSIPrefix(False)  # its titles name the unit
            axis.setTextPen(look.colour("slate"))
            axis.setPen(pg.mkPen(look.colour("rule"), width=1))
            axis.setStyle(tickFont=font(12), tickLength=-4)
            axis.setLabel(title or None, **{"color": look.colour("slate").name(), "font-size": "12px"})
        self.getPlotItem().showGrid(x=False, y=True, alpha=0.25)
        self.redraw()

    def curve(self, x: Array, y: Array, token: str, width: float = 2, style: Qt.PenStyle = SOLID) -> None:
        self.plot(x, y, pen=pg.mkPen(look.colour(token), width=width, style=style), antialias=True)

    def band(self, x: Array, low: Array, high: Array, token: str, alpha: int) -> None:
        """What lies between two curves, filled."""
        pen = pg.mkPen(None)
        ends = [pg.PlotDataItem(x, v, pen=pen) for v in (low, high)]
        self.addItem(pg.FillBetweenItem(*ends, brush=look.colour(token, alpha)))

    def dots(self, x: Array, y: Array, token: str, hollow: bool = False) -> None:
        fill = look.colour("paper" if hollow else token)
        at = {"pen": None, "symbol": "o", "symbolSize": 8, "symbolBrush": fill}
        self.plot(x, y, symbolPen=pg.mkPen(look.colour(token), width=2), antialias=True, **at)

    def mark(self, at: float, angle: int, token: str, style: Qt.PenStyle = SOLID) -> None:
        """A line right through: upright at 90, level at 0."""
        self.addItem(pg.InfiniteLine(at, angle, pen=pg.mkPen(look.colour(token), width=1.5, style=style)))

    # Under the pointer

    def _over(self, spot: QPointF) -> None:
        box = self.getPlotItem().vb
        if not box.sceneBoundingRect().contains(spot):
            return
        at = box.mapSceneToView(spot)
        told = self.words(at.x(), at.y())
        if told:
            QToolTip.showText(self.mapToGlobal(self.mapFromScene(spot)), told, self)

    def showEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        super().showEvent(event)
        say = getattr(self.window(), "say", None)
        if say is not None and not self.receivers(self.refused):
            self.refused.connect(say)

    def wheelEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        event.ignore()

    # Saving

    def contextMenuEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        menu = self.menu()
        menu.exec(event.globalPos())

    def menu(self) -> QMenu:
        menu = QMenu(self)
        menu.addAction("Save the picture …", lambda: self._ask("Picture (*.png)", ".png"))
        menu.addAction("Save the numbers …", lambda: self._ask("Table (*.csv)", ".csv"))
        return menu

    def _ask(self, kind: str, ending: str) -> None:
        name = self.accessibleName().lower().replace(" ", "-") + ending
        path, _ = QFileDialog.getSaveFileName(self, "Save the chart to", name, kind)
        if path:
            self.save(Path(path if path.endswith(ending) else path + ending))

    def save(self, path: Path) -> None:
        """The chart as a picture (.png) or its numbers as a table (.csv), whole or not at all."""
        try:
            write_whole(path, self._picture() if path.suffix == ".png" else self._table())
        except Refused as refused:
            self.refused.emit(str(refused))

    def _picture(self) -> bytes:
        from PyQt6.QtCore import QBuffer, QIODevice

        made = QBuffer()
        made.open(QIODevice.OpenModeFlag.WriteOnly)
        self.grab().save(made, "PNG")
        return bytes(made.data().data())

    def _table(self) -> bytes:
        out = io.StringIO()
        made = csv.writer(out)
        made.writerow(self.header)
        made.writerows([f"{v:.6g}" if isinstance(v, float) else v for v in row] for row in self.rows())
        return out.getvalue().encode()


def nearest(x: Array, at: float) -> int:
    """The index of the value next to a place."""
    return int(np.argmin(np.abs(np.asarray(x, float) - at)))
