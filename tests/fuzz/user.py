"""A person without a plan: random clicks, keys, words and drags at the real window, with nothing allowed to break."""

from __future__ import annotations

import sys
import traceback
from pathlib import Path

import numpy as np
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QAbstractButton, QApplication, QComboBox, QDialog, QFileDialog, QLineEdit, QWidget

from fuzz.mutate import HOSTILE

STEPS = ("Part", "Duty", "Lay", "Build", "Fits", "Proof", "Run", "Bench", "Workshop")
KEYS = (Qt.Key.Key_Return, Qt.Key.Key_Escape, Qt.Key.Key_Tab, Qt.Key.Key_Delete, Qt.Key.Key_Down, Qt.Key.Key_Space)
WORDS = ("", "0", "-1", "3 mm", "1/8 in", "12 lbf", "90 %", "1e9", "abc", "  ", "٣", "5 °C", "300 °C", "0.3 mm")


class User:
    """Acts at a window by a generator; ``faults`` is what broke, and ``done`` what was done, newest last."""

    def __init__(self, window: QWidget, seed: int, files: list[Path], folder: Path) -> None:
        self.window, self.rng, self.files = window, np.random.default_rng(seed), files
        self.faults: list[str] = []
        self.done: list[str] = []
        self._folder = folder
        sys.excepthook = self._caught
        QFileDialog.getOpenFileName = lambda *a, **k: (str(self._any(files)), "")  # type: ignore[method-assign]
        QFileDialog.getSaveFileName = lambda *a, **k: (str(folder / "out"), "")  # type: ignore[method-assign]
        QFileDialog.getExistingDirectory = lambda *a, **k: str(folder)  # type: ignore[method-assign]
        window.session.worker.stumbled.connect(lambda words, details: self.faults.append(details))  # type: ignore[attr-defined]

    def _caught(self, kind, value, trace) -> None:  # type: ignore[no-untyped-def]
        self.faults.append("".join(traceback.format_exception(kind, value, trace)))

    def _any(self, things):  # type: ignore[no-untyped-def]
        return things[int(self.rng.integers(len(things)))]

    def act(self) -> None:
        """One thing a person might do, then what follows from it for a moment."""
        acts = (self._click, self._click, self._click, self._type, self._choose, self._key, self._step, self._drag)
        self._any((*acts, self._open, self._undo))()
        for _ in range(int(self.rng.integers(1, 6))):
            QTest.qWait(int(self.rng.integers(1, 40)))
        for w in QApplication.topLevelWidgets():
            if isinstance(w, QDialog) and w.isVisible():
                w.reject()

    def _seen(self, kind):  # type: ignore[no-untyped-def]
        return [w for w in self.window.findChildren(kind) if w.isVisible() and w.isEnabled()]

    def _click(self) -> None:
        buttons = self._seen(QAbstractButton)
        if buttons:
            b = self._any(buttons)
            self.done.append(f"click {b.accessibleName() or b.text()}")
            QTest.mouseClick(b, Qt.MouseButton.LeftButton)

    def _type(self) -> None:
        lines = self._seen(QLineEdit)
        if lines:
            line = self._any(lines)
            words = self._any(WORDS) if self.rng.random() < 0.7 else self._any(HOSTILE).decode("utf-8", "replace")[:60]
            self.done.append(f"type {words!r} at {line.accessibleName()}")
            line.setFocus()
            line.selectAll()
            line.insert(words)
            QTest.keyClick(line, Qt.Key.Key_Return)

    def _choose(self) -> None:
        boxes = [b for b in self._seen(QComboBox) if b.count()]
        if boxes:
            box = self._any(boxes)
            i = int(self.rng.integers(box.count()))
            self.done.append(f"choose {box.itemText(i)} at {box.accessibleName()}")
            box.setCurrentIndex(i)
            box.activated.emit(i)

    def _key(self) -> None:
        key = self._any(KEYS)
        self.done.append(f"key {key.name}")
        QTest.keyClick(QApplication.focusWidget() or self.window, key)

    def _step(self) -> None:
        name = self._any(STEPS)
        self.done.append(f"step {name}")
        self.window.take(name)  # type: ignore[attr-defined]

    def _drag(self) -> None:
        w = self._any([w for w in self._seen(QWidget) if w.width() > 30 and w.height() > 30])
        a, b = (QPoint(int(self.rng.integers(w.width())), int(self.rng.integers(w.height()))) for _ in range(2))
        self.done.append(f"drag on {type(w).__name__}")
        QTest.mousePress(w, Qt.MouseButton.LeftButton, pos=a)
        QTest.mouseMove(w, b)
        QTest.mouseRelease(w, Qt.MouseButton.LeftButton, pos=b)

    def _open(self) -> None:
        path = self._any(self.files)
        self.done.append(f"open {path.name}")
        self.window.part_step.open_file(str(path))  # type: ignore[attr-defined]

    def _undo(self) -> None:
        self.done.append("undo")
        workspace = self.window.session.workspace  # type: ignore[attr-defined]
        (workspace.take_back if self.rng.random() < 0.6 else workspace.make_again)()
