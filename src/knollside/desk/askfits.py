"""What Fits, Proof and Bench ask of the worker, and the keys their answers rest on."""

from __future__ import annotations

from knollside.core.fit.flaring import learn_flare
from knollside.core.fit.freeing import learn_frees
from knollside.core.fit.process import Setting, setting_of
from knollside.core.fit.windows import Windows
from knollside.core.mesh.edit import Edited
from knollside.core.model import GapTrial, Measurement, Range
from knollside.core.proof.fromjob import Wish, wishes
from knollside.desk import fittasks, tasks
from knollside.desk.asks import Asks


class FitAsks(Asks):
    """The asking half of the state where it is about fits."""

    readings: tuple[Measurement, ...]
    trials: tuple[GapTrial, ...]
    windows: Windows

    @property
    def fits_key(self) -> object:
        assert self.doc is not None
        d = self.doc
        return (d.mesh_hash, d.mates, self.way, self.readings, self.fit_setting, tuple(sorted(self.windows.items())))

    @property
    def fit_setting(self) -> Setting:
        """What readings must share with this job to speak for it."""
        assert self.doc is not None
        return setting_of(self.doc.recipe, self.printer.nozzle_mm)

    def request_fits(self) -> None:
        if self.doc is not None and self.facts is not None:
            at = self.facts, self.doc.mates, self.way, self.readings, self.fit_setting, self.windows
            self.work.ask("fits", self.fits_key, tasks.fits, *at)

    @property
    def gaps_key(self) -> object:
        assert self.doc is not None
        return (self.doc.mesh_hash, self.way, self.learned_gaps)

    @property
    def learned_gaps(self) -> fittasks.Learned:
        return fittasks.Learned(self.readings, self.trials, self.fit_setting)

    @property
    def flares(self) -> Range:
        """How much this printer's first layer grows, mm a side."""
        return learn_flare(self.readings, self.fit_setting)

    def frees(self, direction: str) -> Range:
        """The drawn gap a side that comes free half the time on this printer, mm."""
        return learn_frees(self.trials, direction)

    def request_gaps(self) -> None:
        """What lies between bodies printed in place."""
        if self.doc is not None and self.facts is not None:
            at = self.facts, self.way, self.doc.recipe, self.learned_gaps
            self.work.ask("gaps", self.gaps_key, fittasks.gaps_of, *at)

    @property
    def wishes(self) -> tuple[Wish, ...]:
        """The test pieces this job calls for."""
        assert self.doc is not None
        found = self.answers.fresh("gaps", self.gaps_key)
        gap = min((f.free.gap.smallest for f in found), default=None) if found else None
        frees = self.frees("in the layer").value
        layer, strain = self.doc.recipe.layer_height, self.card.snap.value / 100
        at = self.facts.features, self.way, layer, round(gap, 2) if gap else None, round(frees, 2), strain
        return wishes(*at)

    def request_flare(self, by: float) -> None:
        """Take the first layers' flare off; nothing is stored yet."""
        if self.doc is not None and self.facts is not None:
            at = self.facts, self.way, by, self.doc.recipe
            self.work.ask("flare", (self.doc.mesh_hash, self.way), fittasks.flare, *at)

    def request_open_gap(self, bodies: tuple[int, int], to: float) -> None:
        """Open one gap to what this printer frees; nothing is stored yet."""
        if self.doc is not None and self.facts is not None:
            self.work.ask("open gap", self.doc.mesh_hash, fittasks.open_gap, self.facts, bodies, to)

    def request_wall(self, name: str, by: float, side: str, follow: bool) -> None:
        """Move a wall; nothing is stored yet."""
        if self.doc is not None and self.facts is not None:
            self.work.ask("wall", self.doc.mesh_hash, fittasks.move_wall, self.facts, name, by, side, follow)

    def request_thread(self, name: str, flank: float) -> None:
        """Open a thread's flanks; nothing is stored yet."""
        if self.doc is not None and self.facts is not None:
            self.work.ask("thread", self.doc.mesh_hash, fittasks.thread, self.facts, name, flank)

    def request_report(self, edited: Edited) -> None:
        """What a correction left alone."""
        if self.facts is not None:
            self.work.ask("report", id(edited), fittasks.change_report, self.facts, edited)

    def request_fit_cut(self, feature: str, key: object) -> None:
        """The chosen feature across its axis, before and after."""
        edited = self.answers.get("correct")
        if self.facts is not None:
            made = edited.mesh if edited is not None else None
            self.work.ask("fit cut", key, fittasks.true_cuts, self.facts, feature, self.way, made)

    def request_scale(
        self, factor: float, keep: tuple[str, ...], keep_gaps: bool, walls: tuple[str, ...], only: int | None
    ) -> None:
        """Scale the part, keeping what must not scale; nothing is stored yet."""
        if self.doc is not None and self.facts is not None:
            at = self.facts, factor, keep, keep_gaps, walls, only, self.doc.recipe, self.way, self.printer
            self.work.ask("scale", self.doc.mesh_hash, fittasks.scale, *at)
