"""From what is stated to the question: the one place where either becomes the other, for window and command line."""

from __future__ import annotations

from knollside.core.job.answer import CELLS
from knollside.core.job.ask import MeshKey
from knollside.core.job.file import Job
from knollside.core.job.questions.fits import Correct, Fits
from knollside.core.job.questions.gaps import Gaps, GapsOf, Learned
from knollside.core.job.questions.orientation import Supports
from knollside.core.job.questions.part import Part
from knollside.core.job.questions.plates import TakenBy
from knollside.core.job.questions.recipe import Build, PriceOf
from knollside.core.job.questions.settling import Prove
from knollside.core.job.questions.strength import Rank, StrengthOf, strength_question
from knollside.core.job.stated import Stated
from knollside.core.lay.orientations import NET_DIRECTIONS
from knollside.core.mesh.identity import Named, Names, Signature
from knollside.core.run.square import Frame

Vec = tuple[float, float, float]


def stated_of(job: Job) -> Stated:
    """All that a job file states."""
    return Stated(
        job.design_case,
        job.recipe,
        job.orientation,
        job.mates,
        job.material,
        job.printer,
        dict(job.own_cards),
        job.readings,
        job.gap_trials,
        job.prints,
        job.support_trials,
        job.dry_fits,
        changed=job.printer_changed,
        bond_changed=job.bond_changed,
        square=job.square_mm,
    )


def names_from(features: dict[str, Signature], lost: dict[str, Signature], fingerprint: str) -> Names:
    """Names as a job file carries them; its last numbers are the greatest it has of each kind."""
    entries = [Named(id=k, signature=s) for k, s in features.items()]
    entries += [Named(id=k, signature=s, lost=True) for k, s in lost.items()]
    last: dict[str, int] = {}
    for e in entries:
        kind, _, number = e.id.rpartition("-")
        if kind and number.isdigit():
            last[kind] = max(last.get(kind, 0), int(number))
    return Names(of=fingerprint, entries=tuple(entries), last=last)


def part_of(job: Job, mesh: MeshKey) -> Part:
    """The part of a job with its features under the file's names; of a file without any, as they are found."""
    return Part(mesh, names_from(job.features, job.lost, mesh.fingerprint))


def ask_strength(
    part: Part,
    s: Stated,
    cells: int = CELLS,
    direction: Vec | None = None,
    exactly: bool = False,
    probes: tuple[Vec, ...] = (),
) -> StrengthOf:
    """The question of strength of a part as it is stated; about ``cells`` cells."""
    return strength_question(part, s.design_case, s.recipe, s.card, cells, direction, exactly, probes)


def ask_orientations(strength: StrengthOf, s: Stated, directions: int = NET_DIRECTIONS) -> Rank:
    """The question which ways to lie there are, rated by ``strength``."""
    return Rank(strength, s.design_case.purpose, s.printer.bed_mm, directions)


def ask_board(strength: StrengthOf, s: Stated, direction: Vec, doubt: float, checked: bool = False) -> Build:
    """``doubt`` is the grid's of that way, a share."""
    return Build(strength, direction, s.printer, tuple(s.cards.values()), s.factor, doubt, checked)


def ask_proof(strength: StrengthOf, s: Stated) -> Prove:
    """The stated recipe with the shell that its way makes."""
    return Prove(strength.printed(s.recipe, s.direction))


def ask_fits(part: Part, s: Stated) -> Fits:
    """The question what each mate should be drawn as."""
    return Fits(part, s.mates, s.direction, s.readings, s.fit_setting, tuple(sorted(s.windows.items())))


def ask_gaps(part: Part, s: Stated) -> Gaps:
    """The question what lies between the bodies of a part as it is stated to lie, and whether it comes free."""
    learned = Learned(s.readings, s.trials, s.fit_setting)
    return Gaps(GapsOf(part, s.direction, s.recipe, s.printer.nozzle_mm), learned)


def ask_corrected(part: Part, s: Stated) -> Correct:
    """The question for the mesh with the stated mates corrected."""
    return Correct(ask_fits(part, s), s.recipe)


def ask_taken(part: Part, s: Stated, frame: Frame | None = None) -> TakenBy:
    """The question what the part takes of a bed the stated way, corrected by the stated mates, on a printer's
    ``frame``."""
    marks = tuple(sorted(s.marks.items()))
    made = s.support_settings
    supports = Supports(part, marks, s.direction, s.recipe, made, s.card, s.printer, (), s.peel)
    return TakenBy(part, supports, ask_price(part, s), ask_corrected(part, s) if s.mates else None, frame)


def ask_price(part: Part, s: Stated, direction: Vec | None = None) -> PriceOf:
    """The question what the stated recipe costs the stated way."""
    return PriceOf(part, s.card, direction or s.direction, s.recipe, s.factor)
