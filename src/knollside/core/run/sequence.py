"""All at once or one after another: whether the head and the bar it hangs on pass what stands, and what each costs."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np
import shapely
import shapely.affinity
from shapely.geometry.base import BaseGeometry

from knollside.core.model import Refused
from knollside.core.run.packing import Placed

TRAVEL = 150.0  # mm/s, and what a stop, a pull back and a start take: typical
STOP = 0.3  # s
COMES_LOOSE = 0.04  # of a part in a print: typical
LEAST_LAYER = 8.0  # s; a layer that is laid quicker does not set: typical


@dataclass(frozen=True)
class Head:
    """What moves over the bed, mm: how far the head reaches from the nozzle to the ``left``, ``right``, ``front`` and
    ``back`` above ``tip`` of height; the bar across the bed hangs ``bar`` above the nozzle's tip and reaches as far to
    the front and back. Typical of printers with a moving bed."""

    left: float = 35.0
    right: float = 35.0
    front: float = 45.0
    back: float = 30.0
    tip: float = 4.0
    bar: float = 26.0

    @property
    def reach(self) -> tuple[float, float]:
        """What must be free to either side of a piece so that any may be printed before any, mm in X and Y."""
        return max(self.left, self.right), max(self.front, self.back)


@dataclass(frozen=True)
class Standing:
    """A piece with its height, layers, hours and grams; ``pace``: the share of its time that is over at even steps of
    its height (nothing: as the height)."""

    placed: Placed
    height: float
    layers: int
    hours: float
    grams: float
    pace: tuple[float, ...] = ()


def swept(shape: BaseGeometry, head: Head) -> BaseGeometry:
    """Where the head may be while a piece is printed: its hull, since the nozzle crosses from island to island, grown
    by the head's box."""
    at = shapely.get_coordinates(shapely.convex_hull(shape))
    box = np.array([(x, y) for x in (-head.left, head.right) for y in (-head.front, head.back)])
    return shapely.convex_hull(shapely.multipoints((at[:, None] + box[None]).reshape(-1, 2)))


def _blocks(i: Standing, j: Standing, sweep: BaseGeometry, head: Head) -> bool:
    """Whether ``i``, printed already, is in the way of ``j``."""
    if i.height > head.tip and shapely.intersects(sweep, i.placed.shape):
        return True
    if i.height <= head.bar:
        return False
    (_, a, _, b), (_, c, _, d) = i.placed.shape.bounds, j.placed.shape.bounds
    return bool(a <= d + head.back and b >= c - head.front)


def order_of(pieces: Sequence[Standing], head: Head) -> tuple[int, ...]:
    """The numbers of the pieces in an order in which nothing that stands is in the way: low ones first where there is
    a choice. Raises :class:`Refused` with the names of what is in each other's way."""
    sweeps = [swept(p.placed.shape, head) for p in pieces]
    n = len(pieces)
    after = np.zeros((n, n), bool)  # row before column
    for i in range(n):
        for j in range(n):
            if i != j and _blocks(pieces[i], pieces[j], sweeps[j], head):
                after[j, i] = True
    left, out = set(range(n)), []
    while left:
        free = [k for k in left if not any(after[o, k] for o in left)]
        if not free:
            i, j = next((i, j) for i in sorted(left) for j in sorted(left) if after[i, j])
            both = after[i, j] and after[j, i]
            words = "are in each other's way" if both else "and others are in each other's way"
            raise Refused(
                f"{pieces[i].placed.item.name} and {pieces[j].placed.item.name} {words}: the head or its bar would hit "
                "what stands. Set them farther apart, or print all at once."
            )
        best = min(free, key=lambda k: (pieces[k].height, pieces[k].placed.y, pieces[k].placed.x))
        left.remove(best)
        out.append(best)
    return tuple(out)


def in_some_order(pieces: Sequence[Standing], head: Head) -> tuple[list[Standing], list[Standing]]:
    """Pieces that can be printed one after another where they stand, and those that would have to stand elsewhere:
    all stay where there is an order, else what somebody put there, then low ones first."""
    try:
        order_of(pieces, head)
        return list(pieces), []
    except Refused:
        pass
    on = [p for p in pieces if p.placed.locked]
    rest = []
    for p in sorted((p for p in pieces if not p.placed.locked), key=lambda p: p.height):
        try:
            order_of([*on, p], head)
            on.append(p)
        except Refused:
            rest.append(p)
    return on, rest


@dataclass(frozen=True)
class Cost:
    """``hours`` with all moves between pieces, ``crossings`` of the nozzle from piece to piece (each may leave a
    string), grams ``lost`` to be expected if one comes loose, and the names of pieces whose layers are laid too quick
    to set (``melt``). Typical but for the hours."""

    hours: float
    crossings: int
    lost: float
    melt: tuple[str, ...]


def at_once(pieces: Sequence[Standing], loose: float = COMES_LOOSE) -> Cost:
    """All pieces layer by layer. One that comes loose spoils what stands round it; half of it is printed by then."""
    hours, crossings = sum(p.hours for p in pieces), 0
    ends = sorted({p.layers for p in pieces})
    low = 0
    seconds, melt = 0.0, set()
    for end in ends:
        there = [p for p in pieces if p.layers >= end]
        if len(there) > 1:
            crossings += (end - low) * len(there)
            seconds += (end - low) * (_tour(there) / TRAVEL + STOP * len(there))
        elif _of_layer(there[0]) < LEAST_LAYER:
            melt.add(there[0].placed.item.name)
        if len(there) > 1 and sum(_of_layer(p) for p in there) < LEAST_LAYER:
            melt |= {p.placed.item.name for p in there}
        low = end
    any_loose = 1 - (1 - loose) ** len(pieces)
    return Cost(hours + seconds / 3600, crossings, any_loose * sum(p.grams for p in pieces) / 2, tuple(sorted(melt)))


def one_by_one(pieces: Sequence[Standing], loose: float = COMES_LOOSE) -> Cost:
    """Each piece to its end before the next. One that comes loose is lost alone, if the print is stopped."""
    seconds = _tour(pieces) / TRAVEL + STOP * len(pieces)
    melt = sorted({p.placed.item.name for p in pieces if _of_layer(p) < LEAST_LAYER})
    lost = loose * sum(p.grams for p in pieces) / 2
    return Cost(sum(p.hours for p in pieces) + seconds / 3600, len(pieces), lost, tuple(melt))


def _of_layer(p: Standing) -> float:
    """Seconds of a layer of one piece."""
    return 3600 * p.hours / max(p.layers, 1)


def _tour(pieces: Iterable[Standing]) -> float:
    """Length of a round through the pieces' middles by nearest neighbours, mm."""
    at = np.array([shapely.get_coordinates(shapely.centroid(p.placed.shape))[0] for p in pieces])
    if len(at) < 2:
        return 0.0
    left, here, total = list(range(1, len(at))), 0, 0.0
    while left:
        away = np.linalg.norm(at[left] - at[here], axis=1)
        k = int(np.argmin(away))
        total += float(away[k])
        here = left.pop(k)
    return total + float(np.linalg.norm(at[here] - at[0]))
