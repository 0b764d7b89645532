"""What Bench puts on the stage besides what is measured: where it breaks, where it went wrong, what to clean."""

from __future__ import annotations

from typing import TYPE_CHECKING

from knollside.gui.steps.scenes import base_scene
from knollside.gui.viewport.scene import Scene

if TYPE_CHECKING:
    from knollside.gui.session import Session
    from knollside.gui.steps.cleanpage import CleanPage
    from knollside.gui.steps.faultspage import FaultsPage
    from knollside.gui.steps.trialspage import TrialsPage

Vec = tuple[float, float, float]


def _of(session: Session, title: str, words: str, place: Vec | None, place_words: str, **more: object) -> Scene:
    laid = session.view.part.orientation is not None
    return base_scene(session, laid, title, words, place=place, place_words=place_words, **more)


def trial_scene(session: Session, trials: TrialsPage) -> Scene:
    if trials.front is not trials.breaks:
        return _of(session, "This part", "What is tried here is told of its printer and material.", None, "")
    breaks = trials.breaks
    now, at = breaks.pushed(), breaks.clicked
    foretold = now.place if now is not None else None
    places = ((at, "it broke here"),) if at is not None else ()
    words = "Click where it broke." if now is not None else "Rate a way at Lay first."
    return _of(session, "Where it breaks", words, foretold, "foretold", places=places)


def fault_scene(session: Session, faults: FaultsPage) -> Scene:
    case = faults.case
    place = case.place if case is not None else None
    words = f"{case.height:.1f} mm up" if case is not None and case.height is not None else ""
    return _of(session, "Where it went wrong", "Click the place.", place, words)


def record_scene(session: Session) -> Scene:
    part = session.view.part
    return _of(session, part.name, f"Revision {part.revision}, {part.revision_note}"[:90], None, "")


def clean_scene(session: Session, clean: CleanPage) -> Scene:
    c = clean.chore
    if c is None:
        return _of(session, "Clean up", "As it came off the bed.", None, "")
    return _of(session, "Clean up", "As it came off the bed.", c.at, c.mess.value, below=bool(c.high < 1.0))
