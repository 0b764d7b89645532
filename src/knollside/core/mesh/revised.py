"""A part drawn anew: where the new mesh lies against the old one, and which feature became which.

No map of faces leads from one to the other, so features are matched by kind, axis, place and size, in stages from the
surest to the least: where it was and as large; where it was, grown; gone along with a face or feature that was matched
already; and at last the only one of its kind that is left on either side. In each stage a pair counts only where no
other comes near (to three times as far), and no flat goes to one that looks another way. What stays open is lost, not
guessed.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import permutations, product
from typing import Literal

import numpy as np

from knollside.core.mesh.featuretable import AXIS, ROUND, FeatureTable, Known
from knollside.core.model import Array, Feature

_RIVAL = 3.0  # how much farther the second best must be
_SHOWN = 0.02  # mm that is told as a change
_SLACK = 0.05  # mm that two places differ by when nothing changed

# Stage by stage: how far a place may be off (share of the part's size), how far a size (share of itself).
_HERE, _GROWN, _ALONG, _MOVED, _BOTH = (0.004, 0.02), (0.012, 0.45), (0.02, 0.45), (0.12, 0.02), (0.06, 0.45)
_CLEARLY = 0.15  # of the features more must agree on another placement than on where it is
_TURNED = 0.25  # and before it counts as turned: near-alike sides tell little
_MOST = 160  # features of each that a placement is tried with
_ALIGNED = 0.01  # share of the part's size within which features agree on how it was moved


Told = tuple[str, Known]  # a feature's name with what it was


@dataclass(frozen=True)
class Placement:
    """How the new mesh lies in the old one's frame: new = ``turn`` old + ``move`` mm; ``share`` of the old features
    that agree. ``rivals``: it was turned, and fits as well in these other ways."""

    turn: Array
    move: Array
    share: float
    rivals: tuple[Placement, ...] = ()

    @property
    def still(self) -> bool:
        return bool(np.allclose(self.turn, np.eye(3)) and np.abs(self.move).max() < 1e-9)

    def back(self, points: Array) -> Array:
        """Points of the new mesh where the old one has them, (n, 3)."""
        return np.asarray((points - self.move) @ self.turn)


def _turns() -> list[Array]:
    """The twenty-four ways to turn a box onto itself, the plain one first."""
    out = []
    for order in permutations(range(3)):
        for signs in product((1, -1), repeat=3):
            m = np.zeros((3, 3))
            m[np.arange(3), order] = signs
            if np.linalg.det(m) > 0:
                out.append(m)
    return sorted(out, key=lambda m: -float(np.trace(m)))


def placement(old: Sequence[Feature], new: Sequence[Feature], old_box: Array, new_box: Array) -> Placement:
    """How the new mesh was moved or turned as a whole, by the features and the boxes (2, 3) of both: as it is, unless
    clearly more agree on another placement. One that fits as well turned otherwise has ``rivals``."""
    a, b = FeatureTable.of(old), FeatureTable.of(new)
    best = Placement(np.eye(3), np.zeros(3), 0.0)
    if not len(old) or not len(new):
        return best
    # The largest tell as much as all, and hundreds of placements are tried.
    a, b = (r.some(np.argsort(-r.size, kind="stable")[:_MOST]) for r in (a, b))
    room = _ALIGNED * float(np.ptp(old_box, axis=0).max())
    best = replace(best, share=_agree(a, b, best.turn, best.move, room))
    tried = [best]
    for turn in _turns():
        for move in (*_ends(turn, old_box, new_box), *_votes(a, b, turn, room)):
            share = _agree(a, b, turn, move, room)
            tried.append(Placement(turn, move, share))
            # It stays where it is, and as it is turned, unless clearly more agree: like parts fit like places.
            more_turned = np.allclose(best.turn, np.eye(3)) and not np.allclose(turn, best.turn)
            if share > best.share + (_TURNED if more_turned else _CLEARLY if best.still else 1e-9):
                best = tried[-1]
    if np.allclose(best.turn, np.eye(3)):
        return best
    near = [p for p in tried if p.share > best.share - 0.5 * _CLEARLY and not np.allclose(p.turn, best.turn)]
    return replace(best, rivals=tuple(_apart_from_each_other(near, room)))


def _apart_from_each_other(some: list[Placement], room: float) -> list[Placement]:
    """The best of those that are nearly the same, each once."""
    out: list[Placement] = []
    for p in sorted(some, key=lambda p: -p.share):
        if not any(np.allclose(p.turn, q.turn) and np.abs(p.move - q.move).max() <= room for q in out):
            out.append(p)
    return out


def _ends(turn: Array, old_box: Array, new_box: Array) -> list[Array]:
    """Moves that bring the two boxes' lower ends, middles or upper ends together, direction by direction."""
    corners = (
        np.array([[old_box[k, 0], old_box[m, 1], old_box[n, 2]] for k, m, n in product((0, 1), repeat=3)]) @ turn.T
    )
    low, high = corners.min(axis=0), corners.max(axis=0)
    each = [
        (new_box[0, k] - low[k], new_box[1, k] - high[k], (new_box[0, k] + new_box[1, k] - low[k] - high[k]) / 2)
        for k in range(3)
    ]
    return [np.array(m) for m in product(*each)]


def _votes(a: FeatureTable, b: FeatureTable, turn: Array, room: float) -> list[Array]:
    """Moves that most pairs of like rounds agree on."""
    along = np.abs((a.axis @ turn.T) @ b.axis.T) > AXIS
    same = along & a.round[:, None] & (a.kind[:, None] == b.kind[None, :]) & (_wide(a, b) <= 0.05)
    i, j = np.nonzero(same)
    return _densest(b.centre[j] - a.centre[i] @ turn.T, room) if len(i) else []


def _densest(moves: Array, room: float) -> list[Array]:
    cell = np.round(moves / max(room, 1e-6)).astype(np.int64)
    _, first, count = np.unique(cell, axis=0, return_index=True, return_counts=True)
    out = []
    for k in np.argsort(-count, kind="stable")[:3]:
        near = np.linalg.norm(moves - moves[first[k]], axis=1) <= 1.5 * room
        out.append(np.median(moves[near], axis=0))
    return out


def _agree(a: FeatureTable, b: FeatureTable, turn: Array, move: Array, room: float) -> float:
    """Share of the old features that have one like themselves in the new mesh, so placed."""
    placed = a.turned(turn, move)
    off = _apart(placed, b, flats_aside=0.02)
    good = placed.alike(b) & (off <= room) & (_wide(a, b) <= 0.45)
    return float(good.any(axis=1).mean())


def matched(old: Sequence[Feature], new: Sequence[Feature], size: float) -> dict[int, int]:
    """Old features to new ones, by their places in the two lists. ``size``: the old part's longest side, mm."""
    a, b = FeatureTable.of(old), FeatureTable.of(new)
    out: dict[int, int] = {}
    if not len(old) or not len(new):
        return out
    for stage in (_here, _grown, _gone_along, _gone_along, _the_only_one):
        rest = [i for i in range(len(old)) if i not in out]
        taken = set(out.values())
        left = [j for j in range(len(new)) if j not in taken]
        if not rest or not left:
            break
        # Rivals are those that are not given away yet: what is sure elsewhere stands in nobody's way.
        p, q = a.some(rest), b.some(left)
        cost = stage(p, q, size, _moves(a, b, out))
        found = _unrivalled(np.where(p.alike(q), cost, np.inf))
        out |= {rest[i]: left[j] for i, j in found.items()}
    return out


def _apart(a: FeatureTable, b: FeatureTable, by: Array | None = None, flats_aside: float = 0.15) -> Array:
    """How far places are apart, mm, (n, m): of flats mostly off their planes, since a face that grows moves its middle;
    of rounds off their axes, and half of what they differ by along them."""
    step = b.centre[None, :, :] - a.centre[:, None, :]
    if by is not None:
        step = step - by
    along = np.einsum("nmk,nk->nm", step, a.axis)
    aside = np.linalg.norm(step - along[:, :, None] * a.axis[:, None, :], axis=2)
    flat = a.flat[:, None]
    return np.asarray(np.where(flat, np.abs(along) + flats_aside * aside, aside + 0.35 * np.abs(along)))


def _wide(a: FeatureTable, b: FeatureTable) -> Array:
    """How much sizes differ, as a share of the larger."""
    return np.asarray(
        np.abs(a.size[:, None] - b.size[None, :]) / np.maximum(np.maximum(a.size[:, None], b.size[None, :]), 1e-9)
    )


def _within(off: Array, wide: Array, size: float, most: tuple[float, float], flat: Array) -> Array:
    """Cost of pairs within a stage's room; infinite beyond. A flat may grow as it likes, but counts for more off."""
    far, grown = most[0] * size + _SLACK, np.where(flat, 0.85, most[1])
    return np.where((off <= far) & (wide <= grown), off + 0.02 * size * wide, np.inf)


def _here(a: FeatureTable, b: FeatureTable, size: float, _: list[Array]) -> Array:
    return _within(_apart(a, b), _wide(a, b), size, _HERE, a.flat[:, None] & False)


def _grown(a: FeatureTable, b: FeatureTable, size: float, _: list[Array]) -> Array:
    return _within(_apart(a, b), _wide(a, b), size, _GROWN, a.flat[:, None])


def _gone_along(a: FeatureTable, b: FeatureTable, size: float, moves: list[Array]) -> Array:
    """With one of the moves that matched features (and the part's two ends in each direction) made."""
    cost = np.full((len(a.kind), len(b.kind)), np.inf)
    for by in moves:
        off = _apart(a, b, by)
        made = _within(off, _wide(a, b), size, _ALONG, a.flat[:, None])
        # What goes farther is likelier another.
        cost = np.minimum(cost, made + 0.1 * float(np.linalg.norm(by)))
    return cost


def _moves(a: FeatureTable, b: FeatureTable, known: dict[int, int]) -> list[Array]:
    """How far matched flats went along their normals, other features altogether, and how far the ends of the whole
    went."""
    out: list[Array] = []
    for i, j in known.items():
        step = b.centre[j] - a.centre[i]
        out.append(a.axis[i] * float(step @ a.axis[i]) if a.flat[i] else step)
    for end in (np.min, np.max):
        ends = end(b.centre, axis=0) - end(a.centre, axis=0)
        out += [np.eye(3)[k] * ends[k] for k in range(3)]
    kept: list[Array] = []
    for by in out:
        if np.linalg.norm(by) > _SLACK and all(np.linalg.norm(by - k) > _SLACK for k in kept):
            kept.append(by)
    return kept[:60]


def _the_only_one(a: FeatureTable, b: FeatureTable, size: float, _: list[Array]) -> Array:
    """Moved by itself: as large as it was, or less far and another size."""
    none, off, wide = a.flat[:, None] & False, _apart(a, b), _wide(a, b)
    return np.minimum(_within(off, wide, size, _MOVED, none), _within(off, wide, size, _BOTH, none))


def _unrivalled(cost: Array) -> dict[int, int]:
    """Pairs that are each other's best by far."""
    out: dict[int, int] = {}
    finite = np.isfinite(cost)
    for i in np.flatnonzero(finite.any(axis=1)):
        j = int(np.argmin(cost[i]))
        if int(np.argmin(cost[:, j])) != i:
            continue
        rivals = np.r_[np.delete(cost[i], j), np.delete(cost[:, j], i)]
        if not rivals.size or rivals.min() > _RIVAL * cost[i, j] + _SLACK:
            out[int(i)] = j
    return out


@dataclass(frozen=True)
class Became:
    """What became of a feature from one revision to the next: ``kind`` of change, and in words how much."""

    feature: str
    kind: Literal["gone", "new", "size", "moved"]
    words: str


def became(before: Sequence[Told], after: Sequence[Told]) -> tuple[Became, ...]:
    """What differs between two revisions, by the names of their features and what each was: gone ones first, then
    sizes, places, and what is new. Flats count where they went along their normals."""
    old, new = dict(before), dict(after)
    out = [Became(n, "gone", _what(s)) for n, s in old.items() if n not in new]
    for n, s in old.items():
        t = new.get(n)
        if t is None:
            continue
        if s.diameter is not None and t.diameter is not None and abs(s.diameter - t.diameter) >= _SHOWN:
            out.append(Became(n, "size", f"{s.diameter:.2f} › {t.diameter:.2f} mm"))
        off = _off(s, t)
        if off >= _SHOWN:
            out.append(Became(n, "moved", f"by {off:.2f} mm"))
    order = {"gone": 0, "size": 1, "moved": 2}
    out.sort(key=lambda b: order[b.kind])
    return (*out, *(Became(n, "new", _what(s)) for n, s in new.items() if n not in old))


def _off(s: Known, t: Known) -> float:
    step = np.subtract(t.centre, s.centre)
    along = float(step @ np.asarray(s.axis))
    if s.kind in ROUND:
        return float(np.linalg.norm(step - along * np.asarray(s.axis)))
    return abs(along) if s.kind == "flat" else float(np.linalg.norm(step))


def _what(s: Known) -> str:
    x, y, z = s.centre
    size = f"{s.diameter:.1f} mm " if s.diameter is not None else ""
    return f"{size}at ({x:.0f}, {y:.0f}, {z:.0f}) mm"
