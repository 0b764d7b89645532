"""Derived results with the inputs they were made from, so that an old one is known to be old."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from knollside.desk.work import Outcome, Work


class Answers(QObject):
    """The last result of each kind; ``changed`` names the kind. Results stay until replaced."""

    changed = pyqtSignal(str)
    refused = pyqtSignal(str, str)

    def __init__(self, work: Work) -> None:
        super().__init__()
        self.work = work
        self._kept: dict[str, tuple[object, Any]] = {}
        self._refusals: dict[str, tuple[object, str]] = {}
        work.finished.connect(self._take)

    def _take(self, outcome: Outcome) -> None:
        if outcome.result is not None:
            self._kept[outcome.name] = (outcome.key, outcome.result)
            self._refusals.pop(outcome.name, None)
        elif outcome.refused:
            self._refusals[outcome.name] = (outcome.key, outcome.refused)
            self.refused.emit(outcome.name, outcome.refused)
        self.changed.emit(outcome.name)

    def get(self, name: str) -> Any:
        """The last result, old or not."""
        kept = self._kept.get(name)
        return kept[1] if kept else None

    def put(self, name: str, key: object, result: Any) -> None:
        """Replace a result by a better one from the same inputs."""
        self._kept[name] = (key, result)
        self.changed.emit(name)

    def key(self, name: str) -> object:
        kept = self._kept.get(name)
        return kept[0] if kept else None

    def fresh(self, name: str, key: object) -> Any:
        """The result if it was made from exactly these inputs."""
        kept = self._kept.get(name)
        return kept[1] if kept and kept[0] == key else None

    def refusal(self, name: str, key: object) -> str:
        kept = self._refusals.get(name)
        return kept[1] if kept and kept[0] == key else ""

    def clear(self) -> None:
        self._kept.clear()
        self._refusals.clear()
