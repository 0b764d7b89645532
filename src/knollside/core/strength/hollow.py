"""A shell over infill: the infill torn or crushed, the shell wrinkled over it.

Both are told as stresses of the solid that are as near to its strength as the infill or the shell is to its own, so
that they are rated in every way to lie by the same rules. Infill: L. J. Gibson, M. F. Ashby 1997; wrinkling at
0.5 (Ef Ec Gc)^(1/3), N. J. Hoff, S. E. Mautner 1945.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from knollside.core.material.infill import line_spacing, strength_share
from knollside.core.model import Array, Ints, Recipe
from knollside.core.strength.bodies import Body, Judged
from knollside.core.strength.element import VOIGT
from knollside.core.strength.rules import Rule

if TYPE_CHECKING:
    from knollside.core.strength.field import Medium


@dataclass(frozen=True)
class Hollow:
    """What of a recipe fails besides its solid: ``core`` the infill's strength over the solid's, ``pull`` MPa the
    solid's in the layer, against which wrinkling is told; ``spacing`` mm between the infill's lines."""

    core: float
    pull: float
    spacing: float


def hollow_of(recipe: Recipe, pull: float) -> Hollow:
    """Of a recipe and the strength of its material, MPa."""
    spacing = line_spacing(recipe.pattern, recipe.infill, recipe.line_width)
    return Hollow(strength_share(recipe.pattern, recipe.infill), pull, spacing)


def of_hollow(body: Body, judged: Judged, stress: Array, u: Array, medium: Medium) -> tuple[Array, Array, Ints]:
    """Places (m, 3) at which infill and wrinkling are judged, their stress (k, m, 6), and the rule of each; ``stress``
    (k, n, 6) is that of the ``judged`` points for displacements ``u`` (k, 3n)."""
    skin, hollow = medium.skin, medium.hollow
    if skin is None or hollow is None or skin.core <= 1e-3 or hollow.core <= 0:
        return np.zeros((0, 3)), np.zeros((len(u), 0, 6)), np.zeros(0, np.int64)
    places, core = _by_cell(*body.core(u, skin.core), hollow.spacing)
    # What the solid would have at that strain, times the infill's share of stiffness over its share of strength.
    core = core * (skin.core / hollow.core)
    wrinkled, which = _wrinkling(stress, judged, skin.core, medium)
    rules = np.concatenate([np.full(len(places), int(Rule.CORE)), np.full(len(which), int(Rule.WRINKLING))])
    return np.vstack([places, judged.points[which]]), np.concatenate([core, wrinkled], axis=1), rules


def _by_cell(places: Array, volume: Array, stress: Array, spacing: float) -> tuple[Array, Array]:
    """Places and stresses meant over cubes one ``spacing`` wide: within one of its own cells infill has no stress."""
    if not len(places):
        return places, stress
    cube = np.floor((places - places.min(axis=0)) / spacing).astype(np.int64)
    _, which = np.unique(cube, axis=0, return_inverse=True)
    which = which.ravel()
    total = np.bincount(which, volume)

    def mean(values: Array) -> Array:
        return np.stack([np.bincount(which, volume * v) / total for v in values.T], axis=-1)

    return mean(places), np.stack([mean(s) for s in stress])


def _wrinkling(stress: Array, judged: Judged, core: float, medium: Medium) -> tuple[Array, Ints]:
    """Where the shell is pressed along itself, as a stress that is to the solid's strength what the pressing is to
    the stress that wrinkles it; none where the shell breaks before."""
    assert medium.hollow is not None
    soft = core * medium.modulus
    wrinkles = 0.5 * (medium.modulus * soft * soft / (2 * (1 + medium.poisson))) ** (1 / 3)
    more = medium.hollow.pull / wrinkles
    if more <= 1:
        return np.zeros((len(stress), 0, 6)), np.zeros(0, np.int64)
    which = np.flatnonzero(judged.surface)
    s = stress[:, which]
    full = np.empty((*s.shape[:2], 3, 3))
    for k, (i, j) in enumerate(VOIGT):
        full[..., i, j] = full[..., j, i] = s[..., k]
    value, way = np.linalg.eigh(full)
    pressed, along = np.minimum(value[..., 0], 0.0), way[..., :, 0]
    each = more * pressed[..., None, None] * along[..., :, None] * along[..., None, :]
    voigt = np.stack([each[..., i, j] for i, j in VOIGT], axis=-1)
    kept = np.abs(pressed).max(axis=0) > 0.05 * np.abs(pressed).max(initial=1e-12)
    return voigt[:, kept], which[kept]
