"""A stand-in for the program that makes toolpaths: plain G-code from a part's exact layers.

It writes what a recipe asks for and nothing clever: walls from the outside in, straight solid skins, straight
infill. It serves the demo and the tests; what it writes is known exactly, so that a reader can be held to it.
"""

from __future__ import annotations

import math

import numpy as np
import shapely
from shapely import affinity
from shapely.geometry.base import BaseGeometry

from knollside.core.lay.strata import lay_strata
from knollside.core.model import Mesh, Recipe

FILAMENT = math.pi * 1.75**2 / 4
WALL_SPEED, FILL_SPEED, TRAVEL_SPEED = 45.0, 70.0, 150.0  # mm/s


class _Pen:
    """Collects commands; keeps the filament's place."""

    def __init__(self, width: float) -> None:
        self.out: list[str] = []
        self.pushed = 0.0
        self.width = width

    def say(self, *commands: str) -> None:
        self.out += commands

    def draw(self, points: np.ndarray, h: float, speed: float) -> None:
        """Travel to the first point, then lay a line through the others."""
        self.say(f"G0 X{points[0, 0]:.3f} Y{points[0, 1]:.3f} F{TRAVEL_SPEED * 60:.0f}")
        step = np.linalg.norm(np.diff(points, axis=0), axis=1)
        for i, ((x, y), length) in enumerate(zip(points[1:], step, strict=True)):
            self.pushed += length * self.width * h / FILAMENT
            feed = f" F{speed * 60:.0f}" if i == 0 else ""
            self.say(f"G1 X{x:.3f} Y{y:.3f} E{self.pushed:.5f}{feed}")


def write_toolpath(
    mesh: Mesh,
    direction: tuple[float, float, float],
    recipe: Recipe,
    nozzle_c: int,
    bed_c: int,
    seam: tuple[float, float] = (1e3, 1e3),
    bed: tuple[float, float] = (220.0, 220.0),
) -> str:
    """G-code for one part in the middle of the bed. ``seam``: loops start at their corner nearest to this place,
    in mm from the part's middle."""
    strata = lay_strata(mesh, direction, recipe)
    w, h = recipe.line_width, strata.h
    low, high = (mesh.turned(strata.turn).bounds[i, :2] for i in (0, 1))
    middle = (low + high) / 2
    shift = np.array(bed) / 2 - middle
    outline = [affinity.translate(o, *shift) for o in strata.outline]
    start = shapely.Point(*(np.array(bed) / 2 + np.array(seam)))
    pen = _Pen(w)
    pen.say("G21", "G90", "M82", f"M140 S{bed_c}", f"M104 S{nozzle_c}", f"M190 S{bed_c}", f"M109 S{nozzle_c}")
    pen.say("G28", "G92 E0", "M107")
    for k, shape in enumerate(outline):
        pen.say(f"G0 Z{(k + 1) * h:.3f} F600")
        if k == 2:
            pen.say("M106 S204")
        for i in range(recipe.walls):
            ring = _inset(shape, (i + 0.5) * w)
            for p in shapely.get_parts(ring):
                if shapely.is_empty(p):
                    continue
                for line in (p.exterior, *p.interiors):
                    pen.draw(_from(line, start), h, WALL_SPEED)
        inner = _inset(shape, recipe.walls * w)
        if inner.is_empty:
            continue
        above = [outline[j] if j < len(outline) else shapely.Polygon() for j in (k + 1, k + recipe.tops)]
        below = [outline[j] if j >= 0 else shapely.Polygon() for j in (k - 1, k - recipe.bottoms)]
        kept = [*above] * (recipe.tops > 0) + [*below] * (recipe.bottoms > 0)
        core = shapely.intersection_all([inner, *kept]) if kept else inner
        solid = shapely.difference(inner, core)
        angle = 45.0 if k % 2 else -45.0
        _fill(pen, solid, w, angle, h)
        if recipe.infill >= 1:
            _fill(pen, core, w, angle, h)
        elif recipe.infill > 0:
            _fill(pen, core, w / recipe.infill, angle, h)
    pen.say("M104 S0", "M140 S0", "M107", "G28 X")
    return "\n".join(pen.out) + "\n"


def _inset(shape: BaseGeometry, by: float) -> BaseGeometry:
    return shapely.buffer(shape, -by, join_style="mitre", mitre_limit=2.0)


def _from(ring: shapely.LinearRing, start: shapely.Point) -> np.ndarray:
    """The ring's points, begun at its corner nearest to ``start``."""
    c = np.asarray(ring.coords)[:-1]
    first = int(np.argmin(np.hypot(c[:, 0] - start.x, c[:, 1] - start.y)))
    return np.vstack([c[first:], c[: first + 1]])


def _fill(pen: _Pen, shape: BaseGeometry, spacing: float, angle: float, h: float) -> None:
    """Straight lines ``spacing`` apart at ``angle`` degrees, to and fro."""
    if shape.is_empty or shape.area < pen.width**2:
        return
    turned = affinity.rotate(shape, -angle, origin=(0, 0))
    x0, y0, x1, y1 = turned.bounds
    count = int((y1 - y0) / spacing)
    rows = y0 + ((y1 - y0) - count * spacing) / 2 + np.arange(count + 1) * spacing
    lines = shapely.linestrings([[(x0 - 1, y), (x1 + 1, y)] for y in rows])
    for i, cut in enumerate(shapely.intersection(lines, turned)):
        for part in shapely.get_parts(cut):
            if part.geom_type == "LineString" and part.length > 0.3:
                back = affinity.rotate(part, angle, origin=(0, 0))
                c = np.asarray(back.coords)
                pen.draw(c if i % 2 == 0 else c[::-1], h, FILL_SPEED)
