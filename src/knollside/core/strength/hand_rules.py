"""What an engineer works out by hand beside a solve: a loaded hole, a screw's head, the section at a hold.

Each rule gives a nominal stress at a place, which is rated like any solved one, in every way to lie: a second verdict
that no grid and no idealised hold can hide. Lugs: net section, shear-out on the two planes that start forty degrees
off the load, bearing on the hole's diameter (F. P. Cozzone, M. A. Melcon, F. M. Hoblit 1950 and 1953; E. F. Bruhn
1973). A hold's section: N/A + M y/I and V/A. A thread's or insert's pull-out: shear on the cylinder of the hole.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from knollside.core.material.infill import stiffness_share, strength_share
from knollside.core.mesh.walls import way_out
from knollside.core.model import (
    Array,
    BearingLoad,
    DesignCase,
    EdgeFixture,
    Feature,
    FixedFixture,
    ForceLoad,
    LoadCase,
    Mesh,
    Recipe,
    ScrewFixture,
    SlidingFixture,
    ThreadFixture,
    WallFixture,
    WeightLoad,
    square_to,
)
from knollside.core.strength.field import CaseAnswer
from knollside.core.strength.nominal import Nominal, tensor
from knollside.core.strength.rules import Rule
from knollside.core.strength.set_out import place_feature

_HEIGHTS = 5  # along a hole, where the material around it is measured
_PLANES = np.radians(40.0)
_LUG = 4.0  # diameters from hole to edge, beyond which what lies ahead of the pin carries on
_INTO = 1e-3  # mm into the material, where a ray starts
_ENGAGED = 0.5  # of the cylinder that is material between turns, or wetted between an insert's knurls; typical


@dataclass(frozen=True)
class _Walls:
    """How much of a section a recipe fills: ``depth`` of solid wall on each side, and the share between, by stiffness
    and by strength."""

    depth: float
    between: float
    strong: float

    def solid(self, width: Array) -> Array:
        """Solid length in ``width`` (n,) mm that ends in a wall at both sides."""
        wall = np.minimum(width, 2 * self.depth)
        return np.asarray(wall + self.between * (width - wall))


def by_hand(
    mesh: Mesh,
    features: tuple[Feature, ...],
    design_case: DesignCase,
    answers: tuple[CaseAnswer, ...],
    recipe: Recipe,
    clamp_left: tuple[float, ...],
) -> tuple[Nominal, ...]:
    """Every rule of every load case; ``answers`` are of the cases with loads, in their order, ``clamp_left`` the share
    of a screw's tightening that is there in each."""
    infill = recipe.pattern, recipe.infill
    walls = _Walls(recipe.walls * recipe.line_width, stiffness_share(*infill), strength_share(*infill))
    out: list[Nominal] = []
    for number, (case, answer) in enumerate(zip(design_case.loaded, answers, strict=True)):
        for i, fixture in enumerate(design_case.fixtures):
            feature = place_feature(mesh, features, fixture)
            mine = answer.external.holder == i
            force = answer.external.forces[mine].sum(axis=0)
            if feature.kind == "hole" and feature.diameter and feature.length:
                if not isinstance(fixture, SlidingFixture | WallFixture | EdgeFixture):
                    out += _lug(mesh, feature, force, number, walls)
                if isinstance(fixture, ScrewFixture):
                    out += _head(feature, fixture, force, number, clamp_left[number], walls)
                if isinstance(fixture, ThreadFixture):
                    out += _thread(feature, fixture, force, number, clamp_left[number])
            elif feature.kind == "flat" and isinstance(fixture, FixedFixture):
                out += _root(mesh, feature, answer, mine, number)
        out += _loaded_holes(mesh, features, case, number, walls, answer.impact)
    return tuple(out)


def _loaded_holes(
    mesh: Mesh, features: tuple[Feature, ...], case: LoadCase, number: int, walls: _Walls, impact: float
) -> list[Nominal]:
    out: list[Nominal] = []
    for load in case.loads:
        if isinstance(load, BearingLoad | ForceLoad | WeightLoad):
            feature = place_feature(mesh, features, load)
            if feature.kind == "hole" and feature.diameter and feature.length:
                out += _lug(mesh, feature, impact * np.asarray(load.vector, float), number, walls)
    return out


def _lug(mesh: Mesh, hole: Feature, force: Array, number: int, walls: _Walls) -> list[Nominal]:
    """A hole whose wall takes ``force`` across its axis, the pin pressing the way the force points."""
    assert hole.diameter is not None and hole.length is not None
    axis, radius = np.asarray(hole.axis, float), hole.diameter / 2
    across = force - (force @ axis) * axis
    size = float(np.linalg.norm(across))
    if size < 1e-9:
        return []
    ahead = across / size
    beside = np.cross(axis, ahead)
    step = (np.arange(_HEIGHTS) + 0.5) / _HEIGHTS - 0.5
    middles = np.asarray(hole.centre) + np.outer(step * hole.length, axis)
    slice_mm = hole.length / _HEIGHTS

    def measured(toward: Array, along: Array) -> Array:
        """Material along ``along`` from the hole's wall, on the side ``toward``, at each height."""
        return way_out(mesh, middles + (radius + _INTO) * toward, np.tile(along, (_HEIGHTS, 1)))

    out = [_stress(Rule.BEARING, hole, number, -size / (hole.diameter * hole.length), ahead, ahead, radius * ahead)]
    edge = measured(ahead, ahead)
    if not float(np.median(edge)) < _LUG * hole.diameter:
        return out
    planes = [np.cos(_PLANES) * ahead + side * np.sin(_PLANES) * beside for side in (-1.0, 1.0)]
    shear = sum(float(walls.solid(measured(p, ahead)).sum()) * slice_mm for p in planes)
    net = sum(float(walls.solid(measured(s * beside, s * beside)).sum()) * slice_mm for s in (-1.0, 1.0))
    if shear > 0:
        turned = size / shear
        out.append(_stress(Rule.SHEAR_OUT, hole, number, turned, ahead, beside, radius * planes[1]))
    if net > 0:
        out.append(_stress(Rule.NET_SECTION, hole, number, size / net, ahead, ahead, radius * beside))
    return out


def _head(hole: Feature, screw: ScrewFixture, force: Array, number: int, left: float, walls: _Walls) -> list[Nominal]:
    """What the head takes along the screw: pressed on its ring with what is left of its tightening besides, and cut
    out around it. Walls run round the hole; beyond them the head sits on infill."""
    assert hole.diameter is not None and hole.length is not None
    axis = np.asarray(hole.axis, float)
    pull = abs(float(force @ axis))
    pressed = pull + left * (screw.tightened_N or 0.0) * screw.tight
    head = screw.head(hole.diameter)
    walled = min(head, hole.diameter + 2 * walls.depth)
    ring = np.pi / 4 * (walled**2 - hole.diameter**2 + walls.strong * (head**2 - walled**2))
    out_way, _ = square_to(axis)
    end = 0.5 * hole.length * axis + 0.25 * (head + hole.diameter) * out_way
    cut = 0.5 * head * out_way
    through = float(walls.solid(np.array(hole.length)))
    return [
        _stress(Rule.HEAD, hole, number, -pressed / ring, axis, axis, end),
        _stress(Rule.PULLED_THROUGH, hole, number, pull / (np.pi * head * through), axis, out_way, cut),
    ]


def threaded_area(hole: Feature) -> float:
    """The cylinder that a thread or an insert in a hole would be torn out on, mm2."""
    assert hole.diameter is not None and hole.length is not None
    return _ENGAGED * float(np.pi) * hole.diameter * hole.length


def _thread(hole: Feature, screw: ThreadFixture, force: Array, number: int, left: float) -> list[Nominal]:
    axis = np.asarray(hole.axis, float)
    assert hole.diameter is not None
    out_way, _ = square_to(axis)
    pull = abs(float(force @ axis)) + left * (screw.tightened_N or 0.0)
    off = 0.5 * hole.diameter * out_way
    return [_stress(Rule.PULLED_OUT, hole, number, pull / threaded_area(hole), axis, out_way, off)]


def _root(mesh: Mesh, flat: Feature, answer: CaseAnswer, mine: np.ndarray, number: int) -> list[Nominal]:
    """The section at a held face, as of a beam that is built in there."""
    tri = mesh.triangles[flat.faces]
    area = mesh.areas[flat.faces]
    total = float(area.sum())
    middle = (tri.mean(axis=1) * area[:, None]).sum(axis=0) / total
    normal = np.asarray(flat.axis, float)
    frame = np.stack(square_to(normal))
    # Second moments by the middles of the sides, which is exact for them.
    mids = ((tri + np.roll(tri, -1, axis=1)) / 2 - middle) @ frame.T
    second = np.einsum("t,tki,tkj->ij", area / 3, mids, mids)
    force, at = answer.external.forces[mine], answer.external.points[mine] - middle
    # The hold pushes the face; what runs through the section is that.
    pull, moment = float(force.sum(axis=0) @ normal), np.cross(at, force).sum(axis=0)
    shear = force.sum(axis=0) - pull * normal
    outline = (np.unique(tri.reshape(-1, 3), axis=0) - middle) @ frame.T
    # Sum of r x (a.r) n over the face is the moment: I a = n x m.
    slope = np.linalg.solve(second, frame @ np.cross(normal, moment))
    each = pull / total + outline @ slope
    out = []
    for k in {int(each.argmax()), int(each.argmin())}:
        place = middle + outline[k] @ frame
        out.append(Nominal(Rule.ROOT, place, number, tensor(float(each[k]), normal, normal)))
    size = float(np.linalg.norm(shear))
    if size > 1e-9:
        out.append(Nominal(Rule.ROOT, middle, number, tensor(size / total, normal, shear / size)))
    return out


def _stress(rule: Rule, hole: Feature, number: int, size: float, one: Array, two: Array, off: Array) -> Nominal:
    return Nominal(rule, np.asarray(hole.centre) + off, number, tensor(size, one, two))
