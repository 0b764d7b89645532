"""Material cards of the Workshop: typical values with their ranges, each replaceable by the person's own."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QGridLayout, QLineEdit, QVBoxLayout, QWidget

from knollside.core.job.stated import learned_cards
from knollside.core.material.cards import MATERIALS, Material, material
from knollside.core.material.own import FIELDS, FieldName, OwnValue, shown_value
from knollside.gui.instruments.charts import BondChart
from knollside.gui.instruments.widgets import Chip, Dropdown, NumberField, button, heading, label
from knollside.gui.session import Seeing, Session

_DOUBT = 0.1  # of a value typed without a range


class CardForm(Seeing, QWidget):
    """One material at a time: value, low, high, and whether it is typical or yours."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.pick = Dropdown("Material to describe", [(m, m) for m in MATERIALS], 14)
        self.pick.chose.connect(lambda _: self.refresh())
        self._of: object = None
        self.values: dict[FieldName, list[NumberField]] = {}
        self.chips: dict[FieldName, Chip] = {}
        self.backs = {}
        grid = QGridLayout()
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(5)
        grid.setVerticalSpacing(3)
        for j, words in enumerate(("value", "from", "to")):
            grid.addWidget(label(words, dim=True), 0, j + 1)
        for i, (name, f) in enumerate(FIELDS.items()):
            unit = f", {f.unit}" if f.unit else ""
            grid.addWidget(label(f.words + unit, 13, wrap=True), i + 1, 0)
            made = []
            for j, which in enumerate(("value", "low", "high") if f.ranged else ("value",)):
                step = 10.0**-f.decimals * (10 if f.most > 1000 else 1)
                field = NumberField(f"{f.words}, {which}", "length", "", step, f.least, f.most, f.decimals, 56)
                field.plain = True
                field.entered.connect(partial(self._typed, name, which))
                grid.addWidget(field, i + 1, j + 1)
                made.append(field)
            self.values[name] = made
            self.chips[name] = Chip("typical")
            back = button("×", partial(self._typical, name), plain=True, tip="Typical again")
            back.setAccessibleName(f"{f.words}: typical again")
            back.setFixedWidth(24)
            self.backs[name] = back
            grid.addWidget(self.chips[name], i + 1, 4, Qt.AlignmentFlag.AlignVCenter)
            grid.addWidget(back, i + 1, 5)
        grid.setColumnStretch(0, 1)
        self.note = QLineEdit()
        self.note.setAccessibleName("Where your values come from")
        self.note.setPlaceholderText("where your values come from")
        self.note.setMaxLength(120)
        self.note.editingFinished.connect(self._noted)
        self.plot = BondChart()
        self.words = label("", dim=True, wrap=True)
        lay = QVBoxLayout(self)
        lay.setContentsMargins(0, 0, 0, 0)
        lay.setSpacing(5)
        lay.addWidget(heading("Materials", self.pick))
        lay.addLayout(grid)
        for w in (self.note, label("Bond across the layers", 14, 600), self.plot, self.words):
            lay.addWidget(w)

    @property
    def cards(self) -> dict[str, Material]:
        """Cards as the open part's printer has learned them; the person's own where no part is open."""
        return self.part.cards if self.session.has_part else learned_cards(self.workspace.shelf.own, ())

    @property
    def at(self) -> str:
        return str(self.pick.currentData())

    def _typed(self, name: FieldName, which: str, value: float) -> None:
        """A value keeps its range in proportion; an end of the range only moves itself."""
        now = shown_value(self.cards[self.at], name)
        ranged = FIELDS[name].ranged
        low, middle, high = now.low, now.value, now.high
        if which == "value":
            own = self._own(name)
            spread = (low / middle, high / middle) if own is not None else (1 - _DOUBT, 1 + _DOUBT)
            low, middle, high = (value * spread[0], value, value * spread[1]) if ranged else (value,) * 3
        elif which == "low":
            low, middle, high = value, max(middle, value), max(high, value)
        else:
            low, middle, high = min(low, value), min(middle, value), value
        if name == "bond":
            high = min(high, 1.0)
        kept = self._own(name)
        note = kept.note if kept is not None else self.note.text().strip()
        self.workspace.kept.put_own_value(self.at, name, OwnValue(value=middle, low=low, high=high, note=note))

    def _own(self, name: FieldName) -> OwnValue | None:
        card = self.workspace.shelf.own.get(self.at)
        return card.values.get(name) if card is not None else None

    def _typical(self, name: FieldName) -> None:
        self.workspace.kept.put_own_value(self.at, name, None)

    def _noted(self) -> None:
        """The same source for every own value of this card."""
        words = self.note.text().strip()
        card = self.workspace.shelf.own.get(self.at)
        for name, v in card.values.items() if card is not None else ():
            if v.note != words:
                self.workspace.kept.put_own_value(self.at, name, v.model_copy(update={"note": words}))

    def refresh(self) -> None:
        if self.session.has_part and self._of != (self.part.id, self.part.material):
            self._of = (self.part.id, self.part.material)
            self.pick.put(material(self.part.material).name)
        card = self.cards[self.at]
        own = self.workspace.shelf.own.get(self.at)
        kept = own.values if own is not None else {}
        for name, fields in self.values.items():
            r = shown_value(card, name)
            for field, v in zip(fields, (r.value, r.low, r.high), strict=False):
                field.put(v)
            source = r.source if FIELDS[name].ranged else ("yours" if name in kept else "typical")
            self.chips[name].put(source)
            self.chips[name].setToolTip(kept[name].note if name in kept and kept[name].note else source)
            self.backs[name].setVisible(name in kept)
        if not self.note.hasFocus():
            self.note.setText(next((v.note for v in kept.values() if v.note), ""))
        self.note.setVisible(bool(kept))
        self.plot.put(card)
        dry = f"dry {card.dry[1]} h at {card.dry[0]} °C" if card.dry is not None else "rarely needs drying"
        hard = "" if card.hard_nozzle else "; dashed: with a hardened nozzle"
        trials = f" Trials outweigh the card: bond {card.bond.source}." if card.bond.source.startswith("yours,") else ""
        self.words.setText(
            f"Line: the heat the card supposes; slope typical{hard}. {card.note.capitalize()}; bed {card.bed[0]} to "
            f"{card.bed[1]} °C, {dry}.{trials}"
        )
