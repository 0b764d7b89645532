"""The header: job and part by name, purpose, undo and redo, printer and material, theme."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPen
from PyQt6.QtWidgets import QHBoxLayout, QPushButton, QWidget

from knollside.core.model import Purpose
from knollside.desk.instruments.widgets import Choice, label
from knollside.desk.state import State
from knollside.desk.theme.look import look


class _Sign(QWidget):
    """Our own sign: a knoll of strata."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedSize(28, 28)

    def paintEvent(self, e) -> None:  # type: ignore[no-untyped-def]
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        for i, (half, token) in enumerate(((3.5, "moss"), (7.0, "moss"), (10.0, "peat"), (13.0, "peat"))):
            p.setPen(QPen(look.colour(token), 3.6, cap=Qt.PenCapStyle.RoundCap))
            y = 6 + i * 5.6
            p.drawLine(QPointF(14 - half + 2, y), QPointF(14 + half - 2, y))


class Header(QWidget):
    """44 px at the top. ``part_chosen`` carries a part's id."""

    part_chosen = pyqtSignal(int)
    open_wanted = pyqtSignal()
    machine_wanted = pyqtSignal()

    def __init__(self, state: State) -> None:
        super().__init__()
        self.state = state
        self.setFixedHeight(44)
        self.setObjectName("paper")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.job = label("", dim=True)
        self.part = Choice("Part")
        self.part.setMinimumContentsLength(16)
        self.part.chose.connect(self._chose)
        self.undo, self.redo = QPushButton("Undo"), QPushButton("Redo")
        for b, do in ((self.undo, state.undo.undo), (self.redo, state.undo.redo)):
            b.setProperty("bare", "true")
            b.clicked.connect(lambda _, do=do: do())
        self.purpose = Choice("Purpose of this print", [(p.value.capitalize(), p) for p in Purpose], 9)
        self.purpose.setToolTip("Fit check, working part or show piece: it sets what is weighed first")
        self.purpose.chose.connect(self._say_purpose)
        self.machine = QPushButton("")
        self.machine.setProperty("bare", "true")
        self.machine.clicked.connect(lambda: self.machine_wanted.emit())
        self.theme = QPushButton("Lamp")
        self.theme.setProperty("bare", "true")
        self.theme.setAccessibleName("Switch between Day and Lamp")
        self.theme.clicked.connect(lambda: look.switch(not look.lamp))
        row = QHBoxLayout(self)
        row.setContentsMargins(14, 4, 12, 4)
        row.setSpacing(10)
        row.addWidget(_Sign())
        title = label("Knollside", 18, 700)
        title.setFixedWidth(150)
        for w in (title, self.job, label("›", dim=True), self.part, self.purpose):
            row.addWidget(w)
        row.addStretch(1)
        for w in (self.undo, self.redo, self.machine, self.theme):
            row.addWidget(w)
        state.undo.indexChanged.connect(lambda _: self.refresh())

    def _chose(self, data: object) -> None:
        if data == -1:
            self.refresh()
            self.open_wanted.emit()
        elif isinstance(data, int):
            self.part_chosen.emit(data)

    def _say_purpose(self, purpose: Purpose) -> None:
        doc = self.state.doc
        if doc is not None:
            self.state.edit("duty", doc.duty.model_copy(update={"purpose": purpose}), f"purpose {purpose.value}")

    def refresh(self) -> None:
        doc = self.state.doc
        self.purpose.setVisible(doc is not None)
        self.job.setText(doc.job if doc else "No job")
        parts = self.state.shop.parts()
        if [self.part.itemData(i) for i in range(self.part.count() - 1)] != [p.id for p in parts]:
            self.part.clear()
            for p in parts:
                self.part.addItem(p.name, p.id)
            self.part.addItem("Open a part …", -1)
        if doc is not None:
            self.part.put(doc.id)
            self.purpose.put(doc.duty.purpose)
            self.machine.setText(f"{self.state.printer.name}, {doc.material}")
            self.machine.setAccessibleName(f"Printer and material: {self.state.printer.name}, {doc.material}")
            self.machine.setToolTip("Printers and spools")
        for b, can, words, name in (
            (self.undo, self.state.undo.canUndo(), self.state.undo.undoText(), "Undo"),
            (self.redo, self.state.undo.canRedo(), self.state.undo.redoText(), "Redo"),
        ):
            b.setEnabled(can)
            short = words if len(words) < 22 else words[:20] + "…"
            b.setText(f"{name}: {short}" if can and name == "Undo" else name)
            b.setToolTip(f"{name}: {words}" if can else f"Nothing to {name.lower()}")
            b.setAccessibleName(f"{name} {words}".strip())
        self.redo.setVisible(self.state.undo.canRedo())
        self.theme.setText("Day" if look.lamp else "Lamp")

    def paintEvent(self, e) -> None:  # type: ignore[no-untyped-def]
        p = QPainter(self)
        p.fillRect(self.rect(), look.colour("paper"))
        p.setPen(QPen(look.colour("rule 2"), 1))
        p.drawLine(QRectF(self.rect()).bottomLeft(), QRectF(self.rect()).bottomRight())
