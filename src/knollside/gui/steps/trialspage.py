"""Bench's trials: pull tests, the support gap, breaking on purpose; one in front at a time."""

from __future__ import annotations

from typing import Any

from PyQt6.QtWidgets import QWidget

from knollside.gui import nodes
from knollside.gui.derived import Node
from knollside.gui.session import Seeing, Session
from knollside.gui.stepbase import Verdict
from knollside.gui.steps.breakpage import BreakPage
from knollside.gui.steps.pullspage import PullsPage
from knollside.gui.steps.supportgappage import SupportGapPage
from knollside.gui.steps.tabs import Tabs


class TrialsPage(Seeing):
    """``panel`` holds a second strip of buttons and the trial in front."""

    def __init__(self, session: Session) -> None:
        self.session = session
        self.pulls, self.gaps, self.breaks = PullsPage(session), SupportGapPage(session), BreakPage(session)
        pages = (("Pull tests", self.pulls), ("Support gap", self.gaps), ("Breaking", self.breaks))
        self.tabs = Tabs(pages, 3, (16, 4, 14, 2), small=True)
        self.tabs.turned.connect(lambda _: session.touch())
        self.panel = self.tabs.panel()

    @property
    def front(self) -> PullsPage | SupportGapPage | BreakPage:
        """The trial in front."""
        return (self.pulls, self.gaps, self.breaks)[self.tabs.front]

    @property
    def charts(self) -> tuple[QWidget, ...]:
        """What each shows under the stage."""
        return self.pulls.chart, self.gaps.chart, self.breaks.chart

    @property
    def needs(self) -> tuple[Node[Any], ...]:
        """What the trial in front looks at."""
        if self.front is self.breaks:
            return nodes.RANKED, nodes.SETTLED, nodes.DETAIL
        return (nodes.SUPPORTS,) if self.front is self.gaps else ()

    def refresh(self) -> None:
        self.front.refresh()

    def verdict(self) -> Verdict:
        return self.front.verdict()
