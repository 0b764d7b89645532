"""What Lay puts on the stage: reserve, weak places, the part bent, or what rests on nothing."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from knollside.core.job.questions.detail import OrientationDetail
from knollside.core.lay.orientations import BUCKLES
from knollside.core.lay.supports import held
from knollside.core.mesh.appearance import Appearance
from knollside.core.strength.stability import Stability
from knollside.gui import nodes
from knollside.gui.instruments.widgets import times
from knollside.gui.session import Session
from knollside.gui.steps.laybook import PLACES, SPLIT, SUPPORTS
from knollside.gui.steps.laypages import WATCH, Drawn, doubt_words
from knollside.gui.steps.scenes import base_scene, face_marks, load_arrows
from knollside.gui.viewport.raster import MARKS
from knollside.gui.viewport.scene import Scene

Vec = tuple[float, float, float]


@dataclass(frozen=True)
class _Shown:
    """Which page speaks, the place it tells of, and the shape the part is drawn in."""

    page: int
    told: int | None
    drawn: Drawn


def lay_scene(session: Session, page: int, trying: Vec | None, told: int | None, drawn: Drawn) -> Scene:
    """The part as it lies, with what the page in front speaks of."""
    view, part, shown = session.view, session.view.part, _Shown(page, told, drawn)
    if trying is not None:
        words = "Let go to see what speaks against it"
        return base_scene(session, True, "?  Where the pin is", words, direction=trying)
    here, look = view.chosen, view.look
    detail = view.get(nodes.DETAIL).fresh if part.loaded else None
    more: dict[str, object] = {}
    if detail is not None and look is not None:
        ranked = view.ranked.fresh
        first = here if here is not None and here.place_name else detail.orientation
        how = BUCKLES if first.mode == BUCKLES else "goes"
        more = {
            "reserve": detail.log.paint[look.corner_of],
            "target": ranked.ranking.target if ranked is not None else 2.0,
            "place": first.place,
            "place_words": f"{how} first: {times(first.reserve.value)}×",
            "legend": ("reserve", "held", "pushed"),
        }
        more.update(_marks(shown, detail, look, view.stability))
    more.update(_cut(session, shown))
    under_it = _unheld(session, shown)
    more.update(under_it)
    title = f"{here.letter}  {here.title}".strip() if here else "As drawn" if part.orientation is None else "Chosen way"
    under = (
        f"{here.footing.height:.0f} mm high, {here.footing.layers} layers of {part.recipe.layer_height:g} mm"
        if here
        else "No way chosen yet"
        if part.orientation is None
        else "Not rated yet"
    )
    # Seen from below, what pushes the part is beside the point.
    arrows = () if under_it else load_arrows(session)
    return base_scene(session, True, title, under, arrows=arrows, **more)


def _marks(
    shown: _Shown, detail: OrientationDetail, look: Appearance, stability: Stability | None
) -> dict[str, object]:
    """Weak places by number, and the part bent, while their page is in front."""
    if shown.page != PLACES:
        return {}
    out: dict[str, object] = {
        "places": tuple(
            (p.at, f"{i + 1}: {times(p.reserve)}×{doubt_words(p)}" if shown.told == i else f"{i + 1}")
            for i, p in enumerate(detail.places)
        )
        + tuple((p.at, f"{w}: {times(p.reserve)}×") for w, p in zip(WATCH, detail.watched, strict=False)),
        "place": None,
    }
    if shown.drawn is Drawn.BENT:
        out["bend"] = detail.bend[look.corner_of]
    if shown.drawn is Drawn.BUCKLED and stability is not None and not stability.beyond:
        out["bend"] = stability.shape[look.corner_of]
        out["bend_words"] = "as it would buckle, drawn large"
    return out


def _cut(session: Session, shown: _Shown) -> dict[str, object]:
    """Where the cuts would run, while their page is in front."""
    plans = session.view.get(nodes.SPLIT).fresh if shown.page == SPLIT else None
    if not plans:
        return {}
    spoken = [(i, p) for i, p in enumerate(plans) if shown.told in (None, i)]
    return {"place": None, "places": tuple((p.at, f"cut {i + 1}") for i, p in spoken)}


def _unheld(session: Session, shown: _Shown) -> dict[str, object]:
    """The places that rest on nothing, by number and hatch, while their page is in front."""
    view = session.view
    found, look, facts = view.get(nodes.SUPPORTS).fresh, view.look, view.facts
    if shown.page != SUPPORTS or found is None or look is None or facts is None:
        return {}
    marks = face_marks(session)
    under = np.zeros(len(facts.mesh.faces), np.bool_)
    for r in found.regions:
        under[r.faces] = True
    marks = np.where(under[look.original], MARKS["unheld"], marks)
    support_settings, told = view.part.support_settings, shown.told
    spoken = [i for i, r in enumerate(found.regions) if i == told or held(r, support_settings)]
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
