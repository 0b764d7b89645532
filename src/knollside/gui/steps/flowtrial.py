"""The flow of a case in hand: by a single wall that was measured, and by the flow from which a top closes."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtWidgets import QLineEdit, QWidget

from knollside.core.learning.flow import flow_of_top, flow_of_wall, wall_answer
from knollside.core.model import Refused, bounds_of, most_kept
from knollside.core.model.faults import FaultCase, TopTried
from knollside.gui.instruments.widgets import NumberField, button, label, row

_NEXT = 0.03  # from one top to the next


class FlowTrial(QObject):
    """``measured``: readings in mm, and the answer they are to the test with a single wall; ``tried``: tops so far;
    ``said``: what could not be read; ``wanted``: a test piece is to be made at Proof."""

    measured = pyqtSignal(tuple, str)
    tried = pyqtSignal(tuple)
    said = pyqtSignal(str)
    wanted = pyqtSignal(str)

    def wall(self, case: FaultCase, line: float) -> tuple[QWidget, ...]:
        """Fields for the wall's readings, and what the last ones say."""
        typed = QLineEdit()
        typed.setAccessibleName("Readings of the single wall")
        typed.setPlaceholderText("eight readings in mm: 0.46 0.47 0.45 …")
        typed.setMaxLength(400)

        def take() -> None:
            self._read(typed.text(), line)

        typed.returnPressed.connect(take)
        print_it = button("Print it: at Proof", partial(self.wanted.emit, "wall"), plain=True)
        return typed, row(button("Take them", take), print_it, spacing=4, stretch=-2), *_told(wall_words(case, line))

    def _read(self, text: str, line: float) -> None:
        try:
            readings = tuple(float(w.replace(",", ".")) for w in text.replace(";", " ").split())
            answer = wall_answer(line, readings)
        except ValueError:
            self.said.emit("Readings are numbers in mm with spaces between, as 0.46 0.47 0.45.")
        except Refused as refusal:
            self.said.emit(str(refusal))
        else:
            self.measured.emit(readings, answer)

    def tops(self, case: FaultCase) -> tuple[QWidget, ...]:
        """Flows tried on tops, each closed or with gaps left."""
        at = _next(case)
        flow = NumberField("Flow of a top", "share", "%", 0.01, *bounds_of(TopTried, "flow"), 0, 70)
        flow.put(at)

        def tried(closed: bool) -> None:
            tried_so = TopTried(flow=round(flow.value, 3), closed=closed)
            self.tried.emit((*case.tops, tried_so)[-most_kept(FaultCase, "tops") :])

        acts = [button(w, partial(tried, c)) for w, c in (("it closed", True), ("gaps left", False))]
        print_it = button("Print pads: at Proof", partial(self.wanted.emit, "pads"), plain=True)
        out: list[QWidget] = [row(label("a top at", dim=True), flow, *acts, spacing=4, stretch=-2)]
        if case.tops:
            told = ", ".join(f"{100 * t.flow:.0f} % {'closed' if t.closed else 'gaps'}" for t in case.tops)
            none = button("The last one was none", lambda: self.tried.emit(case.tops[:-1]), plain=True)
            out += [label(f"Tops: {told}.", dim=True, wrap=True), row(none, stretch=-2), *_told(top_words(case))]
        return *out, row(print_it, stretch=-2)


def _next(case: FaultCase) -> float:
    """The flow to try next: a step on from the ends, half-way between them."""
    closed, left = [t.flow for t in case.tops if t.closed], [t.flow for t in case.tops if not t.closed]
    if closed and left:
        return round((min(closed) + max(left)) / 2, 3)
    return max(left) + _NEXT if left else min(closed) - _NEXT if closed else 1.0


def wall_words(case: FaultCase, line: float) -> str:
    """The flow that the wall's readings ask for; nothing without any."""
    if not case.walls_mm:
        return ""
    try:
        flow = flow_of_wall(line, case.walls_mm)
    except Refused as refusal:
        return str(refusal)
    return f"By the wall, flow {flow.value:.3f} times what it is ({flow.low:.3f} to {flow.high:.3f}, yours)."


def top_words(case: FaultCase) -> str:
    """The flow from which tops close; nothing without any."""
    if not case.tops:
        return ""
    try:
        flow = flow_of_top([(t.flow, t.closed) for t in case.tops])
    except Refused as refusal:
        return str(refusal)
    return f"Tops close from {100 * flow.low:.0f} to {100 * flow.high:.0f} % on; set {100 * flow.high:.0f} %."


def _told(words: str) -> tuple[QWidget, ...]:
    return (label(words, 13, 600, wrap=True),) if words else ()
