"""Where a print will need cleaning, in order: supports, strands, strings, the foot, the seam, and holes to drill.

From the layers of the way it lies: what is held and what sags (:mod:`supports`), where a layer is in several islands
that the nozzle travels between (strings), where the foot flares (the bed's outline), where the seam may run. Tools and
care are rules of practice. A hole is drilled where what goes in leaves room for a drill's own size and scraping would
leave it out of round: it lies, or a support stood in it.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from enum import StrEnum

import numpy as np
import shapely

from knollside.core.lay.bed_adhesion import BedAdhesion
from knollside.core.lay.peel import newtons
from knollside.core.lay.seams import SeamAdvice
from knollside.core.lay.strata import Strata
from knollside.core.lay.supports import Region, held
from knollside.core.model import Feature, SupportSettings

Vec = tuple[float, float, float]
NEAR_WEAK = 10.0  # mm from a weak place within which the part is held between it and the pull
STRING_REACH = 60.0  # mm of travel beyond which hardly a string holds
_DRILLS = tuple(round(0.1 * k, 1) for k in range(10, 131))  # mm: to 13 in tenths
SMALL = 40.0  # mm2 of a sagged underside below which it is done with the others
_MOST_STRINGS = 3  # places told one by one
_ISLAND = 1.0  # mm2 of an island that counts
_LOOKED = 12  # layers of a support that are looked at for its way out
_SIDES = ("right", "back", "left", "front")


class Mess(StrEnum):
    """What is there to clean."""

    BRIM = "brim or raft"
    SUPPORT = "support"
    STRANDS = "sagged strands"
    STRINGS = "strings"
    FOOT = "burr at the foot"
    SEAM = "seam"
    DRILL = "hole to drill"


@dataclass(frozen=True)
class Chore:
    """One place to clean, in the part's frame: what, where (``low`` to ``high`` mm over the bed), the tool, how and
    which way, and what to mind. ``faces``: triangles that it lies on, by number."""

    mess: Mess
    at: Vec
    low: float
    high: float
    tool: str
    how: str
    care: tuple[str, ...] = ()
    faces: tuple[int, ...] = ()
    size: float = 0.0  # mm2, mm or the drill's mm: what it is ordered by
    many: int = 1  # places that are done alike


@dataclass(frozen=True)
class Wanted:
    """A hole that something goes into: its feature, the sizes that fit, mm, what goes in, and how it is expected to
    come out."""

    feature: str
    low: float
    high: float
    words: str
    printed: float


CAUTIONS = (
    "Cut away from yourself and from the hand that holds it.",
    "Glasses on: cut supports and brims fly.",
    "Sand wet or outside: the dust of fibres and of plastic is not for lungs.",
    "Solvents, glue and hot air only where air moves; gloves, no flame near.",
)


def chores(
    strata: Strata,
    found: Sequence[Region],
    settings: SupportSettings,
    bed: BedAdhesion,
    seam: SeamAdvice | None,
    features: Sequence[Feature],
    weak: Sequence[Vec],
    wanted: Sequence[Wanted],
) -> tuple[Chore, ...]:
    """All of it, in the order it is done."""
    out = [_brim(strata, bed)] if bed.kind != "nothing" else []
    stood = [r for r in found if held(r, settings)]
    out += sorted((_support(strata, r, weak) for r in stood), key=lambda c: (c.tool != "flat pliers", -c.size))
    sagging = [r for r in found if not held(r, settings) and r.kind in ("bridge", "arch", "ledge")]
    out += _strands(sagging)
    out += _strings(strata, weak)
    out.append(_foot(strata, features))
    if seam is not None:
        how = f"Draw a blade held square down the line at the {seam.side}, once or twice."
        out.append(Chore(Mess.SEAM, seam.best, 0.0, strata.level(len(strata.outline)), "scraper or blade", how))
    out += _alike([c for w in wanted if (c := _drilled(w, features, strata, stood)) is not None])
    return tuple(out)


def _alike(drilled: list[Chore]) -> list[Chore]:
    """Holes that the same drill does for the same reason, as one."""
    out: dict[str, Chore] = {}
    for c in drilled:
        before = out.get(c.how)
        out[c.how] = c if before is None else replace(before, faces=(*before.faces, *c.faces), many=before.many + 1)
    return [c if c.many == 1 else replace(c, how=f"{c.many} holes. {c.how}") for c in out.values()]


def _brim(strata: Strata, bed: BedAdhesion) -> Chore:
    at = _edge(strata, 0)
    how = f"Bend the {bed.kind} off by hand, then a blade along the edge, flat to the part."
    return Chore(Mess.BRIM, at, 0.0, strata.h, "hand, then a blade", how, size=bed.width)


def _support(strata: Strata, r: Region, weak: Sequence[Vec]) -> Chore:
    side = _way_out(strata, r)
    if r.access == "outside":
        tool = "flat pliers" if r.area > 40 else "needle pliers"
        how = f"Grip it low, rock it, pull to the {side}; {newtons(r.force)}."
    elif r.access == "through an opening":
        tool, how = "hook and needle pliers", "Break it up with a hook and draw the pieces through the opening."
    else:
        tool, how = "none reaches it", "It is shut in: it stays, or lay the part another way."
    care = [f"It scars {', '.join(r.scars)}: leave the last layer to a file"] if r.scars else []
    if r.risk is not None and r.risk >= 1:
        care.append("The ledge may break with it: cut the support in strips first")
    care += _by_weak(r.at, weak)
    return Chore(Mess.SUPPORT, r.at, r.low, r.high, tool, how, tuple(care), tuple(int(f) for f in r.faces), size=r.area)


def _strands(found: Sequence[Region]) -> list[Chore]:
    """Undersides that sag: the larger ones each, the small ones as one."""
    large = sorted((r for r in found if r.area >= SMALL), key=lambda r: -r.area)
    small = sorted((r for r in found if r.area < SMALL), key=lambda r: r.low)
    out = [_sagged(r) for r in large]
    if small:
        many = "" if len(small) == 1 else f" {len(small)} small places, from {small[0].low:.0f} mm up."
        first = _sagged(small[0])
        faces = tuple(sorted({int(f) for r in small for f in r.faces}))
        out.append(replace(first, high=max(r.high for r in small), how=first.how + many, faces=faces))
    return out


def _sagged(r: Region) -> Chore:
    how = "Cut loose strands flush, then a scraper along them, not across."
    return Chore(
        Mess.STRANDS, r.at, r.low, r.high, "side cutter", how, faces=tuple(int(f) for f in r.faces), size=r.area
    )


def _strings(strata: Strata, weak: Sequence[Vec]) -> list[Chore]:
    """Runs of layers that are in several islands near one another: what hangs between them."""
    between: list[tuple[int, Vec, float]] = []
    for k, outline in enumerate(strata.outline):
        parts = [p for p in shapely.get_parts(outline) if p.area >= _ISLAND]
        if len(parts) < 2:
            continue
        line = _nearest(parts)
        if line is not None and line.length <= STRING_REACH:
            between.append((k, _place(strata, line.centroid.x, line.centroid.y, k), line.length))
    out = []
    for run in _runs(between):
        _, at, wide = run[len(run) // 2]
        how = f"They hang over {wide:.0f} mm: hot air from 15 cm for two seconds, or a stiff brush."
        low, high = strata.level(run[0][0]), strata.level(run[-1][0] + 1)
        out.append(
            Chore(Mess.STRINGS, at, low, high, "hot air or a brush", how, tuple(_by_weak(at, weak)), size=high - low)
        )
    out = sorted(out, key=lambda c: -c.size)
    rest = out[_MOST_STRINGS:]
    if rest:
        last = out[_MOST_STRINGS - 1]
        more = f" And at {len(rest)} lesser places above and below."
        out[_MOST_STRINGS - 1 :] = [replace(last, how=last.how + more)]
    return out


def _nearest(parts: list[shapely.Geometry]) -> shapely.LineString | None:
    """The shortest line between two of some islands."""
    best = None
    for i, a in enumerate(parts[:12]):
        for b in parts[i + 1 : 12]:
            line = shapely.shortest_line(a, b)
            if line is not None and (best is None or line.length < best.length):
                best = line
    return best


def _runs(between: list[tuple[int, Vec, float]]) -> list[list[tuple[int, Vec, float]]]:
    """Layers one upon another whose islands are much the same way apart."""
    out: list[list[tuple[int, Vec, float]]] = []
    for one in between:
        last = out[-1][-1] if out else None
        if last is not None and one[0] - last[0] <= 2 and math.dist(one[1], last[1]) < 25.0:
            out[-1].append(one)
        else:
            out.append([one])
    return [r for r in out if len(r) >= 3]


def _foot(strata: Strata, features: Sequence[Feature]) -> Chore:
    """The first layers' flare, at the edge and at the mouths of holes that open on the bed."""
    up = strata.turn.T @ np.array([0.0, 0.0, 1.0])
    mouths = [
        f
        for f in features
        if f.kind in ("hole", "slot", "hexagon") and abs(float(np.dot(f.axis, up))) > 0.95 and _opens(strata, f)
    ]
    more = f" and round {len(mouths)} hole{'s' if len(mouths) > 1 else ''} that open{'s' * (len(mouths) == 1)} there"
    how = f"One pass at 45° along the edge{more if mouths else ''}."
    return Chore(Mess.FOOT, _edge(strata, 0), 0.0, 2 * strata.h, "deburring blade", how)


def _opens(strata: Strata, f: Feature) -> bool:
    """Whether a hole runs out on the bed: there is none of the part at its middle in the first layer."""
    x, y, _ = strata.turn @ np.asarray(f.centre, float)
    here = strata.outline[0]
    spot = shapely.Point(x, y)
    return bool(not here.contains(spot) and shapely.convex_hull(here).contains(spot))


def _drilled(w: Wanted, features: Sequence[Feature], strata: Strata, stood: Sequence[Region]) -> Chore | None:
    """A hole that is better drilled than scraped; None where it is not, or no drill fits."""
    f = next((f for f in features if f.id == w.feature and f.kind == "hole"), None)
    if f is None:
        return None
    up = strata.turn.T @ np.array([0.0, 0.0, 1.0])
    lying = abs(float(np.dot(f.axis, up))) < 0.87
    mine = {int(t) for t in f.faces}
    in_it = any(mine & {int(t) for t in r.faces} for r in stood)
    size = drill_for(w.low, w.high, w.printed)
    if size is None or not (lying or in_it or w.printed < w.low):
        return None
    why = (
        "a support stood in it" if in_it else "it lies, so its roof sags" if lying else f"it comes out {w.printed:.2f}"
    )
    how = f"{size:.1f} mm by hand or slowly, straight, out and in: {why}; for {w.words}."
    return Chore(
        Mess.DRILL,
        f.centre,
        0.0,
        0.0,
        f"drill {size:.1f} mm",
        how,
        ("A fast drill melts and grips: clamp the part",),
        tuple(sorted(mine)),
        size,
    )


def drill_for(low: float, high: float, printed: float) -> float | None:
    """The drill, mm in tenths, that leaves a hole within ``low`` to ``high`` and still cuts where it is ``printed``;
    None where there is none. Plastic gives back a little: a drill cuts about its own size."""
    fit = [d for d in _DRILLS if low <= d <= high and d >= printed - 0.05]
    middle = (low + high) / 2
    return min(fit, key=lambda d: abs(d - middle)) if fit else None


def _by_weak(at: Vec, weak: Sequence[Vec]) -> list[str]:
    near = min((math.dist(at, w) for w in weak), default=math.inf)
    return [f"A weak place is {near:.0f} mm away: hold the part between it and the pull"] if near < NEAR_WEAK else []


def _way_out(strata: Strata, r: Region) -> str:
    """The side of the bed to which a support is pulled: where least of the part stands in the way of it, and of two as
    free the nearer one."""
    x0, y0, x1, y1 = r.outline.bounds
    first, last = r.layers
    layers = strata.outline[first : last + 1]
    here = shapely.union_all([o for o in layers[:: max(len(layers) // _LOOKED, 1)] if not o.is_empty])
    if here.is_empty:
        return _SIDES[0]
    a0, b0, a1, b1 = here.bounds
    ways = (
        (shapely.box(x0, y0, max(a1, x1), y1), a1 - x0),
        (shapely.box(x0, y0, x1, max(b1, y1)), b1 - y0),
        (shapely.box(min(a0, x0), y0, x1, y1), x1 - a0),
        (shapely.box(x0, min(b0, y0), x1, y1), y1 - b0),
    )
    cost = [(round(shapely.intersection(way, here).area, 1), far) for way, far in ways]
    return _SIDES[cost.index(min(cost))]


def _edge(strata: Strata, k: int) -> Vec:
    """A place on a layer's outline, towards the front."""
    outline = strata.outline[k]
    if outline.is_empty:
        return _place(strata, 0.0, 0.0, k)
    points = shapely.get_coordinates(outline)
    x, y = points[int(np.argmin(points[:, 1]))]
    return _place(strata, float(x), float(y), k)


def _place(strata: Strata, x: float, y: float, k: int) -> Vec:
    """A place of layer k in the part's frame."""
    a, b, c = strata.turn.T @ np.array([x, y, strata.base + strata.level(k) + strata.h / 2])
    return float(a), float(b), float(c)
