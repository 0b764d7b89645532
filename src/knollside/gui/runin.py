"""The run in front with all that its plates and its week rest on, as it is stored and seen: a frozen snapshot."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from knollside.core.model.running import Presence, Run
from knollside.gui.openpart import OpenPart, Shelf


@dataclass(frozen=True)
class RunIn:
    """``members``: the parts of the run that can be read, by their numbers; ``troubles`` in words of the others.
    ``free``: from when a printer that prints is free, by what is seen of it; ``presence``: the stated hours, or the
    usual ones."""

    run: Run
    members: dict[int, OpenPart]
    troubles: tuple[str, ...]
    shelf: Shelf
    presence: Presence
    free: dict[int, datetime]

    @property
    def titles(self) -> dict[str, str]:
        """Names of its parts by their keys."""
        return {str(n): part.name for n, part in self.members.items()}
