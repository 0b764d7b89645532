"""What Lay puts on the stage: reserve, weak places, the part bent, or what rests on nothing."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from knollside.core.job.answer import LayerLog
from knollside.core.lay.supports import held
from knollside.desk import tasks
from knollside.desk.instruments.widgets import times
from knollside.desk.stage.raster import MARKS
from knollside.desk.stage.scene import Scene
from knollside.desk.steps.laybook import PLACES, SPLIT, SUPPORTS
from knollside.desk.steps.scenes import base_scene, face_marks, load_arrows

if TYPE_CHECKING:
    from knollside.desk.steps.lay import LayStep


def lay_scene(step: LayStep) -> Scene:
    """The part as it lies, with what the page in front speaks of."""
    here, doc = step.chosen(), step.state.doc
    if doc is None:
        return Scene()
    detail: tasks.WayDetail | None = step.state.answers.get("detail")
    fresh = (
        step.state.loaded
        and detail is not None
        and step.state.answers.key("detail") == (step.state.lay_key, step.state.way)
    )
    more: dict[str, object] = {}
    if fresh and detail is not None:
        log: LayerLog = detail.log
        opened = step.state.answers.get("opened")
        more = {
            "reserve": log.paint[opened.look.corner_of],
            "target": step.laying.ranking.target if step.laying else 2.0,
            "place": detail.way.place,
            "place_words": f"goes first: {times(detail.way.reserve.value)}×",
            "legend": ("reserve", "held", "pushed"),
        }
        more.update(_marks(step, detail, opened.look.corner_of))
    more.update(_cut(step))
    under_it = _unheld(step)
    more.update(under_it)
    if step.trying is not None:
        more = {"direction": step.trying}
        return base_scene(step.state, True, "?  Where the pin is", "Let go to see what speaks against it", **more)
    title = f"{here.letter}  {here.title}" if here else "As drawn" if doc.way is None else "Chosen way"
    under = (
        f"{here.footing.height:.0f} mm high, {here.footing.layers} layers of {doc.recipe.layer_height:g} mm"
        if here
        else "No way chosen yet"
    )
    # Seen from below, what pushes the part is beside the point.
    arrows = () if under_it else load_arrows(step.state)
    return base_scene(step.state, True, title, under, arrows=arrows, **more)


def _marks(step: LayStep, detail: tasks.WayDetail, corner_of: np.ndarray) -> dict[str, object]:
    """Weak places by number, and the part bent, while their page is in front."""
    if step.book.front != PLACES:
        return {}
    out: dict[str, object] = {
        "places": tuple(
            (p.at, f"{i + 1}: {times(p.reserve)}×" if step.told_place == i else f"{i + 1}")
            for i, p in enumerate(detail.places)
        ),
        "place": None,
    }
    if step.places.bent.isChecked():
        out["bend"] = detail.bend[corner_of]
    return out


def _cut(step: LayStep) -> dict[str, object]:
    """Where the cuts would run, while their page is in front."""
    plans = step.state.answers.fresh("split", step.state.split_key) if step.book.front == SPLIT else None
    if not plans:
        return {}
    told = step.told_place
    return {"place": None, "places": tuple((p.at, f"cut {i + 1}") for i, p in enumerate(plans) if told in (None, i))}


def _unheld(step: LayStep) -> dict[str, object]:
    """The places that rest on nothing, by number and hatch, while their page is in front."""
    state = step.state
    found = state.answers.fresh("supports", state.supports_key)
    opened = state.answers.get("opened")
    if step.book.front != SUPPORTS or found is None or opened is None:
        return {}
    marks = face_marks(state)
    under = np.zeros(len(opened.facts.mesh.faces), np.bool_)
    for r in found.regions:
        under[r.faces] = True
    marks = np.where(under[opened.look.original], MARKS["unheld"], marks)
    told = step.told_place
    spoken = [i for i, r in enumerate(found.regions) if i == told or held(r, state.holding)]
    places = tuple(
        (found.regions[i].at, f"{i + 1}: {found.regions[i].kind}" if told == i else f"{i + 1}") for i in spoken
    )
    if found.seam is not None:
        places += ((found.seam.best, "seam here"),)
    return {
        "below": True,
        "marks": marks,
        "reserve": None,
        "place": None,
        "places": places,
        "legend": ("rests on nothing", "held", "pushed"),
    }
