"""Surfaces told as features: every triangle is of one at most."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from knollside.core.mesh.inside import points_inside
from knollside.core.mesh.recognition.growth import Grower
from knollside.core.mesh.recognition.joining import Round, joined, plainness
from knollside.core.mesh.recognition.loops import mended, outlines
from knollside.core.mesh.recognition.profiles import Profile, profiles_of
from knollside.core.mesh.recognition.quadrics import Form
from knollside.core.mesh.recognition.roundslots import paired
from knollside.core.mesh.recognition.scanned import scanned_flats, scanned_rounds, scanned_skin
from knollside.core.mesh.recognition.seek import WHOLE, Piece, ends_shut, find_pieces
from knollside.core.mesh.recognition.skin import Skin
from knollside.core.model import Array, Feature, FeatureKind, Ints, Mesh, square_to

_TAPER = 12.0  # degrees a side: a cone no steeper than that, and no shorter than it is wide, is a taper
_SHORT = 0.35
_CAP = 0.16  # of a whole ball: less of one that runs smoothly into all round it is a rounded corner
_SMOOTH = np.radians(25.0)
_POLYGON = 7  # sides up to which a regular outline of flats is told as what it is, not as a round


@dataclass(frozen=True)
class Found:
    """Features of round and straight-walled shapes, the rounds they were made of, and which triangles they have."""

    features: list[Feature]
    rounds: list[Round]
    taken: np.ndarray


def find_shapes(skin: Skin, body: Ints) -> Found:
    """Rounds, cones, balls and outlines of a part; ``body`` numbers the shell of each triangle."""
    grower = Grower(skin)
    pieces = find_pieces(grower)
    rounds = joined(grower, pieces, body)
    shapes = _shapes(skin, rounds)
    taken = np.zeros(len(skin.mesh.faces), bool)
    features: list[Feature] = []
    used: set[int] = set()
    for s in shapes:
        if taken[s.faces].any() or used & set(s.rounds):
            continue
        made = _of_profile(skin, rounds, s)
        if made is None:
            continue
        taken[s.faces] = True
        used |= set(s.rounds) | ({s.whole} if s.whole >= 0 else set())
        features.append(made)
    for k, r in enumerate(rounds):
        if k not in used and not taken[r.faces].all():
            made = of_round(skin, r)
            features.append(replace(made, faces=r.faces[~taken[r.faces]]) if taken[r.faces].any() else made)
            taken[r.faces] = True
    for p in pieces:
        if p.surface.form is not Form.CYLINDER:
            features.append(_of_cone(skin, p) if p.surface.form is Form.CONE else _of_ball(skin, p))
            taken[p.faces] = True
    return Found(features, rounds, taken)


def find_scanned(skin: Skin, body: Ints, scatter: float) -> Found:
    """Rounds, cones, balls and flats of a scanned part, whose corners stand off by ``scatter`` mm."""
    smooth = scanned_skin(skin, scatter)
    grower, rounds, rest = scanned_rounds(smooth, body, scatter)
    slots = paired(grower, [r.piece for r in rounds], scatter)
    ends = {k for i, j, _ in slots for k in (i, j)}
    for *_, f in slots:
        grower.taken[f.faces] = True
    features = [of_round(smooth, r) for k, r in enumerate(rounds) if k not in ends] + [f for *_, f in slots]
    features = [open_or_shut(skin.mesh, f, scatter) for f in features]
    features += [_of_cone(smooth, p) if p.surface.form is Form.CONE else _of_ball(smooth, p) for p in rest]
    for faces, normal in scanned_flats(grower, scatter):
        centre = np.average(smooth.middles[faces], axis=0, weights=smooth.areas[faces])
        features.append(Feature("", "flat", triple(centre), triple(normal), faces, float(smooth.areas[faces].sum())))
    return Found(features, rounds, grower.taken)


def open_or_shut(mesh: Mesh, f: Feature, scatter: float) -> Feature:
    """A hole with what closes it told by the solid beyond its ends: bends at a scanned rim say little."""
    if f.kind not in ("hole", "slot") or f.diameter is None or f.length is None:
        return f
    u, v = square_to(f.axis)
    turn = np.arange(6) * np.pi / 3
    ring = 0.3 * f.diameter * (np.cos(turn)[:, None] * u + np.sin(turn)[:, None] * v) + np.asarray(f.centre)
    past = np.asarray(f.axis) * (f.length / 2 + max(0.2, 4 * scatter, 0.1 + 0.1 * f.diameter))
    inside = points_inside(mesh, np.concatenate([ring - past, ring + past]))
    return replace(f, through=not (inside[:6].mean() > 0.5 or inside[6:].mean() > 0.5))


def _shapes(skin: Skin, rounds: list[Round]) -> list[Profile]:
    """Profiles of all outlines; polygons of few sides in place of the rounds their flats also make."""
    coarse = [r for r in rounds if r.whole and r.arcs.sides <= _POLYGON + 1 and r.piece.strips]
    rest = [r for r in rounds if r not in coarse]
    found = [p for o in outlines(skin, rest) for p in profiles_of(skin, rest, mended(o, rest))]
    where = {id(r): k for k, r in enumerate(rounds)}
    back = [where[id(r)] for r in rest]
    finer = any(r.arcs.sides > 12 for r in rest)
    out = []
    for p in found:
        same = [k for k, r in enumerate(rounds) if r in coarse and np.isin(r.faces[0], p.faces)]
        if (
            p.sides is not None
            and p.kind != "spline"
            and p.sides > _POLYGON
            and not (
                p.sides == _POLYGON + 1
                and finer
                and plainness(p.across) > plainness(p.across / np.cos(np.pi / p.sides))
            )
        ):
            continue
        own = tuple(back[k] for k in p.rounds) + tuple(same)
        whole = back[p.whole] if p.whole >= 0 else -1
        out.append(replace(p, rounds=own, whole=whole))
    # The largest first: a face that two outlines would have is of the one it goes all round.
    return sorted(out, key=lambda p: (p.form == "open", len(p.rounds) == 0, -len(p.faces)))


def triple(v: Array) -> tuple[float, float, float]:
    x, y, z = (float(c) for c in v)
    return x, y, z


def _of_profile(skin: Skin, rounds: list[Round], p: Profile) -> Feature | None:
    """The feature; None for a block of four sides that stands on nothing, as a part itself does."""
    u, v = square_to(p.axis)
    corners = skin.mesh.vertices[np.unique(skin.mesh.faces[p.faces])]
    along = corners @ p.axis
    low, high = float(along.min()), float(along.max())
    shut = ends_shut(skin, p.faces, p.axis, low, high)
    if p.sides == 4 and not p.hollow and shut[0] == shut[1]:
        return None
    whole = rounds[p.whole] if p.whole >= 0 else None
    across, readings = p.across, None
    if p.kind == "spline":
        readings = (p.across, float(p.span or 0.0))
    elif whole is not None:
        across, readings = whole.diameter, (whole.corner, whole.flat)
    elif p.sides is not None and p.kind != "rectangle":
        readings = (p.across / float(np.cos(np.pi / p.sides)), p.across)
    first = rounds[p.rounds[0]] if p.rounds and p.kind == "slot" else None
    facets = whole.arcs.sides if whole is not None else p.sides or (first.arcs.sides if first is not None else None)
    return Feature(
        "",
        p.kind,
        triple(u * p.middle[0] + v * p.middle[1] + p.axis * (low + high) / 2),
        triple(p.axis),
        p.faces,
        0.0,
        float(across),
        high - low,
        not (shut[0] or shut[1]) if p.hollow else None,
        facets,
        readings=readings,
        inside=p.hollow,
        form=p.form,
        sweep=None if whole is None else float(np.degrees(whole.arcs.sweep)),
        span=p.span,
        flat=p.flat,
        corner=p.corner,
        residual=None if whole is None else whole.piece.residual,
        angle=p.angle,
    )


def of_round(skin: Skin, r: Round) -> Feature:
    kind: FeatureKind = "hole" if r.hollow else "pin"
    if not r.whole:
        kind = "fillet" if _runs_on(skin, r.faces, r.axis) else "round"
    return Feature(
        "",
        kind,
        triple(r.centre),
        triple(r.axis),
        r.faces,
        0.0,
        float(r.diameter),
        r.piece.length,
        not (r.shut[0] or r.shut[1]) if kind == "hole" else None,
        r.arcs.sides,
        readings=(r.corner, r.flat),
        inside=r.hollow,
        sweep=float(np.degrees(r.arcs.sweep)),
        residual=r.piece.residual,
    )


def _of_cone(skin: Skin, p: Piece) -> Feature:
    s = p.surface
    angle = float(np.degrees(s.angle))
    widest = 2 * p.high * float(np.tan(s.angle))
    mean = (p.low + p.high) * float(np.tan(s.angle))
    kind: FeatureKind = "round"
    if p.arcs.sweep >= WHOLE:
        kind = "taper" if angle <= _TAPER and p.length > _SHORT * mean else "cone"
    elif _runs_on(skin, p.faces, s.axis):
        kind = "fillet"
    at = float(s.point @ s.axis)
    shut = ends_shut(skin, p.faces, s.axis, p.low + at, p.high + at)
    sign = 1.0 if s.axis[np.argmax(np.abs(s.axis))] > 0 else -1.0
    return Feature(
        "",
        kind,
        triple(s.point + s.axis * (p.low + p.high) / 2),
        triple(s.axis * sign),
        p.faces,
        diameter=widest,
        length=p.length,
        through=not (shut[0] or shut[1]) if kind == "taper" and p.hollow else None,
        facets=p.arcs.sides,
        inside=p.hollow,
        sweep=float(np.degrees(p.arcs.sweep)),
        angle=angle,
        residual=p.residual,
    )


def _of_ball(skin: Skin, p: Piece) -> Feature:
    area = float(skin.areas[p.faces].sum()) / (4 * np.pi * p.surface.radius**2)
    corner = area < _CAP and _runs_on(skin, p.faces, None)
    return Feature(
        "",
        "fillet" if corner else "ball",
        triple(p.surface.point),
        (0.0, 0.0, 1.0),
        p.faces,
        diameter=2 * p.surface.radius,
        inside=p.hollow,
        residual=p.residual,
    )


def _runs_on(skin: Skin, faces: Ints, axis: Array | None) -> bool:
    """Whether the surface goes on smoothly beyond its sides (of an ``axis``: those along it)."""
    rim = skin.rim(faces)
    along = np.ones(len(rim.inner), bool) if axis is None else np.abs(rim.edge @ axis) > 0.9 * rim.length
    if not along.any():
        return False
    return bool(rim.length[along & (np.abs(rim.bend) < _SMOOTH)].sum() > 0.8 * rim.length[along].sum())
