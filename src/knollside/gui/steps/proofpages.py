"""Pages of Proof: the tray of test pieces, and the piece of the part round chosen features."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PyQt6.QtWidgets import QCheckBox, QRadioButton, QWidget

from knollside.core.job.questions.proof import Cropped, Piece
from knollside.core.model import Feature
from knollside.core.proof.fromjob import Wish
from knollside.gui.instruments.widgets import NumberField, button, heading, label, named, row, rule
from knollside.gui.steps.page import Page, Same, line

# Field name, kind, unit, step, least, most, decimals of a piece's own sizes.
_FIELDS: dict[str, tuple[str, str, float, float, float, int]] = {
    "middle gap": ("length", "mm", 0.05, 0.05, 2, 2),
    "layer": ("length", "mm", 0.04, 0.04, 1.2, 2),
    "width": ("length", "mm", 5, 8, 100, 0),
    "side": ("length", "mm", 10, 40, 400, 0),
    "line": ("length", "mm", 0.05, 0.2, 2, 2),
    "wide": ("length", "mm", 1, 6, 40, 0),
    "deep": ("length", "mm", 1, 6, 40, 0),
    "bars": ("share", "", 1, 1, 8, 0),
    "pads": ("share", "", 1, 2, 8, 0),
    "lot": ("share", "", 1, 0, 1000, 0),
    "across": ("length", "mm", 1, 3, 60, 1),
    "a turn": ("length", "mm", 0.25, 0.4, 6, 2),
    "length": ("length", "mm", 2, 4, 120, 1),
    "thick": ("length", "mm", 0.2, 0.8, 10, 1),
    "strain": ("share", "%", 0.005, 0.002, 0.3, 1),
}


class TrayPage(Page):
    """One row a piece; the chosen one shows what it is for, its sizes, its places and what it cannot tell."""

    def __init__(self, choose: Callable[[str], None], resize: Callable[[str, float], None]) -> None:
        super().__init__()
        self._choose, self._resize = choose, resize

    def put(self, wishes: tuple[Wish, ...], chosen: str, piece: Piece | None, refused: str) -> None:
        if not self.fresh((wishes, chosen, Same(piece), refused)):
            return
        for w in wishes:
            pick = QRadioButton(w.title)
            pick.setChecked(w.name == chosen)
            pick.clicked.connect(partial(self._choose, w.name))
            side = label(w.for_job, dim=True, wrap=True)
            side.setMinimumWidth(150)
            self.add(row(pick, side, stretch=1))
            if w.name == chosen:
                self._details(w, piece, refused)

    def _details(self, w: Wish, piece: Piece | None, refused: str) -> None:
        fields: list[QWidget] = []
        for name, value in w.values:
            kind, unit, step, low, high, decimals = _FIELDS[name]
            field = NumberField(name.capitalize(), kind, unit, step, low, high, decimals, 86)
            field.plain = not unit
            field.put(value)
            field.entered.connect(partial(self._resize, name))
            fields.append(named(name, field))
        if fields:
            self.add(row(*fields, stretch=-2))
        if piece is None or refused:
            self.add(label(refused or "Making it …", 13, 600 if refused else 400, wrap=True), rule())
            return
        p = piece.piece
        self.add(label(p.about, 13, wrap=True))
        if p.spots:
            kinds: dict[str, list[str]] = {}
            for s in p.spots:
                name = s.name.split(",")[-1].strip() if s.axis != "upright" else s.kind
                kinds.setdefault(name, []).append(f"{s.drawn:g}")
            told = "; ".join(f"{k}: {', '.join(v)}" for k, v in kinds.items())
            self.add(label(f"Places, drawn, mm: {told}.", 13, wrap=True))
        for direction in dict.fromkeys(r.direction for r in p.gap_steps):
            gaps = ", ".join(f"{r.drawn:.2f}" for r in p.gap_steps if r.direction == direction)
            self.add(label(f"{direction.capitalize()}: {gaps} mm.", 13, wrap=True))
        self.add(label(p.cannot, dim=True, wrap=True), rule())


class SectionPage(QWidget):
    """Features to cut a piece round, how much of the part about them, and what it saves."""

    def __init__(self, crop: Callable[[], None], toggle: Callable[[str], None]) -> None:
        super().__init__()
        self.margin = NumberField("Part left about them", "length", "mm", 1, 1, 60, 1, 84)
        self.margin.put(4.0)
        self.list = _FeatureList(toggle)
        self.told = _Saved()
        self.go = button("Cut it out", crop, main=True, tip="The part itself stays as it is")
        from PyQt6.QtWidgets import QVBoxLayout

        lay = QVBoxLayout(self)
        lay.setContentsMargins(16, 6, 14, 8)
        lay.addWidget(heading("Print the tricky bit first"))
        why = "A closed piece round the features below, lying as the part will: its fit and look are the part's."
        lay.addWidget(label(why, dim=True, wrap=True))
        lay.addWidget(self.list)
        lay.addWidget(row(named("part left about them", self.margin), self.go, stretch=-2))
        lay.addWidget(self.told)
        lay.addStretch(1)

    def put(self, features: tuple[Feature, ...], chosen: tuple[str, ...], made: Cropped | None, refused: str) -> None:
        self.list.put(features, chosen)
        self.go.setEnabled(bool(chosen))
        self.told.put(made, refused)


class _FeatureList(Page):
    def __init__(self, toggle: Callable[[str], None]) -> None:
        super().__init__()
        self._toggle = toggle
        self.margins(0, 0)

    def put(self, features: tuple[Feature, ...], chosen: tuple[str, ...]) -> None:
        offered = [f for f in features if f.kind not in ("flat", "fillet", "patch")][:14]
        if not self.fresh((tuple(f.id for f in offered), chosen)):
            return
        for f in offered:
            box = QCheckBox(f.title)
            box.setChecked(f.id in chosen)
            box.clicked.connect(partial(self._toggle, f.id))
            self.add(row(box, label(f.size_text, dim=True), stretch=0))
        if not offered:
            self.add(label("Nothing but flats on this part; print it whole.", dim=True, wrap=True))


class _Saved(Page):
    def __init__(self) -> None:
        super().__init__()
        self.margins(0, 0)

    def put(self, made: Cropped | None, refused: str) -> None:
        if not self.fresh((Same(made), refused)):
            return
        if refused:
            self.add(label(refused, 13, 600, wrap=True))
        if made is None:
            return
        bodies = "one body" if made.section.bodies == 1 else f"{made.section.bodies} bodies"
        self.add(
            rule(),
            line("This piece", f"{made.grams:.0f} g", f"about {made.hours:.1f} h, {bodies}, closed", False),
            line("The whole part", f"{made.grams_whole:.0f} g", f"about {made.hours_whole:.1f} h", False),
            label("Cannot tell: strength, warping, how the whole comes off the bed.", dim=True, wrap=True),
        )
