"""Lasting names of features: an id given once per part, with a signature that tells it again.

A mesh knows no names. Whoever finds features numbers them as it goes, and the next mesh is numbered anew; so names are
kept beside the part, and after every edit each feature is looked for where the edit put it. What is found keeps its
id, what is new gets one never used before, and what is not found is kept as lost: its id never goes to another face.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from pydantic import Field

from knollside.core.mesh.facemap import Motion, Traced, trace
from knollside.core.mesh.featuretable import AXIS, ROUND, FeatureTable
from knollside.core.mesh.nearest import nearest_face
from knollside.core.mesh.recognition.pointed import MOST_POINTS, Pointing
from knollside.core.mesh.revised import matched
from knollside.core.model import Array, Feature, FeatureKind, Ints, Mesh, Record, Refused

_MOST = 20_000
_MOST_POINTED = 200
_SAME = 2e-3  # mm and share: signatures of one mesh, read twice


class Signature(Record):
    """What tells a feature again: kind, place, axis (a flat's looks outward) and size; mm and mm2, part's frame.

    ``pointed``: the places at which a person said what it is; such a feature is fitted there anew, never looked for.
    """

    kind: FeatureKind
    centre: tuple[float, float, float]
    axis: tuple[float, float, float]
    diameter: float | None = None
    length: float | None = None
    area: float = Field(0.0, ge=0)
    pointed: tuple[tuple[float, float, float], ...] = Field((), max_length=MOST_POINTS)


class Named(Record):
    """One id with its signature; ``lost`` where the present mesh has it no more."""

    id: str = Field(max_length=80)
    signature: Signature
    lost: bool = False


class Names(Record):
    """All ids of a part that its mesh ``of`` (fingerprint) has or once had, and the last number given of each kind."""

    of: str = Field("", max_length=64)
    entries: tuple[Named, ...] = Field((), max_length=_MOST)
    last: dict[str, int] = Field(default_factory=dict, max_length=40)

    def entry(self, name: str) -> Named | None:
        return next((e for e in self.entries if e.id == name), None)

    @property
    def lost(self) -> tuple[Named, ...]:
        return tuple(e for e in self.entries if e.lost)


@dataclass(frozen=True)
class NamedFeatures:
    """Features under their lasting ids, and the names to keep."""

    features: tuple[Feature, ...]
    names: Names


def signature_of(f: Feature) -> Signature:
    """What a feature is known by: kind, place, axis, size."""
    return Signature(
        kind=f.kind,
        centre=f.centre,
        axis=f.axis,
        diameter=f.diameter,
        length=f.length,
        area=float(f.area),
        pointed=f.pointed,
    )


def first_names(fingerprint: str, found: tuple[Feature, ...]) -> Names:
    """Names of a mesh that has none yet: as its features were numbered when they were found."""
    last: dict[str, int] = {}
    for f in found:
        kind, number = _split(f.id)
        last[kind] = max(last.get(kind, 0), number)
    return Names(of=fingerprint, entries=tuple(Named(id=f.id, signature=signature_of(f)) for f in found), last=last)


def named(mesh: Mesh, found: tuple[Feature, ...], names: Names) -> NamedFeatures:
    """The same mesh read again: each feature under the id its signature has. One that no name tells is new; a name
    that no feature answers to is lost, unless it is of a plain patch, which is looked for by its place."""
    shown, found = with_pointed(mesh, found, [e for e in names.entries if e.signature.pointed])
    alive = [e for e in names.entries if not e.lost and not e.signature.pointed]
    have = [signature_of(f) for f in found]
    at = {s: j for j, s in enumerate(have)}
    given = {e.id: at[e.signature] for e in alive if e.signature in at}
    if len(set(given.values())) < len(given):
        given = {}
    taken = set(given.values())
    rest = [e for e in alive if e.id not in given]
    left = [j for j in range(len(found)) if j not in taken]
    if rest and left:
        pairs = _pair(
            _same_cost(FeatureTable.of([e.signature for e in rest]), FeatureTable.of([have[j] for j in left]))
        )
        given |= {rest[k].id: left[j] for k, j in pairs.items()}
    extra = _patches(mesh, found, [e for e in rest if e.id not in given and e.signature.kind == "patch"])
    return _settle(names, found, given, extra | shown, names.of)


def follow(
    old: Mesh, before: NamedFeatures, new: Mesh, found: tuple[Feature, ...], fingerprint: str, motion: Motion | None
) -> NamedFeatures:
    """Names carried over an edit from ``old`` to ``new``. ``motion`` bounds what the edit moved; None for a mesh drawn
    anew, where only the signature can tell."""
    alive = [f for f in before.features if before.names.entry(f.id) is not None and not f.pointed]
    entries = [e for e in before.names.entries if e.signature.pointed]
    shown, found = with_pointed(new, found, [_carried_points(e, motion) for e in entries])
    if motion is None:
        size = float(np.ptp(old.bounds, axis=0).max())
        pairs = matched(alive, found, size)
        lost = [a for k, a in enumerate(alive) if k not in pairs]
        extra = _patches(new, found, [Named(id=a.id, signature=signature_of(a)) for a in lost if a.kind == "patch"])
    else:
        traced = trace(old, new, motion)
        pairs = _by_surface(old, alive, found, traced, len(new.faces), motion)
        extra = _carried_patches(old, new, [a for k, a in enumerate(alive) if k not in pairs], found, traced)
    return _settle(before.names, found, {alive[k].id: j for k, j in pairs.items()}, extra | shown, fingerprint)


def with_pointed(
    mesh: Mesh, found: tuple[Feature, ...], wanted: list[Named]
) -> tuple[dict[str, Feature], tuple[Feature, ...]]:
    """Features that a person pointed at, fitted anew, by their ids; and what was found, less their triangles. One that
    no longer fits there is left out, and what is over two hundred of them."""
    shown: dict[str, Feature] = {}
    if not wanted:
        return shown, found
    pointing = Pointing(mesh)
    for e in wanted[:_MOST_POINTED]:
        try:
            shown[e.id] = replace(pointing.feature(e.signature.kind, e.signature.pointed), id=e.id)
        except Refused:
            continue
    if not shown:
        return shown, found
    taken = np.zeros(len(mesh.faces), bool)
    for f in shown.values():
        taken[f.faces] = True
    areas, left = mesh.areas, []
    for f in found:
        own = taken[f.faces]
        if own.any():
            if areas[f.faces[own]].sum() > 0.5 * areas[f.faces].sum():
                continue
            rest = f.faces[~own]
            f = replace(f, faces=rest, area=float(areas[rest].sum()))
        left.append(f)
    return shown, tuple(left)


def _carried_points(e: Named, motion: Motion | None) -> Named:
    """A pointed-at feature's places after an edit."""
    if motion is None:
        return e
    moved = motion.moved(np.asarray(e.signature.pointed, float))
    places = tuple((float(x), float(y), float(z)) for x, y, z in moved)
    return e.model_copy(update={"signature": e.signature.model_copy(update={"pointed": places})})


def with_said(names: Names, made: Feature) -> tuple[Names, str]:
    """Names with one of a feature that a person pointed at, and the id it got."""
    number = names.last.get(made.kind, 0) + 1
    name = f"{made.kind}-{number}"
    entry = Named(id=name, signature=signature_of(replace(made, id=name)))
    return names.model_copy(update={"entries": (*names.entries, entry), "last": names.last | {made.kind: number}}), name


def without(names: Names, name: str) -> Names:
    """Names less one, as if it had never been given."""
    return names.model_copy(update={"entries": tuple(e for e in names.entries if e.id != name)})


def with_patch(names: Names, patch: Feature) -> Names:
    """Names with one of an unnamed patch added, once something is said of it."""
    if names.entry(patch.id) is not None:
        return names
    entry = Named(id=patch.id, signature=signature_of(patch))
    kind, number = _split(patch.id)
    last = names.last | {kind: max(names.last.get(kind, 0), number)}
    return names.model_copy(update={"entries": (*names.entries, entry), "last": last})


def _split(name: str) -> tuple[str, int]:
    kind, _, number = name.rpartition("-")
    return (kind, int(number)) if kind and number.isdigit() else (name, 0)


def _settle(
    names: Names, found: tuple[Feature, ...], given: dict[str, int], extra: dict[str, Feature], fingerprint: str
) -> NamedFeatures:
    """Matched features under their old ids, the rest under new ones; what nothing answers to is lost."""
    last = dict(names.last)
    of = {j: name for name, j in given.items()}
    features = []
    for j, f in enumerate(found):
        if j not in of:
            last[f.kind] = last.get(f.kind, 0) + 1
            of[j] = f"{f.kind}-{last[f.kind]}"
        features.append(replace(f, id=of[j]))
    # Features name each other, too.
    plain = {f.id: of[j] for j, f in enumerate(found)}
    features = [replace(f, beside=tuple(plain.get(b, b) for b in f.beside)) for f in features]
    features += list(extra.values())
    entries = [Named(id=f.id, signature=signature_of(f)) for f in features]
    here = {e.id for e in entries}
    entries += [e.model_copy(update={"lost": True}) for e in names.entries if e.id not in here]
    return NamedFeatures(tuple(features), Names(of=fingerprint, entries=tuple(entries[:_MOST]), last=last))


def _pair(cost: Array) -> dict[int, int]:
    """One-to-one, cheapest first; infinite costs never pair."""
    out: dict[int, int] = {}
    taken: set[int] = set()
    for flat in np.argsort(cost, axis=None, kind="stable"):
        k, j = divmod(int(flat), cost.shape[1])
        if not np.isfinite(cost[k, j]):
            break
        if k not in out and j not in taken:
            out[k] = j
            taken.add(j)
    return out


def _same_cost(a: FeatureTable, b: FeatureTable) -> Array:
    """How far two readings of one mesh are apart; infinite where they are not the same thing. (n, m)."""
    off = np.linalg.norm(a.centre[:, None, :] - b.centre[None, :, :], axis=2)
    sizes = ((a.diameter, b.diameter), (a.length, b.length), (np.sqrt(a.area), np.sqrt(b.area)))
    wide = np.max([np.abs(p[:, None] - q[None, :]) for p, q in sizes], axis=0)
    room = (_SAME * (1 + np.sqrt(a.area)))[:, None]
    return np.where(a.alike(b) & (off <= room) & (wide <= room), off + wide, np.inf)


def _by_surface(
    old: Mesh, alive: list[Feature], found: tuple[Feature, ...], traced: Traced, faces: int, motion: Motion
) -> dict[int, int]:
    """Pairs whose surface went over: more than half of the old one's, and the right kind, axis and size."""
    # The walls of a square pocket are flats besides, so the two are followed one after the other.
    out: dict[int, int] = {}
    for pocket in (False, True):
        one = [k for k, f in enumerate(alive) if f.is_pocket_of_flats is pocket]
        two = [j for j, f in enumerate(found) if f.is_pocket_of_flats is pocket]
        pairs = _followed(old, [alive[k] for k in one], tuple(found[j] for j in two), traced, faces, motion)
        out |= {one[k]: two[j] for k, j in pairs.items()}
    return out


def _followed(
    old: Mesh, alive: list[Feature], found: tuple[Feature, ...], traced: Traced, faces: int, motion: Motion
) -> dict[int, int]:
    """The same of features that share no triangle."""
    if not alive or not found:
        return {}
    owner = np.full(len(old.faces), -1, np.int64)
    for k, f in enumerate(alive):
        owner[f.faces] = k
    taker = np.full(faces + 1, -1, np.int64)  # the last one stands for "gone"
    for j, f in enumerate(found):
        taker[f.faces] = j
    of: Ints = owner[traced.old]
    to: Ints = taker[np.where(traced.new < 0, faces, traced.new)]
    cost = np.full((len(alive), len(found)), np.inf)
    whole = np.bincount(of[of >= 0], traced.area[of >= 0], minlength=len(alive))
    both = (of >= 0) & (to >= 0)
    moved = np.zeros((len(alive), len(found)))
    np.add.at(moved, (of[both], to[both]), traced.area[both])
    share = moved / np.maximum(whole, 1e-12)[:, None]
    for a, b in zip(*np.nonzero(share > 0.5)):
        if _carried(alive[a], found[b], None if traced.exact else motion):
            cost[a, b] = 1 - share[a, b]
    return _pair(cost)


def _carried(a: Feature, b: Feature, motion: Motion | None) -> bool:
    """Whether one can have become the other; the triangles themselves tell enough where the map is exact (None)."""
    along = float(np.dot(a.axis, b.axis))
    if a.kind != b.kind or (abs(along) if a.kind in ROUND else along) < AXIS:
        return False
    if motion is None or a.diameter is None or b.diameter is None or a.kind not in ROUND:
        return True
    centre = motion.moved(np.asarray(a.centre))
    off = np.asarray(b.centre) - centre
    aside = float(np.linalg.norm(off - np.asarray(a.axis) * float(off @ np.asarray(a.axis))))
    room = 2 * motion.by + 0.05 + 0.02 * a.diameter * motion.factor
    # A size that was kept while the rest was scaled is as good as one that went along.
    wide = min(abs(b.diameter - a.diameter * motion.factor), abs(b.diameter - a.diameter))
    return a.kind in ("thread", "slot", "cone") or (aside <= room and wide <= room)


def _patches(mesh: Mesh, found: tuple[Feature, ...], wanted: list[Named]) -> dict[str, Feature]:
    """Unnamed patches of the same mesh, by the place and normal they are remembered by."""
    out: dict[str, Feature] = {}
    for e in wanted:
        face, off = nearest_face(mesh, np.asarray(e.signature.centre))
        facing = float(mesh.normals[face] @ np.asarray(e.signature.axis))
        patch = _patch_at(mesh, found, face, e.id)
        if patch is not None and off < max(0.5, e.signature.area**0.5) and facing > 0.8:
            if abs(patch.area - e.signature.area) <= 0.02 * e.signature.area + 1e-3:
                out[e.id] = patch
    return out


def _carried_patches(
    old: Mesh, new: Mesh, wanted: list[Feature], found: tuple[Feature, ...], traced: Traced
) -> dict[str, Feature]:
    """Unnamed patches after an edit: what most of their surface became."""
    out: dict[str, Feature] = {}
    if not any(a.kind == "patch" for a in wanted):
        return out
    onto = traced.faces(len(old.faces))
    areas = old.areas
    for a in wanted:
        went = onto[a.faces]
        if a.kind == "patch" and areas[a.faces][went >= 0].sum() > 0.5 * areas[a.faces].sum():
            face = int(went[went >= 0][np.argmax(areas[a.faces][went >= 0])])
            patch = _patch_at(new, found, face, a.id)
            if patch is not None and set(went[went >= 0].tolist()) & set(patch.faces.tolist()):
                out[a.id] = patch
    return out


def _patch_at(mesh: Mesh, found: tuple[Feature, ...], face: int, name: str) -> Feature | None:
    """The smooth patch round a triangle, under a name; None where a named feature has that triangle."""
    from knollside.core.mesh.features import feature_of_face

    f = feature_of_face(mesh, found, face)
    return replace(f, id=name) if f.kind == "patch" else None
