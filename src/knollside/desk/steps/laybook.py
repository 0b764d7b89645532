"""The pages under the net: what each shows, and what it has worked out when it is turned to."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtWidgets import QWidget

from knollside.core.model import Holding, Way
from knollside.desk import tasks
from knollside.desk.asks import UP
from knollside.desk.state import State
from knollside.desk.steps.laypages import CuresPage, PlacesPage, TrustPage
from knollside.desk.steps.supportspages import ComparePage, SupportsPage
from knollside.desk.steps.tabs import Tabs
from knollside.desk.steps.weighpages import SplitPage, WeightsPage

WAYS, PLACES, CURES, TRUST, SUPPORTS, COMPARE, SPLIT, WEIGHTS = range(8)


class LayBook:
    """The pages by name, behind their tabs. ``ways`` is the list that comes first."""

    def __init__(self, state: State, ways: QWidget, point_out: Callable[[int], None]) -> None:
        self.state = state
        self.places = PlacesPage(lambda: state.changed.emit(), point_out)
        self.cures, self.trust = CuresPage(), TrustPage()
        self.supports = SupportsPage(self._hold, point_out)
        self.compare = ComparePage()
        self.split, self.weights = SplitPage(point_out), WeightsPage(self._weigh)
        pages: tuple[tuple[str, QWidget], ...] = (
            ("Ways", ways),
            ("Weak places", self.places),
            ("Cures", self.cures),
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

    def _weigh(self, weights: dict[str, float]) -> None:
        doc = self.state.doc
        if doc is not None:
            words = "weights of the ways" if weights else "weights as the purpose has them"
            self.state.edit("duty", doc.duty.model_copy(update={"weights": weights}), words)

    def _hold(self, holding: Holding, words: str) -> None:
        """What is supported belongs to the way: one undo step."""
        doc = self.state.doc
        if doc is not None:
            way = doc.way or Way(direction=UP, reason="as drawn")
            self.state.edit("way", way.model_copy(update={"holding": holding}), words)

    def fill(self, laying: tasks.Laying | None, old: bool, detail: tasks.WayDetail | None) -> None:
        """Put every page; ask for what is missing. ``laying`` and ``old`` as the step has them."""
        state, doc = self.state, self.state.doc
        if doc is None:
            return
        load = {c.name: sum(ld.newtons for ld in c.loads) for c in doc.duty.cases}
        self.places.put(detail, load)
        self.cures.put(detail, laying.ranking.target if laying else 2.0)
        self.trust.put(laying, state.trust, state.work.waiting("trust"))
        self.weights.put(laying, doc.duty.purpose, dict(doc.duty.weights))
        self._fill_supports(detail)
        self._fill_split(laying, old)
        self._fill_compare(laying)
        if laying is None or old or detail is None:
            return
        if state.trust is None:
            state.missing("trust", state.lay_key, state.request_trust)
        elif not state.work.waiting("units"):
            state.request_units()

    def _fill_supports(self, detail: tasks.WayDetail | None) -> None:
        state = self.state
        # The layer log tells its notes too, so it is asked for as soon as a way is worked out.
        if state.facts is not None and (self.front == SUPPORTS or detail is not None or not state.loaded):
            state.missing("supports", state.supports_key, state.request_supports)
        found = state.answers.fresh("supports", state.supports_key)
        self.supports.put(found, state.holding, state.work.waiting("supports"))

    def _fill_split(self, laying: tasks.Laying | None, old: bool) -> None:
        state = self.state
        if self.front != SPLIT or laying is None or old:
            return
        refused = state.missing("split", state.split_key, state.request_split)
        plans = state.answers.fresh("split", state.split_key)
        whole = state.whole.reserve.value if state.whole is not None else 0.0
        self.split.put(plans, whole, laying.ranking.target, state.work.waiting("split"), refused)

    def _fill_compare(self, laying: tasks.Laying | None) -> None:
        state = self.state
        if self.front == COMPARE and state.listed:
            state.missing("compare", state.compare_key, state.request_compare)
        columns, opened = state.answers.fresh("compare", state.compare_key), state.answers.get("opened")
        silent = not state.loaded or bool(laying and laying.strength.withheld)
        target = laying.ranking.target if laying else 2.0
        drawn = opened.look if opened is not None else None
        self.compare.put(columns, drawn, target, silent, state.work.waiting("compare"))
