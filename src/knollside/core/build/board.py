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
from knollside.core.build.shellmap import map_shells
from knollside.core.build.stack import LayerUse, segments_of
from knollside.core.material.allowables import Allowables
from knollside.core.material.cards import Material
from knollside.core.material.infill import stiffness_share
from knollside.core.mesh.slicer import Section, polygon_of, section_of
from knollside.core.model import Array, Mesh, Range, Recipe, rotation_to_up
from knollside.core.strength.field import POISSON, StressField
from knollside.core.strength.rating import Ratings, point_reserves, rate
from knollside.core.strength.resultants import Resultants, resultants

WALLS = (1, 2, 3, 4, 5, 6, 7, 8, 10)
INFILLS = (0.0, 0.05, 0.1, 0.15, 0.2, 0.25, 0.3, 0.4, 0.5, 0.7, 1.0)
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
    shells = map_shells(mesh, direction, base.layer_height, base.line_width, max(*SHELLS, base.tops, base.bottoms))
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
    solved = base.model_copy(update={"tops": even, "bottoms": even})
    recipes = [replace_recipe(base, w, i, s) for w in WALLS for s in SHELLS for i in INFILLS]
    say(0.5, "pricing walls and infill")
    index, buckle = lines.loads_on([solved, *recipes])
    # Solved peak times how much more (or less) the transformed section is stressed.
    with np.errstate(divide="ignore", invalid="ignore"):
        scaled = peak * np.where(index[0] > 1e-12, index[0] / np.maximum(index[1:], 1e-12), 1.0)
    reserve = np.minimum(scaled.min(axis=1), buckle[1:])
    low, high = (float(v) for v in rating.spread[0])
    uses: dict[tuple[int, int], LayerUse] = {}
    dots: list[Dot] = []
    for recipe, value in zip(recipes, reserve.tolist(), strict=True):
        key = (recipe.walls, recipe.tops)
        if key not in uses:
            uses[key] = shells.use(recipe.model_copy(update={"infill": 0.5}))
        cost = price(shells.thickness, uses[key], recipe, card, pace, factor)
        dots.append(Dot(recipe, Range(value, value * low, value * high), cost))
    at = field.points[rating.point[0]]
    weak = int(np.argmin(np.abs(res.heights + res.base - float(at @ np.asarray(section_way)))))
    x, y, z = (float(v) for v in at)
    return Board(_named(dots, target, base), target, "", (x, y, z), outlines[weak], section_way)


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

    def loads_on(self, recipes: list[Recipe]) -> tuple[Array, Array]:
        """Nominal stress over strength at each cut, worst case (r, k); and the reserve (r,) of the shell against
        wrinkling between what props it."""
        stiff = np.array([stiffness_share(r.pattern, r.infill) for r in recipes])
        thin = np.array([min(r.walls * r.line_width, max(min(r.tops, r.bottoms), 1) * r.layer_height) for r in recipes])
        spacing = np.array([2 * r.line_width / r.infill if r.infill > 0 else np.inf for r in recipes])
        cores = [self.core(r) for r in recipes]
        index, buckle = np.zeros((len(recipes), len(self.whole))), np.full(len(recipes), np.inf)
        for k, whole in enumerate(self.whole):
            if whole.area <= 0:
                continue
            section = blend(whole, [c[k][0] for c in cores], stiff)
            width = np.array([c[k][1] if c[k][0].area > 0 else 0.0 for c in cores])
            free = np.maximum(np.minimum(width, spacing), thin)
            critical = 4 * np.pi**2 * self.modulus / (12 * (1 - POISSON**2)) * (thin / free) ** 2
            rim = _outermost(self.res.cuts.at(k).reshape(-1, 2))
            for c, allow in enumerate(self.limits):
                force, moment = self.res.force[c, k], self.res.moment[c, k]
                stress = _stresses(section, rim, force, moment)
                pull = np.abs(stress).max(axis=1)
                shear = 1.5 * float(np.hypot(force[0], force[1])) / section.area
                index[:, k] = np.maximum(index[:, k], np.hypot(pull / allow.apart, shear / allow.shear))
                press = np.maximum(-stress.min(axis=1), 0.0)
                risky = (press > 1e-9) & (width > 0)
                buckle[risky] = np.minimum(buckle[risky], critical[risky] / press[risky])
        return index, buckle


@dataclass(frozen=True)
class Sections:
    """Plane properties of one cut for many recipes, arrays (r,): a shell round a softer core in terms of the
    shell's modulus."""

    area: Array
    centre: Array
    ixx: Array
    iyy: Array
    ixy: Array


def blend(whole: Section, cores: list[Section], stiff: Array) -> Sections:
    """The whole section less the share by which each core (area, centre, second moments) is softer."""
    out = 1 - stiff
    a = np.array([c.area for c in cores]) * out
    c1 = np.array([c.centroid for c in cores])
    area = whole.area - a
    c0 = np.array(whole.centroid)
    centre = (whole.area * c0 - a[:, None] * c1) / area[:, None]
    d0, d1 = c0 - centre, c1 - centre

    def second(i: float, inner: list[float], p: int, q: int) -> Array:
        own = i + whole.area * d0[:, p] * d0[:, q]
        return np.asarray(own - out * np.array(inner) - a * d1[:, p] * d1[:, q])

    return Sections(
        area,
        centre,
        second(whole.ixx, [c.ixx for c in cores], 1, 1),
        second(whole.iyy, [c.iyy for c in cores], 0, 0),
        second(whole.ixy, [c.ixy for c in cores], 0, 1),
    )


def _outermost(rim: Array) -> Array:
    """Corners of the hull: a stress that varies linearly is greatest on one of them."""
    hull = shapely.convex_hull(shapely.multipoints(rim))
    return np.asarray(shapely.get_coordinates(hull))


def _stresses(s: Sections, rim: Array, force: Array, moment: Array) -> Array:
    """Stress of every recipe (r,) at every rim point (p, 2): (r, p)."""
    det = s.ixx * s.iyy - s.ixy**2
    safe = np.where(det > 0, det, 1.0)
    kx = np.where(det > 0, (moment[0] * s.iyy + moment[1] * s.ixy) / safe, 0.0)
    ky = np.where(det > 0, -(moment[1] * s.ixx + moment[0] * s.ixy) / safe, 0.0)
    d = rim[None] - s.centre[:, None]
    pull = np.where(det > 0, force[2] / s.area, 0.0)
    return np.asarray(pull[:, None] + kx[:, None] * d[:, :, 1] + ky[:, None] * d[:, :, 0])


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
