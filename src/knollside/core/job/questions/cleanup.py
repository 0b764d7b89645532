"""What a print will need once it is off the bed: places to clean, in order, and mates to try dry."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from knollside.core.fit.clearance import Freedom
from knollside.core.fit.dryfit import Between, Try, highest_torque, tries
from knollside.core.job.answer import PartFacts
from knollside.core.job.ask import Answerer, Question
from knollside.core.job.questions.fits import Fits
from knollside.core.job.questions.gaps import Gaps
from knollside.core.job.questions.orientation import Supports
from knollside.core.job.questions.recipe import PriceOf, strata_of
from knollside.core.lay.cleanup import Chore, Wanted, chores
from knollside.core.mesh.topology import bodies_of
from knollside.core.model import Array, Mesh, Range


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
        shares = _shares(part.mesh)
        grams = ask(self.price, 0.9, 1.0).grams
        between = tuple(_between(f, grams * shares) for f in ask(self.gaps))
        # Of several bodies the lightest is taken to be what moves.
        moving = grams * float(shares.min())
        return Finishing(done, tries(self.fits.mates, moving, chances, between, self._torques(part)))

    def _torques(self, part: PartFacts) -> dict[str, Range]:
        """What printed threads stand, by their holes."""
        out = {}
        for m in self.fits.mates:
            f = part.feature(m.feature)
            if m.fit == "thread" and f is not None and f.diameter and f.length:
                card = self.supports.card
                out[m.feature] = highest_torque(f.diameter, f.length, None, card.pull, card.bond)
        return out


def _between(f: Freedom, grams: Array) -> Between:
    a, b = f.gap.bodies
    joint = f.gap.joint
    light = float(min(grams[a], grams[b]))
    place = f.gap.bears or f.gap.anywhere
    return Between((a, b), place.in_layer, place.across is None, light, joint is None, f.welds, f.rattles)


def _shares(mesh: Mesh) -> Array:
    """Of the volume, what each body has, (bodies,)."""
    count, label = bodies_of(mesh)
    a, b, c = (mesh.triangles[:, k] for k in range(3))
    each = np.abs(np.bincount(label, np.einsum("ij,ij->i", a, np.cross(b, c)), minlength=count))
    return np.asarray(each / each.sum() if each.sum() > 0 else np.ones(count) / count)
