"""Two more pages under the net: supports region by region, and the first ways side by side."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PyQt6.QtCore import QSize, Qt
from PyQt6.QtGui import QPixmap
from PyQt6.QtWidgets import QCheckBox, QGridLayout, QLabel, QWidget

from knollside.core.job.compare import Column
from knollside.core.job.questions.orientation import Supported
from knollside.core.lay.peel import newtons
from knollside.core.lay.second_material import Second, second_material
from knollside.core.lay.supports import BRIDGE_MM, Region, bill, held
from knollside.core.mesh.appearance import Appearance
from knollside.core.model import SupportSettings, bounds_of
from knollside.gui.instruments.widgets import (
    Dropdown,
    NumberField,
    button,
    column,
    heading,
    label,
    reserve_tone,
    row,
    rule,
    times,
)
from knollside.gui.steps.page import Page, Same, line
from knollside.gui.viewport.paint import small_picture

PRESETS = {"Only where it pays": "pays", "Everything past the limit": "all", "None": "none"}
STYLES = {"Plain": "plain", "Tree-like": "tree"}
_KINDS = {
    "island": "Starts in the air",
    "bridge": "Bridge",
    "ledge": "Ledge",
    "slope": "Slope",
    "arch": "Arch",
}
_ACCESS = {"outside": "", "through an opening": "got at only through an opening", "shut in": "shut in: cannot come out"}


class SupportsPage(Page):
    """One switch between two schools, then region by region by hand."""

    def __init__(self, put: Callable[[SupportSettings, str], None], on_place: Callable[[int], None]) -> None:
        super().__init__()
        self._put, self._on_place = put, on_place
        self.support_settings = SupportSettings()
        self.preset = Dropdown("Which places are supported", PRESETS.items(), 16)
        self.preset.chose.connect(lambda s: self._changed(preset=s, by_hand={}, words=f"supports: {s}"))
        self.kind = Dropdown("Kind of support", STYLES.items(), 8)
        self.kind.chose.connect(lambda s: self._changed(style=s, words=f"supports: {s}"))
        made = (
            (
                "density",
                "Body",
                NumberField("Support density", "share", "%", 0.05, *bounds_of(SupportSettings, "density"), 0, 64),
            ),
            (
                "gap_mm",
                "Top gap",
                NumberField("Support gap", "length", "mm", 0.05, *bounds_of(SupportSettings, "gap_mm"), 2, 76),
            ),
            (
                "interface",
                "Touching layers",
                NumberField("Touching layers", "length", "", 1, *bounds_of(SupportSettings, "interface"), 0, 46),
            ),
        )
        self.numbers = {key: f for key, _, f in made}
        for key, words, f in made:
            f.entered.connect(
                lambda v, key=key, words=words: self._changed(
                    f"supports: {words.lower()} {v:g}", **{key: round(v) if key == "interface" else v}
                )
            )
        fields = (column(f, label(words, dim=True), spacing=1) for _, words, f in made)
        self.top(row(self.preset, self.kind, stretch=0), row(*fields, stretch=-2))

    def _changed(self, words: str, **change: object) -> None:
        self._put(self.support_settings.model_copy(update=change), words)

    def _by_hand(self, region: Region, on: bool) -> None:
        chosen = {**self.support_settings.by_hand, region.key: on}
        self._changed(by_hand=chosen, words=f"{'hold' if on else 'leave'} the {region.kind} at {region.low:.0f} mm")

    def put(self, found: Supported | None, support_settings: SupportSettings, waiting: bool, how: str) -> None:
        """``how``: they come off with the gap that is set, in a sentence."""
        self.support_settings = support_settings
        self.preset.put(support_settings.preset)
        self.kind.put(support_settings.style)
        for key, f in self.numbers.items():
            f.put(float(getattr(support_settings, key)))
        if not self.fresh((Same(found), support_settings.model_dump_json(), waiting, how)):
            return
        if found is None:
            self.add(label("Looking at each layer …" if waiting else "Take a way first.", dim=True, wrap=True))
            return
        total = bill(found.regions, support_settings)
        if total.count:
            words = f"{total.grams:.1f} g and {total.minutes:.0f} min, estimated"
            scars = f"; scars {', '.join(total.scars)}" if total.scars else ""
            self.add(line(f"{_places(total.count)} supported", "", words + scars), label(how, dim=True, wrap=True))
        else:
            self.add(line("No supports", "", ""))
        if total.open_ones:
            self.add(label(f"{_places(total.open_ones)} that should be held is left without.", 13, 600, wrap=True))
        if total.shut_in:
            self.add(label(f"{_places(total.shut_in)}: the support cannot be taken out again.", 13, 600, wrap=True))
        if total.count:
            self._second(found, support_settings)
        self.add(rule())
        for i, r in enumerate(found.regions):
            self.add(self._row(i, r))
        if not found.regions:
            self.add(label("Every layer rests on the one below it.", dim=True, wrap=True))
        brim = found.bed
        kind = {"nothing": "Nothing extra on the bed", "brim": f"Brim, {brim.width:.0f} mm", "raft": "Raft"}[brim.kind]
        self.add(rule(), line(kind, "", f"{brim.why}. A rule of practice, not a computed warp.", False))
        self._first(found)
        self._seam(found)
        self.add(
            label(
                f"{found.layers} layers cut. Spans up to {BRIDGE_MM:.0f} mm bridge (typical). Grams, minutes and "
                "forces are estimates; your own trials come first.",
                dim=True,
                wrap=True,
            )
        )

    def _second(self, found: Supported, support_settings: SupportSettings) -> None:
        """The honest price of a soluble or second material."""
        whole, touching = second_material(found.regions, support_settings)

        def told(s: Second) -> str:
            return f"{s.changes} changes, {s.minutes / 60:.1f} h and {s.flushed:.0f} g more"

        risk = f"{whole.risk * 100:.0f} % and {touching.risk * 100:.0f} %"
        words = f"In a second or soluble material: {told(whole)}. Its touching layers only: {told(touching)}."
        self.add(label(f"{words} Chance that a change spoils it: {risk} (typical).", dim=True, wrap=True))

    def _first(self, found: Supported) -> None:
        f = found.first
        small = f"; {f.small} small loops on it at {f.small_speed:.0f} mm/s" if f.small else ""
        self.add(line("First layer", f"{f.height:g} mm", f"{f.speed:.0f} mm/s: {f.why}{small}. Typical.", False))

    def _seam(self, found: Supported) -> None:
        """Where the seam may run, and the layers that need time."""
        if found.seam is not None:
            s = found.seam
            corner = "an inward corner" if s.inward else "a corner"
            stays = f"stays {s.clear:.0f} mm or more clear of {', '.join(s.avoid)}" if s.avoid else "nothing forbids it"
            self.add(
                line("Seam", s.side, f"At {corner} that {s.reach * 100:.0f} % of the layers have; {stays}.", False)
            )
        for t in found.small:
            slow = f"slow to {max(t.speed_share, 0.1) * 100:.0f} %"
            words = f"{t.seconds:.0f} s a layer at full pace: {slow}, or print two at once."
            self.add(line(f"Small layers, {t.low:.0f} to {t.high:.0f} mm", "", words, False))

    def _row(self, i: int, r: Region) -> QWidget:
        box = QCheckBox()
        box.setChecked(held(r, self.support_settings))
        box.setAccessibleName(f"Support place {i + 1}")
        box.setToolTip("Give this place a support, or leave it")
        box.clicked.connect(lambda on, r=r: self._by_hand(r, on))
        show = button(f"{i + 1}", partial(self._on_place, i), tip="Show it on the stage")
        show.setFixedWidth(34)
        show.setAccessibleName(f"Show support place {i + 1}")
        area = f"{r.area / 100:.1f} cm²" if r.area >= 50 else f"{r.area:.0f} mm²"
        bits = [r.without]
        if r.scars:
            bits.append(f"A support scars {', '.join(r.scars)}.")
        if _ACCESS[r.access]:
            bits.append(f"{_ACCESS[r.access].capitalize()}.")
        if r.on_part:
            bits.append("It stands on the part itself.")
        if held(r, self.support_settings):
            bits.append(f"It comes off at {newtons(r.force)}.")
            if r.risk is not None and r.risk >= 1:
                bits.append("That may break this thin place.")
        said = f"{_KINDS[r.kind]}, {area} at {r.low:.0f} mm"
        return row(box, show, line(said, f"{r.grams:.1f} g", " ".join(bits), False), stretch=2)


class ComparePage(Page):
    """The first ways in columns; what another way beats in everything is told."""

    def put(
        self,
        columns: tuple[Column, ...] | None,
        drawn: Appearance | None,
        target: float,
        no_verdict: bool,
        waiting: bool,
    ) -> None:
        if not self.fresh((Same(columns), Same(drawn), target, no_verdict, waiting)):
            return
        if columns is None:
            words = "Weighing the first four ways …" if waiting else "Work out the ways first."
            self.add(label(words, dim=True, wrap=True))
            return
        self.add(heading("Side by side", "A to " + columns[-1].orientation.letter))
        self.add(self._table(columns, drawn, target, no_verdict), rule())
        for c in columns:
            note = [c.orientation.title + "."]
            if c.bill.scars:
                note.append(f"Supports scar {', '.join(c.bill.scars)}.")
            if c.bill.shut_in:
                note.append("A support cannot be taken out.")
            note.append(f"{c.beaten} is as good or better in everything." if c.beaten else "Nothing beats it in all.")
            self.add(column(label(f"{c.orientation.letter}  {' '.join(note)}", 13, wrap=True)))
        self.add(
            label(
                "Supports by exact layers; hours with them, typical pace and your record. Lay equal parts the same "
                "way round: they then shrink, shine and break alike.",
                dim=True,
                wrap=True,
            )
        )

    def _table(self, columns: tuple[Column, ...], drawn: Appearance | None, target: float, no_verdict: bool) -> QWidget:
        table = QWidget()
        grid = QGridLayout(table)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(8)
        grid.setVerticalSpacing(5)
        rows: list[tuple[str, Callable[[Column], str]]] = [
            ("reserve", lambda c: "–" if no_verdict else f"{times(c.orientation.reserve.value)}×"),
            ("supports", lambda c: f"{c.bill.grams:.1f} g" if c.bill.count else "none"),
            ("scars", lambda c: f"{len(c.bill.scars)}" if c.bill.scars else "none"),
            ("holes up", lambda c: f"{c.upright} of {c.holes}"),
            ("on the bed", lambda c: f"{c.orientation.footing.contact / 100:.1f} cm²"),
            ("edge help", lambda c: c.bed.kind if c.bed.kind != "brim" else f"brim {c.bed.width:.0f}"),
            ("height", lambda c: f"{c.orientation.footing.height:.0f} mm"),
            ("hours", lambda c: c.hours.words(1, "–")),
            ("grams", lambda c: f"{c.grams:.0f}"),
            ("show faces", lambda c: c.surface_steps or "–"),
            ("seam", lambda c: c.seam),
        ]
        for j, c in enumerate(columns):
            head = label(c.orientation.letter, 15, 700)
            head.setToolTip(c.orientation.title)
            grid.addWidget(head, 0, j + 1, Qt.AlignmentFlag.AlignRight)
            if drawn is not None:
                picture = QLabel()
                picture.setPixmap(QPixmap.fromImage(small_picture(drawn, c.orientation.direction, QSize(58, 52))))
                picture.setAccessibleName(f"Way {c.orientation.letter}: {c.orientation.title}")
                grid.addWidget(picture, 1, j + 1, Qt.AlignmentFlag.AlignRight)
        for i, (name, words_of) in enumerate(rows, 1):
            grid.addWidget(label(name, 13, dim=True), i + 1, 0)
            for j, c in enumerate(columns):
                cell = label(words_of(c), 13, 700 if i == 1 else 400, wrap=name in ("show faces", "seam"))
                if i == 1 and not no_verdict:
                    cell.setProperty("tone", reserve_tone(c.orientation.reserve, target))
                cell.setAccessibleName(f"{name} of {c.orientation.letter}")
                grid.addWidget(cell, i + 1, j + 1, Qt.AlignmentFlag.AlignRight)
        return table


def _places(n: int) -> str:
    return f"{n} place" if n == 1 else f"{n} places"
