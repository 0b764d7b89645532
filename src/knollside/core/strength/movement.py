"""How far a part moves in the heat it lives in, for as long as its load lasts."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree

from knollside.core.material.allowables import combine, time_words
from knollside.core.material.cards import Material
from knollside.core.material.stiffness import stiffness_left
from knollside.core.model import Array, LoadCase, Range, Surroundings
from knollside.core.strength.field import StressField


@dataclass(frozen=True)
class Movement:
    """The greatest movement of any load case, ``mm`` with its doubt, the ``at_once`` part of it by the short-term
    stiffness at room heat, and the ``case``; ``lasting`` in words, nothing where no load stays."""

    mm: Range
    at_once: float
    case: str
    lasting: str


def moved_at(points: Array, shift: Array, at: Array) -> Array:
    """Displacement (m, 3) at places ``at`` (m, 3) from that (n, 3) of the grid's ``points``."""
    distance, near = cKDTree(points).query(at, k=4)
    weight = 1 / np.maximum(distance, 1e-3) ** 2
    return np.asarray(np.einsum("vk,vkd->vd", weight / weight.sum(axis=1, keepdims=True), shift[near]))


def movement_of(field: StressField, cases: tuple[LoadCase, ...], card: Material, place: Surroundings) -> Movement:
    """Of a field whose answers are of ``cases``, in their order."""
    every = []
    for answer, case in zip(field.cases, cases, strict=True):
        at_once = float(np.linalg.norm(answer.displacement, axis=1).max())
        # A face that is moved by a stated way moves by that, whatever the stuff.
        parts = [] if case.bends else [stiffness_left(card, place, case), card.modulus.times(1 / card.modulus.value)]
        left, low, high = combine(parts)
        mm = Range(at_once / left, at_once / (left * high), at_once / (left * low), "typical")
        every.append(Movement(mm, at_once, case.name, time_words(case.lasting_h) if case.permanent else ""))
    return max(every, key=lambda m: m.mm.value)
