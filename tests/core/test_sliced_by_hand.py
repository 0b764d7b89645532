"""A toolpath drawn by hand, whose layers, walls, room, plastic and seconds are known: what is found must be these."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import pytest
import shapely

from knollside.core.material.cards import material
from knollside.core.model import Recipe
from knollside.core.run.gcode import parse_gcode
from knollside.core.run.sliced import Sliced, describe, differences, seams_near

W, H, FIRST, V, TRAVEL = 0.5, 0.25, 0.3, 30.0, 100.0
AREA = math.pi * 1.75**2 / 4


class Pen:
    """Writes moves and adds up what they take: each at its speed, and v / a more where the path turns."""

    def __init__(self) -> None:
        self.lines = ["M83", "M104 S240", "M140 S80", "M106 S255", "M106 S128"]
        self.at, self.seconds, self.volume, self.way = np.zeros(3), 0.0, 0.0, np.zeros(3)

    def go(self, x: float, y: float, z: float, wide: float, thick: float, v: float) -> None:
        to = np.array([x, y, z])
        step = to - self.at
        length = float(np.linalg.norm(step))
        push = wide * thick * length / AREA
        self.lines.append(f"G1 X{x:.5f} Y{y:.5f} Z{z:.5f} F{v * 60:.0f}" + (f" E{push:.7f}" if wide else ""))
        turns = float(step / length @ self.way) < 0.85
        if self.way.any():  # where the first one comes from is not said
            self.seconds += length / v + (min(v, math.sqrt(1500 * length)) / 1500 if turns else 0.0)
        self.volume += push * AREA
        self.at, self.way = to, step / length

    def ring(self, low: float, high: float, z: float, thick: float) -> None:
        self.go(low, low, z, 0, thick, TRAVEL)
        middle = (low + high) / 2  # a side in two pieces is run through without a stop
        for x, y in ((middle, low), (high, low), (high, high), (low, high), (low, low)):
            self.go(x, y, z, W, thick, V)


def plate(layers: int = 8, share: float = 0.25) -> tuple[Pen, str]:
    """Twenty by twenty with a square hole of six in the middle, two walls all round, ``share`` of the room filled."""
    pen, z = Pen(), 0.0
    for k in range(layers):
        thick = FIRST if k == 0 else H
        z += thick
        for inset in (0.25, 0.75):
            pen.ring(inset, 20 - inset, z, thick)
            pen.ring(7 - inset, 13 + inset, z, thick)
        length = share * (18.0**2 - 8.0**2) / W
        pen.go(1.5, 1.5, z, 0, thick, TRAVEL)
        for j in range(int(length // 17)):  # beside the hole and under it, run after run over itself
            pen.go(18.5 if j % 2 == 0 else 1.5, 1.5 + 0.01 * (j + 1), z, W, thick, V)
    pen.lines.append("G1 E-1.5 F1800")  # drawn back: a twentieth of a second
    pen.seconds += 1.5 / 30
    return pen, "\n".join(pen.lines)


def found_in(text: str) -> Sliced:
    return describe(parse_gcode(np.frombuffer(text.encode(), np.uint8)))


def test_layers_walls_room_plastic_and_seconds_are_those_of_the_drawing() -> None:
    pen, text = plate()
    s = found_in(text)
    assert [x.z for x in s.layers] == pytest.approx([FIRST + H * k for k in range(8)])
    assert [x.h for x in s.layers] == pytest.approx([FIRST, *[H] * 7])
    assert [x.width for x in s.layers] == pytest.approx([W] * 8, rel=1e-4) and s.line_width == pytest.approx(
        W, rel=1e-4
    )
    assert (s.layer_height, s.first_height) == pytest.approx((H, FIRST))
    assert s.walls == 2 and s.size == pytest.approx((20, 20, FIRST + 7 * H), abs=1e-3)
    laid = int(0.25 * 260 / W // 17) * 17 * W  # mm2 of infill a layer
    assert s.infill == pytest.approx(laid / 260, abs=0.008)  # corners of the room are round
    assert s.volume == pytest.approx(pen.volume, rel=1e-4)
    assert s.filament_m == pytest.approx(pen.volume / AREA / 1000, rel=1e-4)
    assert s.hours * 3600 == pytest.approx(pen.seconds, rel=2e-4)
    assert sum(x.seconds for x in s.layers) == pytest.approx(pen.seconds, rel=2e-3)
    assert sum(x.volume for x in s.layers) == pytest.approx(pen.volume, rel=1e-4)
    for x in s.layers:
        assert [p.area for p in x.loops] == pytest.approx([19.5**2, 18.5**2, 7.5**2, 6.5**2], rel=1e-4)
        assert np.allclose(x.starts, [[0.25] * 2, [0.75] * 2, [6.25] * 2, [6.75] * 2], atol=1e-4)
    assert (s.nozzle_c, s.bed_c) == (240, 80) and s.fan == pytest.approx(128 / 255, abs=0.003)
    assert np.allclose(s.seams, [[0.25, 0.25, x.z] for x in s.layers], atol=1e-4)


def test_another_filament_another_width_and_a_layer_without_walls_of_its_own() -> None:
    text = plate()[1]
    fat = describe(parse_gcode(np.frombuffer(text.encode(), np.uint8)), 2.85)
    assert fat.line_width == pytest.approx(W * (2.85 / 1.75) ** 2, rel=1e-4)
    # Fill that ends where it began is no wall, and one wall alone is one.
    one = Pen()
    for k in range(4):
        one.ring(0.25, 19.75, 0.2 * (k + 1), 0.2)
        one.ring(2.0, 18.0, 0.2 * (k + 1), 0.2)  # three and a half lines farther in: nothing of a wall
        one.go(10, 10, 0.2 * (k + 1), 0, 0.2, TRAVEL)
        for x, y in ((10, 10.3), (10.3, 10.3), (10.3, 10), (10, 10)):
            one.go(x, y, 0.2 * (k + 1), W, 0.2, V)
    s = found_in("\n".join(one.lines))
    assert s.walls == 1 and all(len(x.loops) == 2 for x in s.layers)


def told(s: Sliced, plan: Recipe, **card: object) -> list[str]:
    return [d.title for d in differences(s, plan, replace(material("PETG"), **card), s.size)]


def test_each_difference_is_told_from_its_own_limit_on() -> None:
    s = found_in(plate(share=0.3)[1])
    s = replace(s, infill=0.30, line_width=0.45)
    plan = Recipe(walls=2, infill=0.30, layer_height=0.25, line_width=0.45)

    def at(**change: object) -> list[str]:
        return told(replace(s, **change), plan)

    assert at() == [] and at(layer_height=0.2615) == at(infill=0.355) == at(line_width=0.509) == []
    assert at(layer_height=0.2625)[0] == "Layers of 0.26 mm where 0.25 were planned"
    assert at(infill=0.365)[0] == "Infill about 36 % where 30 % was planned" and at(infill=0.235)
    assert at(line_width=0.5105) and at(line_width=0.3895)
    assert at(walls=3) == ["Three walls where two were planned"] and at(walls=None, infill=None) == []
    low, high = material("PETG").nozzle
    assert at(nozzle_c=low - 4.9) == at(nozzle_c=high + 4.9) == []
    assert at(nozzle_c=low - 5.1) and at(nozzle_c=high + 5.1) and at(bed_c=material("PETG").bed[1] + 10.1)
    assert at(bed_c=material("PETG").bed[0] - 9.9) == [] and at(bed_c=material("PETG").bed[0] - 10.1)
    for off, said in ((1.4, []), (1.6, ["Another size"])):
        size = (s.size[0] + off, s.size[1], s.size[2])
        assert [d.title for d in differences(s, plan, material("PETG"), size)] == said
    large = replace(s, size=(100.0, 80.0, 60.0))
    for off, said in ((2.9, []), (3.3, ["Another size"])):
        found = differences(large, plan, material("PETG"), (80.0, 100.0, 60.0 + off))
        assert [d.title for d in found] == said  # three in a hundred of the longest side, whichever way it is turned
    harm = {d.title: d.harm for d in differences(replace(s, walls=1, nozzle_c=200.0), plan, material("PETG"), s.size)}
    assert list(harm.values()) == [3, 3]


def test_seams_count_from_the_middle_of_the_part_and_within_four_millimetres() -> None:
    s = found_in(plate(layers=12)[1])
    top = s.layers[-1].z
    for x, hit in ((-9.75 - 3.9, 1), (-9.75 - 4.1, 0)):
        assert seams_near(s, [(x, -9.75, top / 2)]) == hit
    assert seams_near(s, [(-9.75, -9.75, top + 3.4)]) == 1 and seams_near(s, [(-9.75, -9.75, top + 3.6)]) == 0
    assert seams_near(s, []) == 0 and shapely.area(s.layers[0].loops[0]) > 0
    changed = replace(s, layer_height=0.2504, line_width=0.4499, walls=25, infill=0.299).recipe(Recipe())
    assert (changed.layer_height, changed.line_width, changed.walls, changed.infill) == (0.25, 0.45, 20, 0.3)
