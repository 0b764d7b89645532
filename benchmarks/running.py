"""Rows of the table that are about running: packing against boxes, the week, drying, square and scale."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np
import shapely

Row = Callable[..., None]
Timed = Callable[[Callable[[], Any]], tuple[float, Any]]
BED = (220.0, 220.0)
PARTS = Path(__file__).parent.parent / "src/knollside/demo/parts"


def report(row: Row, timed: Timed) -> None:
    _packing(row, timed)
    _week(row, timed)
    _drying(row)
    _square(row)


def _drawn(rng: np.random.Generator) -> Any:
    """An outline like those of fittings: open rings, angles, nuts, plates, gussets, stars."""
    a, b, c = rng.uniform(30, 90), rng.uniform(20, 60), rng.uniform(8, 16)
    ring = shapely.difference(shapely.Point(0, 0).buffer(b / 2 + 5), shapely.Point(0, 0).buffer(b / 2))
    k = np.arange(6) * np.pi / 3
    return [
        shapely.difference(ring, shapely.box(0, -4, 90, 4)),
        shapely.union(shapely.box(0, 0, a, c), shapely.box(0, 0, c, b)),
        shapely.Polygon(np.c_[np.cos(k), np.sin(k)] * b / 2),
        shapely.box(0, 0, a, b / 2),
        shapely.Polygon([(0, 0), (a, 0), (0, b)]),
        shapely.union(shapely.box(-a / 2, -c / 2, a / 2, c / 2), shapely.box(-c / 2, -b / 2, c / 2, b / 2)),
    ][int(rng.integers(6))]


def _sets() -> list[list[Any]]:
    """Three sets of the demo's own outlines in copies, and nine drawn at random."""
    from knollside.core.mesh.load import load_file
    from knollside.core.run.footprint import footprint

    real = [footprint(load_file(p).mesh) for p in sorted(PARTS.glob("*.stl"))]
    out = []
    for seed in range(12):
        rng = np.random.default_rng(seed)
        n = int(rng.integers(20, 61))
        out.append([real[int(rng.integers(len(real)))] if seed < 3 else _drawn(rng) for _ in range(n)])
    return out


def boxes(shapes: list[Any], clearance: float) -> int:
    """Beds that a common packer of boxes needs, turned by quarters, the clearance between them."""
    import rectpack

    packer = rectpack.newPacker(rotation=True, mode=rectpack.PackingMode.Offline)
    for s in shapes:
        low_x, low_y, high_x, high_y = s.bounds
        packer.add_rect(*(int(np.ceil((v + clearance) * 100)) for v in (high_x - low_x, high_y - low_y)))
    for _ in range(60):
        packer.add_bin(*(int((v + clearance) * 100) for v in BED))
    packer.pack()
    return len(packer)


def _packing(row: Row, timed: Timed) -> None:
    from knollside.core.run.packing import Item, Spacing, check, pack

    pack([Item("warm", "warm", shapely.box(0, 0, 5, 5))], BED, Spacing(2.0))
    ours, theirs, longest, wrong, worse = 0, 0, 0.0, 0, 0
    for shapes in _sets():
        items = [Item(str(k), str(k), s) for k, s in enumerate(shapes)]
        seconds, made = timed(lambda items=items: pack(items, BED, Spacing(2.0)))
        longest = max(longest, seconds * 40 / len(items))
        wrong += len(check(made))
        peer = boxes(shapes, 2.0)
        ours, theirs, worse = ours + made.plates, theirs + peer, worse + (made.plates > peer)
    row("beds for 12 sets of 20 to 60 outlines, ours and boxes'", f"{ours} and {theirs}", "at most as many")
    row("  sets that need more beds than boxes, overlaps", f"{worse}, {wrong}", "0, 0")
    row("  denser by", f"{100 * (theirs / ours - 1):.0f} %", "12 %")
    row("  40 outlines in, at most", f"{longest:.1f} s", "3 s")


def _week(row: Row, timed: Timed) -> None:
    from knollside.core.model import Range
    from knollside.core.run.hours import USUAL, span_of
    from knollside.core.run.week import planned
    from knollside.core.run.week_bound import bound_of
    from knollside.core.run.weeknumbers import Goal, Machine, PlateTask, School

    begin = datetime(2026, 11, 30, 17, 10, tzinfo=ZoneInfo("Europe/Berlin"))
    span = span_of(USUAL, begin, 21)
    names = ("A", "B", "C")
    slowest, off, proved, count = 0.0, [], 0, 0
    for seed in range(6):
        rng = np.random.default_rng(seed)
        tasks = []
        for k in range(20):
            h, f = float(rng.uniform(1, 9)), int(rng.integers(4))
            can = names if rng.random() < 0.7 else (names[int(rng.integers(3))],)
            due = begin + timedelta(hours=float(rng.uniform(20, 150)))
            spool = f"{f}{rng.integers(2)}"
            tasks.append(PlateTask(f"{k}", f"{k}", Range(h, 0.92 * h, 1.1 * h), f"f{f}", spool, can, due))
        machines = [Machine(n, f"f{k}") for k, n in enumerate(names)]
        for school in School:
            args = (tasks, machines, span, school, Goal.SOONEST, (), bound_of)
            if not count:
                planned(*args)
            seconds, plan = timed(lambda args=args: planned(*args))
            slowest, count = max(slowest, seconds), count + 1
            proved += plan.proved
            off.append(plan.done / max(plan.bound, 1) - 1)
    row("20 plates on 3 printers planned in, at most", f"{slowest:.1f} s", "2 s")
    row(
        "  from the proved bound on average, and proved best",
        f"{100 * np.mean(off):.1f} %, {proved} of {count}",
        "shown",
    )


def _drying(row: Row) -> None:
    from core.test_spools import true_spool

    from knollside.core.model import Range
    from knollside.core.run.moisture import drying_of, uptake_of

    hours = np.linspace(0.05, 90, 2500)
    for material, grams, usual, heat, target in (("PA", 800.0, 12.0, 80.0, 0.4), ("TPU 95A", 700.0, 5.0, 55.0, 0.2)):
        u = uptake_of(material)
        water = Range(0.75 * u.rest.value, 0.5 * u.rest.value, u.rest.value)
        words = []
        for times in ((), (0, 1, 2, 3, 5)):
            rng = np.random.default_rng(9)
            held, told = [], []
            for _ in range(200):
                spool = true_spool(rng, u.rest, usual, heat)
                done = hours[spool(hours) <= target]
                if len(done):
                    read = [
                        (
                            float(t),
                            round(1000 + grams / 100 * float(spool(np.array(float(t)))) + rng.normal(0, 0.05), 1),
                        )
                        for t in times
                    ]
                    d = drying_of(u, water, usual, heat, grams, read, target=target)
                    held.append(done[0] <= d.planned)
                    told.append(d.planned / done[0])
            words.append(f"{100 * np.mean(held):.0f} % ({np.median(told):.1f} ×)")
        row(f"{material} dry by the hours told (over true), typical and weighed", ", ".join(words), "90 %")


def _square(row: Row) -> None:
    from core.test_square import read

    from knollside.core.model import Range
    from knollside.core.run.square import frame_of

    rng = np.random.default_rng(3)
    angle, scale = [], []
    for _ in range(1000):
        x, y, skew, wider = (
            1 + rng.normal(0, 0.004),
            1 + rng.normal(0, 0.004),
            rng.normal(0, 0.4),
            rng.normal(0.04, 0.015),
        )
        f = frame_of(read(x, y, skew, 100.0, wider, rng, 0.02), outside=Range(0.04, 0.015, 0.065))
        angle.append(abs(f.skew.value - skew))
        scale.append(100 * abs(f.scale_x.value - x))
    row(
        "skew and scale from one square, 99 of 100 within",
        f"{np.quantile(angle, 0.99):.3f}°, {np.quantile(scale, 0.99):.3f} %",
        "0.05°, 0.1 %",
    )
