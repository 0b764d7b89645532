"""The graph of questions: each kind with what it rests on. Drawn in docs/architecture.md."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from knollside.core.fit.correction import Correction
from knollside.core.fit.opening import Opened, Thickened
from knollside.core.fit.scaling import Scaled
from knollside.core.fit.threadfit import Threaded
from knollside.core.job.answer import CELLS, LayerLog
from knollside.core.job.asked import ask_board, ask_fits, ask_price, ask_proof, ask_strength, ask_ways
from knollside.core.job.compare import Column
from knollside.core.job.questions.fits import (
    Between,
    Changed,
    ChangeReport,
    Correct,
    FitCut,
    Fits,
    Fitting,
    Gaps,
    GapsOf,
    MoveWall,
    OpenGap,
    OpenThread,
    Scale,
    ScaleSet,
    SetPart,
    TakeFlareOff,
    TrueCuts,
)
from knollside.core.job.questions.orientation import Compare, PlainLog, PlainWays, Split, Supported, Supports
from knollside.core.job.questions.part import FollowNames, Mend, Part
from knollside.core.job.questions.proof import Crop, Cropped, MakePiece, Piece
from knollside.core.job.questions.recipe import Build, Building, Buying, Buys, Even, PriceOf, Remedies, Roofing, Roofs
from knollside.core.job.questions.strength import (
    Detail,
    Layers,
    Laying,
    Prove,
    Proved,
    Rank,
    Settle,
    Settled,
    StrengthOf,
    WayDetail,
    Why,
)
from knollside.core.job.remedies import Remedy
from knollside.core.job.slicedcheck import SlicedCheck
from knollside.core.job.split import CutPlan
from knollside.core.lay.ways import RatedWay, in_own_order, listed_way
from knollside.core.mesh.edit import Edited
from knollside.core.mesh.flare import Relieved
from knollside.core.mesh.identity import Names
from knollside.core.mesh.repair import Repair
from knollside.core.model import FaceMark, Holding, Recipe
from knollside.core.proof.fromjob import Wish, wishes
from knollside.core.recipe.breakeven import BreakEven
from knollside.core.recipe.price import Price
from knollside.core.strength.discretisation import UNCHECKED, Layered
from knollside.gui.derived import READ, Inputs, Node
from knollside.gui.fileasks import CheckSliced

Vec = tuple[float, float, float]
COMPARED = 4
cells = CELLS  # about how many a window's solve takes


# The part


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


def _plain_log(v: Inputs) -> PlainLog | None:
    p = v.part
    return None if p.question is None else PlainLog(p.question, p.direction, p.recipe.layer_height, p.recipe.line_width)


PLAIN_LOG: Node[LayerLog] = Node("plain log", _plain_log)


# Strength and the way it lies


def base_strength(v: Inputs) -> StrengthOf | None:
    """The question of strength as the stored duty, recipe and material have it; None without a load."""
    p = v.part
    if p.question is None or not p.loaded:
        return None
    return ask_strength(p.question, p, cells)


def _lay(v: Inputs) -> Rank | None:
    strength = base_strength(v)
    return None if strength is None else ask_ways(strength, v.part)


LAY: Node[Laying] = Node("lay", _lay, doing="Working out the strength")


def _settle(v: Inputs) -> Settle | None:
    rank = v.question(LAY)
    return Settle(rank) if isinstance(rank, Rank) and v.fresh(LAY) is not None else None


SETTLED: Node[Settled] = Node("settled", _settle, (LAY,), behind=True, doing="Checking")


def _layers(v: Inputs) -> Layers | None:
    settle = v.question(SETTLED)
    return Layers(settle) if isinstance(settle, Settle) and v.fresh(SETTLED) is not None else None


LAYERS: Node[tuple[Layered, ...]] = Node("layers", _layers, (SETTLED,), behind=True, doing="Checking")


def rated_strength(v: Inputs) -> StrengthOf | None:
    """The same on the finer grid, once the check has found that the first one left too much doubt."""
    strength, settled = base_strength(v), v.fresh(SETTLED)
    if strength is not None and settled is not None and settled.grid.cell_mm is not None:
        return strength.on(settled.grid.cell_mm)
    return strength


def doubt(v: Inputs, direction: Vec) -> float:
    """The grid's doubt of a way, a share; what is taken where no other grid was tried, until one is."""
    settled = v.fresh(SETTLED)
    return UNCHECKED if settled is None else settled.grid.share(direction)


def _detail(v: Inputs) -> Detail | None:
    strength = rated_strength(v)
    if strength is None or v.part.way is None:
        return None
    return Detail(strength, v.part.printer.bed_mm, v.part.direction)


DETAIL: Node[WayDetail] = Node("detail", _detail, (SETTLED,), doing="Cutting layers")


def _why(v: Inputs) -> Why | None:
    strength, direction = rated_strength(v), v.choice(WHY)
    if strength is None or direction is None:
        return None
    return Why(strength, v.part.printer.bed_mm, direction, doubt(v, direction))


WHY: Node[RatedWay] = Node("why", _why, (SETTLED,))


def _plain_ways(v: Inputs) -> PlainWays | None:
    p = v.part
    if p.question is None or p.loaded:
        return None
    weights, r = tuple(sorted(p.duty.weights.items())), p.recipe
    return PlainWays(p.question, r.layer_height, r.line_width, p.duty.purpose, weights, p.printer.bed_mm)


PLAIN_WAYS: Node[tuple[RatedWay, ...]] = Node("plain ways", _plain_ways, doing="Trying ways to lie")


def listed(v: Inputs) -> tuple[RatedWay, ...]:
    """The short list that is true of what is stored: by strength where a load is stated, else by shape."""
    if not v.part.loaded:
        return v.fresh(PLAIN_WAYS) or ()
    settled, first = v.fresh(SETTLED), v.fresh(LAY)
    laying = settled.laying if settled is not None else first
    if laying is None:
        return ()
    return in_own_order(laying.ranking, v.part.duty.weights).ways


def _marks(v: Inputs) -> tuple[tuple[str, FaceMark], ...]:
    return tuple(sorted(v.part.marks.items()))


def _made(holding: Holding) -> Holding:
    """How supports are built, without which places have one: that changes no place's price."""
    return holding.model_copy(update={"by_hand": {}, "school": "pays"})


def _supports(v: Inputs) -> Supports | None:
    p, detail = v.part, v.fresh(DETAIL)
    if p.question is None:
        return None
    weak = tuple(w.at for w in detail.places if not w.at_support) if detail is not None else ()
    return Supports(p.question, _marks(v), p.direction, p.recipe, _made(p.holding), p.card, p.printer, weak)


SUPPORTS: Node[Supported] = Node("supports", _supports, (DETAIL,))


def _compare(v: Inputs) -> Compare | None:
    p, ways = v.part, listed(v)[:COMPARED]
    if p.question is None or not ways:
        return None
    mates = tuple(m.feature for m in p.mates)
    holding = p.holding.model_copy(update={"by_hand": {}})  # chosen for one way, not for the others
    return Compare(p.question, _marks(v), mates, ways, p.recipe, holding, p.card, p.printer, p.factor)


COMPARE: Node[tuple[Column, ...]] = Node("compare", _compare, (LAY, SETTLED, PLAIN_WAYS))


def whole(v: Inputs) -> RatedWay | None:
    """The way a cut is held against: the chosen one, else the first of the list."""
    ways = listed(v) if v.part.loaded else ()
    return listed_way(ways, v.part.direction) or next(iter(ways), None)


def _split(v: Inputs) -> Split | None:
    strength, way = rated_strength(v), whole(v)
    return Split(strength, way, v.part.printer.bed_mm) if strength is not None and way is not None else None


SPLIT: Node[tuple[CutPlan, ...]] = Node("split", _split, (LAY, SETTLED))


# Recipes


def _build(v: Inputs, checked: bool) -> Build | None:
    strength, p = rated_strength(v), v.part
    if strength is None or p.way is None or v.fresh(SETTLED) is None:
        return None
    return ask_board(strength, p, p.direction, doubt(v, p.direction), checked)


BUILD: Node[Building] = Node("build", lambda v: _build(v, False), (SETTLED,), doing="Pricing recipes")
CHECKED: Node[Building] = Node("checked", lambda v: _build(v, True), (SETTLED,), doing="Checking the board")


def _cures(v: Inputs) -> Remedies | None:
    detail, build, strength = v.question(DETAIL), v.question(BUILD), rated_strength(v)
    if not isinstance(detail, Detail) or not isinstance(build, Build) or strength is None:
        return None
    return Remedies(detail, ask_ways(strength, v.part), build)


REMEDIES: Node[tuple[Remedy, ...]] = Node("cures", _cures, (SETTLED,))


def _prove(v: Inputs) -> Prove | None:
    strength, p = base_strength(v), v.part
    if strength is None or p.way is None:
        return None
    return ask_proof(strength, p)


PROVE: Node[Proved] = Node("prove", _prove, doing="Solving this recipe")


def tried(v: Inputs) -> Recipe:
    """The recipe under discussion at Build: tried on the board, else the stored one."""
    chosen: Recipe | None = v.choice(BUYS)
    return chosen if chosen is not None else v.part.recipe


def _buys(v: Inputs) -> Buys | None:
    p = v.part
    if p.question is None or (p.loaded and (p.way is None or v.fresh(SETTLED) is None)):
        return None
    checked = v.fresh(CHECKED) is not None
    at = p.question, rated_strength(v), p.card, p.direction, tried(v), p.printer.nozzle_mm, p.factor, checked
    return Buys(*at, doubt(v, p.direction))


BUYS: Node[Buying] = Node("buys", _buys, (SETTLED, CHECKED))


def _price(v: Inputs) -> PriceOf | None:
    p = v.part
    return None if p.question is None else ask_price(p.question, p)


PRICE: Node[Price] = Node("price", _price)


def _roofs(v: Inputs) -> Roofs | None:
    p = v.part
    return None if p.question is None else Roofs(p.question, p.direction, tried(v))


ROOFS: Node[Roofing] = Node("roofs", _roofs)


def _even(v: Inputs) -> Even | None:
    p = v.part
    return None if p.question is None else Even(p.question, p.direction, tried(v), p.plain_card)


EVEN: Node[BreakEven] = Node("even", _even)


# Fits


def _fits(v: Inputs) -> Fits | None:
    p = v.part
    return None if p.question is None else ask_fits(p.question, p)


FITS: Node[Fitting] = Node("fits", _fits)


def _correct(v: Inputs) -> Correct | None:
    fits = v.question(FITS)
    return Correct(fits, v.part.recipe) if isinstance(fits, Fits) else None


CORRECT: Node[Edited] = Node("correct", _correct, doing="Moving the walls")


def made(v: Inputs) -> Correct | None:
    """The correction, once it was made of exactly what is stored."""
    question = v.question(CORRECT)
    return question if isinstance(question, Correct) and v.fresh(CORRECT) is not None else None


def _report(v: Inputs) -> ChangeReport | None:
    correct = made(v)
    return ChangeReport(correct) if correct is not None else None


REPORT: Node[Changed] = Node("report", _report, (CORRECT,))


def spoken_of(v: Inputs) -> Correction | None:
    """The correction under discussion: of the feature that was picked, else the first."""
    fitting = v.fresh(FITS)
    rows = fitting.corrections if fitting is not None else ()
    return next((c for c in rows if c.feature == v.picked), next(iter(rows), None))


def _fit_cut(v: Inputs) -> FitCut | None:
    p, here = v.part, spoken_of(v)
    return FitCut(p.question, here.feature, p.direction, made(v)) if p.question is not None and here else None


FIT_CUT: Node[TrueCuts] = Node("fit cut", _fit_cut, (FITS, CORRECT))


def _gaps(v: Inputs) -> Gaps | None:
    p = v.part
    return None if p.question is None else Gaps(GapsOf(p.question, p.direction, p.recipe), p.learned_gaps)


GAPS: Node[tuple[Between, ...]] = Node("gaps", _gaps)


def _flare(v: Inputs) -> TakeFlareOff | None:
    p, by = v.part, v.choice(FLARE)
    return TakeFlareOff(p.question, p.direction, by, p.recipe.layer_height) if p.question is not None and by else None


FLARE: Node[Relieved] = Node("flare", _flare)


@dataclass(frozen=True)
class GapWish:
    bodies: tuple[int, int]
    to: float


def _open_gap(v: Inputs) -> OpenGap | None:
    p, wish = v.part, v.choice(OPEN_GAP)
    return OpenGap(p.question, wish.bodies, wish.to) if p.question is not None and wish is not None else None


OPEN_GAP: Node[Opened] = Node("open gap", _open_gap)


@dataclass(frozen=True)
class WallWish:
    feature: str
    by: float
    side: str
    follow: bool


def _wall(v: Inputs) -> MoveWall | None:
    p, w = v.part, v.choice(WALL)
    return MoveWall(p.question, w.feature, w.by, w.side, w.follow) if p.question is not None and w else None


WALL: Node[Thickened] = Node("wall", _wall)


@dataclass(frozen=True)
class ThreadWish:
    feature: str
    flank: float


def _thread(v: Inputs) -> OpenThread | None:
    p, w = v.part, v.choice(THREAD)
    return OpenThread(p.question, w.feature, w.flank) if p.question is not None and w is not None else None


THREAD: Node[Threaded] = Node("thread", _thread)


@dataclass(frozen=True)
class ScaleWish:
    factor: float
    keep: tuple[str, ...]
    keep_gaps: bool
    walls: tuple[str, ...]
    only: int | None


def _scale(v: Inputs) -> Scale | None:
    p, w = v.part, v.choice(SCALE)
    if p.question is None or w is None:
        return None
    line = p.recipe.line_width
    return Scale(p.question, w.factor, w.keep, w.keep_gaps, w.walls, w.only, line, p.direction, p.printer)


SCALE: Node[Scaled] = Node("scale", _scale, doing="Scaling")


def _set(v: Inputs) -> ScaleSet | None:
    w = v.choice(SET)
    return None if w is None else ScaleSet(w.parts, w.factor, v.part.recipe.line_width, v.part.printer)


@dataclass(frozen=True)
class SetWish:
    parts: tuple[tuple[int, str, object], ...]
    factor: float


SET: Node[tuple[SetPart, ...]] = Node("set", _set, doing="Scaling the set")


# Proof, Run


@dataclass(frozen=True)
class PieceWish:
    """A test piece by name, with the sizes that the person gave it."""

    name: str
    sizes: tuple[tuple[str, float], ...] = ()


def wishes_of(v: Inputs) -> tuple[Wish, ...]:
    """The test pieces this job calls for, with its own sizes."""
    p, facts = v.part, v.facts
    if facts is None:
        return ()
    found = v.fresh(GAPS)
    gap = min((f.free.gap.smallest for f in found), default=None) if found else None
    frees, strain = p.frees("in the layer").value, p.card.snap.value / 100
    sizes = p.recipe.layer_height, round(gap, 2) if gap else None, round(frees, 2), strain
    return wishes(facts.features, p.direction, *sizes)


def _piece(v: Inputs) -> MakePiece | None:
    chosen: PieceWish = v.choice(PIECE) or PieceWish("bar")
    wish = next((w for w in wishes_of(v) if w.name == chosen.name), None)
    if wish is None:
        return None
    for name, size in chosen.sizes:
        wish = wish.with_value(name, size)
    return MakePiece(wish, v.part.recipe, v.part.card, v.part.factor)


PIECE: Node[Piece] = Node("piece", _piece, (GAPS,), doing="Making the piece")


@dataclass(frozen=True)
class CropWish:
    features: tuple[str, ...]
    margin: float


def _crop(v: Inputs) -> Crop | None:
    p, w = v.part, v.choice(SECTION)
    if p.question is None or w is None:
        return None
    return Crop(p.question, w.features, w.margin, p.direction, p.recipe, p.card, p.factor)


SECTION: Node[Cropped] = Node("section", _crop, doing="Cutting it out")


@dataclass(frozen=True)
class SlicedWish:
    path: Path
    stamp: tuple[int, int]


def _sliced(v: Inputs) -> CheckSliced | None:
    p, w, detail = v.part, v.choice(SLICED), v.fresh(DETAIL)
    if p.question is None or w is None:
        return None
    weak = tuple(x.at for x in detail.places if not x.at_support) if detail is not None else ()
    return CheckSliced(w.path, w.stamp, p.question, p.duty, p.recipe, p.card, p.direction, weak, cells)


SLICED: Node[SlicedCheck] = Node("sliced", _sliced, (DETAIL,), doing="Reading the sliced file")

GRAPH: tuple[Node[object], ...] = (  # type: ignore[assignment]
    *(READ, NAMES, MEND, PLAIN_LOG, LAY, SETTLED, LAYERS, DETAIL, WHY, PLAIN_WAYS, SUPPORTS, COMPARE, SPLIT),
    *(BUILD, CHECKED, REMEDIES, PROVE, BUYS, PRICE, ROOFS, EVEN, FITS, CORRECT, REPORT, FIT_CUT, GAPS, FLARE),
    *(OPEN_GAP, WALL, THREAD, SCALE, SET, PIECE, SECTION, SLICED),
)
BY_NAME = {n.name: n for n in GRAPH}
