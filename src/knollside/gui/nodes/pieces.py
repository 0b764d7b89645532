"""Test pieces, sections cut out, and the sliced file that comes back."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from knollside.core.job.questions.proof import Crop, Cropped, MakePiece, Piece
from knollside.core.job.slicedcheck import SlicedCheck
from knollside.core.lay.supports import held
from knollside.core.mesh.outline import sides
from knollside.core.proof.fromjob import Wish, wishes
from knollside.gui.derived import Inputs, Node
from knollside.gui.fileasks import CheckSliced
from knollside.gui.nodes import strength
from knollside.gui.nodes.fits import GAPS
from knollside.gui.nodes.strength import DETAIL


@dataclass(frozen=True)
class PieceWish:
    """A test piece by name, with the sizes that the person gave it."""

    name: str
    sizes: tuple[tuple[str, float], ...] = ()


def wishes_of(v: Inputs) -> tuple[Wish, ...]:
    """The test pieces this job calls for, with its own sizes."""
    p, facts = v.part, v.facts
    if facts is None:
        return ()
    found = v.fresh(GAPS)
    gap = min((f.gap.size for f in found), default=None) if found else None
    frees, strain = p.frees("in the layer").value, p.card.snap.value / 100
    sizes = p.recipe.layer_height, round(gap, 2) if gap else None, round(frees, 2), strain
    return wishes(facts.features, p.direction, *sizes, p.recipe.line_width, held_face(v))


def held_face(v: Inputs) -> tuple[float, float] | None:
    """Sides of the largest face that is held up the way it lies, mm; None while that is not known."""
    told = v.fresh(strength.SUPPORTS)
    wishes_, some = v.part.support_settings, []
    for r in told.regions if told is not None else ():
        if held(r, wishes_):
            some.append((r.area, sides(r.outline)))
    if not some:
        return None
    short, long = max(some)[1]
    return round(long), round(short)


def _piece(v: Inputs) -> MakePiece | None:
    chosen: PieceWish = v.choice(PIECE) or PieceWish("bar")
    wish = next((w for w in wishes_of(v) if w.name == chosen.name), None)
    if wish is None:
        return None
    for name, size in chosen.sizes:
        wish = wish.with_value(name, size)
    return MakePiece(wish, v.part.recipe, v.part.card, v.part.factor)


PIECE: Node[Piece] = Node("piece", _piece, (GAPS, strength.SUPPORTS), doing="Making the piece")


@dataclass(frozen=True)
class CropWish:
    features: tuple[str, ...]
    margin: float


def _crop(v: Inputs) -> Crop | None:
    p, w = v.part, v.choice(SECTION)
    if p.question is None or w is None:
        return None
    return Crop(p.question, w.features, w.margin, p.direction, p.recipe, p.card, p.factor)


SECTION: Node[Cropped] = Node("section", _crop, doing="Cutting it out")


@dataclass(frozen=True)
class SlicedWish:
    path: Path
    stamp: tuple[int, int]


def _sliced(v: Inputs) -> CheckSliced | None:
    p, w, detail = v.part, v.choice(SLICED), v.fresh(DETAIL)
    if p.question is None or w is None:
        return None
    weak = tuple(x.at for x in detail.places if not x.at_support) if detail is not None else ()
    return CheckSliced(w.path, w.stamp, p.question, p.design_case, p.recipe, p.card, p.direction, weak, strength.cells)


SLICED: Node[SlicedCheck] = Node("sliced", _sliced, (DETAIL,), doing="Reading the sliced file")
