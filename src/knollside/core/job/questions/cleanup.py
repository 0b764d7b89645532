"""What a print will need once it is off the bed: places to clean, in order, and mates to try dry."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from knollside.core.fit.clearance import Freedom
from knollside.core.fit.dryfit import Between, Guide, Try, snap, tries
from knollside.core.fit.torques import Torque, torque_of
from knollside.core.job.answer import PartFacts
from knollside.core.job.ask import Answerer, Question
from knollside.core.job.questions.fits import Fits
from knollside.core.job.questions.gaps import Gaps
from knollside.core.job.questions.orientation import Supports
from knollside.core.job.questions.recipe import PriceOf, strata_of
from knollside.core.lay.cleanup import Chore, Wanted, chores
from knollside.core.mesh.topology import bodies_of
from knollside.core.model import Array, Mate, Mesh


@dataclass(frozen=True)
class Finishing:
    """Chores in the order they are done, and mates in the order they are tried."""

    chores: tuple[Chore, ...]
    tries: tuple[Try, ...]


@dataclass(frozen=True, eq=False)
class Finish(Question[Finishing]):
    """``supports`` with all it rests on; ``fits``, ``gaps`` and ``price`` of the same part."""

    supports: Supports
    fits: Fits
    gaps: Gaps
    price: PriceOf
    kept: ClassVar[int] = 2

    def answer(self, ask: Answerer) -> Finishing:
        s = self.supports
        told, fitting, part = ask(s, 0.0, 0.6), ask(self.fits, 0.6, 0.8), ask(s.part)
        strata = ask(strata_of(s.part, s.direction, s.recipe))
        wanted = [
            Wanted(c.feature, c.target.low, c.target.high, c.target.words, c.printed_now)
            for c in fitting.corrections
            if not c.partner
        ]
        done = chores(strata, told.regions, s.support_settings, told.bed, told.seam, part.features, s.weak, wanted)
        chances = {c.feature: c.chance_now for c in fitting.corrections}
        shares, middles = _bodies(part.mesh)
        grams = ask(self.price, 0.9, 1.0).grams * shares
        between = tuple(_between(f, grams) for f in ask(self.gaps))
        guides = {m.feature: _guide(part, m, grams, middles) for m in self.fits.mates}
        arms = [snap(f, s.card.snap) for f in part.features if f.role == "snap arm"]
        return Finishing(done, tries(self.fits.mates, guides, chances, between, self._torques(part), arms))

    def _torques(self, part: PartFacts) -> dict[str, Torque]:
        """What tightened screws stand, by their holes."""
        out, card = {}, self.supports.card
        for m in self.fits.mates:
            f = part.feature(m.feature)
            found = torque_of(m, f, card.pull, card.bond) if f is not None else None
            if found is not None:
                out[m.feature] = found
        return out


def _guide(part: PartFacts, m: Mate, grams: Array, middles: Array) -> Guide:
    """What moves in a mate: of two printed partners the lighter body; else the lightest of the part."""
    f, partner = part.feature(m.feature), part.feature(m.partner or "")
    if f is None or partner is None or f.body == partner.body:
        return Guide(float(grams.min()))
    moves = f.body if grams[f.body] <= grams[partner.body] else partner.body
    if not f.length or not partner.length:
        return Guide(float(grams[moves]))
    axis, off = np.asarray(f.axis), middles[moves] - np.asarray(f.centre)
    arm = float(np.linalg.norm(off - (off @ axis) * axis))
    return Guide(float(grams[moves]), min(f.length, partner.length), arm)


def _between(f: Freedom, grams: Array) -> Between:
    a, b = f.gap.bodies
    joint = f.gap.joint
    light = float(min(grams[a], grams[b]))
    place = f.gap.bears or f.gap.anywhere
    return Between((a, b), place.in_layer, place.across is None, light, joint is None, f.welds, f.rattles)


def _bodies(mesh: Mesh) -> tuple[Array, Array]:
    """Of the volume, what each body has, (bodies,), and where its middle is, mm, (bodies, 3)."""
    count, label = bodies_of(mesh)
    a, b, c = (mesh.triangles[:, k] for k in range(3))
    six = np.einsum("ij,ij->i", a, np.cross(b, c))  # of each tetrahedron down to the origin
    each = np.bincount(label, six, minlength=count)
    firsts = np.stack([np.bincount(label, six * (a + b + c)[:, k] / 4, minlength=count) for k in range(3)], axis=1)
    if not (np.abs(each) > 0).all():
        return np.ones(count) / count, np.tile(mesh.vertices.mean(axis=0), (count, 1))
    size = np.abs(each)
    return np.asarray(size / size.sum()), np.asarray(firsts / each[:, None])
