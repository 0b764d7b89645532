"""Pages of Lay: how the ways are weighed against each other, and where a cut in two would pay."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from knollside.core.job.questions.strength import RankedOrientations
from knollside.core.job.split import GLUE_MPA, SCREW_N, CutPlan, Half
from knollside.core.lay.orientations import WEIGHTS
from knollside.core.model import Purpose
from knollside.gui.instruments.widgets import NumberField, button, column, heading, label, row, rule, times
from knollside.gui.steps.page import Page, Same, line

_WORDS = {
    "strength": ("Strength", "up to twice the need; short of it, it comes first"),
    "overhang": ("Little to support", "the share of the surface that leans too far"),
    "height": ("Low", "fewer layers, fewer hours"),
    "contact": ("Broad on the bed", "holds better, curls more"),
}
_PURPOSES = {Purpose.WORKING: "a working part", Purpose.FIT_CHECK: "a fit check", Purpose.SHOW: "a show piece"}


class WeightsPage(Page):
    """Four weights, the purpose's until they are yours; the list follows at once."""

    def __init__(self, put: Callable[[dict[str, float]], None]) -> None:
        super().__init__()
        self._put = put
        self.weights: dict[str, float] = {}
        self.fields: dict[str, NumberField] = {}
        rows = []
        for key, (words, why) in _WORDS.items():
            f = NumberField(f"Weight of {words.lower()}", "share", "%", 0.05, 0, 1, 0, 76)
            f.entered.connect(lambda v, key=key: self._put({**self.weights, key: v}))
            self.fields[key] = f
            rows.append(column(row(label(words, 14, 600), f, stretch=0), label(why, dim=True, wrap=True), spacing=0))
        self.back = button("As the purpose has it", lambda: self._put({}))
        self.top(*rows, row(self.back, stretch=-2), rule())

    def put(self, ranked: RankedOrientations | None, purpose: Purpose, own: dict[str, float]) -> None:
        self.weights = dict(own)
        for key, f in self.fields.items():
            f.put(own.get(key, WEIGHTS[purpose][key]))
        self.back.setEnabled(bool(own))
        if not self.fresh((Same(ranked), purpose, tuple(own.items()))):
            return
        whose = "Your weights" if own else f"The weights of {_PURPOSES[purpose]}"
        limits = "Limits come first whatever they are: it must fit the bed and stand."
        self.add(label(f"{whose}. {limits}", dim=True, wrap=True))
        if ranked is not None:
            self.add(heading("So the order is"))
            for w in ranked.ranking.orientations[:5]:
                self.add(line(f"{w.letter}  {w.title}", f"{times(w.reserve.value)}×", w.gives_up, False))


class SplitPage(Page):
    """Cuts that let each piece lie well, with what the joint carries."""

    def __init__(self, on_place: Callable[[int], None]) -> None:
        super().__init__()
        self._on_place = on_place

    def put(self, plans: tuple[CutPlan, ...] | None, whole: float, target: float, waiting: bool, refused: str) -> None:
        if not self.fresh((Same(plans), whole, target, waiting, refused)):
            return
        if plans is None:
            words = refused or ("Trying cuts …" if waiting else "Work out the ways first.")
            self.add(label(words, dim=True, wrap=True))
            return
        if not plans:
            self.add(line("No cut pays", "", "In one piece it lies as well as in two."))
            return
        self.add(heading("Cut in two", f"in one piece {times(whole)}×"))
        for i, p in enumerate(plans):
            show = button(f"{i + 1}", partial(self._on_place, i), tip="Show it on the stage")
            show.setFixedWidth(34)
            show.setAccessibleName(f"Show cut {i + 1}")
            head = line(_square(p), f"{times(p.reserve)}×", f"{p.area / 100:.1f} cm² of joint")
            self.add(row(show, head, stretch=1))
            for name, half in zip(("Upper piece", "Lower piece"), p.pieces, strict=True):
                self.add(line(f"{name}, {half.share * 100:.0f} %", f"{times(half.reserve)}×", _lies(half), False))
            low, high = p.glued_range
            glue = f"{times(p.glued)}× ({times(low)} to {times(high)})"
            screws = f"or {p.screws} M4 screws" if p.screws is not None else "no room for screws enough"
            self.add(line("Joint, glued", glue, screws, False), rule())
        self.add(
            label(
                f"Glue: {GLUE_MPA[0]:.0f} MPa on sanded faces ({GLUE_MPA[1]:.0f} to {GLUE_MPA[2]:.0f}), screws "
                f"{SCREW_N:.0f} N each in inserts; typical, try yours before you trust it. Cut the model in your "
                "own drawing program; pegs keep the halves in line.",
                dim=True,
                wrap=True,
            )
        )


def _square(p: CutPlan) -> str:
    axis = max(range(3), key=lambda i: abs(p.normal[i]))
    if abs(p.normal[axis]) > 0.999:
        return f"Square to {'XYZ'[axis]} at {p.at[axis]:.0f} mm"
    x, y, z = p.normal
    return f"Square to ({x:.2f}, {y:.2f}, {z:.2f}) at ({p.at[0]:.0f}, {p.at[1]:.0f}, {p.at[2]:.0f})"


def _lies(h: Half) -> str:
    leans = f"{h.overhang / 100:.1f} cm² leans too far" if h.overhang > 30 else "needs no support"
    fits = "" if h.fits else "; too large for the bed still"
    return f"{h.height:.0f} mm high, {leans}{fits}"
