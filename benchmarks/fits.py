"""Rows of the table that are about fits: corrections, gaps, threads, and the whole loop on simulated printers."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import manifold3d as m3
import numpy as np

from knollside.core.job import answer, correcting
from knollside.core.model import Mate, Recipe

Row = Callable[..., None]
Timed = Callable[[Callable[[], Any]], tuple[float, Any]]
UP = (0.0, 0.0, 1.0)


def report(row: Row, timed: Timed) -> None:
    _corrections(row, timed)
    _bodies(row, timed)
    _million(row, timed)
    _loop(row, timed)
    _printers(row)


def _printers(row: Row) -> None:
    """Truths that are not the model's, after two and four bars: what nine in ten held, and the error of the middle."""
    from printers import TRUTHS, outcomes

    for truth in TRUTHS:
        words = []
        for bars in (2, 4):
            got = outcomes(truth, bars, 400, 20261129)
            error = np.array([o.error for o in got])
            held = 100 * np.mean([o.held for o in got])
            words.append(f"{held:.0f} %, {error.mean():+.3f} ± {error.std():.3f}")
        row(f"{truth}: held after 2 and 4 bars, error mm", "; ".join(words), "87 to 93 %, 0.02")


def _corrections(row: Row, timed: Timed) -> None:
    """Eight holes of a plate of 100,000 triangles, half of them countersunk."""
    from knollside.demo.make_parts import mesh_of

    solid = m3.Manifold.cube((120, 60, 8))
    for k in range(8):
        x, y = 15 + 30 * (k % 4), 15 + 30 * (k // 4)
        solid -= m3.Manifold.cylinder(20, 2.5, circular_segments=64).translate((x, y, -5))
        if k % 2:
            solid -= m3.Manifold.cylinder(2.5, 2.5, 5.0, 64).translate((x, y, 5.5))
    ball = m3.Manifold.sphere(20, 440).translate((60, 30, -19)) - m3.Manifold.cube((200, 200, 60)).translate(
        (-40, -40, 2)
    )
    plain = mesh_of(solid)
    rough = mesh_of(solid + ball)
    for what, mesh in (("", plain), (f" of {len(rough.faces):,} triangles", rough)):
        part = answer.read_part(mesh)
        holes = [f for f in part.features if f.kind == "hole" and f.facets == 64][:8]
        mates = tuple(Mate(feature=f.id, hardware="M5", fit="medium") for f in holes)
        found, _ = correcting.corrections(part, mates, UP, ())
        seconds, made = timed(lambda: correcting.apply_corrections(part, mates, found, UP, Recipe()))  # noqa: B023
        kept = {v.tobytes() for v in np.ascontiguousarray(made.mesh.vertices)}
        moved = sum(v.tobytes() not in kept for v in np.ascontiguousarray(mesh.vertices))
        off = max(abs(c.volume_found / c.volume_predicted - 1) for c in made.changes)
        row(f"8 holes corrected, 4 countersunk{what}", f"{seconds:.2f} s", "0.6 s")
        row("  volume against foretold, at worst; corners changed", f"{off:.1e}, {moved}", "1e-4 on plain ones")


def _million(row: Row, timed: Timed) -> None:
    from knollside.core.mesh.features import find_features
    from knollside.demo.make_parts import mesh_of

    solid = m3.Manifold.cube((500, 500, 10))
    rng, posts = np.random.default_rng(9), []
    for i in range(576):
        x, y = 10 + 20 * (i % 24), 10 + 20 * (i // 24)
        d, n = float(rng.uniform(5, 14)), int(rng.integers(500, 960))
        posts.append(m3.Manifold.cylinder(30, d / 2, circular_segments=n).translate((x, y, -5)))
    mesh = mesh_of(solid - m3.Manifold.batch_boolean(posts, m3.OpType.Add))
    seconds, found = timed(lambda: find_features(mesh))
    row(f"features of {len(mesh.faces):,} triangles", f"{seconds:.1f} s", "6 s at a million")
    row("  holes found", f"{sum(f.kind == 'hole' for f in found)} of 576", "0.97")


def _loop(row: Row, timed: Timed) -> None:
    from knollside.sim.loop import run_loops

    seconds, f = timed(lambda: run_loops(1000))
    row("1,000 simulated printers, 8 holes measured, corrected, printed", f"{seconds:.1f} s")
    row("  mean error after correction, and its spread", f"{f.mean_error:+.4f}, {f.spread:.4f} mm", "0.02 mm")
    row("  nine-in-ten intervals that held the truth", f"{100 * f.fixtures:.1f} %", "87 to 93 %")
    row(
        "  chance to fit foretold, and how many did",
        f"{100 * f.foretold:.1f}, {100 * f.fitted:.1f} %",
        "within 5 points",
    )
    bands = ", ".join(f"{100 * p:.0f}/{100 * y:.0f}" for p, y, _ in f.by_chance)
    row("  by bands of chance, foretold/came out", bands, "within 5 points")


def _bodies(row: Row, timed: Timed) -> None:
    import manifold3d as m3

    from knollside.core.fit.clearance import gaps
    from knollside.core.fit.scaling import scale_keeping
    from knollside.core.mesh.distance import shortest
    from knollside.core.mesh.features import find_features
    from knollside.core.mesh.load import load_file
    from knollside.core.model import Recipe
    from knollside.demo.design_cases import PARTS
    from knollside.demo.make_parts import mesh_of

    hinge = load_file(PARTS / "vent-hinge.stl").mesh
    features = find_features(hinge)
    gaps(hinge, (0.0, 0.0, 1.0), Recipe())
    seconds, _ = timed(lambda: gaps(hinge, (0.0, 0.0, 1.0), Recipe()))
    row("gap of the hinge, in the layer and across it", f"{seconds:.2f} s", "0.1 s")
    inner = mesh_of(m3.Manifold.sphere(30, 400))
    outer = mesh_of(m3.Manifold.sphere(40, 280) - m3.Manifold.sphere(30.4, 280))
    seconds, _ = timed(lambda: shortest(inner, outer))
    row(f"least distance of {len(inner.faces):,} and {len(outer.faces):,} triangles", f"{seconds:.1f} s", "3 s")
    holes = tuple(f.id for f in features if f.kind == "hole")
    seconds, made = timed(lambda: scale_keeping(hinge, features, 1.6, holes, True))
    row(
        "hinge at 160 %, gap and holes kept",
        f"{seconds:.1f} s, gap {made.gaps[0].now:.3f} mm of {made.gaps[0].drawn:.3f}",
    )
