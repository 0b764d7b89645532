"""The verdict line: a number, what to do, why, how sure, and the buttons that do it."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QHBoxLayout, QProgressBar, QVBoxLayout, QWidget

from knollside.gui.instruments.widgets import button, label, tell
from knollside.gui.stepbase import Act, Verdict
from knollside.gui.theme.look import font, look


class VerdictLine(QWidget):
    """Fixed at 112 px. While work runs, its progress and a cancel take the buttons' place."""

    def __init__(self, cancel) -> None:  # type: ignore[no-untyped-def]
        super().__init__()
        self.setObjectName("paper")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(112)
        self.number = label("", 34, 700)
        self.unit = label("", 16, 600)
        self.under = [label("", dim=True), label("", 13, 700)]
        self.title = label("", 16, 700)
        self._title = ""
        self.body = label("", 14, wrap=True)
        self.source = label("", dim=True)
        for w in (self.title, self.source):
            w.setMinimumWidth(10)
        # Two buttons that stay: rebuilding them would take the keyboard's place away.
        self._acts: tuple[Act, ...] = ()
        self.acts = [button("", partial(self._act, i), main=i == 0) for i in (0, 1)]
        self.choices, self.busy, self.right = QWidget(), QWidget(), QWidget()
        self.bar = QProgressBar()
        self.bar.setTextVisible(False)
        self.doing = label("", dim=True, wrap=True)
        self.stop = button("Cancel", cancel)
        row = QHBoxLayout(self)
        row.setContentsMargins(18, 10, 16, 8)
        row.setSpacing(12)
        row.addWidget(self._left())
        row.addLayout(self._middle(), 1)
        self._fill_right()
        row.addWidget(self.right)
        self.setAccessibleName("Verdict")

    def _left(self) -> QWidget:
        """The number with its unit, and what stands under it."""
        left = QVBoxLayout()
        left.setSpacing(0)
        top = QHBoxLayout()
        top.setSpacing(4)
        top.addWidget(self.number, 0, Qt.AlignmentFlag.AlignBaseline)
        top.addWidget(self.unit, 0, Qt.AlignmentFlag.AlignBaseline)
        top.addStretch(1)
        left.addLayout(top)
        for w in self.under:
            left.addWidget(w)
        left.addStretch(1)
        box = QWidget()
        box.setLayout(left)
        box.setFixedWidth(134)
        return box

    def _middle(self) -> QVBoxLayout:
        middle = QVBoxLayout()
        middle.setSpacing(1)
        middle.addWidget(self.title)
        middle.addWidget(self.body)
        middle.addStretch(1)
        middle.addWidget(self.source)
        return middle

    def _fill_right(self) -> None:
        """The buttons, and in their place what runs, how far it is, and a cancel."""
        buttons = QVBoxLayout(self.choices)
        buttons.setSpacing(8)
        buttons.setContentsMargins(0, 0, 0, 0)
        for b in self.acts:
            b.setMinimumHeight(36)
            buttons.addWidget(b)
        doing = QVBoxLayout(self.busy)
        doing.setContentsMargins(0, 0, 0, 0)
        doing.addWidget(self.doing)
        doing.addWidget(self.bar)
        doing.addWidget(self.stop)
        self.right.setFixedWidth(168)
        stack = QVBoxLayout(self.right)
        stack.setContentsMargins(0, 0, 0, 0)
        stack.addWidget(self.choices)
        stack.addWidget(self.busy)
        stack.addStretch(1)
        self.busy.hide()

    def put(self, v: Verdict) -> None:
        colour = look.colour(v.tone).name()
        self.number.setText(v.number)
        large = font(34 if len(v.number) < 5 else 24, 700)
        large.setStrikeOut(v.old)
        self.number.setFont(large)
        self.number.setStyleSheet(f"color: {colour};")
        self.unit.setText(v.unit)
        self.unit.setStyleSheet(f"color: {colour};")
        for w, text in zip(self.under, (*v.under, "", "")):
            w.setText(text)
        self._title = v.title
        self._fit_title()
        tell(self.body, v.body)
        self.body.setToolTip(v.body)
        self.source.setText(v.source)
        self.setAccessibleDescription(f"{'old: ' if v.old else ''}{v.number} {v.unit}. {v.title} {v.body} {v.source}")
        self._acts = v.acts[:2]
        for i, b in enumerate(self.acts):
            b.setVisible(i < len(self._acts))
            if i < len(self._acts):
                b.setText(self._acts[i].words)
                b.setAccessibleName(self._acts[i].words)
                b.setEnabled(self._acts[i].enabled)

    def _fit_title(self) -> None:
        """A long title is set smaller, and only then cut; its whole is in the tip."""
        room = max(self.width() - 134 - 168 - 18 - 16 - 24, 80)
        for size in (16, 15, 14, 13):
            self.title.setFont(font(size, 700))
            if self.title.fontMetrics().horizontalAdvance(self._title) <= room:
                break
        self.title.setText(self.title.fontMetrics().elidedText(self._title, Qt.TextElideMode.ElideRight, room))
        self.title.setToolTip(self._title)

    def resizeEvent(self, e) -> None:  # type: ignore[no-untyped-def]
        self._fit_title()

    def _act(self, i: int) -> None:
        if i < len(self._acts):
            self._acts[i].do()

    def show_progress(self, words: str, share: float) -> None:
        self.busy.setVisible(bool(words))
        self.choices.setVisible(not words)
        self.doing.setText(words)
        self.bar.setValue(int(100 * share))
