"""Fits: corrections, gaps, flares, walls, threads, scale."""

from __future__ import annotations

from dataclasses import dataclass

from knollside.core.fit.clearance import Freedom
from knollside.core.fit.correction import Correction
from knollside.core.fit.opening import OpenedGap, Thickened
from knollside.core.fit.process import REFERENCE
from knollside.core.fit.scaling import Scaled
from knollside.core.fit.threadfit import Threaded
from knollside.core.job.asked import ask_fits, ask_gaps
from knollside.core.job.questions.fits import (
    Changed,
    ChangeReport,
    Correct,
    FitCut,
    Fits,
    Fitting,
    MoveThread,
    MoveWall,
    Scale,
    ScaleSet,
    SetPart,
    TakeFlareOff,
    Tell,
    Told,
    TrueCuts,
)
from knollside.core.job.questions.gaps import Gaps, OpenGap, Travels, TravelsOf
from knollside.core.mesh.edit import Edited
from knollside.core.mesh.flare import Relieved
from knollside.gui.derived import Inputs, Node


def _fits(v: Inputs) -> Fits | None:
    p = v.part
    return None if p.question is None else ask_fits(p.question, p)


FITS: Node[Fitting] = Node("fits", _fits)


def _tell(v: Inputs) -> Tell:
    p = v.part
    return Tell(p.readings, tuple(w for _, w, _ in p.dated_readings), p.fit_setting, REFERENCE)


TOLD: Node[Told] = Node("told", _tell)


def _correct(v: Inputs) -> Correct | None:
    fits = v.question(FITS)
    return Correct(fits, v.part.recipe) if isinstance(fits, Fits) else None


CORRECT: Node[Edited] = Node("correct", _correct, doing="Moving the walls")


def made(v: Inputs) -> Correct | None:
    """The correction, once it was made of exactly what is stored."""
    question = v.question(CORRECT)
    return question if isinstance(question, Correct) and v.fresh(CORRECT) is not None else None


def _report(v: Inputs) -> ChangeReport | None:
    correct = made(v)
    return ChangeReport(correct) if correct is not None else None


REPORT: Node[Changed] = Node("report", _report, (CORRECT,))


def spoken_of(v: Inputs) -> Correction | None:
    """The correction under discussion: of the feature that was picked, else the first."""
    fitting = v.fresh(FITS)
    rows = fitting.corrections if fitting is not None else ()
    return next((c for c in rows if c.feature == v.picked), next(iter(rows), None))


def _fit_cut(v: Inputs) -> FitCut | None:
    p, here = v.part, spoken_of(v)
    return FitCut(p.question, here.feature, p.direction, made(v)) if p.question is not None and here else None


FIT_CUT: Node[TrueCuts] = Node("fit cut", _fit_cut, (FITS, CORRECT))


def _gaps(v: Inputs) -> Gaps | None:
    p = v.part
    return None if p.question is None else ask_gaps(p.question, p)


GAPS: Node[tuple[Freedom, ...]] = Node("gaps", _gaps)


def _travels(v: Inputs) -> TravelsOf | None:
    return None if v.part.question is None else TravelsOf(v.part.question)


TRAVELS: Node[Travels] = Node("travels", _travels)


def _flare(v: Inputs) -> TakeFlareOff | None:
    p, by = v.part, v.choice(FLARE)
    return TakeFlareOff(p.question, p.direction, by, p.recipe.layer_height) if p.question is not None and by else None


FLARE: Node[Relieved] = Node("flare", _flare)


@dataclass(frozen=True)
class GapWish:
    bodies: tuple[int, int]
    to: float


def _open_gap(v: Inputs) -> OpenGap | None:
    p, wish = v.part, v.choice(OPEN_GAP)
    return OpenGap(p.question, wish.bodies, wish.to) if p.question is not None and wish is not None else None


OPEN_GAP: Node[OpenedGap] = Node("open gap", _open_gap)


@dataclass(frozen=True)
class WallWish:
    feature: str
    by: float
    side: str
    follow: bool


def _wall(v: Inputs) -> MoveWall | None:
    p, w = v.part, v.choice(WALL)
    return MoveWall(p.question, w.feature, w.by, w.side, w.follow) if p.question is not None and w else None


WALL: Node[Thickened] = Node("wall", _wall)


@dataclass(frozen=True)
class ThreadWish:
    feature: str
    flank: float


def _thread(v: Inputs) -> MoveThread | None:
    p, w = v.part, v.choice(THREAD)
    return MoveThread(p.question, w.feature, w.flank) if p.question is not None and w is not None else None


THREAD: Node[Threaded] = Node("thread", _thread)


@dataclass(frozen=True)
class ScaleWish:
    factor: float
    keep: tuple[str, ...]
    keep_gaps: bool
    walls: tuple[str, ...]
    only: int | None


def _scale(v: Inputs) -> Scale | None:
    p, w = v.part, v.choice(SCALE)
    if p.question is None or w is None:
        return None
    line = p.recipe.line_width
    return Scale(p.question, w.factor, w.keep, w.keep_gaps, w.walls, w.only, line, p.direction, p.printer)


SCALE: Node[Scaled] = Node("scale", _scale, doing="Scaling")


def _set(v: Inputs) -> ScaleSet | None:
    w = v.choice(SET)
    return None if w is None else ScaleSet(w.parts, w.factor, v.part.recipe.line_width, v.part.printer)


@dataclass(frozen=True)
class SetWish:
    parts: tuple[tuple[int, str, object], ...]
    factor: float


SET: Node[tuple[SetPart, ...]] = Node("set", _set, doing="Scaling the set")
