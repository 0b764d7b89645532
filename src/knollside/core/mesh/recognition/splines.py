"""Teeth: an outline that comes upon itself again when it is turned by a fifth of a turn or less."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from knollside.core.mesh.recognition.loops import Outline, Wall
from knollside.core.mesh.recognition.skin import Skin
from knollside.core.model import Array

_RAYS = 2880
_FEWEST, _MOST = 5, 200  # teeth
_DEEP = 0.03  # of the largest radius: shallower waves are a round's facets
_DEEPEST = 0.4  # of it: deeper ones are the arms of a star
_ALIKE = 0.06  # of the teeth's depth, in the mean of squares, by which one may differ from the next
_FLANKS = 2  # flats a tooth at least that look along the turn
_ASIDE = 0.8  # cosine between a flat's normal and the ray to it: less and it is a flank


@dataclass(frozen=True)
class Teeth:
    """Their number, the diameters over and between them, mm, their middle across the axis (2,), and whether they look
    inward."""

    count: int
    over: float
    between: float
    middle: Array
    hollow: bool


def teeth_of(skin: Skin, o: Outline, frame: Array) -> Teeth | None:
    """The teeth of a closed outline seen along its axis; ``frame`` (3, 2) the directions across. None where it has
    none. By the strongest wave of its radius over the turn, and a turn by one tooth as proof."""
    flats = [w for w in o.walls if w.round < 0]
    if not o.closed or len(flats) < _FLANKS * _FEWEST:
        return None
    faces = o.faces
    corners = skin.mesh.vertices[np.unique(skin.mesh.faces[faces])] @ frame
    middle = np.array([j.place for j in o.joints]).mean(axis=0)
    radius = np.zeros(_RAYS)
    for _ in range(3):
        told = _radii(_in_turn(corners - middle))
        if told is None:
            return None
        radius = told
        # The mean of the corners is off where walls are cut unlike; the first wave of the radius tells by how much.
        first = np.fft.rfft(radius)[1] * 2 / _RAYS
        middle = middle + np.array([float(first.real), -float(first.imag)])
    depth = float(np.ptp(radius))
    if not _DEEP < depth / float(radius.max()) < _DEEPEST:
        return None
    waves = np.abs(np.fft.rfft(radius))[: _MOST + 1]
    waves[:_FEWEST] = 0.0
    count = int(np.argmax(waves))
    turned = np.interp((np.arange(_RAYS) + _RAYS / count) % _RAYS, np.arange(_RAYS + 1), np.r_[radius, radius[0]])
    off = float(np.sqrt(np.mean((turned - radius) ** 2)))
    # Without flanks that are flat they are no teeth: a knob of lobes.
    if off > _ALIKE * depth or _flanks(skin, flats, frame, middle) < _FLANKS * count:
        return None
    out = np.einsum("ij,ij->i", skin.middles[faces] @ frame - middle, skin.normals[faces] @ frame)
    far = np.linalg.norm(corners - middle, axis=1)
    return Teeth(count, 2 * float(far.max()), 2 * float(far.min()), middle, float(out @ skin.areas[faces]) < 0)


def _in_turn(points: Array) -> Array:
    """Points in their order about the middle, the far one of two on one ray first."""
    order = np.lexsort((-np.linalg.norm(points, axis=1), np.round(np.arctan2(points[:, 1], points[:, 0]), 6)))
    return np.asarray(points[order])


def _flanks(skin: Skin, flats: list[Wall], frame: Array, middle: Array) -> int:
    """How many flats look along the turn rather than in or out."""
    count = 0
    for w in flats:
        ray = np.average(skin.middles[w.faces], axis=0, weights=skin.areas[w.faces]) @ frame - middle
        normal = skin.patches.normal[w.patch] @ frame
        count += abs(float(ray @ normal)) < _ASIDE * float(np.linalg.norm(ray) * np.linalg.norm(normal))
    return count


def _radii(corners: Array) -> Array | None:
    """How far the outline is from its middle along rays all round (the farthest crossing); None where it does not go
    round it once."""
    angle = np.unwrap(np.arctan2(corners[:, 1], corners[:, 0]))
    closing = float(np.arctan2(corners[0, 1], corners[0, 0])) - angle[-1]
    whole = angle[-1] - angle[0] + (closing + np.pi) % (2 * np.pi) - np.pi
    if abs(abs(whole) - 2 * np.pi) > 1e-3:
        return None
    ray = 2 * np.pi * np.arange(_RAYS) / _RAYS
    out = np.zeros(_RAYS)
    ends = np.roll(corners, -1, axis=0)
    for a, b in zip(corners, ends, strict=True):
        low = float(np.arctan2(a[1], a[0]))
        swing = (float(np.arctan2(b[1], b[0])) - low + np.pi) % (2 * np.pi) - np.pi
        start, stop = (low, low + swing) if swing >= 0 else (low + swing, low)
        k = np.arange(
            int(np.ceil(start / (2 * np.pi) * _RAYS - 1e-9)), int(np.floor(stop / (2 * np.pi) * _RAYS + 1e-9)) + 1
        )
        if not len(k):
            continue
        d = np.stack([np.cos(ray[k % _RAYS]), np.sin(ray[k % _RAYS])], axis=1)
        edge = b - a
        cross = d[:, 0] * edge[1] - d[:, 1] * edge[0]
        along = np.where(np.abs(cross) > 1e-12, (a[0] * edge[1] - a[1] * edge[0]) / np.where(cross == 0, 1, cross), 0.0)
        np.maximum.at(out, k % _RAYS, np.abs(along))
    return out if (out > 0).all() else None
