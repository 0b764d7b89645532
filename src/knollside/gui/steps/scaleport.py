"""A scale at a port: a field for its name, and its lines until they have settled."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QLineEdit, QVBoxLayout, QWidget

from knollside.core.model import Refused
from knollside.core.run.scale import AGREE, grams_in, settled
from knollside.gui.instruments.widgets import button, label, row, tell
from knollside.gui.ports import SerialDevice
from knollside.sim.serialport import SimulatedPort


class ScalePort(QWidget):
    """``weighed`` carries grams that have settled, ``said`` a sentence where they do not."""

    weighed = pyqtSignal(float)
    said = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.device = SerialDevice("scale")
        self.device.sent.connect(self._sent)
        self.device.lost.connect(self._lost)
        self.simulated: SimulatedPort | None = None
        self._lines: list[float] = []
        self.path = QLineEdit()
        self.path.setAccessibleName("The scale's port")
        self.path.setPlaceholderText("/dev/ttyUSB0")
        self.state = label("Not listening.", dim=True)
        self.body = QWidget()
        inner, lay = QVBoxLayout(self.body), QVBoxLayout(self)
        for box in (inner, lay):
            box.setContentsMargins(0, 0, 0, 0)
            box.setSpacing(4)
        plug = button("Plug in the simulated one", self._plug)
        inner.addWidget(row(self.path, button("Listen", self._listen), spacing=4, stretch=0))
        inner.addWidget(row(plug, stretch=-2))
        inner.addWidget(self.state)
        lay.addWidget(row(button("a scale at a port …", self._fold, plain=True), stretch=-2))
        lay.addWidget(self.body)
        self.body.hide()

    @property
    def simulates(self) -> bool:
        """Whether the simulated scale is what is listened to."""
        return self.simulated is not None and self.device.listening and self.device.path == self.simulated.path

    def send(self, read) -> None:  # type: ignore[no-untyped-def]
        """Have the simulated scale send what ``read`` gives, until it may have settled."""
        if self.simulated is not None:
            for _ in range(AGREE):
                self.simulated.send(read(), "g")

    def _fold(self) -> None:
        self.body.setVisible(not self.body.isVisible())

    def _listen(self) -> None:
        self._lines.clear()
        try:
            self.device.open(self.path.text().strip())
            tell(self.state, f"Listening at {self.device.path}: set the spool on it.", "good")
        except Refused as refusal:
            tell(self.state, str(refusal), "bad")

    def _plug(self) -> None:
        if self.simulated is not None:
            self.simulated.unplug()
        self.simulated = SimulatedPort()
        self.path.setText(self.simulated.path)
        self._listen()

    def _sent(self, text: str) -> None:
        try:
            self._lines.append(grams_in(text))
            grams = settled(self._lines)
        except Refused as refusal:
            self._lines.clear()
            self.said.emit(str(refusal))
            return
        if grams is not None:
            self._lines.clear()
            self.weighed.emit(round(grams, 1))

    def _lost(self, words: str) -> None:
        self._lines.clear()
        tell(self.state, words, "bad")
        self.said.emit(words)
