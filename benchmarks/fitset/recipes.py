# ruff: noqa: RUF005 -- lists beside arrays are added, not joined
"""Parts of the set: each a recipe of its own, drawn with other measures for every seed. Truth comes from the recipe."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from fitset.shapes import (
    Made,
    Node,
    Truth,
    ball,
    box,
    cone,
    cylinder,
    frame,
    joined,
    ngon,
    prism,
    ring,
    unit,
)

Rng = np.random.Generator
UP = np.array([0.0, 0.0, 1.0])


def _t(v: np.ndarray) -> tuple[float, float, float]:
    return tuple(float(x) for x in v)  # type: ignore[return-value]


def _d(rng: Rng, low: float, high: float, step: float = 0.1) -> float:
    return float(np.round(rng.uniform(low, high) / step) * step)


def _hole(at: np.ndarray, axis: np.ndarray, d: float, length: float | None, **more: float) -> Truth:
    return Truth("hole", _t(unit(axis)), _t(np.asarray(at, float)), d, length, more)


def _pin(at: np.ndarray, axis: np.ndarray, d: float, length: float | None) -> Truth:
    return Truth("pin", _t(unit(axis)), _t(np.asarray(at, float)), d, length)


def plate(rng: Rng) -> Made:
    """Through and blind holes of many sizes."""
    t = _d(rng, 5, 12)
    solid, truth = box((0, 0, 0), (90, 60, t)), []
    for k in range(8):
        d = _d(rng, 2, 11)
        at = np.array([11.5 + 22 * (k % 4), 15 + 30 * (k // 4), 0.0])
        deep = t if k % 3 else 0.6 * t
        solid = solid - cylinder(at + UP * (-1 if k % 3 else t - deep), UP, d, deep + 2)
        truth.append(_hole(at + UP * (t - deep / 2), UP, d, deep))
    return Made("plate", (solid,), tuple(truth))


def bracket(rng: Rng) -> Made:
    """An L with tilted countersunk holes, two slots and a D-bore."""
    t, w = _d(rng, 5, 8, 0.5), 50.0
    solid = box((0, 0, 0), (60, w, t)) + box((0, 0, 0), (t, w, 50))
    truth = []
    lean = np.radians(rng.uniform(8, 25))
    axis = np.array([np.sin(lean), 0, np.cos(lean)])
    for y in (12.0, 38.0):
        d = _d(rng, 3.2, 5.6)
        at = np.array([45.0, y, t])
        solid = solid - cylinder(at - axis * 2.5 * t, axis, d, 4 * t)
        solid = solid - cone(at - axis * (0.9 * d / 2), axis, d, 3 * d, d)
        truth.append(_hole(at - axis * t / 2, axis, d, None))
        truth.append(Truth("countersink", _t(axis), _t(at), 3 * d, None))
    for z in (20.0, 38.0):
        d, span = _d(rng, 4, 6), _d(rng, 8, 14)
        solid = solid - _slot(np.array([-1, w / 2, z]), np.array([1.0, 0, 0]), np.array([0, 1.0, 0]), d, span, t + 2)
        truth.append(Truth("slot", (1, 0, 0), (t / 2, w / 2, z), d, t, {"span": span}))
    d, flat = _d(rng, 6, 9), 0.0
    flat = round(0.32 * d, 2)
    at = np.array([22.0, w / 2, -1])
    bore = cylinder(at, UP, d, t + 2) - box(at + [flat, -d, 0], at + [d, d, t + 2])
    solid = solid - bore
    truth.append(Truth("d-bore", (0, 0, 1), (22.0, w / 2, t / 2), d, t, {"flat": flat + d / 2}))
    return Made("bracket", (solid,), tuple(truth))


def _slot(at: np.ndarray, axis: np.ndarray, along: np.ndarray, d: float, span: float, h: float) -> Node:
    """Two half-rounds ``span`` apart (centres) and what lies between."""
    side = np.cross(axis, along)
    turn = np.stack([along, side, axis])
    mid = prism(at, axis, [(-span / 2, -d / 2), (span / 2, -d / 2), (span / 2, d / 2), (-span / 2, d / 2)], h, turn)
    a, b = (cylinder(at + s * along * span / 2, axis, d, h) for s in (1, -1))
    return mid + a + b


def crossing(rng: Rng) -> Made:
    """Three bores that cross in a block, and one that only meets another."""
    solid = box((0, 0, 0), (40, 40, 40))
    d = [_d(rng, 6, 14) for _ in range(4)]
    x, y, z = np.eye(3)
    solid = solid - cylinder((-1, 20, 20), x, d[0], 42) - cylinder((20, -1, 20), y, d[1], 42)
    solid = solid - cylinder((20, 20, -1), z, d[2], 42) - cylinder((8, -1, 32), y, min(d[3], 8), 20)
    truth = (
        _hole((20, 20, 20), x, d[0], 40),
        _hole((20, 20, 20), y, d[1], 40),
        _hole((20, 20, 20), z, d[2], 40),
        _hole((8, 9, 32), y, min(d[3], 8), 19),
    )
    return Made("crossing", (solid,), truth)


def bosses(rng: Rng) -> Made:
    """Pins with a fillet at the foot, a chamfer at the tip, some with a hole in them; a stepped shaft."""
    solid, truth = box((0, 0, 0), (80, 50, 5)), []
    for k in range(3):
        d, h = _d(rng, 7, 14), _d(rng, 10, 20)
        at = np.array([15.0 + 25 * k, 15, 5])
        r = _d(rng, 0.8, 2.0)
        if k == 0:
            foot = cylinder(at - UP * 0.5, UP, d + 2 * r, r + 0.5) - ring(at + UP * r, UP, d / 2 + r, r)
            solid = solid + foot
            long = h - r
        else:
            long = h
        solid = solid + cylinder(at - UP, UP, d, h + 1)
        if k == 1:
            solid = solid + cone(at + UP * h, UP, d, d - 2, 1)
        if k == 2:
            inner = _d(rng, 2.5, 5)
            solid = solid - cylinder(at + UP * 2, UP, inner, h)
            truth.append(_hole(at + UP * (2 + h) / 2, UP, inner, h - 2))
        truth.append(_pin(at + UP * h / 2, UP, d, long))
    d0, d1 = _d(rng, 12, 16), _d(rng, 6, 10)
    solid = solid + cylinder((20, 38, 4), UP, d0, 7) + cylinder((20, 38, 10), UP, d1, 9)
    truth += [_pin((20, 38, 8), UP, d0, 6), _pin((20, 38, 15), UP, d1, 8)]
    return Made("bosses", (solid,), tuple(truth))


def pockets(rng: Rng) -> Made:
    """Square, hexagon, octagon and a rectangle with round corners, next to plain holes."""
    solid, truth = box((0, 0, 0), (100, 40, 12)), []
    for k, n in enumerate((4, 6, 8)):
        s = _d(rng, 6, 13)
        at = np.array([14.0 + 24 * k, 20, 4])
        solid = solid - prism(at, UP, ngon(n, s, rng.uniform(0, 1)), 10)
        name = {4: "square", 6: "hexagon", 8: "octagon"}[n]
        truth.append(Truth(name, (0, 0, 1), _t(at + UP * 4), s, 8))
        d = _d(rng, 2.5, 4)
        solid = solid - cylinder(at - UP * 6, UP, d, 10)
        truth.append(_hole(at - UP * 2, UP, d, 4))
    w, tall, r = 12.0, 20.0, _d(rng, 2, 4, 0.5)
    at = np.array([86.0, 20, 5])
    cut = box(at + [-w / 2, -tall / 2 + r, 0], at + [w / 2, tall / 2 - r, 9])
    cut = cut + box(at + [-w / 2 + r, -tall / 2, 0], at + [w / 2 - r, tall / 2, 9])
    for sx in (-1, 1):
        for sy in (-1, 1):
            cut = cut + cylinder(at + [sx * (w / 2 - r), sy * (tall / 2 - r), 0], UP, 2 * r, 9)
    solid = solid - cut
    truth.append(Truth("rounded rectangle", (0, 0, 1), _t(at + UP * 3.5), w, 7, {"long": tall, "corner": r}))
    return Made("pockets", (solid,), tuple(truth))


def screws(rng: Rng) -> Made:
    """Counterbores and countersinks, upright and tilted, in a wedge."""
    lean = np.radians(rng.uniform(10, 20))
    top = np.array([-np.sin(lean), 0, np.cos(lean)])
    turn = np.stack([np.array([1.0, 0, 0]), np.array([0, 0, 1.0]), np.array([0, -1.0, 0])])
    high = 12 + 90 * np.tan(lean)
    solid = prism((0, 50, 0), (0, -1, 0), [(0, 0), (90, 0), (90, high), (0, 12)], 50, turn)
    truth = []
    for k in range(6):
        d = _d(rng, 3, 6)
        x, y = 14 + 30 * (k % 3), 13 + 25 * (k // 3)
        axis = UP if k % 2 else top
        at = np.array([x, y, 12 + x * np.tan(lean)])
        far = at - axis * (at[2] / axis[2] + 5)
        solid = solid - cylinder(far, axis, d, np.linalg.norm(at - far) + 30)
        mid = at / 2 + (at - axis * at[2] / axis[2]) / 2
        truth.append(_hole(mid, axis, d, None))
        big = _d(rng, 1.7 * d, 2.1 * d)
        if k < 3:
            solid = solid - cylinder(at - axis * 5, axis, big, 40)
            truth.append(Truth("counterbore", _t(axis), _t(at - axis * 2.5), big, None))
        elif k % 2 == 0:
            wide = 2 * d
            solid = solid - cone(at - axis * (wide - d) / 2, axis, d, 2 * wide - d, wide - d)
            truth.append(Truth("countersink", _t(axis), _t(at), wide, None))
    return Made("screws", (solid,), tuple(truth))


def hinge(rng: Rng) -> Made:
    """Two leaves with knuckles, one with the pin in it: two bodies."""
    d, gap = _d(rng, 3.5, 6), 0.3
    outer, y = d + 6, np.array([0, 1.0, 0])
    leaf = box((outer / 2 - 1, 0, -outer / 2), (40, 30, -outer / 2 + 3))
    a = leaf + cylinder((0, 10.4, 0), y, outer, 9.2) + box((0, 10.4, -outer / 2), (outer / 2, 19.6, -outer / 2 + 3))
    a = a - box((-20, -1, -20), (outer / 2 + gap, 10.0, 20)) - box((-20, 20.0, -20), (outer / 2 + gap, 31, 20))
    a = a - cylinder((0, -1, 0), y, d + 2 * gap, 32)
    b = box((-40, 0, -outer / 2), (-outer / 2 + 1, 30, -outer / 2 + 3))
    for low in (0.0, 20.0):
        b = b + cylinder((0, low, 0), y, outer, 10) + box((-outer / 2, low, -outer / 2), (0, low + 10, -outer / 2 + 3))
    b = b - box((-outer / 2 - gap, 10.0, -20), (20, 20.0, 20))
    b = b + cylinder((0, 5, 0), y, d, 20)
    truth = (
        _hole((0, 15, 0), y, d + 2 * gap, 9.2),
        _pin((0, 15, 0), y, d, 10),
        Truth("knuckle", (0, 1, 0), (0, 15, 0), outer, 9.2),
        Truth("knuckle", (0, 1, 0), (0, 5, 0), outer, 10),
        Truth("knuckle", (0, 1, 0), (0, 25, 0), outer, 10),
    )
    return Made("hinge", (a, b), truth)


def keys(rng: Rng) -> Made:
    """Keyhole, keyed bore, D-shaft, two merged holes, a half-round groove."""
    solid, truth = box((0, 0, 0), (110, 40, 8)), []
    d, s = _d(rng, 8, 11), _d(rng, 3.5, 5)
    at = np.array([15.0, 14, -1])
    far = at + [0, d / 2 + 6, 0]
    cut = cylinder(at, UP, d, 10) + box(at + [-s / 2, 0, 0], far + [s / 2, 0, 10]) + cylinder(far, UP, s, 10)
    solid = solid - cut
    truth.append(Truth("keyhole", (0, 0, 1), (15, 14, 4), d, 8, {"slot": s}))
    d, k = _d(rng, 9, 14), _d(rng, 2, 4, 0.5)
    at = np.array([42.0, 20, -1])
    solid = solid - (cylinder(at, UP, d, 10) + box(at + [-k / 2, 0, 0], at + [k / 2, d / 2 + 1.2, 10]))
    truth.append(Truth("keyed bore", (0, 0, 1), (42, 20, 4), d, 8, {"key": k}))
    d = _d(rng, 6, 9)
    at = np.array([64.0, 20, 7])
    flat = round(0.35 * d, 2)
    solid = solid + (cylinder(at, UP, d, 12) - box(at + [flat, -d, 1], at + [d, d, 13]))
    truth.append(Truth("d-shaft", (0, 0, 1), (64, 20, 13), d, 11, {"flat": flat + d / 2}))
    d = _d(rng, 8, 10)
    for x in (0.0, 0.72 * d):
        solid = solid - cylinder((82 + x, 20, -1), UP, d, 10)
        truth.append(_hole((82 + x, 20, 4), UP, d, 8))
    d = _d(rng, 5, 8)
    solid = solid - cylinder((100, -1, 8), (0, 1, 0), d, 42)
    truth.append(Truth("groove", (0, 1, 0), (100, 20, 8), d, 40))
    return Made("keys", (solid,), tuple(truth))


def socket(rng: Rng) -> Made:
    """A ball in its socket: two bodies; a spherical pocket; a pin with a dome."""
    d, gap = _d(rng, 12, 18), 0.3
    cup = cylinder((0, 0, -d / 2 - 4), UP, d + 8, d * 0.8 + 4) - ball((0, 0, 0), d + 2 * gap)
    base = box((-25, -18, -d / 2 - 10), (45, 18, -d / 2 - 3.5)) + cup
    dome = _d(rng, 6, 9)
    at = np.array([32.0, 0, -d / 2 - 4])
    base = base + cylinder(at, UP, dome, 8) + ball(at + UP * 8, dome)
    dent = _d(rng, 8, 12)
    base = base - ball((32, 12, -d / 2 - 3.5 + dent / 5), dent)
    stud = _d(rng, 5, 7)
    joint = ball((0, 0, 0), d) + cylinder((0, 0, 0), UP, stud, d + 4)
    truth = (
        Truth("socket", (0, 0, 1), (0, 0, 0), d + 2 * gap, None),
        Truth("ball", (0, 0, 1), (0, 0, 0), d, None),
        Truth("ball", (0, 0, 1), _t(at + UP * 8), dome, None),
        Truth("socket", (0, 0, 1), (32, 12, -d / 2 - 3.5 + dent / 5), dent, None),
        _pin(at + UP * 4, UP, dome, 7.5),
        _pin((0, 0, 0.75 * d), UP, stud, None),
        _pin((0, 0, 0), UP, d + 8, None),
    )
    return Made("socket", (base, joint), truth)


def tapers(rng: Rng) -> Made:
    """Taper bores and a taper pin; cones as they are on tools."""
    solid, truth = box((0, 0, 0), (80, 30, 25)), []
    for k in range(2):
        d, ratio = _d(rng, 10, 15), (0.05, 0.1)[k]
        h = 25.0
        at = np.array([15.0 + 25 * k, 15, 0])
        solid = solid - cone(at - UP, UP, d - ratio * (h + 1), d + ratio, h + 2)
        truth.append(
            Truth("taper", (0, 0, 1), _t(at + UP * h / 2), d, h, {"angle": float(np.degrees(np.arctan(ratio / 2)))})
        )
    d, h = _d(rng, 9, 13), 14.0
    solid = solid + cone((65, 15, 24), UP, d + 0.1, d - 0.1 * h, h + 1)
    truth.append(Truth("taper", (0, 0, 1), (65, 15, 25 + h / 2), d, h, {"angle": float(np.degrees(np.arctan(0.05)))}))
    return Made("tapers", (solid,), tuple(truth))


def slots(rng: Rng) -> Made:
    """Slots straight, open at the edge, blind and leaning."""
    solid, truth = box((0, 0, 0), (90, 50, 8)), []
    x, y = np.array([1.0, 0, 0]), np.array([0, 1.0, 0])
    for k in range(3):
        d, span = _d(rng, 3, 7), _d(rng, 5, 14)
        turn = rng.uniform(0, np.pi)
        along = np.cos(turn) * x + np.sin(turn) * y
        at = np.array([14.0 + 26 * k, 16, -1 if k else 4])
        solid = solid - _slot(at, UP, along, d, span, 10 if k else 6)
        truth.append(Truth("slot", (0, 0, 1), (at[0], 16, 4 if k else 6), d, 8 if k else 4, {"span": span}))
    d = _d(rng, 4, 7)
    solid = solid - cylinder((30, 40, -1), UP, d, 10) - box((30 - d / 2, 40, -1), (30 + d / 2, 60, 9))
    truth.append(Truth("open slot", (0, 0, 1), (30, 40, 4), d, 8))
    d = _d(rng, 5, 9)
    solid = solid - cylinder((65, 38, -1), UP, d, 10)
    truth.append(_hole((65, 38, 4), UP, d, 8))
    return Made("slots", (solid,), tuple(truth))


def arcslot(rng: Rng) -> Made:
    """A slot on an arc about a pivot hole."""
    d, big = _d(rng, 4, 6), _d(rng, 16, 22, 0.5)
    sweep = np.radians(rng.uniform(50, 110))
    solid = box((-12, -12, 0), (35, 35, 6)) - cylinder((0, 0, -1), UP, 6, 8)
    band = cylinder((0, 0, -1), UP, 2 * big + d, 8) - cylinder((0, 0, -2), UP, 2 * big - d, 10)
    a0, a1 = np.pi / 4 - sweep / 2, np.pi / 4 + sweep / 2
    far = 100.0
    corner = [(0, 0), (far * np.cos(a0), far * np.sin(a0)), (far * np.cos(a1), far * np.sin(a1))]
    band = band & prism((0, 0, -1), UP, corner, 8, np.eye(3))
    cut = band
    for a in (a0, a1):
        cut = cut + cylinder((big * np.cos(a), big * np.sin(a), -1), UP, d, 8)
    truth = (_hole((0, 0, 3), UP, 6, 6), Truth("arc slot", (0, 0, 1), (0, 0, 3), d, 6, {"radius": big}))
    return Made("arcslot", (solid - cut,), truth)


def rounded(rng: Rng) -> Made:
    """A box with every edge rounded, and holes in it: no edge is a pin."""
    r = _d(rng, 2, 4, 0.5)
    s = np.array([50.0, 36, 20])
    solid = joined(
        box((0, r, r), (s[0], s[1] - r, s[2] - r)),
        box((r, 0, r), (s[0] - r, s[1], s[2] - r)),
        box((r, r, 0), (s[0] - r, s[1] - r, s[2])),
    )
    ends = [(r, s[k] - r) for k in range(3)]
    for k in range(3):
        i, j = (k + 1) % 3, (k + 2) % 3
        for a in ends[i]:
            for b in ends[j]:
                p = np.zeros(3)
                p[i], p[j], p[k] = a, b, r
                solid = solid + cylinder(p, np.eye(3)[k], 2 * r, s[k] - 2 * r)
    for a in ends[0]:
        for b in ends[1]:
            for c in ends[2]:
                solid = solid + ball((a, b, c), 2 * r)
    truth = []
    for x in (15.0, 35.0):
        d = _d(rng, 4, 9)
        solid = solid - cylinder((x, 18, -1), UP, d, 22)
        truth.append(_hole((x, 18, 10), UP, d, 20))
    d = _d(rng, 4, 7)
    solid = solid - cylinder((25, -1, 10), (0, 1, 0), d, 12)
    truth.append(_hole((25, 5, 10), np.array([0, 1.0, 0]), d, 11))
    return Made("rounded", (solid,), tuple(truth))


def tube(rng: Rng) -> Made:
    """A pipe with a side branch and a flange of holes on a pitch circle."""
    d0, d1 = _d(rng, 20, 26), _d(rng, 12, 16)
    side = _d(rng, 5, 8)
    solid = cylinder((0, 0, 0), UP, d0, 40) + cylinder((0, 0, 0), UP, 46, 6)
    solid = solid - cylinder((0, 0, -1), UP, d1, 42) - cylinder((0, 0, 25), (1, 0, 0), side, 30)
    truth = [_pin((0, 0, 23), UP, d0, 34), _pin((0, 0, 3), UP, 46, 6), _hole((0, 0, 20), UP, d1, 40)]
    truth.append(_hole(((d0 + d1) / 4, 0, 25), np.array([1.0, 0, 0]), side, None))
    b = _d(rng, 3, 4.5)
    for k in range(5):
        a = 2 * np.pi * (k + 0.3) / 5
        p = np.array([18 * np.cos(a), 18 * np.sin(a), 3])
        solid = solid - cylinder(p - UP * 5, UP, b, 12)
        truth.append(_hole(p, UP, b, 6))
    return Made("tube", (solid,), tuple(truth))


def sloped(rng: Rng) -> Made:
    """Holes that end in a slope, in a round and in a ball."""
    turn = np.stack([np.array([1.0, 0, 0]), np.array([0, 0, 1.0]), np.array([0, -1.0, 0])])
    solid = prism((0, 30, 0), (0, -1, 0), [(0, 0), (40, 0), (40, 30), (0, 8)], 30, turn)
    solid = solid + cylinder((60, 15, 0), UP, 24, 20) + box((39, 3, 0), (60, 27, 8)) + ball((92, 15, 12), 24)
    solid = solid + box((60, 8, 0), (92, 22, 8))
    d = [_d(rng, 4, 8) for _ in range(3)]
    solid = solid - cylinder((20, 15, -1), UP, d[0], 40) - cylinder((60, 2, 14), (0, 1, 0), d[1], 30)
    solid = solid - cylinder((92, 15, -1), UP, d[2], 40)
    y = np.array([0, 1.0, 0])
    truth = (
        _hole((20, 15, 8), UP, d[0], None),
        _hole((60, 15, 14), y, d[1], None),
        _hole((92, 15, 10), UP, d[2], None),
        _pin((60, 15, 14), UP, 24, None),
        Truth("ball", (0, 0, 1), (92, 15, 12), 24, None),
    )
    return Made("sloped", (solid,), truth)


def crowd(rng: Rng) -> Made:
    """Small holes and studs near each other, turned anyhow in space."""
    axis = unit(rng.normal(size=3))
    t = frame(axis)
    outline = np.array([(0, 0), (48, 0), (48, 48), (0, 48)], float)
    origin = rng.uniform(-40, 40, 3)
    solid, truth = prism(origin, axis, outline, 5.0, t), []
    for i in range(4):
        for j in range(4):
            d = _d(rng, 1.5, 7)
            p = origin + (6 + 12 * i) * t[0] + (6 + 12 * j) * t[1]
            if (i + j) % 3 == 0:
                solid = solid + cylinder(p + axis * 4, axis, d, 5)
                truth.append(_pin(p + axis * 7, axis, d, 4))
            else:
                solid = solid - cylinder(p - axis, axis, d, 7)
                truth.append(_hole(p + axis * 2.5, axis, d, 5))
    return Made("crowd", (solid,), tuple(truth))


def coarse(rng: Rng) -> Made:
    """Rounds of few sides, for kernels that take their number."""
    n = int(rng.choice([8, 9, 10, 12, 16]))
    made = plate(rng) if rng.random() < 0.5 else tube(rng)
    return Made(f"coarse{n}", made.bodies, made.truth, n)


RECIPES: tuple[Callable[[Rng], Made], ...] = (
    plate,
    bracket,
    crossing,
    bosses,
    pockets,
    screws,
    hinge,
    keys,
    socket,
    tapers,
    slots,
    arcslot,
    rounded,
    tube,
    sloped,
    crowd,
    coarse,
)
