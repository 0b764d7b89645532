"""The pages under the net: what each shows, and what it needs answered when it is turned to."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PyQt6.QtWidgets import QWidget

from knollside.core.job.questions.detail import OrientationDetail
from knollside.core.job.stated import UP
from knollside.core.lay.orientations import BUCKLES
from knollside.core.model import WATCHED, Orientation, SupportSettings
from knollside.gui import nodes
from knollside.gui.derived import Node
from knollside.gui.instruments.widgets import times
from knollside.gui.session import Session, View
from knollside.gui.steps.laypages import CuresPage, PlacesPage, TrustPage
from knollside.gui.steps.supportspages import ComparePage, SupportsPage
from knollside.gui.steps.tabs import Tabs
from knollside.gui.steps.weighpages import SplitPage, WeightsPage
from knollside.store.records import Kind

ORIENTATIONS, PLACES, REMEDIES, TRUST, SUPPORTS, COMPARE, SPLIT, WEIGHTS = range(8)


def _told_otherwise(view: View, detail: OrientationDetail | None) -> str:
    """What the verdict counts and the list of places does not, where that matters."""
    here = view.chosen
    if here is None or detail is None or here.mode == BUCKLES:
        return ""
    if abs(here.reserve.value / detail.orientation.reserve.value - 1) < 0.04:
        return ""
    counted = ["its own tops and walls"] if view.part.recipe.infill < 1 else []
    counted += ["its turning"] if detail.moves_far else []
    if not counted:
        return ""
    return f"Told as {times(here.reserve.value)}× with {' and '.join(counted)}; the places are told without."


class LayBook:
    """The pages by name, behind their tabs. ``ways`` is the list that comes first."""

    def __init__(self, session: Session, orientations: QWidget, point_out: Callable[[int], None]) -> None:
        self.session = session
        self.places = PlacesPage(session.changed.emit, point_out, self._unwatch)
        self.remedies, self.trust = CuresPage(), TrustPage()
        self.supports = SupportsPage(self._put_supports, point_out)
        self.compare = ComparePage()
        self.split, self.weights = SplitPage(point_out), WeightsPage(self._weigh)
        pages: tuple[tuple[str, QWidget], ...] = (
            ("Ways", orientations),
            ("Weak places", self.places),
            ("Cures", self.remedies),
            ("Trust", self.trust),
            ("Supports", self.supports),
            ("Side by side", self.compare),
            ("Cut in two", self.split),
            ("Weights", self.weights),
        )
        self.tabs = Tabs(pages, 4, (16, 2, 12, 2), small=True)

    @property
    def front(self) -> int:
        return self.tabs.front

    def needs(self, view: View) -> tuple[Node[Any], ...]:
        """What the page in front wants besides the ways themselves."""
        page: dict[int, tuple[Node[Any], ...]] = {
            REMEDIES: (nodes.REMEDIES,),
            COMPARE: (nodes.COMPARE,),
            SPLIT: (nodes.SPLIT,),
        }
        # The layer log tells its notes too, so places without support are looked for as soon as a way is worked out.
        supports = (nodes.SUPPORTS,) if view.part.orientation is not None or self.front == SUPPORTS else ()
        return (*page.get(self.front, ()), *supports)

    def watch(self, place: tuple[float, float, float]) -> None:
        """One more place to look at closely."""
        watched = self.session.view.part.design_case.watched
        if len(watched) < WATCHED:
            x, y, z = (round(v, 2) for v in place)
            self._put_watched((*watched, (x, y, z)), "watch a place")

    def _unwatch(self, number: int) -> None:
        watched = self.session.view.part.design_case.watched
        self._put_watched(watched[:number] + watched[number + 1 :], "watch it no more")

    def _put_watched(self, watched: tuple[tuple[float, float, float], ...], words: str) -> None:
        design_case = self.session.view.part.design_case
        self.session.put_design_case(design_case.model_copy(update={"watched": watched}), words)

    def _weigh(self, weights: dict[str, float]) -> None:
        words = "weights of the ways" if weights else "weights as the purpose has them"
        design_case = self.session.view.part.design_case
        self.session.put_design_case(design_case.model_copy(update={"weights": weights}), words)

    def _put_supports(self, support_settings: SupportSettings, words: str) -> None:
        """What is supported belongs to the way: one undo step."""
        orientation = self.session.view.part.orientation or Orientation(direction=UP)
        self.session.workspace.edit(
            {Kind.ORIENTATION: orientation.model_copy(update={"support_settings": support_settings})}, words
        )

    def fill(self, view: View, detail: OrientationDetail | None) -> None:
        """Put every page; ``detail`` of the chosen way, if it is true of what is stored."""
        ranked, design_case = view.ranked, view.part.design_case
        shown, target = ranked.shown, 2.0
        if shown is not None:
            target = shown.ranking.target
        load = {c.name: sum(ld.newtons for ld in c.loads) for c in design_case.cases}
        taken = view.part.orientation is not None and view.part.loaded
        self.places.put(detail, load, view.stability, taken, _told_otherwise(view, detail))
        remedies = view.get(nodes.REMEDIES)
        self.remedies.put(detail.orientation if detail is not None else None, remedies.fresh, target, remedies.refusal)
        running = view.waiting(nodes.SETTLED) or view.waiting(nodes.LAYERS)
        self.trust.put(shown, view.grid, view.stability, view.get(nodes.LAYERS).fresh, running)
        self.weights.put(shown, design_case.purpose, {str(k): v for k, v in design_case.weights.items()})
        part, waiting = view.part, view.waiting(nodes.SUPPORTS)
        self.supports.put(view.get(nodes.SUPPORTS).fresh, part.support_settings, waiting, part.gap_words)
        if self.front == SPLIT and ranked.fresh is not None:
            plans, whole = view.get(nodes.SPLIT), nodes.whole(view.inputs)
            reserve = whole.reserve.value if whole is not None else 0.0
            self.split.put(plans.fresh, reserve, target, view.waiting(nodes.SPLIT), plans.refusal)
        silent = not view.part.loaded or bool(shown and shown.strength.withheld)
        columns = view.get(nodes.COMPARE).fresh
        self.compare.put(columns, view.look, target, silent, view.waiting(nodes.COMPARE))
