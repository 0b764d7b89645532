"""Meshes and what is on them: frozen records that carry arrays."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass, field
from typing import Literal

import numpy as np

from knollside.core.model.base import Array, Ints, Vec3


@dataclass(frozen=True)
class Mesh:
    """A triangle mesh: ``vertices`` (n, 3) float64 mm, ``faces`` (m, 3) int64."""

    vertices: Array
    faces: Ints

    @property
    def triangles(self) -> Array:
        """Corner points, (m, 3, 3)."""
        return self.vertices[self.faces]

    @property
    def crosses(self) -> Array:
        """Outward normals times twice the triangle area, (m, 3)."""
        t = self.triangles
        return np.cross(t[:, 1] - t[:, 0], t[:, 2] - t[:, 0])

    @property
    def areas(self) -> Array:
        """Of each triangle, mm2 (t,)."""
        return np.asarray(np.linalg.norm(self.crosses, axis=1) / 2)

    @property
    def normals(self) -> Array:
        """Unit outward normal of each triangle (t, 3); nought where it has no area."""
        c = self.crosses
        n = np.linalg.norm(c, axis=1, keepdims=True)
        return np.asarray(np.divide(c, n, out=np.zeros_like(c), where=n > 0))

    @property
    def used(self) -> Ints:
        """Corners that some triangle has, in order (u,)."""
        return np.flatnonzero(np.bincount(self.faces.ravel(), minlength=len(self.vertices)))

    @property
    def bounds(self) -> Array:
        """Corners of the bounding box, (2, 3)."""
        used = self.vertices[self.used] if len(self.faces) else self.vertices
        return np.array([used.min(axis=0), used.max(axis=0)])

    @property
    def size(self) -> Array:
        """Of the box around it, mm (3,)."""
        return np.asarray(self.bounds[1] - self.bounds[0])

    @property
    def volume(self) -> float:
        """Signed volume by the divergence theorem; exact for a closed mesh."""
        t = self.triangles - self.vertices.mean(axis=0)
        return float(np.einsum("ij,ij->", t[:, 0], np.cross(t[:, 1], t[:, 2])) / 6)

    def turned(self, rotation: Array) -> Mesh:
        """The mesh with its corners turned by a ``rotation`` (3, 3)."""
        return Mesh(self.vertices @ rotation.T, self.faces)

    def fingerprint(self) -> str:
        """Digest of corners and triangles as they are stored: two meshes with one are the same to the last bit."""
        digest = hashlib.sha256(np.ascontiguousarray(self.vertices).tobytes())
        digest.update(np.ascontiguousarray(self.faces).tobytes())
        return digest.hexdigest()


FeatureKind = Literal["hole", "pin", "slot", "hexagon", "cone", "flat", "fillet", "thread", "lettering", "patch"]
# What a feature is to others; a patch is a surface a person pointed at that is none of the rest.
FeatureRole = Literal["", "counterbore", "countersink", "step", "crossing"]


@dataclass(frozen=True)
class Feature:
    """A thing on the part a person would name.

    ``centre`` is the middle of the axis, ``axis`` a unit vector (the outward
    normal for a flat), ``faces`` the triangle numbers it is made of. ``readings``
    are a polygon's two diameters, with its corners or its flats on the circle.
    ``role`` and ``beside`` say what it is to others (a counterbore of hole-1).
    """

    id: str
    kind: FeatureKind
    centre: tuple[float, float, float]
    axis: tuple[float, float, float]
    faces: Ints = field(repr=False)
    area: float = 0.0
    diameter: float | None = None
    length: float | None = None
    through: bool | None = None
    facets: int | None = None
    body: int = 0
    readings: tuple[float, float] | None = None
    role: FeatureRole = ""
    beside: tuple[str, ...] = ()
    pitch: float | None = None
    inside: bool | None = None

    @property
    def title(self) -> str:
        """In words for a person: "Hole 3", "Counterbore 1"."""
        number = self.id.rsplit("-", 1)[-1]
        name = self.role if self.role in ("counterbore", "countersink") else self.kind
        return f"{name.capitalize()} {number}"

    @property
    def relation(self) -> str:
        """What it is to others, in words; nothing where it stands alone."""
        if not self.role or not self.beside:
            return ""
        other = self.beside[0].replace("-", " ")
        return f"crosses {other}" if self.role == "crossing" else f"{self.role} of {other}"

    @property
    def size_text(self) -> str:
        """Its size in words, mm."""
        if self.kind == "hexagon":
            return f"{self.diameter:.2f} mm across flats"
        if self.kind == "thread":
            return f"{self.diameter:.2f} mm, {self.pitch:.2f} mm a turn, {'inside' if self.inside else 'outside'}"
        if self.diameter is not None:
            deep = "" if self.length is None else f", {self.length:.1f} mm long"
            end = (
                ""
                if self.through is None or self.kind not in ("hole", "slot")
                else (", through" if self.through else ", blind")
            )
            return f"{self.diameter:.2f} mm across{deep}{end}"
        return f"{self.area / 100:.1f} cm² "


def square_to(axis: Array | tuple[float, float, float]) -> tuple[Array, Array]:
    """Two unit vectors square to a unit vector and to each other, right-handed with it."""
    n = np.asarray(axis, float)
    u = np.cross(n, [1.0, 0, 0] if abs(n[0]) < 0.9 else [0, 1.0, 0])
    u = u / np.linalg.norm(u)
    return u, np.cross(n, u)


def same_direction(a: Vec3, b: Vec3) -> bool:
    """Whether two build directions, unit vectors, are one."""
    return sum(x * y for x, y in zip(a, b, strict=True)) > 0.99999


def rotation_to_up(direction: Array | tuple[float, float, float]) -> Array:
    """The 3x3 rotation that turns ``direction`` to +Z by the shortest way.

    >>> (rotation_to_up((1.0, 0.0, 0.0)) @ [1, 0, 0]).round(9) + 0.0
    array([0., 0., 1.])
    """
    n = np.asarray(direction, float) / np.linalg.norm(direction)
    z = np.array([0.0, 0.0, 1.0])
    c = float(n @ z)
    if c < -1 + 1e-12:
        return np.diag([1.0, -1.0, -1.0])
    v = np.cross(n, z)
    k = np.array([[0, -v[2], v[1]], [v[2], 0, -v[0]], [-v[1], v[0], 0]])
    return np.asarray(np.eye(3) + k + k @ k / (1 + c))
