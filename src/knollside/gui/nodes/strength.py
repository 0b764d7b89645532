"""The part itself, its strength and the way it lies: a node for each question."""

from __future__ import annotations

from dataclasses import replace

from knollside.core.job.answer import CELLS, LayerLog
from knollside.core.job.asked import ask_orientations, ask_strength
from knollside.core.job.compare import Column
from knollside.core.job.questions.detail import Detail, OrientationDetail, Why
from knollside.core.job.questions.orientation import Compare, PlainLog, PlainOrientations, Split, Supported, Supports
from knollside.core.job.questions.part import FollowNames, Mend, Part, PointedAt
from knollside.core.job.questions.settling import Layers, Settle, Settled, unsettled
from knollside.core.job.questions.strength import Rank, RankedOrientations, StrengthOf
from knollside.core.job.split import CutPlan
from knollside.core.lay.orientations import RatedOrientation, in_own_order, listed_orientation
from knollside.core.mesh.identity import Names
from knollside.core.mesh.repair import Repair
from knollside.core.model import FaceMark, Feature, SupportSettings
from knollside.core.strength.discretisation import UNCHECKED, Layered
from knollside.gui.answers import Answer
from knollside.gui.derived import READ, Inputs, Node

Vec = tuple[float, float, float]
COMPARED = 4
cells = CELLS  # about how many a window's solve takes


def _names(v: Inputs) -> FollowNames | None:
    """Names carried over from the revision before, where this one has none yet."""
    newest, before = v.part.doc.newest, v.part.doc.before
    if newest.names is not None or before is None:
        return None
    return FollowNames(
        Part(before.mesh_key, before.names or Names(of=before.mesh_hash)), v.part.mesh_key, newest.motion
    )


NAMES: Node[Names] = Node("names", _names, (READ,), doing="Following what was said of it")
MEND: Node[Repair] = Node("mend", lambda v: Mend(v.part.mesh_key), doing="Mending")
UNITE: Node[Repair] = Node("unite", lambda v: Mend(v.part.mesh_key, True), doing="Uniting the bodies")


def _pointed(v: Inputs) -> PointedAt | None:
    wish = v.choice(POINTED)
    return PointedAt(v.part.question, wish.kind, wish.points) if v.part.question is not None and wish else None


POINTED: Node[Feature] = Node("pointed", _pointed, doing="Fitting it")


def _plain_log(v: Inputs) -> PlainLog | None:
    p = v.part
    return None if p.question is None else PlainLog(p.question, p.direction, p.recipe.layer_height, p.recipe.line_width)


PLAIN_LOG: Node[LayerLog] = Node("plain log", _plain_log)


def base_strength(v: Inputs) -> StrengthOf | None:
    """The question of strength as the stored duty, recipe and material have it; None without a load."""
    p = v.part
    if p.question is None or not p.loaded:
        return None
    return ask_strength(p.question, p, cells)


def _ranked(v: Inputs) -> Rank | None:
    strength = base_strength(v)
    return None if strength is None else ask_orientations(strength, v.part)


RANKED: Node[RankedOrientations] = Node("lay", _ranked, doing="Working out the strength")


def _settle(v: Inputs) -> Settle | None:
    rank = v.question(RANKED)
    return Settle(rank) if isinstance(rank, Rank) and v.fresh(RANKED) is not None else None


SETTLED: Node[Settled] = Node("settled", _settle, (RANKED,), behind=True)


def _layers(v: Inputs) -> Layers | None:
    settle = v.question(SETTLED)
    return Layers(settle) if isinstance(settle, Settle) and v.fresh(SETTLED) is not None else None


LAYERS: Node[tuple[Layered, ...]] = Node("layers", _layers, (SETTLED,), behind=True)


def rated_strength(v: Inputs) -> StrengthOf | None:
    """The same on the finer grid, once the check has found that the first one left too much doubt."""
    strength, settled = base_strength(v), v.fresh(SETTLED)
    return strength if strength is None or settled is None else strength.upon(settled.grid)


def doubt(v: Inputs, direction: Vec) -> float:
    """The grid's doubt of a way, a share; until it was looked at closely, what that may find."""
    settled, first = v.fresh(SETTLED), v.fresh(RANKED)
    if settled is None:
        return UNCHECKED if first is None else first.unseen
    return settled.grid.share(direction)


def _detail(v: Inputs) -> Detail | None:
    strength = rated_strength(v)
    if strength is None or v.part.orientation is None:
        return None
    return Detail(strength, v.part.printer.bed_mm, v.part.direction)


DETAIL: Node[OrientationDetail] = Node("detail", _detail, (SETTLED,), doing="Cutting layers")


def _why(v: Inputs) -> Why | None:
    strength, direction = rated_strength(v), v.choice(WHY)
    if strength is None or direction is None:
        return None
    return Why(strength, v.part.printer.bed_mm, direction, doubt(v, direction))


WHY: Node[RatedOrientation] = Node("why", _why, (SETTLED,))


def _plain_orientations(v: Inputs) -> PlainOrientations | None:
    p = v.part
    if p.question is None or p.loaded:
        return None
    weights, r = tuple(sorted(p.design_case.weights.items())), p.recipe
    return PlainOrientations(p.question, r.layer_height, r.line_width, p.design_case.purpose, weights, p.printer.bed_mm)


PLAIN_ORIENTATIONS: Node[tuple[RatedOrientation, ...]] = Node(
    "plain ways", _plain_orientations, doing="Trying ways to lie"
)


def ranked(v: Inputs) -> Answer[RankedOrientations]:
    """The rated ways in the order the person's own weights give: as settled, else as first rated, with the doubt that
    stands for a check not made yet."""
    own, settled = v.part.design_case.weights, v.answer(SETTLED)
    found = settled.then(lambda s: s.ranked) if settled.fresh is not None else v.answer(RANKED)

    def told(rated: RankedOrientations) -> RankedOrientations:
        made = rated if settled.fresh is not None else unsettled(rated)
        return replace(made, ranking=in_own_order(made.ranking, own))

    of = (found.shown, settled.fresh, v.part.design_case)
    return found.then(lambda rated: v.made("ranked", of, lambda: told(rated)))


def listed(v: Inputs) -> Answer[tuple[RatedOrientation, ...]]:
    """The short list: by strength where a load is stated, else by shape."""
    if not v.part.loaded:
        return v.answer(PLAIN_ORIENTATIONS)
    return ranked(v).then(lambda r: r.ranking.orientations)


def _marks(v: Inputs) -> tuple[tuple[str, FaceMark], ...]:
    return tuple(sorted(v.part.marks.items()))


def _made(support_settings: SupportSettings) -> SupportSettings:
    """How supports are built, without which places have one: that changes no place's price."""
    return support_settings.model_copy(update={"by_hand": {}, "preset": "pays"})


def _supports(v: Inputs) -> Supports | None:
    p, detail = v.part, v.fresh(DETAIL)
    if p.question is None:
        return None
    weak = tuple(w.at for w in detail.places if not w.at_support) if detail is not None else ()
    made, marks = _made(p.support_settings), _marks(v)
    return Supports(p.question, marks, p.direction, p.recipe, made, p.card, p.printer, weak, p.peel)


SUPPORTS: Node[Supported] = Node("supports", _supports, (DETAIL,))


def _compare(v: Inputs) -> Compare | None:
    p, orientations = v.part, (listed(v).fresh or ())[:COMPARED]
    if p.question is None or not orientations:
        return None
    mates = tuple(m.feature for m in p.mates)
    support_settings = p.support_settings.model_copy(update={"by_hand": {}})  # chosen for one way, not for the others
    return Compare(p.question, _marks(v), mates, orientations, p.recipe, support_settings, p.card, p.printer, p.factor)


COMPARE: Node[tuple[Column, ...]] = Node("compare", _compare, (RANKED, SETTLED, PLAIN_ORIENTATIONS))


def whole(v: Inputs) -> RatedOrientation | None:
    """The way a cut is held against: the chosen one, else the first of the list."""
    orientations = (listed(v).fresh or ()) if v.part.loaded else ()
    return listed_orientation(orientations, v.part.direction) or next(iter(orientations), None)


def _split(v: Inputs) -> Split | None:
    strength, orientation = rated_strength(v), whole(v)
    return (
        Split(strength, orientation, v.part.printer.bed_mm)
        if strength is not None and orientation is not None
        else None
    )


SPLIT: Node[tuple[CutPlan, ...]] = Node("split", _split, (RANKED, SETTLED))
