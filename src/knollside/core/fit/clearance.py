"""Bodies printed in place: the smallest gap of each pair, in the layer and across it, and whether it comes free.

In the layer a gap prints narrower by what outsides grow and insides shrink (docs/methods.md 7.1); across the layers it
comes in whole layers, by where their borders lie. The lowest layers flare and narrow the gap once more.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np
import shapely
from scipy.special import ndtr

from knollside.core.fit.flaring import LAYERS
from knollside.core.fit.freeing import chance_freed
from knollside.core.fit.joints import Joint, joint_of
from knollside.core.fit.layering import Layering
from knollside.core.fit.posterior import Foretold
from knollside.core.mesh.columns import Facing, facing_up
from knollside.core.mesh.distance import shortest
from knollside.core.mesh.slicer import cut, polygon_of
from knollside.core.mesh.topology import bodies_of
from knollside.core.model import Array, Feature, Mesh, Range, Recipe, Refused, rotation_to_up

RATTLES = 0.45  # printed gap a side past which a joint rattles
FACES = 1.5  # mm; nothing nearer than this across the layers: nothing faces it
MOST_LAYERS = 3000
MOST_BODIES = 12
_LINES = 0.15  # mm between the upright lines along which the layers between two bodies are counted
_SPOT = 0.05  # mm2 that must face each other to weld
_COUNTS = 0.02  # mm by which a place must be narrower to be told by itself

_FIRST = "lay the first layer"


@dataclass(frozen=True)
class Across:
    """Where one body lies over the other: the least ``drawn`` height between them and the height above the bed it
    ``starts`` at, mm; how many layers stay empty there as the layers' borders lie, and the ``most`` that would if the
    first layer were ``first`` mm (None: none is better)."""

    drawn: float
    starts: float
    layers: int
    most: int
    first: float | None
    layering: Layering


@dataclass(frozen=True)
class Place:
    """Where two bodies come near: the least gap in one layer with the height it is at (None: they share no layer), the
    least ``across`` the layers (None: nothing faces it), the least in the flaring first layers (None: not both
    there); mm."""

    in_layer: float | None
    in_layer_at: float
    across: Across | None
    lowest: float | None

    def tighter(self, other: Place) -> bool:
        """Whether it is narrower than another by what counts."""
        in_layer = _or_far(self.in_layer) < _or_far(other.in_layer) - _COUNTS
        low = _or_far(self.lowest) < _or_far(other.lowest) - _COUNTS
        mine, its = self.across, other.across
        return in_layer or low or (mine is not None and (its is None or mine.layers < its.layers))


def _or_far(gap: float | None) -> float:
    return math.inf if gap is None else gap


@dataclass(frozen=True)
class Gap:
    """Two bodies: their shortest distance as drawn and ``at`` where (part's frame), the ``joint`` they make, where it
    bears (None: no joint), and the narrowest anywhere."""

    bodies: tuple[int, int]
    smallest: float
    at: tuple[float, float, float]
    joint: Joint | None
    bears: Place | None
    anywhere: Place

    @property
    def size(self) -> float:
        """The drawn gap a side: where it bears, or the least anywhere of what makes no joint, mm."""
        return self.smallest if self.joint is None else self.joint.gap


@dataclass(frozen=True)
class Freedom:
    """Whether a gap comes free: printed gap a side where it bears with its doubt, the chances to weld, to turn and to
    rattle, and in words what decides it and what would cure it. ``open_to`` is the drawn gap a side that would, mm."""

    gap: Gap
    printed: Range
    welds: float
    turns: float
    rattles: float
    why: str
    cure: str
    open_to: float

    @property
    def first_layer(self) -> float | None:
        """The first layer that would free it across the layers, mm; None where no other one does."""
        over = (self.gap.bears or self.gap.anywhere).across
        return over.first if over is not None and over.first is not None and _FIRST in self.cure else None


def split_bodies(mesh: Mesh) -> list[Mesh]:
    """Each body by itself, in the order of its first triangle."""
    count, label = bodies_of(mesh)
    out = []
    for k in range(count):
        faces = mesh.faces[label == k]
        used, fresh = np.unique(faces, return_inverse=True)
        out.append(Mesh(mesh.vertices[used], fresh.reshape(-1, 3)))
    return out


def gaps(
    mesh: Mesh,
    direction: tuple[float, float, float],
    recipe: Recipe,
    nozzle: float = 0.4,
    features: tuple[Feature, ...] = (),
) -> tuple[Gap, ...]:
    """Every pair of bodies that come within 3 mm of each other, the tightest first.

    Layers begin with the first layer that is advised for a ``nozzle`` of so many mm. Refuses more than 12 bodies and
    more than 3,000 layers.
    """
    parts = split_bodies(mesh)
    if len(parts) > MOST_BODIES:
        raise Refused(f"{len(parts)} bodies are more than are looked at pair by pair ({MOST_BODIES}).")
    turn = rotation_to_up(direction)
    stand = _Stand(turn, float((mesh.vertices @ turn[2]).min()), Layering(recipe.layer_height, recipe.first_mm(nozzle)))
    boxes = [p.bounds for p in parts]
    laid: dict[int, _Laid] = {}
    out = []
    for i in range(len(parts)):
        for j in range(i + 1, len(parts)):
            apart = np.maximum(np.maximum(boxes[i][0] - boxes[j][1], boxes[j][0] - boxes[i][1]), 0.0)
            if np.linalg.norm(apart) > 3.0:
                continue
            small, large = (i, j) if len(parts[i].faces) <= len(parts[j].faces) else (j, i)
            near = shortest(parts[small], parts[large])
            if near.distance > 3.0:
                continue
            for k in (i, j):
                if k not in laid:
                    laid[k] = _Laid(stand, parts[k])
            x, y, z = (float(v) for v in (near.at[0] + near.at[1]) / 2)
            joint = joint_of(mesh, features, (i, j))
            facing = facing_up(laid[i].mesh, laid[j].mesh, _LINES)
            anywhere = _place(laid[i], laid[j], facing, stand, nozzle)
            bears = None if joint is None else _place(laid[i], laid[j], facing, stand, nozzle, joint)
            out.append(Gap((i, j), near.distance, (x, y, z), joint, bears, anywhere))
    return tuple(sorted(out, key=lambda g: g.smallest))


@dataclass(frozen=True)
class _Stand:
    """How a part lies: its turn, the height of its lowest point, and its layers."""

    turn: Array
    base: float
    layering: Layering


class _Laid:
    """A body as it lies on the bed, with its outline in every layer it reaches."""

    def __init__(self, stand: _Stand, mesh: Mesh) -> None:
        turned = mesh.turned(stand.turn)
        self.mesh = Mesh(turned.vertices - np.array([0.0, 0.0, stand.base]), turned.faces)
        low, high = (float(v) for v in self.mesh.bounds[:, 2])
        middles = stand.layering.middles(high)
        if len(middles) > MOST_LAYERS:
            h = stand.layering.height
            raise Refused(
                f"{len(middles):,} layers of {h:g} mm are more than can be looked at one by one ({MOST_LAYERS:,})."
            )
        self.first = int(np.searchsorted(middles, low))
        cuts = cut(self.mesh, middles[self.first :])
        self.layers: list[shapely.Geometry] = []
        for k in range(len(middles) - self.first):
            # Between upright walls one layer is the next: cut once.
            same = k > 0 and np.array_equal(cuts.at(k), cuts.at(k - 1))
            self.layers.append(self.layers[-1] if same else polygon_of(cuts.at(k)))

    def within(self, low: int, high: int) -> np.ndarray:
        """Outlines of layers ``low`` to ``high``, which it reaches."""
        return np.array(self.layers[low - self.first : high - self.first], object)

    @property
    def last(self) -> int:
        """One past its last layer."""
        return self.first + len(self.layers)


def _place(a: _Laid, b: _Laid, facing: Facing, stand: _Stand, nozzle: float, joint: Joint | None = None) -> Place:
    """The narrowest of two bodies, only where a ``joint`` bears if one is given."""
    room = None if joint is None else _Laid(stand, joint.region())
    many = [a, b] if room is None else [a, b, room]
    low, high = max(x.first for x in many), max(min(x.last for x in many), max(x.first for x in many))
    one, two = a.within(low, high), b.within(low, high)
    if room is not None and high > low:
        inside = room.within(low, high)
        one, two = shapely.intersection(one, inside), shapely.intersection(two, inside)
    apart = np.full(high - low, np.inf)
    shared = np.zeros(0, bool) if high == low else ~(shapely.is_empty(one) | shapely.is_empty(two))
    apart[shared] = shapely.distance(one[shared], two[shared])
    least = int(np.argmin(apart)) if shared.any() else -1
    if least >= 0 and apart[least] > FACES:
        least = -1  # what is so far off does not face it
    lowest = apart[: max(LAYERS - low, 0)].min(initial=np.inf)
    over = _across(facing, stand, nozzle, joint)
    return Place(
        float(apart[least]) if least >= 0 else None,
        stand.layering.middle(low + least) if least >= 0 else 0.0,
        over,
        float(lowest) if np.isfinite(lowest) else None,
    )


def _across(f: Facing, stand: _Stand, nozzle: float, joint: Joint | None) -> Across | None:
    """The least between the two where one lies over the other on at least 0.05 mm2."""
    layering = stand.layering
    near = f.high - f.low < FACES
    if joint is not None and near.any():
        middle = np.stack([f.x, f.y, (f.low + f.high) / 2 + stand.base], axis=1)
        near[near] = joint.holds(middle[near] @ stand.turn)
    low, high = f.low[near], f.high[near]
    enough = int(np.ceil(_SPOT / f.cell))
    if len(low) < enough:
        return None
    order = np.argsort(high - low, kind="stable")[: max(enough, 1)]

    def least(layers: Layering) -> int:
        return int(np.partition(layers.empty(low, high), enough - 1)[enough - 1])

    now = best = least(layering)
    first = None
    for h in layering.firsts(nozzle)[1:]:
        found = least(Layering(layering.height, float(h)))
        if found > best:
            best, first = found, float(h)
    at = order[-1]
    return Across(float(high[at] - low[at]), float(low[at]), now, best, first, layering)


def freedom(gap: Gap, side: Foretold, source: str, frees: Range, across: Range, flare: Range) -> Freedom:
    """What comes of a gap on this printer. ``side``: printed less drawn gap, mm a side, of one print of both bodies,
    and its ``source``; ``frees`` and ``across`` the drawn gaps that come free, in the layer and across it; ``flare``
    the foot's growth. Of a joint the gap where it bears is told; where another place is tighter, it welds by that."""
    bears = gap.bears or gap.anywhere
    printed, found = _judged(gap, bears, side, source, frees, across, flare)
    if gap.bears is not None and gap.anywhere.tighter(gap.bears):
        _, beside = _judged(gap, gap.anywhere, side, source, frees, across, flare)
        if beside.welds > found.welds:
            found = replace(beside, why=f"beside where it bears, {beside.why}")
    rattles = (1 - found.welds) * float(ndtr((printed.value - RATTLES) / side.sigma))
    turns = max(1 - found.welds - rattles, 0.0)
    cure, open_to = found.cure, found.open_to
    if found.welds < 0.1:
        cure, open_to = "", gap.smallest
        if rattles > 0.5:
            open_to = RATTLES - side.mean - 1.645 * side.sigma
            cure = f"close it to {open_to:.2f} mm a side"
    return Freedom(gap, printed, found.welds, turns, rattles, found.why, cure, open_to)


@dataclass(frozen=True)
class _Welding:
    welds: float
    why: str
    cure: str
    open_to: float


def _judged(
    gap: Gap, place: Place, side: Foretold, source: str, frees: Range, across: Range, flare: Range
) -> tuple[Range, _Welding]:
    """The printed gap of a place and the chance that it welds."""
    shrink, scatter = -side.mean, side.sigma
    drawn = place.in_layer if place.in_layer is not None else gap.smallest
    printed = Range(drawn - shrink, drawn - shrink - 1.645 * scatter, drawn - shrink + 1.645 * scatter, source)
    # Bodies that share no layer can only weld across them.
    welds = 1 - chance_freed(drawn, frees) if place.in_layer is not None else 0.0
    sure = frees.value + 1.645 * math.hypot((frees.high - frees.low) / 2 / 1.645, 0.03)
    found = _Welding(
        welds,
        f"{drawn:.2f} mm drawn in the layer prints at about {printed.value:.2f} mm; {frees.value:.2f} drawn comes free",
        f"open it to {sure:.2f} mm a side",
        sure,
    )
    if place.lowest is not None:
        # Both bodies flare towards each other.
        left = place.lowest - shrink - 2 * flare.value
        sigma = math.hypot(scatter, 2 * (flare.high - flare.low) / 2 / 1.645)
        low = float(ndtr((0.05 - left) / sigma))  # a thread of flare snaps when it is turned
        if low > found.welds:
            ends = f"leave about {left:.2f} mm" if left > 0.02 else "close it"
            why = f"{place.lowest:.2f} mm in the first layers: they flare and {ends}"
            cure = "take the flare off the bottom edges (below), or raise the lower body by a layer or two"
            found = _Welding(low, why, cure, gap.smallest)
    over = place.across
    if over is not None:
        stuck = 1 - chance_freed(over.layers * over.layering.height, across)
        if stuck > found.welds:
            found = _Welding(stuck, empty_layers(over), _more_layers(over, across), gap.smallest)
    return printed, found


def empty_layers(over: Across) -> str:
    """In words, what the layers leave of a gap across them, and what other borders of layers would."""
    layers = f"{over.layers} empty layer{'' if over.layers == 1 else 's'}" if over.layers else "no empty layer"
    words = f"{over.drawn:.2f} mm across the layers, from {over.starts:.2f} mm up: {layers}"
    if over.first is None:
        return words
    return f"{words}, {over.most} with a first layer of {over.first:.2f} mm in place of {over.layering.first:.2f}"


def _more_layers(over: Across, across: Range) -> str:
    """What would leave enough of them."""
    h = over.layering.height
    need = math.ceil((across.value + 1.645 * (across.high - across.low) / 3.29) / h)
    if over.first is not None and over.most >= need:
        return f"{_FIRST} {over.first:.2f} mm high: then {over.most} layers stay empty"
    return f"leave {need} layers, {need * h:.2f} mm, across the layers"
