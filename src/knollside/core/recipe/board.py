"""The trade board: every combination of walls, infill and tops priced at once, and any recipe besides.

No new solve per dot. The section that governs (square to the governing stress)
is cut along its own direction; walls, tops and infill are transformed by
modulus, and the solved peak at each cut is scaled by the ratio of nominal
stresses.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from shapely.geometry.base import BaseGeometry

from knollside.core.material.allowables import Allowables
from knollside.core.material.bond import height_share
from knollside.core.material.cards import Material
from knollside.core.mesh.slicer import polygon_of
from knollside.core.model import Array, Mesh, Range, Recipe
from knollside.core.recipe.calibration import Calibration
from knollside.core.recipe.layer_areas import LayerUse
from knollside.core.recipe.price import Price, PrinterMotion, price
from knollside.core.recipe.shellmap import MOST_SHELLS, SAMPLES, ShellMap, map_shells
from knollside.core.recipe.transformed import Transformed, up_in_section
from knollside.core.strength.discretisation import widened
from knollside.core.strength.field import StressField
from knollside.core.strength.rating import PARTED, Ratings, point_reserves, rate
from knollside.core.strength.resultants import resultants
from knollside.core.strength.strength import Strength

WALLS = (1, 2, 3, 4, 5, 6, 7, 8, 10)
INFILLS = (0.0, 0.05, 0.1, 0.15, 0.2, 0.25, 0.3, 0.4, 0.5, 0.7, 1.0)
SHELLS = (3, 5)
# Names of two schools of practice, as they stand on the board.
LIGHTEST, GUESSED, NEAREST = "Lightest that holds", "Lightest by estimate", "Nearest to holding"
# What an estimate is unsure of by itself, a share: before the board was held against full solves, and after.
_ROUGH, _EMPTY, _CHECKED = 0.25, 1.5, 0.10  # an empty shell bends locally, which no section tells
_CUTS = 28
_SET_APART = 2  # dots at the end of a board that are of other layers


@dataclass(frozen=True)
class Dot:
    """One combination with its reserve and price; ``preset`` where practice has a name for it; ``solved`` where its
    reserve is no estimate but a full solve's."""

    recipe: Recipe
    reserve: Range
    price: Price
    preset: str = ""
    frontier: bool = False
    solved: bool = False


@dataclass(frozen=True)
class Board:
    """Every dot with the ``target``; where and along what the weak cut runs; ``checked`` by so many full solves."""

    dots: tuple[Dot, ...]
    target: float
    cut_at: tuple[float, float, float]
    weak_outline: BaseGeometry
    weak_direction: tuple[float, float, float]
    checked: int = 0

    def preset(self, name: str) -> Dot | None:
        """The dot that bears this name, or None."""
        return next((d for d in self.dots if d.preset == name), None)

    @property
    def advice(self) -> Dot | None:
        """The lightest whose low end meets the target, else the one whose low end comes nearest to it."""
        return self.preset(LIGHTEST) or self.preset(GUESSED) or self.preset(NEAREST)

    def lightest_unsolved(self, low: float) -> Dot | None:
        """The lightest of the estimates whose low end is at least so much."""
        found = [d for d in self.dots[:-_SET_APART] if not d.solved and d.reserve.low >= low]
        return min(found, key=_light, default=None)

    def with_solve(self, recipe: Recipe, reserve: Range) -> Board:
        """The board with one recipe's estimate put right by its full solve, and named anew."""
        dots = [replace(d, reserve=reserve, solved=True) if d.recipe == recipe else d for d in self.dots]
        return replace(self, dots=(*_named(dots[:-_SET_APART], self.target), *dots[-_SET_APART:]))

    def dot(self, recipe: Recipe) -> Dot | None:
        """The dot of a recipe, or None where it was not tried."""
        return next((d for d in self.dots if d.recipe == recipe), None)


class PlainPricer:
    """One way to lie, ready to price any recipe of a part without a load: its reserve is not a number."""

    def __init__(
        self,
        mesh: Mesh,
        card: Material,
        direction: tuple[float, float, float],
        printer_motion: PrinterMotion,
        factor: Range,
        own: Recipe,
    ) -> None:
        self.mesh, self.card, self.direction = mesh, card, direction
        self.printer_motion, self.factor, self.own = printer_motion, factor, own
        self._shells: dict[tuple[float, float], ShellMap] = {}
        self._uses: dict[tuple[float, float, int, int, int], LayerUse] = {}

    def dots(self, recipes: list[Recipe], nozzle: float = 0.4) -> list[Dot]:
        """Each recipe with its price."""
        nothing = Range(float("nan"), float("nan"), float("nan"))
        return [Dot(r, nothing, self.price(r)) for r in recipes]

    def price(self, recipe: Recipe) -> Price:
        """Grams, hours and money of a recipe, from about sixty cuts of the part."""
        h, w = recipe.layer_height, recipe.line_width
        if (h, w) not in self._shells:
            deep = max(*SHELLS, min(recipe.tops, MOST_SHELLS), min(recipe.bottoms, MOST_SHELLS))
            # Other layers and lines are only compared: half the samples tell their hours well enough.
            mine = (self.own.layer_height, self.own.line_width) == (h, w)
            self._shells[h, w] = map_shells(self.mesh, self.direction, h, w, deep, SAMPLES if mine else SAMPLES // 2)
        shells = self._shells[h, w]
        key = (h, w, recipe.walls, recipe.tops, recipe.bottoms)
        if key not in self._uses:
            self._uses[key] = shells.use(recipe)
        return price(shells.thickness, self._uses[key], recipe, self.card, self.printer_motion, self.factor)


class Pricer(PlainPricer):
    """One way to lie, ready to price any recipe. ``solved`` is the recipe that ``field`` and
    ``limits`` were made with, ``bore`` its nozzle."""

    def __init__(
        self,
        mesh: Mesh,
        s: Strength,
        direction: tuple[float, float, float],
        printer_motion: PrinterMotion,
        factor: Range,
        nozzle_mm: float = 0.4,
    ) -> None:
        super().__init__(mesh, s.card, direction, printer_motion, factor, s.recipe)
        field, limits = s.field, s.limits
        self.field, self.nozzle_mm = field, nozzle_mm
        self.rating = rate(field, limits, np.array([direction]))
        self.section_way = governing_direction(field, self.rating)
        self.res = resultants(mesh, field, np.array(self.section_way), _CUTS)
        self.peak = _peaks(field, limits, direction, self.section_way, self.res.heights, self.res.base)
        self.outlines = [polygon_of(self.res.cuts.at(k)) for k in range(len(self.res.heights))]
        up = up_in_section(self.section_way, direction)
        self.lines = Transformed(self.res, self.outlines, up, field.modulus, limits)
        self.calibration = Calibration()
        self.doubt = 0.0  # the grid's, a share

    def dots(self, recipes: list[Recipe], nozzle: float = 0.4) -> list[Dot]:
        """Each recipe with its reserve and price. Refuses nothing: thin shells come out with little reserve."""
        low, high = (float(v) for v in self.rating.spread[0])
        return [
            Dot(r, widened(Range(v, v * low, v * high), self.off(r)), self.price(r))
            for r, v in zip(recipes, self._reserves(recipes, nozzle).tolist(), strict=True)
        ]

    def off(self, recipe: Recipe) -> float:
        """What an estimate is unsure of besides its material, a share: the grid's doubt and its own."""
        own = _CHECKED if self.calibration.count else _ROUGH if recipe.infill > 0 else _EMPTY
        return math.hypot(self.doubt, own)

    def by_stress(self, recipes: list[Recipe], nozzle: float) -> tuple[Array, Array]:
        """Reserves by stress, before they are put right by any solve, and against a face buckling by itself: solved
        peaks times how much more, or less, the transformed section is stressed."""
        b = self.own
        # The field was solved with walls' thickness all round: tops counted in layers of the same depth.
        even = max(round(b.walls * b.line_width / b.layer_height), 1)
        solved = b.model_copy(update={"tops": even, "bottoms": even})
        index, buckle = self.lines.loads_on([solved, *recipes])
        with np.errstate(divide="ignore", invalid="ignore"):
            more = np.where(index[:, :1] > 1e-12, index[:, :1] / np.maximum(index[:, 1:], 1e-12), 1.0)
        # A cut where the plain section bears next to nothing says little of what a changed one would: it stays.
        out = (self.peak[:, None] * more).min(axis=(0, 2))
        if int(self.rating.mode[0]) in PARTED:
            own = height_share(b.layer_height / self.nozzle_mm)
            out = out * np.array([height_share(r.layer_height / nozzle) / own for r in recipes])
        return np.asarray(out), buckle[1:]

    def _reserves(self, recipes: list[Recipe], nozzle: float) -> Array:
        stress, buckle = self.by_stress(recipes, nozzle)
        return np.asarray(np.minimum(stress * self.calibration.at(recipes), buckle))


def combinations(base: Recipe) -> list[Recipe]:
    """What the board tries: walls, infill and tops with the layer, line and pattern of ``base``."""
    return [replace_recipe(base, w, i, s) for w in WALLS for s in SHELLS for i in INFILLS]


def replace_recipe(base: Recipe, walls: int, infill: float, shells: int) -> Recipe:
    """``base`` with other walls, infill and tops; one bottom less, two at least."""
    return base.model_copy(update={"walls": walls, "infill": infill, "tops": shells, "bottoms": max(shells - 1, 2)})


def trade_board(
    pricer: Pricer, base: Recipe, target: float, nozzle: float, tick: Callable[[float, str], None] | None = None
) -> Board:
    """All combinations for one way to lie, the recipe ``base`` as it is, and the schools of practice."""
    say = tick or (lambda share, text: None)
    say(0.3, "pricing walls and infill")
    recipes = combinations(base)
    if base not in recipes:
        recipes.append(base)
    dots = _named(pricer.dots(recipes, nozzle), target)
    say(0.7, "pricing a quick one and a fine one")
    quick, fine = pricer.dots([quick_fit_check(base, nozzle), fine_show_piece(base, nozzle)], nozzle)
    dots += [replace(quick, preset="Quick fit check"), replace(fine, preset="Fine show piece")]
    at = pricer.field.points[pricer.rating.point[0]]
    level = float(at @ np.asarray(pricer.section_way))
    weak = int(np.argmin(np.abs(pricer.res.heights + pricer.res.base - level)))
    x, y, z = (float(v) for v in at)
    return Board(tuple(dots), target, (x, y, z), pricer.outlines[weak], pricer.section_way, pricer.calibration.count)


def quick_fit_check(base: Recipe, nozzle: float) -> Recipe:
    """Two walls, thick layers, hardly any infill: only to see whether it fits."""
    return base.model_copy(
        update={"layer_height": round(0.7 * nozzle, 2), "walls": 2, "infill": 0.1, "tops": 3, "bottoms": 2}
    )


def fine_show_piece(base: Recipe, nozzle: float) -> Recipe:
    """Thin layers for the look of slopes, the same depth of tops."""
    h = round(0.3 * nozzle, 2)
    tops = max(round(base.tops * base.layer_height / h), 5)
    return base.model_copy(
        update={"layer_height": h, "walls": 3, "infill": 0.15, "tops": tops, "bottoms": max(tops - 1, 2)}
    )


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
    heights: Array,
    base: float,
) -> Array:
    """Least solved reserve of each case near each cut (c, k), away from idealised holds and load edges."""
    along = field.points @ np.asarray(section_way) - base
    step = heights[1] - heights[0]
    bin_of = np.clip((along / step).astype(int), 0, len(heights) - 1)
    out = np.full((len(limits), len(heights)), np.inf)
    for c, allow in enumerate(limits):
        one = replace(field, stress=field.stress[c : c + 1], cases=field.cases[c : c + 1])
        _, reserve = point_reserves(one, (allow,), np.asarray(direction))
        np.minimum.at(out[c], bin_of[~field.excluded], reserve[~field.excluded])
    return out


def _named(dots: list[Dot], target: float) -> list[Dot]:
    """Mark the frontier (nothing lighter holds more) and the schools of practice."""
    order = sorted(range(len(dots)), key=lambda i: (dots[i].price.grams, -dots[i].reserve.value))
    best, frontier = 0.0, set()
    for i in order:
        if dots[i].reserve.value > best * 1.001:
            best = dots[i].reserve.value
            frontier.add(i)
    names: dict[int, str] = {}

    def first(name: str, wanted: Callable[[Dot], bool], rank: Callable[[Dot], float | tuple[float, float]]) -> None:
        found = [i for i, d in enumerate(dots) if wanted(d) and i not in names]
        if found:
            names[min(found, key=lambda i: rank(dots[i]))] = name

    # The low end decides: what only its middle would carry is not called holding.
    first(LIGHTEST, lambda d: d.solved and d.reserve.low >= target, _light)
    if not names:
        first(GUESSED, lambda d: d.reserve.low >= target, _light)
    if not names:
        first(NEAREST, lambda d: d.reserve.low == d.reserve.low, lambda d: (-round(d.reserve.low, 3), _light(d)))
    first("All solid", lambda d: d.recipe.infill == 1.0, lambda d: abs(d.recipe.walls - 4) + abs(d.recipe.tops - 5))
    first("Thick shell, empty", lambda d: d.recipe.infill == 0.0, lambda d: abs(d.recipe.walls - 6) - d.recipe.tops)
    first("Some of both", lambda d: d.recipe.infill == 0.3 and d.recipe.tops == 5, lambda d: abs(d.recipe.walls - 4))
    return [replace(d, preset=names.get(i, ""), frontier=i in frontier) for i, d in enumerate(dots)]


def _light(d: Dot) -> float:
    """Grams; among equals more walls before infill, and in solid parts, where walls say nothing, about four."""
    walls = d.recipe.walls
    return d.price.grams + 0.01 * (abs(walls - 4) if d.recipe.infill >= 1 else -walls)
