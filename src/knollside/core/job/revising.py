"""A newer mesh of a part: put where the part was, and what became of each feature, in words."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import TypeVar

import numpy as np
from scipy.spatial import cKDTree

from knollside.core.job.answer import PartFacts
from knollside.core.mesh.features import feature_at
from knollside.core.mesh.identity import Names
from knollside.core.mesh.nearest import nearest_face
from knollside.core.mesh.revised import Became, Placement, became, matched, placement
from knollside.core.model import DesignCase, Mesh, Refused
from knollside.core.model.placed import Placed

SAME = 0.02  # mm that corners of a shape that is turned onto itself may be apart
STAYS = 0.3  # mm that a surface may have moved under a bare place
Vec = tuple[float, float, float]
Where = TypeVar("Where", bound=Placed)
LEAST = 0.25  # of the features that must be there again for it to be the same part


def in_place_of(before: PartFacts, now: PartFacts) -> tuple[Mesh, tuple[str, ...]]:
    """The mesh read ``now`` in the frame of the part before, with a sentence where it was drawn elsewhere. Raises
    :class:`Refused` where it is no revision of that part, or fits on it in more than one way."""
    mesh = now.mesh
    where = placement(before.features, now.features, before.mesh.bounds, mesh.bounds)
    if before.features and where.share < LEAST:
        raise Refused(
            f"Of {len(before.features)} features {where.share * len(before.features):.0f} are there again: it is "
            "another part, or in another unit. Open it as a part of its own, or check the unit it was written in."
        )
    if any(not _same_there(mesh, where, other) for other in where.rivals):
        raise Refused(
            "It was turned as a whole and fits on the last revision in more than one way, which are not alike. Write "
            "it the way that one lies, or mark a side with a small notch."
        )
    if where.still:
        return mesh, ()
    return Mesh(where.back(mesh.vertices), mesh.faces), (_words(where),)


def _same_there(mesh: Mesh, one: Placement, other: Placement) -> bool:
    """Whether a mesh put back either way is the same shape: then it does not matter which way it was turned."""
    a, b = (cKDTree(p.back(mesh.vertices)) for p in (one, other))
    return bool(max(np.max(a.query(b.data)[0]), np.max(b.query(a.data)[0])) <= SAME)


def _words(where: Placement) -> str:
    turned = not np.allclose(where.turn, np.eye(3))
    x, y, z = where.move
    moved = f"moved by ({x:.1f}, {y:.1f}, {z:.1f}) mm"
    return f"It was drawn {'turned and ' if turned else ''}{moved}, and was put back where the last revision lies."


def bare_places(design_case: DesignCase) -> tuple[Vec, ...]:
    """Where something is held or loaded at a place alone, without a feature's name, mm."""
    loads = [v for c in design_case.cases for v in c.loads]
    return tuple(p.at for p in (*design_case.fixtures, *loads) if p.at is not None)


def moved_places(before: PartFacts, now: PartFacts, places: Iterable[Vec]) -> tuple[dict[Vec, str], tuple[str, ...]]:
    """What bare places are to be called on the mesh ``now`` (in the frame of the one before), and a sentence for each.

    A place stays, and is left out, where its surface is still there and of the same feature. Else it goes with the
    feature it was on; of one that had no name it becomes a place that is on no part, so that nothing is computed for
    another.
    """
    pairs = matched(before.features, now.features, float(before.mesh.size.max()))
    same = {before.features[i].id: now.features[j].id for i, j in pairs.items()}
    moved: dict[Vec, str] = {}
    said: list[str] = []
    for at in places:
        if at in moved or _stays(before, now, same, at):
            continue
        name = _feature_under(before, at)
        x, y, z = at
        where = f"({x:.1f}, {y:.1f}, {z:.1f})"
        if before.feature(name) is None:
            moved[at] = f"place at {where}"
            said.append(f"What was at {where} lies on nothing that was there before: point at it again at Duty.")
        else:
            moved[at] = name
            said.append(f"What was at {where} went with {name.replace('-', ' ')}: look at Duty.")
    return moved, tuple(said)


def with_moved(design_case: DesignCase, moved: Mapping[Vec, str]) -> DesignCase:
    """The design case with its bare places called as :func:`moved_places` says."""

    def called(place: Where) -> Where:
        if place.at is None or place.at not in moved:
            return place
        return place.model_copy(update={"at": None, "feature": moved[place.at]})

    fixtures = tuple(called(f) for f in design_case.fixtures)
    cases = tuple(c.model_copy(update={"loads": tuple(called(v) for v in c.loads)}) for c in design_case.cases)
    return design_case.model_copy(update={"fixtures": fixtures, "cases": cases})


def _feature_under(part: PartFacts, at: Vec) -> str:
    """The feature a bare place is on; nothing where it is on no part."""
    try:
        return feature_at(part.mesh, part.features, at).id
    except Refused:
        return ""


def _stays(before: PartFacts, now: PartFacts, same: dict[str, str], at: Vec) -> bool:
    off = [nearest_face(p.mesh, np.asarray(at, float))[1] for p in (before, now)]
    if off[1] > off[0] + STAYS:
        return False
    old, new = (_feature_under(p, at) for p in (before, now))
    # Of two unnamed patches nothing tells that they are not the same one.
    return same.get(old, "") == new or (before.feature(old) is None and now.feature(new) is None)


def changes(before: Names | None, after: Names | None) -> tuple[Became, ...]:
    """What became of the features between two revisions; nothing while names are not known."""
    if before is None or after is None:
        return ()
    told = [[(e.id, e.signature) for e in n.entries if not e.lost] for n in (before, after)]
    return became(*told)
