"""A load case as a card: a small drawing, its kind and value, where and which way, and how it acts."""

from __future__ import annotations

import math
from collections.abc import Callable

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QCheckBox, QSizePolicy, QWidget

from knollside.core.job.edits import case_about, case_aimed, case_sized, case_turned_into, size_of
from knollside.core.material.allowables import time_words
from knollside.core.model import (
    GRAVITY,
    TEN_YEARS,
    YEAR,
    BearingLoad,
    DeflectionLoad,
    ForceLoad,
    Load,
    LoadCase,
    LoadKind,
    PressureLoad,
    TorqueLoad,
    WeightLoad,
    bounds_of,
    most_of,
)
from knollside.gui.instruments.widgets import Dropdown, NumberField, button, column, label, row
from knollside.gui.theme.look import look

AIMS: dict[str, tuple[float, float, float]] = {
    "straight down": (0, 0, -1),
    "straight up": (0, 0, 1),
    "along +X": (1, 0, 0),
    "along −X": (-1, 0, 0),
    "along +Y": (0, 1, 0),
    "along −Y": (0, -1, 0),
}
LASTING = {time_words(h): h for h in (1.0, 24.0, 730.0, YEAR, TEN_YEARS)}
SWINGS = {"goes fully": 0.0, "half stays": 0.5, "swings back": -1.0}
AXES: dict[str, tuple[float, float, float]] = {
    "about +X": (1.0, 0.0, 0.0),
    "about −X": (-1.0, 0.0, 0.0),
    "about +Y": (0.0, 1.0, 0.0),
    "about −Y": (0.0, -1.0, 0.0),
    "about +Z": (0.0, 0.0, 1.0),
    "about −Z": (0.0, 0.0, -1.0),
}
KINDS: dict[str, LoadKind] = {
    "force": "force",
    "hanging weight": "weight",
    "torque": "torque",
    "pressure": "pressure",
    "pin in a hole": "bearing",
    "snap by": "deflection",
}
_FIELD = {
    "force": ("force", "N", 5.0, 1),
    "bearing": ("force", "N", 5.0, 1),
    "weight": ("mass", "kg", 0.5, 2),
    "torque": ("torque", "N m", 0.1, 2),
    "pressure": ("stress", "MPa", 0.01, 3),
    "deflection": ("length", "mm", 0.1, 2),
}
_SHOWN = {"weight": 1000.0, "torque": 1000.0}  # inside units in one shown unit


def words_of(load: Load) -> str:
    """The load's size with its unit, as drawn on the stage."""
    match load:
        case TorqueLoad():
            return f"{load.size / 1000:.2g} N m"
        case PressureLoad():
            return f"{load.size:.2g} MPa"
        case DeflectionLoad():
            return f"moved {load.size:.2g} mm"
        case ForceLoad() | WeightLoad() | BearingLoad():
            return f"{load.newtons:.0f} N"


class LoadSign(QWidget):
    """The small drawing of a card: a bar held at its left, and what is done to it."""

    def __init__(self, kind: str) -> None:
        super().__init__()
        self.kind = kind
        self.setFixedSize(56, 40)
        self.setAccessibleName(f"Drawing of a {kind}")

    def paintEvent(self, e) -> None:  # type: ignore[no-untyped-def]
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.setPen(QPen(look.colour("spring"), 1.4))
        for y in range(10, 36, 5):
            p.drawLine(QPointF(2, y + 4), QPointF(7, y - 1))
        p.setPen(QPen(look.colour("peat"), 1.4))
        p.setBrush(look.colour("half"))
        p.drawRect(QRectF(8, 18, 40, 9))
        ink = look.colour("clay")
        p.setPen(QPen(ink, 2))
        p.setBrush(ink)
        if self.kind in ("force", "weight"):
            self._arrow(p, QPointF(42, 2), QPointF(42, 17))
            if self.kind == "weight":
                p.drawRect(QRectF(37, 30, 10, 8))
        elif self.kind == "pressure":
            for x in (18, 28, 38):
                self._arrow(p, QPointF(x, 6), QPointF(x, 17))
        elif self.kind == "bearing":
            p.setBrush(look.colour("paper"))
            p.drawEllipse(QPointF(40, 22), 4, 4)
            p.setBrush(ink)
            self._arrow(p, QPointF(40, 22), QPointF(54, 22))
        elif self.kind == "torque":
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.drawArc(QRectF(32, 10, 22, 24), -60 * 16, 240 * 16)
            p.setBrush(ink)
            p.drawPolygon(QPolygonF([QPointF(48, 31), QPointF(52, 25), QPointF(54, 33)]))
        else:
            p.setPen(QPen(ink, 1.6, Qt.PenStyle.DashLine))
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.drawArc(QRectF(-28, 22, 74, 40), 10 * 16, 75 * 16)
            p.setPen(QPen(ink, 2))
            p.setBrush(ink)
            self._arrow(p, QPointF(47, 25), QPointF(47, 37))

    def _arrow(self, p: QPainter, a: QPointF, b: QPointF) -> None:
        d = (b - a) / max(math.hypot((b - a).x(), (b - a).y()), 1e-9)
        n = QPointF(-d.y(), d.x())
        p.drawLine(a, b - d * 4)
        p.drawPolygon(QPolygonF([b, b - d * 6 + n * 3.5, b - d * 6 - n * 3.5]))


Put = Callable[[LoadCase, str], None]


def load_card(i: int, case: LoadCase, put: Put, remove: Callable[[], None]) -> QWidget:
    """A card for one case; ``put`` takes the case as changed and a name for undo."""
    first = case.loads[0]
    where = ", ".join((ld.feature or "a point").replace("-", " ") for ld in case.loads)
    hint = f"on {where}"
    if isinstance(first, ForceLoad | BearingLoad):
        hint += f"; {size_of(case) / GRAVITY:.1f} kg hanging weighs that"
    bits = [*_kind_and_size(case, put), *_aiming(case, put)]
    gone = button("Remove", remove, plain=True)
    gone.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Fixed)
    title = label(f"{i + 1}  {case.name.capitalize()}", 14, 700)
    return column(
        row(
            LoadSign(first.kind),
            column(row(title, gone, stretch=0), label(hint, dim=True, wrap=True), spacing=0),
            stretch=1,
        ),
        row(*bits, spacing=6, stretch=len(bits) - 1),
        row(*_acting(case, put), spacing=6, stretch=-2),
        *_how_much(case, put),
        spacing=3,
    )


def _kind_and_size(case: LoadCase, put: Put) -> list[QWidget]:
    first = case.loads[0]
    kind = Dropdown(f"Kind of {case.name}", KINDS.items(), 7)
    kind.put(first.kind)
    kind.chose.connect(lambda k: put(case_turned_into(case, k), f"{case.name}: {k}"))
    quantity, unit, step, digits = _FIELD[first.kind]
    scale = _SHOWN.get(first.kind, 1.0)
    value = NumberField(
        f"Force of {case.name}" if quantity == "force" else f"Size of {case.name}", quantity, unit, step
    )
    value.low, value.high, value.decimals, value.shown_in = 1e-4 * scale, most_of(first.kind), digits, scale
    value.line.setFixedWidth(76)
    value.put(size_of(case))
    value.entered.connect(lambda v: put(case_sized(case, v), f"{case.name}: {v / scale:.3g} {unit}"))
    return [kind, value]


def _aiming(case: LoadCase, put: Put) -> list[QWidget]:
    """Which way a case pushes, or about which line it turns."""
    first = case.loads[0]
    if isinstance(first, ForceLoad | BearingLoad | DeflectionLoad):
        aim = Dropdown(f"Direction of {case.name}", [*AIMS.items(), ("as set", None)], 10)
        now = first.toward
        match = next((v for v in AIMS.values() if max(abs(a - b) for a, b in zip(now, v)) < 1e-6), None)
        aim.put(match if len(case.loads) == 1 else None)

        def turned(way: tuple[float, float, float] | None) -> None:
            if way is not None:
                put(case_aimed(case, way), f"{case.name}: direction")

        aim.chose.connect(turned)
        return [aim]
    if isinstance(first, TorqueLoad):
        about = Dropdown(f"Axis of {case.name}", [("its own axis", None), *AXES.items()], 10)
        about.put(next((a for a in AXES.values() if first.axis is not None and a == tuple(first.axis)), None))
        about.setToolTip("The line it turns about; along it, clockwise is the way of a screw going in")
        about.chose.connect(lambda a: put(case_about(case, a), f"{case.name}: axis"))
        return [about]
    return []


def _acting(case: LoadCase, put: Put) -> list[QWidget]:
    """Often, always, knocked, and with the part's own weight besides."""
    how: list[QWidget] = []
    acts = ("repeated", "often"), ("permanent", "always"), ("knocked", "knocked"), ("own_weight", "itself")
    for name, words in acts:
        b = QCheckBox(words)
        b.setChecked(getattr(case, name))
        b.setAccessibleName(f"{case.name}: {words}")
        if name == "own_weight":
            b.setToolTip("The part's own weight pulls it down besides")
        b.clicked.connect(lambda on, n=name, w=words: put(case.model_copy(update={n: on}), f"{case.name}: {w}"))
        how.append(b)
    return how


def _how_much(case: LoadCase, put: Put) -> list[QWidget]:
    """Rows with how many times it comes, how long it stays and how far it falls, where that is asked."""
    how, stays = list[QWidget](), list[QWidget]()
    if case.repeated:
        times = NumberField(f"How many times {case.name}", "share", "", 1000, *bounds_of(LoadCase, "cycles"), 0, 84)
        times.entered.connect(lambda v: put(case.model_copy(update={"cycles": v}), f"{case.name}: {v:.0f} times"))
        times.setToolTip("How many times in its life; about a thousand where you do not know")
        times.plain = True
        times.put(case.cycles or 1000.0)
        between = Dropdown(f"Between the times {case.name}", SWINGS.items(), 8)
        between.put(case.stress_ratio if case.stress_ratio in SWINGS.values() else None)
        between.setToolTip("What is left of the load in between: a load that swings back wears most")
        between.chose.connect(
            lambda r: put(case.model_copy(update={"stress_ratio": r}), f"{case.name}: {r:g} of it in between")
        )
        how += [times, label("times,", dim=True), between]
    if case.permanent:
        lasts = Dropdown(f"How long {case.name} stays", LASTING.items(), 8)
        lasts.put(case.lasting_h if case.lasting_h in LASTING.values() else None)
        lasts.setToolTip("Strength falls with every tenfold of time, and the part moves on")
        lasts.chose.connect(lambda h: put(case.model_copy(update={"hours": h}), f"{case.name}: {time_words(h)}"))
        stays += [label("for", dim=True), lasts]
    falls = _falling(case, put) if case.knocked and case.only_weights else []
    return [row(*some, spacing=6, stretch=-2) for some in (how, stays, falls) if some]


def _falling(case: LoadCase, put: Put) -> list[QWidget]:
    high = NumberField(f"How far {case.name} falls", "length", "mm", 10, 0, bounds_of(LoadCase, "drop_mm")[1], 0, 84)
    high.put(case.drop_mm or 0.0)
    high.setToolTip("Before the part catches it; nothing where it only hangs and is knocked")
    high.entered.connect(
        lambda v: put(case.model_copy(update={"drop_mm": v or None}), f"{case.name}: falls {v:.0f} mm")
    )
    return [label("falls by", dim=True), high]
