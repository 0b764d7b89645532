"""What was done, in lines: one for each part, one for the whole workshop. Each act holds the records it changed, from
what to what, and is taken back only while they still are what it left.

What was done last, of the part in front or of the workshop, is taken back first. The store is asked before a line
moves: what it refuses leaves the line as it is, and can be tried again.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from itertools import count

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtGui import QUndoCommand, QUndoStack

from knollside.core.model import Refused
from knollside.store.acts import Moved
from knollside.store.changes import Change
from knollside.store.running import Log
from knollside.store.tables import DocumentRow, PartRow, RevisionRow, RunningRow

SHOP = 0  # the workshop's own line
_MOST_ACTS = 200


class _Act(QUndoCommand):
    """A named act with what it changed. The store has it done before the line moves, so moving does nothing."""

    def __init__(self, text: str, changes: tuple[Change, ...], at: int) -> None:
        super().__init__(text)
        self.changes, self.at = changes, at  # at: when it was last done or taken back, counted
        self.done = True


def line_of(changes: Iterable[Change]) -> int:
    """The part that all changes belong to; the workshop (0) where they belong to it or to several parts."""
    owners = set()
    for c in changes:
        row = c.after if c.before is None else c.before
        if c.of(PartRow) and c.before is not None and c.after is not None:
            owners.add(int(c.key[0]))
        elif c.of(DocumentRow) or (c.of(RunningRow) and c.key[0] == Log.FIT_CHECKS):
            owners.add(int(c.key[0] if c.of(DocumentRow) else c.key[1]))
        elif c.of(RevisionRow):
            owners.add(int((row or {}).get("part_id", SHOP)))
        else:
            owners.add(SHOP)
    return owners.pop() if len(owners) == 1 else SHOP


class History(QObject):
    """``changed`` fires when something else can be taken back or made again."""

    changed = pyqtSignal()

    def __init__(self, make: Callable[[tuple[Change, ...]], tuple[Change, ...]], title: Callable[[int], str]) -> None:
        super().__init__()
        self._make, self._title = make, title
        self._lines: dict[int, QUndoStack] = {}
        self._count = count(1)
        self._part = SHOP

    def show(self, part: int) -> None:
        """The part in front; 0 for none."""
        self._part = part
        self.changed.emit()

    def clear(self) -> None:
        """Nothing that was done can be taken back any more: the workshop is another."""
        self._lines.clear()
        self.changed.emit()

    def add(self, text: str, changes: tuple[Change, ...]) -> None:
        """An act that was done; nothing where it changed nothing."""
        if changes:
            self._line(line_of(changes)).push(_Act(text, changes, next(self._count)))
            self.changed.emit()

    def _line(self, number: int) -> QUndoStack:
        if number not in self._lines:
            self._lines[number] = QUndoStack(self)
            self._lines[number].setUndoLimit(_MOST_ACTS)
        return self._lines[number]

    def _ends(self, redo: bool) -> list[tuple[int, _Act]]:
        """Of each line in front, the act that would be taken back (or made again) next."""
        out = []
        for number in {self._part, SHOP}:
            stack = self._lines.get(number)
            act = None if stack is None else stack.command(stack.index() - (0 if redo else 1))
            if isinstance(act, _Act):
                out.append((number, act))
        return out

    def _next(self, redo: bool) -> tuple[int, _Act] | None:
        return max(self._ends(redo), key=lambda e: e[1].at, default=None)

    # What a person sees and does

    @property
    def can_undo(self) -> bool:
        return self._next(False) is not None

    @property
    def can_redo(self) -> bool:
        return self._next(True) is not None

    @property
    def undo_text(self) -> str:
        """The act that would be taken back now; nothing for none."""
        return self._text(False)

    @property
    def redo_text(self) -> str:
        return self._text(True)

    def _text(self, redo: bool) -> str:
        found = self._next(redo)
        return "" if found is None else found[1].text()

    def of_shop(self, redo: bool = False) -> bool:
        """Whether what comes next belongs to the whole workshop, not to the part in front alone."""
        found = self._next(redo)
        return found is not None and found[0] == SHOP

    def ends(self, redo: bool = False) -> list[tuple[int, str, str]]:
        """What each line in front would take back next (or make again): its line, whose that is, the act."""
        order = sorted(self._ends(redo), key=lambda e: -e[1].at)
        return [(n, self._whose(n), act.text()) for n, act in order]

    def count(self, line: int | None = None) -> int:
        """How many acts of a line are in force; of the part in front and the workshop together where none is named."""
        lines = {self._part, SHOP} if line is None else {line}
        return sum(self._lines[n].index() for n in lines if n in self._lines)

    def undo(self, line: int | None = None) -> None:
        """Take back what was done last, of one line if named. Raises :class:`Refused` and leaves all as it was where
        that cannot be."""
        self._step(False, line)

    def redo(self, line: int | None = None) -> None:
        """Make again what was taken back last, likewise."""
        self._step(True, line)

    def _step(self, redo: bool, line: int | None) -> None:
        ends = [e for e in self._ends(redo) if line is None or e[0] == line]
        if not ends:
            return
        number, act = max(ends, key=lambda e: e[1].at)
        wanted = act.changes if redo else tuple(c.reversed for c in act.changes)
        try:
            made = self._make(wanted)
        except Moved as moved:
            raise Refused(self._why(act, moved, redo)) from None
        except Refused as refusal:
            done = "was not made again" if redo else "was not taken back"
            raise Refused(f"“{act.text()}” {done}. {refusal}") from None
        act.changes = made if redo else tuple(c.reversed for c in made)
        act.at, act.done = next(self._count), redo
        stack = self._lines[number]
        (stack.redo if redo else stack.undo)()
        self.changed.emit()

    def _why(self, act: _Act, moved: Moved, redo: bool) -> str:
        """Who changed it since."""
        done = "was not made again" if redo else "was not taken back"
        found = [
            (other.at, self._whose(number), other)
            for number, stack in self._lines.items()
            for k in range(stack.count())
            if isinstance(other := stack.command(k), _Act) and other is not act
            if any(c.touches(moved.change) for c in other.changes)
        ]
        if not found:
            return f"“{act.text()}” {done}. {moved}"
        _, whose, last = max(found, key=lambda f: f[0])
        mine = any((c.table, c.key) == (moved.change.table, moved.change.key) for c in act.changes)
        how = "was taken back, and it rests on that" if not last.done else "changed it since" if mine else "rests on it"
        first = "Take that back first." if last.done else "Make that again first."
        return f"“{act.text()}” {done}: “{last.text()}” ({whose}) {how}. {first}"

    def _whose(self, line: int) -> str:
        return "workshop" if line == SHOP else self._title(line)
