"""Supports by region: what each would cost, scar and risk, and what happens without it.

Free patches of neighbouring layers that overlap are one region. Its support is the column under it, down to the
bed or to the part's own surface, kept off the part's sides by a gap. Forces and droop are estimates, and said so.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal

import numpy as np
import shapely
from shapely.geometry.base import BaseGeometry

from knollside.core.lay.peel import Peel
from knollside.core.lay.strata import Free, Strata
from knollside.core.material.cards import Material
from knollside.core.mesh.outline import alike, sides
from knollside.core.model import Feature, Ints, Mesh, Range, Recipe, SupportSettings

# Typical of printed thermoplastics, all to be replaced by the person's own trials.
BRIDGE_MM = 10.0  # a span that still closes with a fan
LEDGE_LINES = 3.0  # line widths a flat ledge may stick out before it curls or drops
LEAN_MORE = 15.0  # degrees past the limit a slope still prints, with a rough face
FOOT_MM = 3.0  # a rounded foot lower than this is held by the bed and the first layers
SIDE_GAP = 0.6  # mm between a support and the part's upright faces
SUPPORT_SPEED = 70.0  # mm/s
_JOIN = 3  # layers without a free patch that still leave it one region


RegionKind = Literal["island", "arch", "bridge", "ledge", "slope"]


@dataclass(frozen=True)
class Region:
    """One place that rests on nothing.

    ``area`` mm2 seen from below, ``low`` and ``high`` mm over the bed, ``column`` the mean height under it, ``far``
    the farthest reach or half span. ``grams`` and ``minutes`` of its support; ``faces`` (original triangle numbers)
    it would scar and which ``scars`` of the person's marks those bear; ``on_part`` whether the support would stand
    on the part; ``access`` outside, through an opening, or shut in; ``force`` N to take it off and ``risk``, the
    most of it over the least that the held place bears (a share, None where it is no thin ledge); ``key`` names it for
    choices; ``layers`` the first and last one that holds some of its support, which ``touches`` the part from its
    lowest free layer up.
    """

    key: str
    kind: RegionKind
    at: tuple[float, float, float]
    area: float
    low: float
    high: float
    column: float
    far: float
    grams: float
    minutes: float
    faces: Ints
    scars: tuple[str, ...]
    on_part: bool
    access: str
    force: Range
    risk: float | None
    without: str
    needed: bool
    outline: BaseGeometry
    layers: tuple[int, int]
    touches: int


def regions(
    mesh: Mesh,
    features: tuple[Feature, ...],
    marks: dict[str, str],
    strata: Strata,
    recipe: Recipe,
    support_settings: SupportSettings,
    card: Material,
    peel: Peel | None = None,
    most: int = 60,
) -> tuple[Region, ...]:
    """Regions of a way, the largest cost first; ``peel`` as trials tell it, else typical. Scraps under 2 mm2 that need
    nothing are left out."""
    groups = _linked(strata.free)
    faces = _down_faces(mesh, strata)
    named = _marked(features, marks)
    peel = peel or Peel()
    out = [_region(mesh, g, strata, recipe, support_settings, card, peel, faces, named) for g in groups]
    kept = [r for r in out if r.needed or r.area > 2.0]
    return tuple(sorted(kept, key=lambda r: (not r.needed, -r.grams))[:most])


def held(region: Region, support_settings: SupportSettings) -> bool:
    """Whether this region gets a support: by hand if said so, else by the school."""
    if region.key in support_settings.by_hand:
        return support_settings.by_hand[region.key]
    return support_settings.preset == "all" or (support_settings.preset == "pays" and region.needed)


def _linked(free: tuple[Free, ...]) -> list[list[Free]]:
    """Union of patches that overlap within a few layers."""
    parent = list(range(len(free)))

    def root(i: int) -> int:
        while parent[i] != i:
            parent[i] = parent[parent[i]]
            i = parent[i]
        return i

    by_layer: dict[int, list[int]] = {}
    for i, f in enumerate(free):
        by_layer.setdefault(f.k, []).append(i)
    grown = [shapely.buffer(f.patch, 0.6) for f in free]
    for i, f in enumerate(free):
        for back in range(_JOIN + 1):
            for j in by_layer.get(f.k - back, ()):
                if j < i and root(i) != root(j) and grown[i].intersects(free[j].patch):
                    parent[root(i)] = root(j)
    groups: dict[int, list[Free]] = {}
    for i, f in enumerate(free):
        groups.setdefault(root(i), []).append(f)
    return list(groups.values())


def _down_faces(mesh: Mesh, strata: Strata) -> tuple[Ints, np.ndarray, np.ndarray]:
    """Down-looking triangles with their middles in the bed's frame and highest corners over the bed."""
    turned = mesh.vertices @ strata.turn.T
    look = (mesh.normals @ strata.turn.T)[:, 2] < -0.25
    which = np.flatnonzero(look)
    tri = turned[mesh.faces[which]]
    return which, tri.mean(axis=1), tri[:, :, 2].max(axis=1) - strata.base


def _marked(features: tuple[Feature, ...], marks: dict[str, str]) -> dict[int, str]:
    """What the person said of each triangle; a hole's wall mates with what goes in even unsaid."""
    out: dict[int, str] = {}
    for f in features:
        if f.kind in ("hole", "slot", "hexagon"):
            out.update(dict.fromkeys((int(t) for t in f.faces), "a hole's wall"))
    for f in features:
        if f.id in marks:
            words = {"mates": "a mating face", "shown": "a show face", "flexes": "a flexing place"}.get(marks[f.id])
            if words is not None:
                out.update(dict.fromkeys((int(t) for t in f.faces), words))
    return out


def _made(
    volume: float, area: float, h: float, recipe: Recipe, support_settings: SupportSettings
) -> tuple[float, float]:
    """Plastic of a support that fills ``volume`` mm3 under ``area`` mm2, mm3, and the minutes it takes."""
    # Interface layers are laid solid; the rest at the chosen density. Trees take about half of it.
    thin = support_settings.density * (0.5 if support_settings.style == "tree" else 1.0)
    solid = min(support_settings.interface * h, volume / max(area, 1e-9)) * area
    made = solid + thin * max(volume - solid, 0.0)
    return made, made / (recipe.line_width * h) / SUPPORT_SPEED / 60 * 1.3


def _region(
    mesh: Mesh,
    group: list[Free],
    strata: Strata,
    recipe: Recipe,
    support_settings: SupportSettings,
    card: Material,
    peel: Peel,
    down: tuple[Ints, np.ndarray, np.ndarray],
    named: dict[int, str],
) -> Region:
    h = strata.h
    first, last = min(f.k for f in group), max(f.k for f in group)
    patches = {k: shapely.union_all([f.patch for f in group if f.k == k]) for k in {f.k for f in group}}
    whole = shapely.union_all(list(patches.values()))
    worst = max(group, key=lambda f: (math.isinf(f.far), f.far))
    wide, _ = sides(whole)
    kind = _kind_of(group, worst, first, last, wide)
    volume, on_part, access, layers = _column(strata, patches, last, whole.area / 60)
    made, minutes = _made(volume, whole.area, h, recipe, support_settings)
    faces = _rests_on(whole, strata, first, last, down)
    scars = tuple(sorted({named[int(t)] for t in faces if int(t) in named}))

    area = float(whole.area)
    force = peel.force(area, wide, support_settings.gap_mm, support_settings.density)
    risk = _risk(strata, worst, force.high, card) if worst.kind == "ledge" and kind != "island" else None
    centre = shapely.point_on_surface(worst.patch)
    at = strata.turn.T @ np.array([centre.x, centre.y, strata.base + strata.level(worst.k)])
    column = volume / max(area, 1e-9)
    if strata.level(last + 1) <= FOOT_MM and kind != "island" and column < FOOT_MM / 3:
        needed, without = False, "A rounded foot on the bed: the first layers hold it; its underside is a little rough."
    else:
        needed, without = _without(kind, worst, strata, recipe, wide)
    x, y, z = (float(v) for v in at)
    return Region(
        f"{kind} {strata.level(first):.0f} {centre.x:.0f} {centre.y:.0f}",
        kind,
        (x, y, z),
        area,
        strata.level(first),
        strata.level(last + 1),
        column,
        worst.far,
        made * card.density / 1000,
        minutes,
        faces,
        scars,
        on_part,
        access,
        force,
        risk,
        without,
        needed,
        whole,
        layers,
        first,
    )


def _kind_of(group: list[Free], worst: Free, first: int, last: int, wide: float) -> RegionKind:
    """What a region is: an island, an arch that closes over, a bridge, a flat ledge, or a slope."""
    if any(f.kind == "island" for f in group):
        return "island"
    flat = last - first <= 2
    closes = any(f.kind == "bridge" and f.k >= last - 1 for f in group)
    if not flat and wide <= 3 * BRIDGE_MM and closes:
        return "arch"
    if worst.kind == "bridge":
        return "bridge"
    return "ledge" if flat else "slope"


def _rests_on(
    whole: BaseGeometry, strata: Strata, first: int, last: int, down: tuple[Ints, np.ndarray, np.ndarray]
) -> Ints:
    """The downward triangles of a region, by number."""
    which, middle, top = down
    near = (top > strata.level(first) - 1.5 * strata.h) & (
        middle[:, 2] - strata.base < strata.level(last + 1) + strata.h
    )
    reachable = shapely.buffer(whole, 0.75)
    shapely.prepare(reachable)
    spot = shapely.points(middle[near][:, :2])
    return which[near][shapely.contains(reachable, spot)] if near.any() else np.zeros(0, np.int64)


def _column(
    strata: Strata, patches: dict[int, BaseGeometry], last: int, crumb: float
) -> tuple[float, bool, str, tuple[int, int]]:
    """Volume of the column under the patches, mm3; whether it stands on the part; and how it can be got at: from
    outside, through an opening at the bed or above, or not at all; and the first and last layer of it."""
    under: BaseGeometry = shapely.Polygon()
    volume = 0.0
    on_part = side_open = to_bed = False
    first, top = last, 0
    before: BaseGeometry | None = None
    for k in range(last, -1, -1):
        here = strata.outline[k]
        same = before is not None and alike(here, before)
        # What needs holding at layer k rests on the support of the layers below it.
        if not under.is_empty and not (same and k + 1 not in patches):
            if not here.is_empty:
                if shapely.intersection(under, here).area > max(1.0, crumb):
                    on_part = True
                under = shapely.simplify(shapely.difference(under, shapely.buffer(here, SIDE_GAP, quad_segs=2)), 0.02)
            if not under.is_empty and not side_open and not shapely.covers(_filled(here), under):
                side_open = True
        if not under.is_empty:
            volume += under.area * strata.h
            to_bed = to_bed or k == 0
            first, top = min(first, k), max(top, k)
        if k in patches:
            under = shapely.union(under, patches[k])
        before = here
    if side_open or volume == 0:
        return volume, on_part, "outside", (first, top)
    above = to_bed or _open_above(strata, shapely.union_all(list(patches.values())), max(patches))
    return volume, on_part, "through an opening" if above else "shut in", (first, top)


def _open_above(strata: Strata, patch: BaseGeometry, k: int) -> bool:
    """Whether the room beside a patch leads up and out: a pocket with a ledge in it, a well."""
    here = strata.outline[k]
    room = shapely.intersection(shapely.difference(_filled(here), here), shapely.buffer(patch, 3 * SIDE_GAP))
    for upper in strata.outline[k + 1 :]:
        if room.area < SIDE_GAP**2:
            return False
        if not shapely.covers(_filled(upper), room):
            return True
        room = shapely.difference(room, upper)
    return bool(room.area >= SIDE_GAP**2)


def _filled(outline: BaseGeometry) -> BaseGeometry:
    """The outline without its holes: what cannot be reached from the side."""
    rings = [p.exterior for p in shapely.get_parts(outline) if p.geom_type == "Polygon" and not p.is_empty]
    return shapely.union_all(shapely.polygons(rings)) if rings else shapely.Polygon()


def _risk(strata: Strata, worst: Free, force: float, card: Material) -> float | None:
    """Bending of a thin ledge when its support is pulled off, over the least strength of the layer it bends."""
    spot = shapely.point_on_surface(worst.patch)
    thick, k = 0.0, worst.k
    while k < len(strata.outline) and strata.outline[k].contains(spot) and thick < 8:
        thick += strata.h
        k += 1
    if thick >= 8 or not math.isfinite(worst.far):
        return None
    root = max(math.sqrt(worst.patch.area), worst.patch.area / max(worst.far, 1e-6))
    # A cantilever of width ``root`` and depth ``thick``, pulled down at half its reach.
    stress = 6 * force * (worst.far / 2) / (root * thick**2)
    return float(stress / card.pull.low)


def _without(kind: str, worst: Free, strata: Strata, recipe: Recipe, wide: float) -> tuple[bool, str]:
    """Whether a support pays, and what happens without one."""
    if kind == "island":
        return True, "Without a support it falls away."
    if kind == "arch" and wide > BRIDGE_MM:
        return True, f"{wide:.0f} mm wide: past {BRIDGE_MM:.0f} mm the crown rarely closes."
    if kind == "arch":
        return False, f"An arch {wide:.0f} mm wide closes itself; its crown comes out rough and a little low."
    if kind == "bridge":
        span = 2 * worst.far
        # A strand sags with the fourth power of its span; half a layer at the typical limit.
        sag = 0.5 * strata.h * (span / BRIDGE_MM) ** 4
        if span <= BRIDGE_MM:
            return False, f"Bridges {span:.0f} mm and sags about {max(sag, 0.02):.1g} mm; no support pays."
        return True, f"A span of {span:.0f} mm sags; past {BRIDGE_MM:.0f} mm it rarely closes."
    if kind == "ledge":
        lines = worst.far / recipe.line_width
        if lines <= LEDGE_LINES:
            return False, f"Sticks out {worst.far:.1f} mm, {lines:.0f} lines: droops a little, usually prints."
        return True, f"Sticks out {worst.far:.1f} mm, {lines:.0f} lines: the loops drop."
    lean = math.degrees(math.atan2(worst.far, strata.h))
    limit = math.degrees(math.atan2(strata.reach, strata.h))
    if lean <= limit + LEAN_MORE:
        return False, f"Leans {lean:.0f}°, {lean - limit:.0f}° past the limit: a rough underside, usually prints."
    return True, f"Leans {lean:.0f}° where {limit:.0f}° prints by itself: it curls up and may be knocked off."


@dataclass(frozen=True)
class Bill:
    """What the chosen supports cost together, and the scars on faces that matter."""

    grams: float
    minutes: float
    count: int
    open_ones: int
    scars: tuple[str, ...]
    shut_in: int


def bill(found: tuple[Region, ...], support_settings: SupportSettings) -> Bill:
    """Sum over the held regions; ``open_ones`` counts needed regions left without."""
    mine = [r for r in found if held(r, support_settings)]
    return Bill(
        sum(r.grams for r in mine),
        sum(r.minutes for r in mine),
        len(mine),
        sum(1 for r in found if r.needed and not held(r, support_settings)),
        tuple(sorted({s for r in mine for s in r.scars})),
        sum(1 for r in mine if r.access == "shut in"),
    )
