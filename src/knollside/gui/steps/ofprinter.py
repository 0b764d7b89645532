"""A page of one printer: its facts and log, and one edit of the log."""

from __future__ import annotations

from collections.abc import Callable

from knollside.core.model import PrinterFacts
from knollside.core.model.running import PrinterLog
from knollside.gui.session import Session
from knollside.gui.steps.page import Page


class OfPrinter(Page):
    """``at``: the printer's number, asked of the form above."""

    def __init__(self, session: Session, at: Callable[[], int | None]) -> None:
        super().__init__()
        self.session, self.workspace, self._at = session, session.workspace, at
        self.margins(0, 0)

    @property
    def log(self) -> PrinterLog:
        return self.workspace.shelf.printer_log(self._at())

    @property
    def facts(self) -> PrinterFacts | None:
        return self.workspace.shelf.printers.get(self._at() or 0)

    def put(self, change: dict[str, object], words: str) -> None:
        """Change its log, one named step of undo."""
        number, facts = self._at(), self.facts
        if number is not None and facts is not None:
            log = PrinterLog.model_validate(self.log.model_dump() | change)
            self.workspace.runs.put_printer_log(number, log, f"{facts.name}: {words}")
