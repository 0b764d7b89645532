"""All that is stated of a part, and what follows from it at once: the record that window and command line share."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import date, datetime
from functools import cached_property

from knollside.core.fit.dryfits import LearnedWindow, learn_windows
from knollside.core.fit.flaring import learn_flare
from knollside.core.fit.freeing import learn_frees
from knollside.core.fit.process import PrintSetting, learn, setting_of
from knollside.core.fit.windows import Windows, windows_for
from knollside.core.job.edits import marks_of
from knollside.core.job.file import Printed
from knollside.core.lay.peel import Peel, learn_peel
from knollside.core.learning.bond import learn_bond
from knollside.core.learning.breaks import with_model
from knollside.core.learning.supportgap import gap_words
from knollside.core.material.allowables import Allowables, limits_of
from knollside.core.material.bond import BondSetting, with_setting
from knollside.core.material.cards import MATERIALS, Material, material, with_bond
from knollside.core.material.own import FieldName, OwnCard, OwnValue, with_own
from knollside.core.model import (
    DesignCase,
    FaceMark,
    GapTrial,
    Mate,
    Measurement,
    Orientation,
    PrinterFacts,
    Range,
    Recipe,
    Refused,
    SupportSettings,
)
from knollside.core.model.fitchecks import FitCheck
from knollside.core.model.running import SquareSize
from knollside.core.model.trials import SupportTrial
from knollside.core.recipe.price import time_factor
from knollside.core.run.square import Frame, Square, frame_of

UP = (0.0, 0.0, 1.0)
Vec = tuple[float, float, float]


def learned_cards(
    own: dict[str, OwnCard], prints: tuple[Printed, ...], changed: tuple[datetime, ...] = ()
) -> dict[str, Material]:
    """Every material, with the person's own values, and bonds learned from trials, in place of typical ones;
    ``changed`` when something was done to the printer that can change the bond."""
    out: dict[str, Material] = {}
    for name, typical in MATERIALS.items():
        card = with_own(typical, own.get(name))
        broken = [p for p in prints if p.broke is not None and p.material == name]
        tests = [p.broke for p in broken if p.broke is not None]
        at = [when.replace(tzinfo=None) for when in changed]
        ages = [0 if p.made is None else sum(p.made.replace(tzinfo=None) < when for when in at) for p in broken]
        card = with_bond(card, learn_bond(tests, card.bond, ages) if tests else None)
        out[name] = with_model(card, tests, ages)
    return out


@dataclass(frozen=True)
class Stated:
    """Duty, recipe, way, mates and material of a part; its printer; and what was measured, tried and printed there."""

    design_case: DesignCase = field(default_factory=DesignCase)
    recipe: Recipe = field(default_factory=Recipe)
    orientation: Orientation | None = None
    mates: tuple[Mate, ...] = ()
    material: str = "PETG"
    printer: PrinterFacts = field(default_factory=PrinterFacts)
    own: dict[str, OwnCard] = field(default_factory=dict)
    readings: tuple[Measurement, ...] = ()
    trials: tuple[GapTrial, ...] = ()
    prints: tuple[Printed, ...] = ()
    support_trials: tuple[SupportTrial, ...] = ()
    dry_fits: tuple[FitCheck, ...] = ()  # of any part in this material
    today: date | None = None  # the day the next print is made; without one, that of the last reading
    changed: tuple[date, ...] = ()  # days on which something was done to the printer that can change sizes
    bond_changed: tuple[datetime, ...] = ()  # and when something that can change the bond between layers
    square: SquareSize | None = None  # a printed square that was measured, whose frame is taken out of meshes

    @property
    def direction(self) -> Vec:
        """The build direction: the chosen one, or up as drawn."""
        return self.orientation.direction if self.orientation is not None else UP

    @property
    def support_settings(self) -> SupportSettings:
        return self.orientation.support_settings if self.orientation is not None else SupportSettings()

    @cached_property
    def peel(self) -> Peel:
        """How hard supports come off on this printer."""
        return learn_peel(self.support_trials)

    @property
    def gap_words(self) -> str:
        """How supports come off with the gap and fan that are set, in a sentence."""
        return gap_words(self.support_trials, self.support_settings.gap_mm, self.roof_fan)

    @property
    def roof_fan(self) -> float:
        """The fan that roofs over supports are laid with, a share: the recipe's; half where it says nothing."""
        return 0.5 if self.recipe.fan is None else self.recipe.fan

    @property
    def loaded(self) -> bool:
        """Whether a load and a hold are stated, so that strength can be weighed."""
        return bool(self.design_case.fixtures and self.design_case.cases)

    @cached_property
    def marks(self) -> dict[str, FaceMark]:
        """What is said of features, one mark each."""
        return marks_of(self.design_case, self.mates)

    @cached_property
    def cards(self) -> dict[str, Material]:
        return learned_cards(self.own, self.prints, self.bond_changed)

    @property
    def plain_card(self) -> Material:
        """The part's material before this recipe's heat, fan and nozzle are counted. Raises :class:`Refused`."""
        return self.cards[material(self.material).name]

    @cached_property
    def card(self) -> Material:
        """The part's material: the person's own values and trials first, as this recipe and nozzle print it."""
        return with_setting(self.plain_card, self.setting)

    @property
    def setting(self) -> BondSetting:
        """How this recipe and nozzle print the bond between layers."""
        # Own pull tests were printed with this nozzle: what it costs is in them already.
        hard = self.printer.hard_nozzle and not self.plain_card.bond.source.startswith("yours")
        r = self.recipe
        return BondSetting(r.nozzle_c, r.fan, None, hard, r.layer_height / self.printer.nozzle_mm)

    @property
    def own_values(self) -> dict[FieldName, OwnValue]:
        """The person's own values of the part's material."""
        return self.own.get(self.material, OwnCard()).values

    @cached_property
    def factor(self) -> Range:
        """Hours of this printer over the estimate."""
        return time_factor([(p.estimate_hours or 0, p.actual_hours or 0) for p in self.prints])

    @cached_property
    def allowables(self) -> tuple[Allowables, ...] | str:
        """What each load case may ask of the material, or why it cannot be told."""
        try:
            return limits_of(self.design_case, self.card)
        except Refused as refusal:
            return str(refusal)

    # The printer's frame

    @property
    def outside(self) -> Range:
        """How much wider an outside comes out on this printer, whatever its size, mm: learned where it was read."""
        s = learn(self.readings, "pin", "upright", 5.0, self.fit_setting)
        return Range(s.value, s.value - s.doubt, s.value + s.doubt, s.source)

    @property
    def frame(self) -> Frame | None:
        """What the printer's frame is off by the square, where it is to be taken out of meshes. Holes and outsides that
        were read have its scales in their shifts: then the skew alone is taken out, nothing twice."""
        if self.square is None:
            return None
        try:
            found = frame_of(Square(*self.square), outside=self.outside)
            return found.skew_alone if self.readings else found
        except Refused:
            return None

    # Fits

    @cached_property
    def windows(self) -> Windows:
        """Windows of the fit classes for the part's material: the person's own first, then as dry fits moved them."""
        return self._class_windows | {name: w.ends for name, w in self.learned_windows.items()}

    @cached_property
    def learned_windows(self) -> dict[str, LearnedWindow]:
        """Windows that dry fits of this material have moved."""
        mine = [c for c in self.dry_fits if c.material == self.material]
        return learn_windows(self._class_windows, self._typed_windows, mine)

    @property
    def _typed_windows(self) -> Windows:
        return self.own.get(self.material, OwnCard()).windows

    @property
    def _class_windows(self) -> Windows:
        return windows_for(self.material, self._typed_windows)

    @property
    def fit_setting(self) -> PrintSetting:
        """What readings must share with this job to speak for it."""
        return setting_of(self.recipe, self.printer.nozzle_mm, self.today, self.changed)

    @cached_property
    def flares(self) -> Range:
        """How much this printer's first layer grows, mm a side."""
        return learn_flare(self.readings, self.fit_setting)

    def frees(self, direction: str) -> Range:
        """The drawn gap a side that comes free half the time on this printer, mm."""
        return learn_frees(self.trials, direction)
