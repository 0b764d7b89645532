"""The header: job and part by name, purpose, undo and redo, printer and material, theme."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPen
from PyQt6.QtWidgets import QHBoxLayout, QMenu, QPushButton, QWidget

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
        workspace = session.workspace
        for b, do, redo in ((self.undo, workspace.take_back, False), (self.redo, workspace.make_again, True)):
            b.setProperty("bare", "true")
            b.clicked.connect(lambda _, do=do: do())
            b.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
            b.customContextMenuRequested.connect(lambda at, b=b, redo=redo: self.choose_line(b, redo))
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
        workspace.history.changed.connect(self._show_undo)

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
        parts = self.workspace.shelf.parts
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
        history = self.workspace.history
        for b, redo, words, name in (
            (self.undo, False, history.undo_text, "Undo"),
            (self.redo, True, history.redo_text, "Redo"),
        ):
            whose = " in the workshop" if history.of_shop(redo) else ""
            b.setEnabled(bool(words))
            room = 22 if not whose else 18
            short = words if len(words) < room else words[: room - 2] + "…"
            b.setText(f"{name}{whose}: {short}" if words and not redo else name)
            more = "\nRight click: of this part or of the workshop" if len(history.ends(redo)) > 1 else ""
            b.setToolTip(f"{name}{whose}: {words}{more}" if words else f"Nothing to {name.lower()}")
            b.setAccessibleName(f"{name}{whose} {words}".strip())
        self.redo.setVisible(history.can_redo)

    def choose_line(self, button: QPushButton, redo: bool) -> None:
        """A menu of what this part and what the workshop would take back next (or make again)."""
        menu = QMenu(button)
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        do = self.workspace.make_again if redo else self.workspace.take_back
        for line, whose, words in self.workspace.history.ends(redo):
            act = menu.addAction(f"{whose[:1].upper()}{whose[1:]}: {words}".replace("&", "&&"))
            assert act is not None
            act.triggered.connect(lambda _, line=line: do(line))
        if menu.actions():
            menu.popup(button.mapToGlobal(button.rect().bottomLeft()))

    def paintEvent(self, e) -> None:  # type: ignore[no-untyped-def]
        p = QPainter(self)
        p.fillRect(self.rect(), look.colour("paper"))
        p.setPen(QPen(look.colour("rule 2"), 1))
        p.drawLine(QRectF(self.rect()).bottomLeft(), QRectF(self.rect()).bottomRight())
