"""Meshes and what is on them: frozen records that carry arrays."""

from __future__ import annotations

import hashlib
import math
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


FeatureKind = Literal[
    "hole",
    "pin",
    "slot",
    "square",
    "rectangle",
    "hexagon",
    "polygon",
    "spline",
    "dovetail",
    "taper",
    "cone",
    "ball",
    "thread",
    "lettering",
    "round",
    "fillet",
    "flat",
    "patch",
]
# A round is a part of a cylinder or cone that is none of the others; a patch a surface a person pointed at that is none
# of the rest.
FeatureRole = Literal["", "counterbore", "countersink", "step", "crossing", "living hinge", "snap arm"]
WEBS: tuple[FeatureRole, ...] = ("living hinge", "snap arm")
# What a hole, pin or slot is besides: with flats, a key, a slot running out of it, another hole running into it ...
FeatureForm = Literal["", "D", "double D", "keyed", "keyhole", "merged", "open", "arc"]
_ALL_ROUND = 350.0  # degrees
_ROUGH = 0.012  # mm; corners written to 0.01 mm stand off by 0.009 at most
_SIDED = {3: "triangle", 5: "pentagon", 7: "heptagon", 8: "octagon", 10: "decagon", 12: "dodecagon"}
POLYGONS: tuple[FeatureKind, ...] = ("square", "rectangle", "hexagon", "polygon")
# What a person may say is at a place that was not recognised.
POINTED: tuple[FeatureKind, ...] = ("hole", "pin", "slot", "flat")
# What has a size that goes with another thing's, and is corrected.
SIZED: tuple[FeatureKind, ...] = ("hole", "pin", "slot", *POLYGONS, "taper", "round")


@dataclass(frozen=True)
class Feature:
    """A thing on the part a person would name.

    ``centre`` is the middle of the axis, ``axis`` a unit vector (the outward
    normal for a flat), ``faces`` the triangle numbers it is made of. ``readings``
    are a polygon's two diameters, with its corners or its flats on the circle.
    ``role`` and ``beside`` say what it is to others (a counterbore of hole-1); ``form`` what cuts into it. ``sweep`` is
    how far round it goes, degrees; ``angle`` a cone's half angle, degrees; ``span`` a rectangle's longer side, the way
    between the centres of a slot's ends, an arc slot's radius, a key's width; ``flat`` from a D's flat or a key's floor
    to the wall facing it; ``corner`` the radius of round corners; ``residual`` how far a corner stands off it; mm.
    ``pointed``: the places at which a person said what it is; nothing where it was found.
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
    form: FeatureForm = ""
    sweep: float | None = None
    angle: float | None = None
    span: float | None = None
    flat: float | None = None
    corner: float | None = None
    residual: float | None = None
    pointed: tuple[tuple[float, float, float], ...] = ()

    @property
    def all_round(self) -> bool:
        """Whether it closes round what is in it, but for flats cut into it."""
        return self.form in ("D", "double D") or (self.form == "" and (self.sweep is None or self.sweep > _ALL_ROUND))

    @property
    def rough(self) -> bool:
        """Whether its corners stand off it by more than any way of writing them down leaves: scanned, or smoothed."""
        return (self.residual or 0.0) > _ROUGH

    @property
    def doubt(self) -> float:
        """How far the diameter may be off, mm, two sigma: nothing where corners stand on the surface; on a rough one a
        quarter of the farthest corner's distance, about the scatter of one (docs/methods.md 7)."""
        return max((self.residual or 0.0) / 4, 0.01) if self.rough else 0.0

    @property
    def is_pocket_of_flats(self) -> bool:
        """Whether its walls are flats of their own besides."""
        return self.kind in ("square", "rectangle") and not self.corner

    @property
    def title(self) -> str:
        """In words for a person: "Hole 3", "Counterbore 1"."""
        number = self.id.rsplit("-", 1)[-1]
        name: str = self.role if self.role in ("counterbore", "countersink", *WEBS) else self.kind
        if self.kind == "ball" and self.inside:
            name = "socket"
        if self.kind == "round":
            name = "part round"
        if self.kind == "polygon":
            name = _SIDED.get(self.facets or 0, "polygon")
        return f"{name.capitalize()} {number}"

    @property
    def relation(self) -> str:
        """What it is to others, in words; nothing where it stands alone."""
        if not self.role or not self.beside:
            return ""
        other = self.beside[0].replace("-", " ")
        if self.role in WEBS:
            return ""
        return f"crosses {other}" if self.role == "crossing" else f"{self.role} of {other}"

    @property
    def size_text(self) -> str:
        """Its size in words, mm."""
        if self.kind in POLYGONS:
            return self._polygon_text()
        if self.kind == "spline" and self.readings is not None:
            over, between = self.readings
            return f"{self.facets} teeth, {over:.2f} mm over them, {between:.2f} between, {self.length:.1f} mm long"
        if self.kind == "dovetail":
            return f"{self.diameter:.2f} mm at its widest, flanks of {self.angle:.1f}°, {self.length:.1f} mm long"
        if self.kind == "thread":
            return f"{self.diameter:.2f} mm, {self.pitch:.2f} mm a turn, {'inside' if self.inside else 'outside'}"
        if self.role in WEBS and self.readings is not None:
            return self._web_text(*self.readings)
        if self.diameter is None:
            return f"{self.area / 100:.1f} cm²"
        doubt = f" ± {self.doubt:.2f}" if self.doubt else ""
        words = [f"{self.diameter:.2f}{doubt} mm across", *self._form_text()]
        if self.kind in ("hole", "pin", "slot", "taper", "cone") and self.length is not None:
            words.append(f"{self.length:.1f} mm long")
        if self.kind in ("taper", "cone") and self.angle is not None:
            words.append(f"{self.angle:.1f}° a side")
        if self.kind in ("round", "fillet") and self.sweep:
            words.append(f"{self.sweep:.0f}° round")
        if self.through is not None and self.kind in ("hole", "slot"):
            words.append("through" if self.through else "blind")
        return ", ".join(words)

    @property
    def passing_strain(self) -> float:
        """What a snap arm strains at its root as its catch passes, %: a cantilever bent at its end (Roark)."""
        thick, catch = self.readings or (0.0, 0.0)
        return 150 * thick * catch / max(self.length or 0.0, 1e-9) ** 2

    def _web_text(self, thick: float, other: float) -> str:
        long = self.length or 0.0
        if self.role == "living hinge":
            return f"{thick:.2f} mm thick over {other:.1f} mm, {long:.1f} mm long"
        strain = f"{self.passing_strain:.1f} % in passing"
        return f"{thick:.2f} mm thick, {long:.1f} mm long, catches {other:.2f} mm: strains {strain}"

    def _polygon_text(self) -> str:
        corner = f", corners of {self.corner:.2f} mm radius" if self.corner else ""
        if self.kind == "rectangle":
            return f"{self.diameter:.2f} × {self.span:.2f} mm{corner}"
        return f"{self.diameter:.2f} mm across flats{corner}"

    def _form_text(self) -> list[str]:
        if self.form in ("D", "double D"):
            return [f"D-shaped, {self.flat:.2f} mm over the flat{'s' if self.form == 'double D' else ''}"]
        if self.form == "keyed":
            return [f"with a key {self.span:.2f} mm wide, {self.flat:.2f} mm over it"]
        if self.form == "keyhole":
            return [f"a keyhole, its slot {self.span:.2f} mm wide"]
        if self.form == "merged":
            return ["runs into another"]
        if self.kind == "slot" and self.span is not None:
            return [f"on an arc of {self.span:.2f} mm" if self.form == "arc" else f"{self.span:.2f} mm between ends"]
        return ["open at one end"] if self.form == "open" else []


def square_to(axis: Array | tuple[float, float, float]) -> tuple[Array, Array]:
    """Two unit vectors square to a unit vector and to each other, right-handed with it."""
    a, b, c = (float(v) for v in axis)  # written out: np.cross takes twenty times as long on one vector
    x, y, z = (0.0, c, -b) if abs(a) < 0.9 else (-c, 0.0, a)
    size = math.sqrt(x * x + y * y + z * z)
    x, y, z = x / size, y / size, z / size
    return np.array([x, y, z]), np.array([b * z - c * y, c * x - a * z, a * y - b * x])


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
