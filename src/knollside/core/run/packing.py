"""True outlines on as few beds as they go: lowest top edge first on a grid, then the last bed shuffled with others.

After Baker, Coffman and Rivest (bottom-left, 1980) with outlines in place of boxes; a no-fit polygon's answer on a grid
(Bennell and Oliveira 2008). Own cells are tested against others grown by the clearance, every touched cell counted, so
what is free on the grid is free in truth; :func:`check` proves it on the outlines themselves.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from enum import Enum

import numpy as np
import shapely
import shapely.affinity
from shapely.geometry.base import BaseGeometry

from knollside.core.model import Ints, Refused
from knollside.core.run.outlines import CELL, Mask, Reach, cells_of, empty_bed, first_free, grown, mark, mask_of, turned

_SHUFFLES = 160
_DENSEST = 0.85  # no search on outlines gets there
_SAME = 1e-6  # mm


class Turns(Enum):
    """How a piece may be turned about the vertical."""

    FREE = "free"
    QUARTER = "quarter"
    NONE = "none"


@dataclass(frozen=True)
class Item:
    """One copy of a part: ``key`` its part's and the copy's number, as part/copy; ``shape`` its outline from above, mm,
    anywhere; ``name`` for words; ``tall``: it reaches above the bar that the head hangs on."""

    key: str
    name: str
    shape: BaseGeometry
    turns: Turns = Turns.QUARTER
    tall: bool = False

    @property
    def part(self) -> str:
        """The key of its part."""
        return self.key.rpartition("/")[0]

    @property
    def copy(self) -> int:
        return int(self.key.rpartition("/")[2])


@dataclass(frozen=True)
class Placed:
    """Where a piece lies: its outline turned by ``angle`` degrees, lower left at ``x``, ``y`` mm of bed ``plate``."""

    item: Item
    plate: int
    x: float
    y: float
    angle: float
    locked: bool = False

    @property
    def shape(self) -> BaseGeometry:
        return shapely.affinity.translate(turned(self.item.shape, self.angle), self.x, self.y)


@dataclass(eq=False)
class _Bed:
    """One bed being filled: ``base`` is it with what nobody may move, ``taken`` with all; first of two maps for what is
    low, second for tall pieces, which keep out of each other's rows besides."""

    base: tuple[Ints, Ints]
    taken: tuple[Ints, Ints]
    pieces: list[tuple[Item, Mask, int, int]] = field(default_factory=list)
    locked: tuple[Placed, ...] = ()
    lowest: dict[tuple[Mask, bool], int] = field(default_factory=dict)

    @property
    def area(self) -> float:
        return float(sum(i.shape.area for i, *_ in self.pieces))


@dataclass(frozen=True)
class Spacing:
    """``clearance`` mm between pieces, ``edge`` to the bed's rim. Where pieces are printed one after another, ``reach``
    mm in X and Y that besides keep the head off what stands, and ``rows`` mm in Y that keep the bar off, between two
    that are taller than it hangs."""

    clearance: float = 2.0
    edge: float = 0.0
    reach: Reach = None
    rows: float = 0.0


@dataclass(frozen=True)
class Packing:
    """``plates`` beds with what lies on each."""

    placed: tuple[Placed, ...]
    plates: int
    bed: tuple[float, float]
    spacing: Spacing

    def on(self, plate: int) -> tuple[Placed, ...]:
        return tuple(p for p in self.placed if p.plate == plate)


def angles_of(item: Item) -> tuple[float, ...]:
    """The turns that are tried, degrees."""
    if item.turns is Turns.NONE:
        return (0.0,)
    quarter = (0.0, 90.0, 180.0, 270.0)
    if item.turns is Turns.QUARTER:
        return quarter
    box = np.asarray(shapely.get_coordinates(shapely.minimum_rotated_rectangle(item.shape)))
    side = max(np.diff(box, axis=0)[:2], key=lambda v: float(np.hypot(*v)))
    lean = round(-float(np.degrees(np.arctan2(side[1], side[0]))) % 90.0, 2)
    more = (lean, (lean + 45.0) % 90.0, 45.0) if 0.5 < lean < 89.5 else (45.0,)
    return tuple(dict.fromkeys((*quarter, *(a + q for a in more for q in quarter))))


def room_for(bed: tuple[float, float], edge: float) -> tuple[float, float]:
    return bed[0] - 2 * edge, bed[1] - 2 * edge


def too_large(items: Iterable[Item], bed: tuple[float, float], edge: float = 0.0) -> list[str]:
    """In words, what fits an empty bed in none of its turns."""
    wide, high = room_for(bed, edge)
    out = []
    for name, item in {i.name: i for i in items}.items():
        sizes = [turned(item.shape, a).bounds[2:] for a in angles_of(item)]
        if not any(w <= wide + _SAME and h <= high + _SAME for w, h in sizes):
            w, h = min(sizes, key=lambda s: max(s[0] - wide, s[1] - high))
            out.append(f"{name} is {w:.0f} by {h:.0f} mm from above; {wide:.0f} by {high:.0f} mm are free.")
    return out


def pack(
    items: Iterable[Item],
    bed: tuple[float, float],
    spacing: Spacing,
    locked: Iterable[Placed] = (),
    tick: Callable[[float], None] = lambda share: None,
) -> Packing:
    """Lay pieces out on beds of (width, depth) mm; ``locked`` ones stay where they are. Deterministic. Raises
    :class:`Refused` for what fits no bed."""
    pieces, kept = list(items), tuple(locked)
    wrong = too_large(pieces, bed, spacing.edge)
    if wrong:
        raise Refused(" ".join(wrong))
    if not 0 <= spacing.clearance <= 60:
        raise Refused(f"A clearance of {spacing.clearance:g} mm is out of 0 to 60.")
    room = room_for(bed, spacing.edge)
    beds = _with_locked(kept, room, spacing)
    if clash := _clashes(kept, spacing.clearance):
        raise Refused(f"What is held in place overlaps: {clash[0]}.")
    # Areas alike to a few percent go in the order they came, so that copies stay together.
    order = sorted(pieces, key=lambda i: -round(float(np.log(max(i.shape.area, 1.0))), 1))
    for i, item in enumerate(order):
        _anywhere(item, beds, room, spacing)
        tick(0.5 * (i + 1) / len(order))
    _shuffled(beds, room, spacing, tick)
    return _settled(beds, bed, spacing)


def _with_locked(kept: tuple[Placed, ...], room: tuple[float, float], spacing: Spacing) -> list[_Bed]:
    beds = [_empty(room) for _ in range(max((p.plate for p in kept), default=-1) + 1)]
    for p in kept:
        b = beds[p.plate]
        b.locked = (*b.locked, p)
        off = grown(shapely.affinity.translate(p.shape, -spacing.edge, -spacing.edge), spacing.clearance, spacing.reach)
        low_x, low_y, high_x, high_y = off.bounds
        left, top = int(np.floor(low_x / CELL)) - 1, int(np.floor(low_y / CELL)) - 1
        size = int(np.ceil(high_y / CELL)) + 1 - top, int(np.ceil(high_x / CELL)) + 1 - left
        cells = cells_of(off, (left * CELL, top * CELL), size)
        for taken in b.base:
            mark(taken, cells, top, left)
        if p.item.tall:
            (_, low_y, _, high_y), edge = p.shape.bounds, spacing.edge
            _mark_rows(b.base, int(np.floor((low_y - edge) / CELL)), int(np.ceil((high_y - edge) / CELL)), spacing)
    return [_new(b.base, b.locked) for b in beds]


def _new(base: tuple[Ints, Ints], locked: tuple[Placed, ...] = ()) -> _Bed:
    return _Bed(base, (base[0].copy(), base[1].copy()), [], locked)


def _empty(room: tuple[float, float]) -> _Bed:
    return _new((empty_bed(room), empty_bed(room)))


def _mark_rows(taken: tuple[Ints, Ints], low: int, high: int, spacing: Spacing) -> None:
    """Of a tall piece in these rows: no other tall one in them, or so near that the bar would meet it."""
    more = int(np.ceil(spacing.rows / CELL)) + 1
    wide = taken[1].shape[1] - 1
    mark(taken[1], np.ones((high - low + 2 * more, wide), bool), low - more, 0)


def _best(item: Item, b: _Bed, spacing: Spacing) -> tuple[float, int, int, Mask] | None:
    """Of all turns the place with the lowest top edge, then the leftmost."""
    best: tuple[float, int, int, Mask] | None = None
    for angle in angles_of(item):
        mask = mask_of(item.shape, angle, spacing.clearance, spacing.reach)
        rows, columns = mask.own.shape
        # A bed only fills: where this mask was put last, nothing lower is free for it.
        taken, memo = b.taken[item.tall], (mask, item.tall)
        y, x = first_free(taken, mask.run, rows, columns, b.lowest.get(memo, 0))
        b.lowest[memo] = y if y >= 0 else taken.shape[0]
        if y >= 0 and (best is None or (y + rows, x + columns) < (best[0], best[2] + best[3].own.shape[1])):
            best = (y + rows, y, x, mask)
    return best


def _put(item: Item, b: _Bed, spacing: Spacing) -> bool:
    best = _best(item, b, spacing)
    if best is None:
        return False
    _, y, x, mask = best
    for taken in b.taken:
        mark(taken, mask.grown, y - mask.before, x - mask.before)
    if item.tall:
        _mark_rows(b.taken, y, y + mask.own.shape[0], spacing)
    b.pieces.append((item, mask, y, x))
    return True


def _anywhere(item: Item, beds: list[_Bed], room: tuple[float, float], spacing: Spacing) -> None:
    if not any(_put(item, b, spacing) for b in beds):
        beds.append(_empty(room))
        if not _put(item, beds[-1], spacing):
            raise Refused(f"{item.name} does not fit on a bed with {spacing.clearance:g} mm around it.")


def _again(b: _Bed, items: list[Item], spacing: Spacing) -> tuple[_Bed, list[Item]]:
    """The bed filled anew with these, in this order; and what found no room."""
    made = _new(b.base, b.locked)
    left = [i for i in items if not _put(i, made, spacing)]
    return made, left


def _shuffled(beds: list[_Bed], room: tuple[float, float], spacing: Spacing, tick: Callable[[float], None]) -> None:
    """Empty the last bed: its pieces with those of one other, in orders a little at random, until none is left."""
    rng = np.random.default_rng(1)
    whole = sum(b.area + sum(p.item.shape.area for p in b.locked) for b in beds)
    for k in range(_SHUFFLES):
        free = [b for b in beds if not b.locked]
        if len(beds) < 2 or not free or whole > _DENSEST * (len(beds) - 1) * room[0] * room[1]:
            break
        last = min(free, key=lambda b: b.area)
        other = [b for b in beds if b is not last][int(rng.integers(len(beds) - 1))]
        items = [i for i, *_ in (*other.pieces, *last.pieces)]
        key = np.array([np.log(max(i.shape.area, 1.0)) for i in items]) + rng.normal(0, 0.35, len(items))
        made, left = _again(other, [items[j] for j in np.argsort(-key, kind="stable")], spacing)
        spare = [b for b in beds if b is not last and b is not other]
        # What is left over may find a hole on another bed.
        rest = [i for i in left if sum(x.shape.area for x in left) >= last.area or not _spare(i, spare, spacing)]
        if sum(i.shape.area for i in rest) < last.area - 1e-9:
            beds[beds.index(other)] = made
            at = beds.index(last)
            if rest:
                beds[at], over = _again(last, rest, spacing)
                for item in over:
                    _anywhere(item, beds, room, spacing)
            else:
                beds.pop(at)
        tick(0.5 + 0.5 * (k + 1) / _SHUFFLES)


def _spare(item: Item, beds: list[_Bed], spacing: Spacing) -> bool:
    return any(_put(item, b, spacing) for b in beds)


def _settled(beds: list[_Bed], bed: tuple[float, float], spacing: Spacing) -> Packing:
    """In mm of the whole bed; what nobody holds is brought to its middle as one."""
    out: list[Placed] = []
    for k, b in enumerate(beds):
        at = [(item, mask, x * CELL, y * CELL) for item, mask, y, x in b.pieces]
        by = (spacing.edge, spacing.edge)
        if at and not b.locked:
            right, top = max(x + m.width for _, m, x, _ in at), max(y + m.height for _, m, _, y in at)
            left, low = min(x for _, _, x, _ in at), min(y for _, _, _, y in at)
            by = (bed[0] / 2 - (left + right) / 2, bed[1] / 2 - (low + top) / 2)
        out += [Placed(item, k, x + by[0], y + by[1], mask.angle) for item, mask, x, y in at]
        out += [Placed(p.item, k, p.x, p.y, p.angle, True) for p in b.locked]
    return Packing(tuple(out), len(beds), bed, spacing)


def _clashes(placed: Iterable[Placed], clearance: float) -> list[str]:
    out = []
    by: dict[int, list[Placed]] = {}
    for p in placed:
        by.setdefault(p.plate, []).append(p)
    for plate, pieces in by.items():
        shapes = np.array([p.shape for p in pieces])
        tree = shapely.STRtree(shapes)
        one, two = tree.query(shapes, predicate="dwithin", distance=max(clearance - 1e-6, 0.0))
        for a, b in zip(one[one < two], two[one < two], strict=True):
            far = float(shapely.distance(shapes[a], shapes[b]))
            if far < clearance - 1e-6 or (clearance == 0 and shapely.intersection(shapes[a], shapes[b]).area > 1e-6):
                words = "overlap" if far == 0 else f"are {far:.2f} mm apart"
                out.append(f"{pieces[a].item.name} and {pieces[b].item.name} on plate {plate + 1} {words}")
    return out


def check(packing: Packing) -> list[str]:
    """In words, what overlaps, lies nearer than the clearance or reaches over the rim, by the outlines themselves."""
    out = _clashes(packing.placed, packing.spacing.clearance)
    (wide, high), edge = packing.bed, packing.spacing.edge
    for p in packing.placed:
        a, b, c, d = p.shape.bounds
        if min(a, b) < edge - 1e-6 or c > wide - edge + 1e-6 or d > high - edge + 1e-6:
            out.append(f"{p.item.name} on plate {p.plate + 1} reaches over the rim")
    return out
