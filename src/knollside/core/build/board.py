"""The trade board: every combination of walls, infill and tops priced at once.

No new solve per dot. The section that governs (square to the governing stress)
is cut along its own direction; walls, tops and infill are transformed by
modulus, and the solved peak at each cut is scaled by the ratio of nominal
stresses. Empty shells are also held to plate buckling (Timoshenko and Gere
1961: sigma = 4 pi2 E / (12 (1 - nu2)) (t/b)2).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
import shapely
import shapely.affinity
from shapely.geometry.base import BaseGeometry

from knollside.core.build.price import Pace, Price, price
from knollside.core.build.stack import LayerStack, LayerUse, segments_of, stack_layers, use_of
from knollside.core.material.allowables import Allowables
from knollside.core.material.cards import Material
from knollside.core.material.infill import stiffness_share
from knollside.core.mesh.slicer import Section, polygon_of, section_of
from knollside.core.model import Array, Mesh, Range, Recipe, rotation_to_up
from knollside.core.strength.field import POISSON, StressField
from knollside.core.strength.rating import Ratings, point_reserves, rate
from knollside.core.strength.resultants import Resultants, resultants

WALLS = (1, 2, 3, 4, 5, 6, 8)
INFILLS = (0.0, 0.1, 0.2, 0.3, 0.5, 0.7, 1.0)
SHELLS = (3, 5)
_CUTS = 28


@dataclass(frozen=True)
class Dot:
    """One combination with its reserve and price; ``school`` where practice has a name for it."""

    recipe: Recipe
    reserve: Range
    price: Price
    school: str = ""
    frontier: bool = False


@dataclass(frozen=True)
class Board:
    dots: tuple[Dot, ...]
    target: float
    place: str
    cut_at: tuple[float, float, float]
    weak_outline: BaseGeometry
    weak_direction: tuple[float, float, float]
    stack: LayerStack

    def school(self, name: str) -> Dot | None:
        return next((d for d in self.dots if d.school == name), None)


def trade_board(
    mesh: Mesh,
    field: StressField,
    limits: tuple[Allowables, ...],
    base: Recipe,
    card: Material,
    direction: tuple[float, float, float],
    target: float,
    pace: Pace,
    factor: Range,
    tick: Callable[[float, str], None] | None = None,
) -> Board:
    """All combinations for one way to lie. ``base`` is the recipe that ``field`` was solved with."""
    say = tick or (lambda share, text: None)
    say(0.05, "cutting layers")
    stack = stack_layers(
        mesh, direction, base.layer_height, tuple({2, *SHELLS, *(s - 1 for s in SHELLS), base.tops, base.bottoms})
    )
    rating = rate(field, limits, np.array([direction]))
    section_way = governing_direction(field, rating)
    say(0.3, "cutting the weak place")
    res = resultants(mesh, field, np.array(section_way), _CUTS)
    peak = _peaks(field, limits, direction, section_way, res)
    outlines = [polygon_of(res.cuts.at(k)) for k in range(len(res.heights))]
    up = _up_in_section(section_way, direction)
    lines = _Transformed(res, outlines, up, field.modulus, limits)
    # The field was solved with walls' thickness all round: tops counted in layers of the same depth.
    even = max(round(base.walls * base.line_width / base.layer_height), 1)
    reference = lines.index(base.model_copy(update={"tops": even, "bottoms": even}))
    dots: list[Dot] = []
    uses: dict[tuple[int, int], LayerUse] = {}
    for i, walls in enumerate(WALLS):
        say(0.4 + 0.55 * i / len(WALLS), "pricing walls and infill")
        for shells in SHELLS:
            for infill in INFILLS:
                recipe = replace_recipe(base, walls, infill, shells)
                key = (walls, shells)
                if key not in uses:
                    uses[key] = use_of(stack, recipe)
                index = lines.index(recipe)
                # Solved peak times how much more (or less) the transformed section is stressed.
                with np.errstate(divide="ignore", invalid="ignore"):
                    scaled = peak * np.where(reference > 1e-12, reference / np.maximum(index, 1e-12), 1.0)
                buckle = lines.buckling(recipe)
                value = float(min(scaled.min(), buckle))
                spread = rating.spread[0]
                dots.append(
                    Dot(
                        recipe,
                        Range(value, value * float(spread[0]), value * float(spread[1])),
                        price(stack, uses[key], recipe, card, pace, factor),
                    )
                )
    at = field.points[rating.point[0]]
    weak = int(np.argmin(np.abs(res.heights + res.base - float(at @ np.asarray(section_way)))))
    x, y, z = (float(v) for v in at)
    return Board(_named(dots, target, base), target, "", (x, y, z), outlines[weak], section_way, stack)


def replace_recipe(base: Recipe, walls: int, infill: float, shells: int) -> Recipe:
    return base.model_copy(update={"walls": walls, "infill": infill, "tops": shells, "bottoms": max(shells - 1, 2)})


def governing_direction(field: StressField, rating: Ratings) -> tuple[float, float, float]:
    """Square to the cut that matters: the principal stress that is greatest where it would go first."""
    s = field.stress[rating.case[0], rating.point[0]]
    m = np.array([[s[0], s[5], s[4]], [s[5], s[1], s[3]], [s[4], s[3], s[2]]])
    value, vector = np.linalg.eigh(m)
    x, y, z = (float(v) for v in vector[:, int(np.argmax(np.abs(value)))])
    return x, y, z


def _peaks(
    field: StressField,
    limits: tuple[Allowables, ...],
    direction: tuple[float, float, float],
    section_way: tuple[float, float, float],
    res: Resultants,
) -> Array:
    """Least solved reserve near each cut, away from idealised holds and load edges."""
    _, reserve = point_reserves(field, limits, np.asarray(direction))
    along = field.points @ np.asarray(section_way) - res.base
    step = res.heights[1] - res.heights[0]
    bin_of = np.clip((along / step).astype(int), 0, len(res.heights) - 1)
    out = np.full(len(res.heights), np.inf)
    np.minimum.at(out, bin_of[~field.apart], reserve[~field.apart])
    return out


def _up_in_section(section_way: tuple[float, float, float], direction: tuple[float, float, float]) -> Array:
    """The build direction seen in the section's own plane (2,), zero where they coincide."""
    return (rotation_to_up(section_way) @ np.asarray(direction))[:2]


class _Transformed:
    """Transformed sections of the cuts for any recipe; offsets are made once per wall and shell."""

    def __init__(
        self, res: Resultants, outlines: list[BaseGeometry], up: Array, modulus: float, limits: tuple[Allowables, ...]
    ) -> None:
        self.res, self.outlines, self.up, self.modulus, self.limits = res, outlines, up, modulus, limits
        self.whole = [section_of(res.cuts.at(k)) for k in range(len(outlines))]
        self.cores: dict[tuple[float, float], list[tuple[Section, float]]] = {}

    def core(self, recipe: Recipe) -> list[tuple[Section, float]]:
        """Per cut: the section inside the shell, and its inner width (twice the deepest point)."""
        walls = recipe.walls * recipe.line_width
        shells = min(recipe.tops, recipe.bottoms) * recipe.layer_height
        key = (walls, shells)
        if key not in self.cores:
            self.cores[key] = [self._core(o, walls, shells) for o in self.outlines]
        return self.cores[key]

    def _core(self, outline: BaseGeometry, walls: float, shells: float) -> tuple[Section, float]:
        share = float(np.linalg.norm(self.up))
        if share < 0.2 or shells <= 0:
            shape = shapely.buffer(outline, -walls, join_style="mitre", mitre_limit=2.0)
        else:
            # Tops are thinner or thicker than walls: stretch, offset evenly, shrink back.
            angle = np.arctan2(self.up[1], self.up[0])
            turned = shapely.affinity.rotate(outline, -angle, origin=(0, 0), use_radians=True)
            stretch = walls / shells
            grown = shapely.affinity.scale(turned, stretch, 1.0, origin=(0, 0))
            grown = shapely.buffer(grown, -walls, join_style="mitre", mitre_limit=2.0)
            shape = shapely.affinity.rotate(
                shapely.affinity.scale(grown, 1 / stretch, 1.0, origin=(0, 0)), angle, origin=(0, 0), use_radians=True
            )
        width = 4 * shape.area / max(shape.length, 1e-9) if not shape.is_empty else 0.0
        return section_of(segments_of(shape)), width

    def index(self, recipe: Recipe) -> Array:
        """Nominal stress over strength at each cut, worst case (k,)."""
        stiff = stiffness_share(recipe.pattern, recipe.infill)
        out = np.zeros(len(self.whole))
        for k, whole in enumerate(self.whole):
            if whole.area <= 0:
                continue
            section = blend(whole, self.core(recipe)[k][0], stiff)
            rim = self.res.cuts.at(k).reshape(-1, 2)
            for c, allow in enumerate(self.limits):
                out[k] = max(out[k], _index(section, rim, self.res.force[c, k], self.res.moment[c, k], allow))
        return out

    def buckling(self, recipe: Recipe) -> float:
        """Reserve of the shell against wrinkling between what props it."""
        t = min(recipe.walls * recipe.line_width, max(min(recipe.tops, recipe.bottoms), 1) * recipe.layer_height)
        spacing = 2 * recipe.line_width / recipe.infill if recipe.infill > 0 else np.inf
        stiff = stiffness_share(recipe.pattern, recipe.infill)
        worst = np.inf
        for k, whole in enumerate(self.whole):
            core, width = self.core(recipe)[k]
            if whole.area <= 0 or core.area <= 0:
                continue
            free = min(width, spacing)
            critical = 4 * np.pi**2 * self.modulus / (12 * (1 - POISSON**2)) * (t / max(free, t)) ** 2
            section = blend(whole, core, stiff)
            rim = self.res.cuts.at(k).reshape(-1, 2)
            for c in range(len(self.limits)):
                stress = -_stresses(section, rim, self.res.force[c, k], self.res.moment[c, k])
                press = float(stress.max(initial=0.0))
                if press > 1e-9:
                    worst = min(worst, critical / press)
        return float(worst)


def blend(whole: Section, core: Section, stiff: float) -> Section:
    """Section of a shell round a softer core, in terms of the shell's modulus."""
    if core.area <= 0 or stiff >= 1:
        return whole
    out = 1 - stiff
    area = whole.area - out * core.area
    c0, c1 = np.array(whole.centroid), np.array(core.centroid)
    centre = (whole.area * c0 - out * core.area * c1) / area
    d0, d1 = c0 - centre, c1 - centre
    ixx = whole.ixx + whole.area * d0[1] ** 2 - out * (core.ixx + core.area * d1[1] ** 2)
    iyy = whole.iyy + whole.area * d0[0] ** 2 - out * (core.iyy + core.area * d1[0] ** 2)
    ixy = whole.ixy + whole.area * d0[0] * d0[1] - out * (core.ixy + core.area * d1[0] * d1[1])
    return replace(
        whole,
        area=float(area),
        centroid=(float(centre[0]), float(centre[1])),
        ixx=float(ixx),
        iyy=float(iyy),
        ixy=float(ixy),
    )


def _stresses(s: Section, rim: Array, force: Array, moment: Array) -> Array:
    det = s.ixx * s.iyy - s.ixy**2
    if det <= 0:
        return np.zeros(len(rim))
    kx = (moment[0] * s.iyy + moment[1] * s.ixy) / det
    ky = -(moment[1] * s.ixx + moment[0] * s.ixy) / det
    d = rim - np.asarray(s.centroid)
    return np.asarray(force[2] / s.area + kx * d[:, 1] + ky * d[:, 0])


def _index(s: Section, rim: Array, force: Array, moment: Array, allow: Allowables) -> float:
    stress = np.abs(_stresses(s, rim, force, moment)).max(initial=0.0)
    shear = 1.5 * float(np.hypot(force[0], force[1])) / s.area
    return float(np.hypot(stress / allow.apart, shear / allow.shear))


def _named(dots: list[Dot], target: float, base: Recipe) -> tuple[Dot, ...]:
    """Mark the frontier (nothing lighter holds more) and the schools of practice."""
    order = sorted(range(len(dots)), key=lambda i: (dots[i].price.grams, -dots[i].reserve.value))
    best, frontier = 0.0, set()
    for i in order:
        if dots[i].reserve.value > best * 1.001:
            best = dots[i].reserve.value
            frontier.add(i)
    names: dict[int, str] = {}

    def first(name: str, wanted: Callable[[Dot], bool], rank: Callable[[Dot], float]) -> None:
        found = [i for i, d in enumerate(dots) if wanted(d) and i not in names]
        if found:
            names[min(found, key=lambda i: rank(dots[i]))] = name

    first("Lightest that holds", lambda d: d.reserve.low >= target, lambda d: d.price.grams - 0.01 * d.recipe.walls)
    if "Lightest that holds" not in names.values():
        first(
            "Lightest that holds", lambda d: d.reserve.value >= target, lambda d: d.price.grams - 0.01 * d.recipe.walls
        )
    first("All solid", lambda d: d.recipe.infill == 1.0, lambda d: abs(d.recipe.walls - 4) + abs(d.recipe.tops - 5))
    first("Thick shell, empty", lambda d: d.recipe.infill == 0.0, lambda d: abs(d.recipe.walls - 6) - d.recipe.tops)
    first("Some of both", lambda d: d.recipe.infill == 0.3 and d.recipe.tops == 5, lambda d: abs(d.recipe.walls - 4))
    return tuple(replace(d, school=names.get(i, ""), frontier=i in frontier) for i, d in enumerate(dots))
