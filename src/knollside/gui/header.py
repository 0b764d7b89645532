"""The header: job and part by name, purpose, undo and redo, printer and material, theme."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPen
from PyQt6.QtWidgets import QHBoxLayout, QPushButton, QWidget

from knollside.core.model import Purpose
from knollside.gui.instruments.widgets import Dropdown, label
from knollside.gui.session import Seeing, Session
from knollside.gui.theme.look import look


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


class Header(Seeing, QWidget):
    """44 px at the top. ``part_chosen`` carries a part's id."""

    part_chosen = pyqtSignal(int)
    open_wanted = pyqtSignal()
    machine_wanted = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setFixedHeight(44)
        self.setObjectName("paper")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.job = label("", dim=True)
        self.part_choice = Dropdown("Part")
        self.part_choice.setMinimumContentsLength(16)
        self.part_choice.chose.connect(self._chose)
        self.undo, self.redo = QPushButton("Undo"), QPushButton("Redo")
        stack = session.workspace.undo
        for b, do in ((self.undo, stack.undo), (self.redo, stack.redo)):
            b.setProperty("bare", "true")
            b.clicked.connect(lambda _, do=do: do())
        self.purpose = Dropdown("Purpose of this print", [(p.value.capitalize(), p) for p in Purpose], 9)
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
        left: tuple[QWidget, ...] = (title, self.job, label("›", dim=True), self.part_choice, self.purpose)
        for w in left:
            row.addWidget(w)
        row.addStretch(1)
        for b in (self.undo, self.redo, self.machine, self.theme):
            row.addWidget(b)
        stack.indexChanged.connect(lambda _: self._show_undo())

    def _chose(self, data: object) -> None:
        if data == -1:
            self.refresh()
            self.open_wanted.emit()
        elif isinstance(data, int):
            self.part_chosen.emit(data)

    def _say_purpose(self, purpose: Purpose) -> None:
        design_case = self.part.design_case.model_copy(update={"purpose": purpose})
        self.session.put_design_case(design_case, f"purpose {purpose.value}")

    def refresh(self) -> None:
        there = self.session.has_part
        self.purpose.setVisible(there)
        self.job.setText(self.part.job if there else "No job")
        parts = self.workspace.shop.parts.names()
        if [self.part_choice.itemData(i) for i in range(self.part_choice.count() - 1)] != [p.id for p in parts]:
            self.part_choice.clear()
            for p in parts:
                self.part_choice.addItem(p.name, p.id)
            self.part_choice.addItem("Open a part …", -1)
        if there:
            part = self.part
            self.part_choice.put(part.id)
            self.purpose.put(part.design_case.purpose)
            self.machine.setText(f"{part.printer.name}, {part.material}")
            self.machine.setAccessibleName(f"Printer and material: {part.printer.name}, {part.material}")
            self.machine.setToolTip("Printers and spools")
        self._show_undo()
        self.theme.setText("Day" if look.lamp else "Lamp")

    def _show_undo(self) -> None:
        stack = self.workspace.undo
        for b, can, words, name in (
            (self.undo, stack.canUndo(), stack.undoText(), "Undo"),
            (self.redo, stack.canRedo(), stack.redoText(), "Redo"),
        ):
            b.setEnabled(can)
            short = words if len(words) < 22 else words[:20] + "…"
            b.setText(f"{name}: {short}" if can and name == "Undo" else name)
            b.setToolTip(f"{name}: {words}" if can else f"Nothing to {name.lower()}")
            b.setAccessibleName(f"{name} {words}".strip())
        self.redo.setVisible(stack.canRedo())

    def paintEvent(self, e) -> None:  # type: ignore[no-untyped-def]
        p = QPainter(self)
        p.fillRect(self.rect(), look.colour("paper"))
        p.setPen(QPen(look.colour("rule 2"), 1))
        p.drawLine(QRectF(self.rect()).bottomLeft(), QRectF(self.rect()).bottomRight())
