"""A newer mesh of a part: put where the part was, and what became of each feature, in words."""

from __future__ import annotations

import numpy as np

from knollside.core.job.answer import PartFacts
from knollside.core.mesh.identity import Names
from knollside.core.mesh.revised import Became, Placement, became, placement
from knollside.core.model import Mesh, Refused

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
    if where.open:
        raise Refused(
            "It was turned as a whole and fits on the last revision in more than one way. Write it the way that one "
            "lies, or mark a side with a small notch."
        )
    if where.still:
        return mesh, ()
    return Mesh(where.back(mesh.vertices), mesh.faces), (_words(where),)


def _words(where: Placement) -> str:
    turned = not np.allclose(where.turn, np.eye(3))
    x, y, z = where.move
    moved = f"moved by ({x:.1f}, {y:.1f}, {z:.1f}) mm"
    return f"It was drawn {'turned and ' if turned else ''}{moved}, and was put back where the last revision lies."


def changes(before: Names | None, after: Names | None) -> tuple[Became, ...]:
    """What became of the features between two revisions; nothing while names are not known."""
    if before is None or after is None:
        return ()
    told = [[(e.id, e.signature) for e in n.entries if not e.lost] for n in (before, after)]
    return became(*told)
