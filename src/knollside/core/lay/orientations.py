"""The short list: directions worth lying in, rated, limited and put in order."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from knollside.core.lay.candidates import candidates, is_new, lies_flat, net_maxima
from knollside.core.lay.stability import Footing, Standing, fitting, footing, standing
from knollside.core.model import Array, Feature, Mesh, Purpose, Range, Recipe, Weighed, same_direction
from knollside.core.strength.field import StressField
from knollside.core.strength.rating import Ratings, mode_words, rate, sphere
from knollside.core.strength.stability import Stability, steadied_range
from knollside.core.strength.strength import Strength

NET_DIRECTIONS = 2000
BUCKLES = "buckles"
_OWN = 4  # of the net's own best, besides the candidates
_PROPPED = 0.1  # of what is weighed


@dataclass(frozen=True)
class RatedOrientation:
    """One way to lie with everything the list says of it. ``place`` in the part's frame; ``target`` the reserve it
    must keep, NaN without a load; ``shares`` what it leans, its height and its contact, each over the part's most;
    ``lies_flat`` whether a flat of the part is on the bed."""

    letter: str
    direction: tuple[float, float, float]
    title: str
    reserve: Range
    interlayer_reserve: float
    mode: str
    place: tuple[float, float, float]
    place_name: str
    place_height: float
    case: str
    footing: Footing
    overhang: float
    target: float
    score: float
    reason: str
    gives_up: str
    shares: tuple[float, float, float] = (0.0, 0.0, 0.0)
    lies_flat: bool = True

    @property
    def holds(self) -> bool:
        """It fits, it stands, and the low end of its reserve, with every doubt known so far, is what is asked."""
        enough = self.target != self.target or self.reserve.low >= self.target
        return enough and self.footing.fits and self.footing.stands


@dataclass(frozen=True)
class Ground:
    """All that a part's shape alone says of its ways: the net's directions and how each would stand, and the
    ``found`` (c, 3) ones worth lying in, with their ``feet`` cut for real. ``fits`` (d,) the bed's room. It
    outlives any change of load."""

    directions: Array
    shape: Standing
    fits: np.ndarray
    found: Array
    feet: tuple[Footing, ...]


@dataclass(frozen=True)
class Ranking:
    """The rated net and the short list, best first; ``every`` way that was looked at, and the ``purpose`` whose
    weights put them in order."""

    net: Ratings
    shape: Standing
    orientations: tuple[RatedOrientation, ...]
    target: float
    fits: np.ndarray
    every: tuple[RatedOrientation, ...] = ()
    purpose: Purpose = Purpose.WORKING


# What each purpose weighs (D1): strength, little overhang, low height, broad contact.
WEIGHTS: dict[Purpose, dict[str, float]] = {
    Purpose.WORKING: {"strength": 0.60, "overhang": 0.20, "height": 0.10, "contact": 0.10},
    Purpose.FIT_CHECK: {"strength": 0.05, "overhang": 0.40, "height": 0.40, "contact": 0.15},
    Purpose.SHOW: {"strength": 0.20, "overhang": 0.50, "height": 0.10, "contact": 0.20},
}


def survey(
    mesh: Mesh,
    features: tuple[Feature, ...],
    recipe: Recipe,
    bed: tuple[float, float, float],
    directions: int = NET_DIRECTIONS,
) -> Ground:
    """What the shape alone says: each direction of the net estimated, the likely ones cut for real."""
    net = sphere(directions)
    found = candidates(mesh, features, recipe)
    feet = tuple(footing(mesh, n, recipe, bed) for n in found)
    shape = standing(mesh, np.vstack([net, *found]), recipe)
    return Ground(net, shape, fitting(mesh, net, bed), np.array(found), feet)


def rank(
    mesh: Mesh,
    features: tuple[Feature, ...],
    s: Strength,
    purpose: Purpose,
    bed: tuple[float, float, float],
    ground: Ground,
    keep: int = 7,
) -> Ranking:
    """Rate the net and the candidates, add what the net itself finds best, and order by the purpose's weights."""
    every = rate(s.field, s.limits, np.vstack([ground.directions, ground.found]))
    count = len(ground.directions)
    chosen = list(range(count, len(every.reserve)))
    feet = list(ground.feet)
    strongest = int(np.argmax(every.reserve[:count]))
    guessed = _net_score(every, ground.shape, s.target, float(mesh.areas.sum()), purpose)[:count]
    for i in (strongest, *net_maxima(ground.directions, guessed, _OWN)):
        if is_new(every.directions[i], every.directions[chosen]):
            chosen.append(i)
            feet.append(footing(mesh, every.directions[i], s.recipe, bed))
    net, shape = every.part(slice(0, count)), ground.shape.part(slice(0, count))
    rated, shapes, found = every.part(chosen), ground.shape.part(chosen), every.directions[chosen]
    orientations = []
    shares = _shares(mesh, shapes, feet)
    for i, n in enumerate(found):
        overhang, foot = float(shapes.overhang[i]), feet[i]
        reserve = rated.range_of(i)
        made = _describe("", mesh, features, s.field, rated, (0.0, i, n, foot, reserve, overhang, s.target))
        orientations.append(replace(made, shares=shares[i]))
    plain = Ranking(net, shape, (), s.target, ground.fits, tuple(orientations), purpose)
    return weighed(plain, WEIGHTS[purpose], keep)


def _net_score(rated: Ratings, shape: Standing, target: float, surface: float, purpose: Purpose) -> Array:
    """About what a way would score, of each direction, as if it rested on a point."""
    weights, held = WEIGHTS[purpose], rated.reserve * rated.spread[:, 0] / target
    resting = _of_shares((shape.overhang / surface, shape.height / shape.height.max(), 0.0), weights)
    return np.asarray(resting + _of_strength(held, weights, purpose))


def _shares(mesh: Mesh, shapes: Standing, feet: Sequence[Footing]) -> list[tuple[float, float, float]]:
    """Of each way what leans over the whole surface, its height over the tallest, its contact over the broadest."""
    surface, tallest = float(mesh.areas.sum()), max(f.height for f in feet)
    broadest = max(float(shapes.contact.max()), 1.0)
    every = zip(shapes.overhang.tolist(), feet, strict=True)
    return [(leans / surface, f.height / tallest, min(f.contact / broadest, 1.0)) for leans, f in every]


def weighed(ranking: Ranking, weights: Mapping[str, float], keep: int = 7) -> Ranking:
    """The short list put in order by other weights; limits come first whatever they are."""
    scored = [replace(w, score=_score(w, ranking, weights)) for w in ranking.every]
    return replace(ranking, orientations=_short_list(scored, keep))


def _short_list(scored: list[RatedOrientation], keep: int) -> tuple[RatedOrientation, ...]:
    """The best, named by letters. One that leans is listed only where it beats every flat one by a tenth of what is
    weighed: nobody props a part up for less."""
    flat = max((w.score for w in scored if w.lies_flat), default=-math.inf)
    kept = sorted((w for w in scored if w.lies_flat or w.score > flat + _PROPPED), key=lambda w: -w.score)
    return tuple(replace(w, letter=letter) for letter, w in zip("ABCDEFGHIJ", kept[:keep], strict=False))


def in_own_order(ranking: Ranking, own: Mapping[Weighed, float]) -> Ranking:
    """The short list in the order the person's ``own`` weights give, the purpose's standing for those not named."""
    return weighed(ranking, WEIGHTS[ranking.purpose] | {str(k): v for k, v in own.items()}) if own else ranking


def listed_orientation(
    orientations: Iterable[RatedOrientation], direction: tuple[float, float, float]
) -> RatedOrientation | None:
    """The one of some ways that lies in ``direction``."""
    return next((w for w in orientations if same_direction(w.direction, direction)), None)


def plain_orientations(
    mesh: Mesh,
    features: tuple[Feature, ...],
    purpose: Purpose,
    weights: Mapping[str, float],
    ground: Ground,
    keep: int = 7,
) -> tuple[RatedOrientation, ...]:
    """The short list of a part without a load: by support, height and contact alone; reserves are not a number."""
    count = len(ground.directions)
    shapes = ground.shape.part(slice(count, None))
    shares = _shares(mesh, shapes, ground.feet)
    nothing = Range(float("nan"), float("nan"), float("nan"))
    orientations = []
    for i, (n, foot) in enumerate(zip(ground.found, ground.feet, strict=True)):
        overhang = float(shapes.overhang[i])
        a, b, c = (float(v) for v in n)
        gives = _gives_up(foot, overhang)
        flat = lies_flat(mesh, features, n)
        words = _title(n, flat), nothing, float("nan"), "", (0.0, 0.0, 0.0), "", 0.0, ""
        reason = "No load is stated: chosen by support, height and bed."
        made = RatedOrientation(
            "",
            (a, b, c),
            *words,
            foot,
            overhang,
            float("nan"),
            0.0,
            reason,
            gives,
            shares[i],
            flat,
        )
        orientations.append(replace(made, score=_shape_score(made, WEIGHTS[purpose] | dict(weights))))
    return _short_list(orientations, keep)


def _shape_score(w: RatedOrientation, weights: Mapping[str, float]) -> float:
    score = float(_of_shares(w.shares, weights))
    if not w.footing.fits:
        score -= 3
    if not w.footing.stands:
        score -= 1
    return score


def _score(w: RatedOrientation, ranking: Ranking, weights: Mapping[str, float]) -> float:
    return _shape_score(w, weights) + float(_of_strength(w.reserve.low / ranking.target, weights, ranking.purpose))


Weighable = float | Array  # of one way, or of each of many


def _of_shares(shares: tuple[Weighable, Weighable, Weighable], weights: Mapping[str, float]) -> Weighable:
    """What leaning, height and contact make of the score."""
    leans, tall, broad = shares
    return weights["contact"] * broad - weights["overhang"] * leans - weights["height"] * tall


def _of_strength(held: Weighable, weights: Mapping[str, float], purpose: Purpose) -> Weighable:
    """What the low end of the reserve over the need makes of the score."""
    # Strength beyond twice the need buys nothing; up to it, it does.
    score = weights["strength"] * np.minimum(held, 2.0) / 2
    if purpose is not Purpose.WORKING:
        return np.asarray(score)
    return np.asarray(score - np.where(np.less(held, 1), 1.5 - held, 0.0))  # short of the need it is what matters


def rate_orientation(
    letter: str,
    mesh: Mesh,
    features: tuple[Feature, ...],
    s: Strength,
    bed: tuple[float, float, float],
    direction: Array,
) -> RatedOrientation:
    """One direction by itself, as when a pin on the net is dragged."""
    n = np.asarray(direction, float) / np.linalg.norm(direction)
    rated = rate(s.field, s.limits, n[None])
    foot = footing(mesh, n, s.recipe, bed)
    overhang = float(standing(mesh, n[None], s.recipe).overhang[0])
    reserve = rated.range_of(0)
    return _describe(letter, mesh, features, s.field, rated, (0.0, 0, n, foot, reserve, overhang, s.target))


def _describe(
    letter: str,
    mesh: Mesh,
    features: tuple[Feature, ...],
    field: StressField,
    rated: Ratings,
    orientation: tuple[float, int, Array, Footing, Range, float, float],
) -> RatedOrientation:
    score, i, n, foot, reserve, overhang, target = orientation
    at = field.points[rated.point[i]]
    x, y, z = (float(v) for v in at)
    flat = lies_flat(mesh, features, n)
    height, name = _where(mesh, features, n, at)
    rule = field.rule(int(rated.point[i]))
    mode = mode_words(field, int(rated.point[i]), int(rated.mode[i]))
    case = field.cases[rated.case[i]].name
    verb = {
        0: f"{case} pulls the layers apart",
        1: f"{case} shears the layers",
        2: f"{case} pulls along the layers",
        3: f"{case} presses along the layers",
        4: f"{case} makes it yield",
    }[int(rated.mode[i])]
    if rule is not None:
        verb = f"{case}: {rule.words}{', by hand' if rule.by_hand else ''}"
    reason = f"{verb[0].upper()}{verb[1:]} at {height:.0f} mm, {name}."
    a, b, c = (float(v) for v in n)
    return RatedOrientation(
        letter,
        (a, b, c),
        _title(n, flat),
        reserve,
        float(rated.interlayer_reserve[i]),
        mode,
        (x, y, z),
        name,
        height,
        case,
        foot,
        overhang,
        target,
        score,
        reason,
        _gives_up(foot, overhang),
        lies_flat=flat,
    )


def steadied(mesh: Mesh, features: tuple[Feature, ...], ranking: Ranking, stability: Stability) -> Ranking:
    """The ways with none above what buckles first, by the low end, in the order that this gives."""
    every = tuple(held_to(mesh, features, w, stability) for w in ranking.every)
    least = stability.reserve.value
    net = replace(ranking.net, reserve=np.minimum(ranking.net.reserve, least))
    return weighed(replace(ranking, every=every, net=net), WEIGHTS[ranking.purpose])


def held_to(
    mesh: Mesh, features: tuple[Feature, ...], w: RatedOrientation, stability: Stability | None
) -> RatedOrientation:
    """A way as ``stability`` leaves it: it buckles before anything breaks, or is as it was; None where that was not
    looked for."""
    if stability is None:
        return w
    reserve = steadied_range(w.reserve, stability)
    if w.reserve.low <= stability.reserve.low:
        return replace(w, reserve=reserve)
    height, name = _where(mesh, features, np.array(w.direction), np.array(stability.place))
    case = stability.case
    reason = f"{case[:1].upper()}{case[1:]} buckles it, giving way most at {height:.0f} mm, {name}."
    return replace(
        w,
        reserve=reserve,
        mode=BUCKLES,
        place=stability.place,
        place_name=name,
        place_height=height,
        case=case,
        reason=reason,
    )


def _where(mesh: Mesh, features: tuple[Feature, ...], n: Array, at: Array) -> tuple[float, str]:
    """How high over the bed a place lies with ``n`` up, mm, and what it is near."""
    return float(at @ n - (mesh.vertices[mesh.used] @ n).min()), near_feature(mesh, features, at)


def _gives_up(foot: Footing, overhang: float) -> str:
    gives = []
    if not foot.fits:
        gives.append("Too large for the bed this way.")
    if foot.contact < 30.0 and foot.height > 5.0:  # where a raft is advised
        gives.append("Next to nothing to stand on: a raft, or cut it in two.")
    elif not foot.stands:
        gives.append("Tips over without help." if overhang <= 30 else "Tips over.")
    elif foot.lean < 0.25:
        gives.append("Stands narrow; give it a brim.")
    if overhang > 30:
        # Two of them must find room on one line of the list.
        words = "leans" if gives else "leans too far"
        gives.append(f"{overhang / 100:.1f} cm² {words}; support it.")
    return " ".join(gives) if gives else "Needs no support."


_DOWN = {
    (0, 0, 1): "As drawn",
    (0, 0, -1): "Upside down",
    (1, 0, 0): "On its left end",
    (-1, 0, 0): "On its right end",
    (0, 1, 0): "On its front",
    (0, -1, 0): "On its back",
}


def _title(n: Array, flat: bool) -> str:
    """How it lies in plain words: left is -X of the drawing, the front -Y."""
    axis, near = max(((a, float(np.dot(a, n))) for a in _DOWN), key=lambda p: p[1])
    if near > 0.999:
        return _DOWN[axis] if flat else f"{_DOWN[axis]}, edges only"
    words = _DOWN[axis][0].lower() + _DOWN[axis][1:]
    return f"On a slope, mostly {words}" if flat else f"Leaning, mostly {words}"


def near_feature(mesh: Mesh, features: tuple[Feature, ...], point: Array) -> str:
    """'at hole 2' or 'between ...': words for a place, by the named feature whose surface is nearest."""
    best, nearest = None, 1e9
    for f in features:
        if f.kind == "fillet" and f.length is not None and f.length < 1:
            continue
        d = float(np.linalg.norm(mesh.vertices[mesh.faces[f.faces]] - point, axis=2).min())
        if f.kind == "flat":
            n = np.asarray(f.axis)
            d = max(d * 0.5, abs(float((np.asarray(f.centre) - point) @ n)))
        if d < nearest:
            best, nearest = f, d
    return f"near {best.title.lower()}" if best is not None else "on the plain surface"
