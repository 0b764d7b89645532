"""Outlines on beds: cells against exact geometry, packings that are known, and the order one after another."""

from __future__ import annotations

from dataclasses import replace
from itertools import pairwise, permutations

import numpy as np
import pytest
import shapely
import shapely.affinity
from conftest import DEMO
from hypothesis import given, settings
from hypothesis import strategies as st

from knollside.core.mesh.load import load_file
from knollside.core.model import Refused
from knollside.core.run.footprint import footprint
from knollside.core.run.outlines import CELL, cells_of, turned
from knollside.core.run.packing import Item, Packing, Placed, Spacing, Turns, check, pack
from knollside.core.run.sequence import Head, Standing, at_once, in_some_order, one_by_one, order_of

BED = (220.0, 220.0)


def item(name: str, shape: shapely.Geometry, turns: Turns = Turns.QUARTER) -> Item:
    return Item(name, name.split("/")[0], shape, turns)


def shapes(seed: int, n: int) -> list[shapely.Geometry]:
    """Rings with a gap, angles, triangles, plates and stars, drawn at random."""
    rng = np.random.default_rng(seed)
    out: list[shapely.Geometry] = []
    for k in range(n):
        a, b, c = rng.uniform(20, 80), rng.uniform(15, 50), rng.uniform(6, 14)
        ring = shapely.difference(shapely.Point(0, 0).buffer(b / 2 + 4), shapely.Point(0, 0).buffer(b / 2))
        out.append(
            [
                shapely.difference(ring, shapely.box(0, -4, 90, 4)),
                shapely.union(shapely.box(0, 0, a, c), shapely.box(0, 0, c, b)),
                shapely.Polygon([(0, 0), (a, 0), (0, b)]),
                shapely.box(0, 0, a, b),
                shapely.union(shapely.box(-a / 2, -c / 2, a / 2, c / 2), shapely.box(-c / 2, -b / 2, c / 2, b / 2)),
            ][k % 5]
        )
    return out


@settings(max_examples=25, deadline=None)
@given(st.integers(0, 10_000))
def test_the_cells_of_a_shape_are_those_it_touches(seed: int) -> None:
    rng = np.random.default_rng(seed)
    whole = shapely.Polygon(rng.uniform(0, 12, (int(rng.integers(3, 9)), 2))).convex_hull
    shape = shapely.difference(whole, shapely.Point(rng.uniform(3, 9, 2)).buffer(rng.uniform(0.4, 3)))
    got = cells_of(shape, (0.0, 0.0), (26, 26))
    for r in range(26):
        for c in range(26):
            cell = shapely.box(c * CELL, r * CELL, (c + 1) * CELL, (r + 1) * CELL)
            inside = shapely.intersection(cell, shape).area
            assert got[r, c] or inside < 1e-9
            assert not got[r, c] or shapely.distance(cell, shape) < 1e-9


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_nothing_overlaps_all_is_there_and_boxes_need_no_fewer_plates(seed: int) -> None:
    items = [item(f"p{k}", s) for k, s in enumerate(shapes(seed, 35))]
    for spacing in (Spacing(2.0), Spacing(0.7, 5.0)):
        p = pack(items, BED, spacing)
        assert check(p) == [] and sorted(q.item.key for q in p.placed) == sorted(i.key for i in items)
        assert max(q.plate for q in p.placed) + 1 == p.plates
        for q in p.placed:
            # Turned and moved, nothing else: its area and its corners about its own middle.
            assert q.shape.area == pytest.approx(q.item.shape.area)
            assert q.angle in (0, 90, 180, 270)
        shared = sum(
            shapely.intersection(a.shape, b.shape).area
            for a in p.placed
            for b in p.placed
            if a is not b and a.plate == b.plate
        )
        assert shared == 0
    # A shelf of boxes by hand, highest first, needs at least as many.
    x = y = high = 0.0
    plates = 1
    for s in sorted((i.shape for i in items), key=lambda s: -(s.bounds[3] - s.bounds[1])):
        w, h = s.bounds[2] - s.bounds[0] + 2, s.bounds[3] - s.bounds[1] + 2
        if x + w > BED[0] + 2:
            x, y, high = 0.0, y + high, 0.0
        if y + h > BED[1] + 2:
            x, y, high, plates = 0.0, 0.0, 0.0, plates + 1
        x, high = x + w, max(high, h)
    assert pack(items, BED, Spacing(2.0)).plates <= plates


def test_packings_that_are_known() -> None:
    squares = [item(f"s{k}", shapely.box(0, 0, 54, 54)) for k in range(17)]
    assert pack(squares[:16], BED, Spacing(1.0)).plates == 1 and pack(squares, BED, Spacing(1.0)).plates == 2
    assert pack(squares[:16], BED, Spacing(1.5)).plates == 2  # four and three gaps are 220.5
    # Two angles of 190 by 20 nest only where outlines count: their boxes fill the bed by themselves.
    angle = shapely.union(shapely.box(0, 0, 190, 20), shapely.box(0, 0, 20, 190))
    p = pack([item(f"a{k}", angle) for k in range(4)], BED, Spacing(2.0))
    assert p.plates <= 2 and check(p) == []
    # A washer's hole takes a nut.
    washer = shapely.difference(shapely.Point(0, 0).buffer(109), shapely.Point(0, 0).buffer(60))
    assert pack([item("w", washer), item("n", shapely.box(0, 0, 70, 70))], BED, Spacing(2.0)).plates == 1
    # A rod of 280 mm lies only across the corners.
    rod = shapely.box(0, 0, 280, 8)
    with pytest.raises(Refused, match="rod is 280 by 8 mm"):
        pack([item("rod", rod)], BED, Spacing(2.0))
    lies = pack([item("rod", rod, Turns.FREE)], BED, Spacing(2.0))
    assert check(lies) == [] and lies.placed[0].angle % 90 == pytest.approx(45)
    with pytest.raises(Refused, match="out of 0 to 60"):
        pack(squares, BED, Spacing(-1.0))


def test_what_is_held_in_place_stays_and_what_may_not_turn_does_not() -> None:
    items = [item(f"p{k}", s) for k, s in enumerate(shapes(5, 12))]
    held = Placed(items[0], 0, 120.3, 90.7, 30.0, True)
    p = pack([Item(i.key, i.name, i.shape, Turns.NONE) for i in items[1:]], BED, Spacing(2.0, 3.0), [held])
    assert check(p) == []
    (same,) = [q for q in p.placed if q.item.key == "p0"]
    assert (same.x, same.y, same.angle, same.plate) == (120.3, 90.7, 30.0, 0)
    assert all(q.angle == 0 for q in p.placed if q is not same)
    other = Placed(items[1], 0, 121.0, 91.0, 0.0, True)
    with pytest.raises(Refused, match="p0 and p1 on plate 1 overlap"):
        pack([], BED, Spacing(2.0), [held, other])


def test_a_bad_plate_is_noticed() -> None:
    box = shapely.box(0, 0, 50, 50)
    a, b, c = (Placed(item(n, box), 0, x, 10.0, 0.0) for n, x in (("a", 10.0), ("b", 61.9), ("c", 171.0)))
    assert check(Packing((a, b, c), 1, BED, Spacing(2.0))) == [
        "a and b on plate 1 are 1.90 mm apart",
        "c on plate 1 reaches over the rim",
    ]


def test_a_footprint_is_the_union_of_all_triangles_from_above() -> None:
    for path in sorted(DEMO.glob("*.stl")):
        mesh = load_file(path).mesh
        exact = shapely.union_all(shapely.polygons(mesh.triangles[:, :, :2][np.abs(mesh.normals[:, 2]) > 1e-6]))
        shape = footprint(mesh)
        assert shapely.difference(exact, shape).area < 1e-6 and shape.area < exact.area + 0.03 * exact.length
        brim = footprint(mesh, 4.0, [shapely.box(-90, 0, -80, 9)])
        assert shapely.distance(brim, shapely.Point(-94, 4)) == pytest.approx(0, abs=0.03)
        assert shapely.contains(brim, shapely.buffer(exact, 3.9))


def post(name: str, x: float, y: float, high: float, side: float = 10.0, hours: float = 1.0) -> Standing:
    placed = Placed(item(name, shapely.box(0, 0, side, side)), 0, x, y, 0.0)
    return Standing(placed, high, round(high / 0.2), hours, 10.0)


def hits(order: tuple[Standing, ...], head: Head) -> bool:
    """By walking the nozzle over each piece's corners with what stands already."""
    for k, j in enumerate(order):
        x0, y0, x1, y1 = j.placed.shape.bounds
        for i in order[:k]:
            a, b, c, d = i.placed.shape.bounds
            for x in np.linspace(x0, x1, 5):
                for y in np.linspace(y0, y1, 5):
                    over = a <= x + head.right and c >= x - head.left and b <= y + head.back and d >= y - head.front
                    under_bar = b <= y + head.back and d >= y - head.front
                    if (i.height > head.tip and over) or (i.height > head.bar and under_bar):
                        return True
    return False


@settings(max_examples=60, deadline=None)
@given(
    st.lists(st.tuples(st.integers(0, 20), st.integers(0, 20), st.sampled_from([2, 15, 40])), min_size=2, max_size=4)
)
def test_one_after_another_finds_an_order_wherever_there_is_one(at: list[tuple[int, int, int]]) -> None:
    head = Head()
    pieces = [post(f"p{k}", 10.0 * x, 10.0 * y, float(h)) for k, (x, y, h) in enumerate(at)]
    can = any(not hits(order, head) for order in permutations(pieces))
    try:
        found = order_of(pieces, head)
    except Refused as refusal:
        assert not can and "way" in str(refusal)
    else:
        assert sorted(found) == list(range(len(pieces))) and not hits(tuple(pieces[k] for k in found), head)


def test_laid_out_for_one_after_another_any_order_clears_the_head() -> None:
    items = [item(f"p{k}", s) for k, s in enumerate(shapes(8, 40)) if k % 5 == 3 and s.area < 1500]
    head = Head()
    p = pack(items, BED, Spacing(2.0, 0.0, head.reach))
    pieces = [Standing(q, 20.0, 100, 1.0, 5.0) for q in p.placed if q.plate == 0]
    assert len(pieces) > 2
    for k in range(6):
        order = tuple(pieces[j] for j in np.random.default_rng(k).permutation(len(pieces)))
        assert not hits(order, head)


def test_what_either_way_costs_is_told_by_hand() -> None:
    a, b = post("a", 0, 0, 20.0, hours=1.0), post("b", 100, 0, 10.0, hours=0.5)
    both, single = at_once([a, b]), one_by_one([a, b])
    # 50 layers with a way of 100 mm there and back at 150 mm/s and two stops of 0.3 s; then a alone.
    assert both.hours == pytest.approx(1.5 + 50 * (200 / 150 + 0.6) / 3600) and both.crossings == 100
    assert single.hours == pytest.approx(1.5 + (200 / 150 + 0.6) / 3600) and single.crossings == 2
    assert both.lost == pytest.approx((1 - 0.96**2) * 20 / 2) and single.lost == pytest.approx(0.04 * 20 / 2)
    quick = post("c", 50, 0, 20.0, hours=0.1)  # 3.6 s a layer
    assert at_once([quick]).melt == ("c",) and at_once([quick, a]).melt == () and one_by_one([quick, a]).melt == ("c",)
    assert turned(shapely.box(5, 5, 7, 8), 90).bounds == pytest.approx((0, 0, 3, 2))


def test_tall_ones_keep_out_of_each_others_rows_and_every_plate_has_an_order() -> None:
    """Towers above the bar beside low ones: packed so that an order is found on every bed, seen again by a walk of the
    head over each piece; two towers never share a row that the bar would sweep."""
    head = Head()
    rng = np.random.default_rng(3)
    for trial in range(3):
        high = {f"p{k}": float(rng.choice([3.0, 15.0, 60.0])) for k in range(14)}
        items = [
            Item(f"{n}/1", n, shapely.box(0, 0, *rng.uniform(8, 45, 2)), Turns.QUARTER, h > head.bar)
            for n, h in high.items()
        ]
        p = pack(items, BED, Spacing(2.0, 3.0, head.reach, min(head.front, head.back)))
        assert not check(p) and len(p.placed) == 14
        towers = 0
        for plate in range(p.plates):
            pieces = [Standing(q, high[q.item.name], 100, 1.0, 5.0) for q in p.on(plate)]
            order = order_of(pieces, head)
            assert not hits(tuple(pieces[k] for k in order), head), trial
            rows = sorted(q.shape.bounds[1::2] for q in p.on(plate) if high[q.item.name] > head.bar)
            assert all(b[0] - a[1] > min(head.front, head.back) for a, b in pairwise(rows))
            towers = max(towers, len(rows))
        assert towers > 1, "a bed takes several where they stand behind one another"


def test_what_has_no_order_where_it_stands_goes_to_another_plate_and_the_rest_stays() -> None:
    """Two towers side by side: one of them, and the low ones, stay; what somebody put there stays first."""
    head = Head()
    a, b, low = post("a", 0, 0, 60.0), post("b", 100, 0, 50.0), post("c", 50, 0, 10.0)
    on, rest = in_some_order([a, b, low], head)
    assert [p.placed.item.name for p in on] == ["c", "b"] and [p.placed.item.name for p in rest] == ["a"]
    held = replace(a, placed=replace(a.placed, locked=True))
    on, rest = in_some_order([held, b, low], head)
    assert [p.placed.item.name for p in on] == ["a", "c"] and [p.placed.item.name for p in rest] == ["b"]
    assert in_some_order([a, low], head) == ([a, low], [])
