"""Ways side by side: strength, supports, scars, hours and grams of a few ways, and which of them nothing beats."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from knollside.core.lay.bed_adhesion import BedAdhesion, bed_adhesion
from knollside.core.lay.orientations import RatedOrientation
from knollside.core.lay.seams import seam_advice
from knollside.core.lay.strata import lay_strata
from knollside.core.lay.supports import Bill, bill, regions
from knollside.core.lay.surface_steps import surface_steps
from knollside.core.material.cards import Material
from knollside.core.model import Feature, Mesh, Range, Recipe, SupportSettings
from knollside.core.recipe.layer_areas import use_of_layers
from knollside.core.recipe.price import PrinterMotion, price

_UPRIGHT = np.cos(np.radians(8))


@dataclass(frozen=True)
class Column:
    """One way with everything that is weighed against the others. ``upright`` of ``holes`` stand upright; ``hours``
    with supports; ``surface_steps`` of the show faces; ``seam`` the side it may run; ``beaten`` by another way in every
    respect, its letter, or empty."""

    orientation: RatedOrientation
    bill: Bill
    bed: BedAdhesion
    grams: float
    hours: Range
    upright: int
    holes: int
    surface_steps: str = ""
    seam: str = ""
    beaten: str = ""

    @property
    def costs(self) -> tuple[float, ...]:
        """What counts against it, each the less the better."""
        return (
            -float(np.nan_to_num(self.orientation.reserve.value)),  # no load, no difference
            self.bill.grams,
            float(len(self.bill.scars)),
            float(self.bill.open_ones),
            self.hours.value,
            float(self.holes - self.upright),
        )


@dataclass(frozen=True)
class Comparison:
    """What ways of one part are weighed with; ``mates`` are the holes that matter, all of them where none is named."""

    mesh: Mesh
    features: tuple[Feature, ...]
    marks: dict[str, str]
    mates: tuple[str, ...]
    recipe: Recipe
    support_settings: SupportSettings
    card: Material
    printer_motion: PrinterMotion
    factor: Range
    enclosed: bool = False

    def column(self, orientation: RatedOrientation) -> Column:
        """Weigh one way: its supports by exact layers, its price by its own slices."""
        strata = lay_strata(self.mesh, orientation.direction, self.recipe)
        cost = bill(
            regions(self.mesh, self.features, self.marks, strata, self.recipe, self.support_settings, self.card),
            self.support_settings,
        )
        use, thickness = use_of_layers(strata.outline, strata.h, self.recipe)
        own = price(thickness, use, self.recipe, self.card, self.printer_motion, self.factor)
        holes = [
            f for f in self.features if f.kind in ("hole", "slot", "hexagon") and (not self.mates or f.id in self.mates)
        ]
        upright = sum(abs(float(np.dot(f.axis, orientation.direction))) > _UPRIGHT for f in holes)
        more = self.factor.times(cost.minutes / 60)
        hours = Range(
            own.hours.value + more.value, own.hours.low + more.low, own.hours.high + more.high, own.hours.source
        )
        bed = bed_adhesion(orientation.footing, self.card, self.enclosed)
        seen = surface_steps(self.mesh, self.features, self.marks, orientation.direction, self.recipe.layer_height)
        seam = seam_advice(self.mesh, self.features, self.marks, (orientation.place,), strata)
        side = seam.side if seam is not None else "any"
        return Column(orientation, cost, bed, own.grams + cost.grams, hours, upright, len(holes), seen, side)


def unbeaten(columns: list[Column]) -> tuple[Column, ...]:
    """Each column told whether another is as good in every respect and better in one (Pareto)."""
    out = []
    for c in columns:
        mine = np.array(c.costs)
        by = next(
            (
                o.orientation.letter
                for o in columns
                if o is not c and (np.array(o.costs) <= mine + 1e-9).all() and (np.array(o.costs) < mine - 1e-9).any()
            ),
            "",
        )
        out.append(replace(c, beaten=by))
    return tuple(out)
