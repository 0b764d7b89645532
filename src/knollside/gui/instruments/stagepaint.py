"""How every drawing that takes the stage begins: its ground, its title, and words where there is nothing to draw."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QPainter
from PyQt6.QtWidgets import QWidget

from knollside.gui.theme.look import font, look


def begun(widget: QWidget, title: str = "") -> QPainter:
    """A painter on the stage's ground, with the title if there is one."""
    p = QPainter(widget)
    p.setRenderHint(QPainter.RenderHint.Antialiasing)
    p.fillRect(widget.rect(), look.colour("chalk"))
    if title:
        p.setPen(look.colour("peat"))
        p.setFont(font(16, 700))
        p.drawText(QPointF(18, 28), title)
    return p


def empty(p: QPainter, widget: QWidget, words: str) -> None:
    """Why there is nothing to draw, in the middle."""
    p.setPen(look.colour("slate"))
    p.setFont(font(14))
    room = widget.rect().adjusted(60, 0, -60, 0)
    p.drawText(room, Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, words)
