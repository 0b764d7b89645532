"""Cuts of the part with walls, tops and infill transformed by modulus: nominal stress for any recipe.

Empty shells are also held to plate buckling (Timoshenko and Gere 1961:
sigma = 4 pi2 E / (12 (1 - nu2)) (t/b)2).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import shapely
import shapely.affinity
from shapely.geometry.base import BaseGeometry

from knollside.core.material.allowables import Allowables
from knollside.core.material.infill import line_spacing, stiffness_share
from knollside.core.mesh.slicer import Section, section_of
from knollside.core.model import Array, Recipe, rotation_to_up
from knollside.core.recipe.layer_areas import segments_of
from knollside.core.strength.field import POISSON
from knollside.core.strength.resultants import Resultants


def up_in_section(section_way: tuple[float, float, float], direction: tuple[float, float, float]) -> Array:
    """The build direction seen in the section's own plane (2,), zero where they coincide."""
    return np.asarray((rotation_to_up(section_way) @ np.asarray(direction))[:2])


class Transformed:
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
        """Nominal stress over strength of each case at each cut (c, r, k); and the reserve (r,) of the shell against
        wrinkling between what props it. A case that moves something by a stated way strains every recipe alike:
        its index stays 1."""
        stiff = np.array([stiffness_share(r.pattern, r.infill) for r in recipes])
        thin = np.array([min(r.walls * r.line_width, max(min(r.tops, r.bottoms), 1) * r.layer_height) for r in recipes])
        spacing = np.array([line_spacing(r.pattern, r.infill, r.line_width) for r in recipes])
        cores = [self.core(r) for r in recipes]
        index = np.zeros((len(self.limits), len(recipes), len(self.whole)))
        buckle = np.full(len(recipes), np.inf)
        for k, whole in enumerate(self.whole):
            if whole.area <= 0:
                continue
            section = blend(whole, [c[k][0] for c in cores], stiff)
            width = np.array([c[k][1] if c[k][0].area > 0 else 0.0 for c in cores])
            free = np.maximum(np.minimum(width, spacing), thin)
            critical = 4 * np.pi**2 * self.modulus / (12 * (1 - POISSON**2)) * (thin / free) ** 2
            rim = _outermost(self.res.cuts.at(k).reshape(-1, 2))
            for c, allow in enumerate(self.limits):
                if allow.by_strain:
                    index[c, :, k] = 1.0
                    continue
                force, moment = self.res.force[c, k], self.res.moment[c, k]
                stress = _stresses(section, rim, force, moment)
                pull = np.abs(stress).max(axis=1)
                shear = 1.5 * float(np.hypot(force[0], force[1])) / section.area
                index[c, :, k] = np.hypot(pull / allow.interlayer, shear / allow.shear)
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
