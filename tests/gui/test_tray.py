"""Proof's tray, clicked through: every piece is made with its fields, and no size it cannot have is taken."""

from __future__ import annotations

from conftest import Desk, seen, type_in
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QRadioButton


def choose(desk: Desk, title: str) -> None:
    proof = desk.window.steps["Proof"]
    radio = next(r for r in desk.window.findChildren(QRadioButton) if r.text() == title and r.isVisible())
    QTest.mouseClick(radio, Qt.MouseButton.LeftButton, pos=QPoint(10, radio.height() // 2))
    desk.settle(lambda: proof.pieces.piece is not None and proof.pieces.piece.piece.title == title, 60)


def test_every_piece_of_the_tray_is_made(desk: Desk) -> None:
    desk.settle(lambda: desk.facts is not None)
    desk.window.take("Proof")
    desk.settle()
    proof = desk.window.steps["Proof"]
    titles = [w.title for w in proof.pieces.wishes]
    assert {"Frame square", "Pull bars, standing", "Pull bars, lying"} <= set(titles)
    for title in titles:
        choose(desk, title)
        assert proof.pieces.piece.piece.about.split(".")[0] in seen(desk)
    choose(desk, "Pull bars, standing")
    type_in(desk, "Bars", "6")
    desk.settle(lambda: proof.pieces.piece is not None and proof.pieces.piece.piece.mesh.size[0] > 90, 60)
    type_in(desk, "Bars", "20")
    desk.settle()
    assert dict(proof.pieces.wishes[titles.index("Pull bars, standing")].values)["bars"] <= 8
    choose(desk, "Frame square")
    type_in(desk, "Side", "60")
    desk.settle(lambda: proof.pieces.piece is not None and proof.pieces.piece.piece.mesh.size[0] < 61, 60)
