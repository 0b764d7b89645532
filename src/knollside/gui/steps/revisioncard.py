"""Part's card of its revisions: which one is open, why it was made, what became of each feature, and older ones."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtWidgets import QLineEdit, QVBoxLayout, QWidget

from knollside.core.job.revising import changes
from knollside.core.mesh.revised import Became
from knollside.gui.instruments.widgets import Dropdown, button, label, row
from knollside.gui.session import Seeing, Session

_SHOWN = 4


class RevisionCard(Seeing, QWidget):
    def __init__(self, session: Session, ask_newer: Callable[[], None]) -> None:
        super().__init__()
        self.session = session
        self.older = Dropdown("Older revisions", letters=12)
        self.older.setToolTip("Bring an older revision back; the present one stays among them")
        self.older.chose.connect(self._back)
        self.why = QLineEdit()
        self.why.setAccessibleName("Why it was changed")
        self.why.setPlaceholderText("why it was changed")
        self.why.setMaxLength(400)
        self.why.editingFinished.connect(self._told)
        self.became = label("", dim=True, wrap=True)
        self.newer = button(
            "A newer file …", ask_newer, tip="Another mesh of this same part: what was said of it stays"
        )
        lay = QVBoxLayout(self)
        lay.setContentsMargins(0, 0, 0, 0)
        lay.setSpacing(4)
        lay.addWidget(row(self.newer, self.older, stretch=1))
        lay.addWidget(self.why)
        lay.addWidget(self.became)
        self._of: object = None

    def _told(self) -> None:
        if self.why.isModified() and self.session.has_part:
            self.why.setModified(False)
            self.workspace.put_revision_note(self.why.text().strip())

    def _back(self, number: object) -> None:
        self.workspace.restore_revision(int(str(number)))

    def refresh(self) -> None:
        self.setVisible(self.session.has_part)
        if not self.session.has_part:
            return
        doc = self.part.doc
        of = doc.id, doc.newest, doc.before
        if of == self._of:
            return
        self._of = of
        first = doc.before is None
        told = self.workspace.shop.parts.revisions(doc.id)
        self.older.clear()
        for r in reversed(told):
            note = r.note if len(r.note) <= 24 else f"{r.note[:23]}…"
            self.older.addItem(f"revision {r.number}, {note}", r.number)
        self.why.setText(doc.revision_note)
        self.why.setCursorPosition(0)
        self.why.setVisible(not first)
        found = changes(doc.before.names, doc.newest.names) if doc.before is not None else ()
        self.became.setText(_words(found))
        self.became.setToolTip("\n".join(_one(b) for b in found[:40]))
        self.became.setVisible(bool(found))


def _one(b: Became) -> str:
    name = b.feature.replace("-", " ")
    return {
        "gone": f"{name} is gone ({b.words})",
        "new": f"{name} is new, {b.words}",
        "size": f"{name} {b.words}",
        "moved": f"{name} moved {b.words}",
    }[b.kind]


def _words(found: tuple[Became, ...]) -> str:
    """What was changed, the gravest first; the rest in the tip."""
    if not found:
        return ""
    shown = [_one(b) for b in found[:_SHOWN]]
    more = f"; {len(found) - _SHOWN} more" if len(found) > _SHOWN else ""
    return f"Since the one before: {'; '.join(shown)}{more}."
