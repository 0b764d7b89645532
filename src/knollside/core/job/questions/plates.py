"""Parts of one or several jobs on plates: what each takes up of the bed, who shares a plate, and what a plate costs."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import ClassVar

import numpy as np
import shapely.affinity
from shapely.geometry.base import BaseGeometry

from knollside.core.job.answer import laid
from knollside.core.job.ask import Answerer, Question
from knollside.core.job.questions.fits import Correct
from knollside.core.job.questions.orientation import Supports
from knollside.core.job.questions.part import Part
from knollside.core.job.questions.recipe import PriceOf
from knollside.core.lay.supports import held
from knollside.core.model import Mesh, PrinterFacts, Range, Recipe, Refused, rotation_to_up
from knollside.core.recipe.price import Price
from knollside.core.run.footprint import footprint
from knollside.core.run.packing import Item, Placed, Spacing, Turns, pack
from knollside.core.run.sequence import Cost, Head, Standing, at_once, in_some_order, one_by_one, order_of
from knollside.core.run.square import Frame, printed_true


@dataclass(frozen=True)
class Taken:
    """What one copy takes: its outline from above (supports and brim included) in the frame of the lying ``mesh``, its
    height mm and layers, grams with supports, hours, the brim's width mm, in words what was left as drawn, and its
    ``pace``: the share of its time that is over at even steps of its height."""

    outline: BaseGeometry
    mesh: Mesh
    height: float
    layers: int
    grams: float
    hours: Range
    brim: float
    as_drawn: tuple[str, ...] = ()
    pace: tuple[float, ...] = ()


@dataclass(frozen=True, eq=False)
class TakenBy(Question[Taken]):
    """What a part takes of a bed the way it is stated to lie; corrected where ``made`` says how, and changed so
    that a ``frame`` that is off prints it true."""

    part: Part
    supports: Supports
    price: PriceOf
    made: Correct | None
    frame: Frame | None = None
    kept: ClassVar[int] = 60

    def answer(self, ask: Answerer) -> Taken:
        as_drawn: tuple[str, ...] = ()
        mesh = ask(self.part).changeable()
        if self.made is not None:
            edited = ask(self.made)
            mesh, as_drawn = edited.mesh, (*ask(self.made.fits).refused, *(why for _, why in edited.refused))
        found = ask(self.supports, 0.0, 0.8)
        lying = laid(mesh, self.supports.direction)
        if self.frame is not None:
            lying, _ = printed_true(lying, self.frame)
        under = [r for r in found.regions if held(r, self.supports.support_settings)]
        price = ask(self.price, 0.8, 0.95)
        brim = found.bed.width if found.bed.kind == "brim" else 0.0
        grams = price.grams + sum(r.grams for r in under)
        more = sum(r.minutes for r in under) / 60
        h = price.hours
        hours = Range(h.value + more, h.low + more, h.high + more, h.source)
        low, high = mesh.turned(rotation_to_up(self.supports.direction)).bounds
        # Supports are told about the part's own origin, a lying part about its middle.
        by = -(low[0] + high[0]) / 2, -(low[1] + high[1]) / 2
        outline = footprint(lying, brim, [shapely.affinity.translate(r.outline, *by) for r in under])
        return Taken(outline, lying, float(lying.size[2]), found.layers, grams, hours, brim, as_drawn, _pace(price))


def _pace(price: Price, steps: int = 40) -> tuple[float, ...]:
    seconds = np.r_[0.0, np.cumsum(price.layer_seconds)]
    at = np.interp(np.linspace(0, len(seconds) - 1, steps + 1), np.arange(len(seconds)), seconds / seconds[-1])
    return tuple(float(v) for v in at)


@dataclass(frozen=True)
class Wanted:
    """Copies of a part in a run, by their numbers: ``key`` names it; ``filament`` is material and colour; ``printer``
    is the one it is laid for."""

    key: str
    title: str
    taken: TakenBy
    recipe: Recipe
    printer: PrinterFacts
    filament: str
    copies: tuple[int, ...]
    turns: Turns = Turns.QUARTER


@dataclass(frozen=True)
class Plate:
    """One plate: what lies where, in which order where it is one after another, its cost either way; ``why`` it cannot
    be printed one after another, where it cannot; ``bound`` to its printer, by which something on it was corrected;
    the ``spool`` and the printer (``only``) that the person tied it to."""

    key: str
    title: str
    printer: PrinterFacts
    filament: str
    recipe: Recipe
    placed: tuple[Placed, ...]
    standing: tuple[Standing, ...]
    order: tuple[int, ...] | None
    why: str
    together: Cost
    single: Cost
    hours: Range
    grams: float
    bound: bool = False
    spool: str = ""
    only: str = ""


@dataclass(frozen=True)
class Tie:
    """What was said of the plate that holds most of these ``pieces``, (part's key, copy): its name, its spool's key,
    its printer."""

    pieces: tuple[tuple[str, int], ...]
    name: str = ""
    spool: str = ""
    printer: str = ""

    def holds(self, placed: Sequence[Placed]) -> bool:
        """Whether it speaks of the plate with these pieces: more than half of either is of both."""
        both = len({(p.item.part, p.item.copy) for p in placed} & set(self.pieces))
        return 2 * both > len(placed) and 2 * both > len(self.pieces)


@dataclass(frozen=True)
class Laid:
    """The plates of a run; ``left`` in words what fits no bed or cannot be printed, ``as_drawn`` which corrections
    could not be made."""

    plates: tuple[Plate, ...]
    left: tuple[str, ...]
    as_drawn: tuple[str, ...] = ()


def group_of(w: Wanted) -> tuple[object, ...]:
    """What parts must have alike to share a plate: printer, filament, and all that holds for a whole print."""
    r = w.recipe
    return w.printer.name, w.filament, r.layer_height, r.first_layer, r.nozzle_c, r.fan


@dataclass(frozen=True, eq=False)
class Plates(Question[Laid]):
    """All copies packed, each group of parts that may share plates by itself. ``one_after_another``: laid out so that
    the head passes. ``locked``: copies that stay where they are: (part's key, copy, plate of its group, x, y, angle).
    ``heads`` by the printer's name (a typical one for others); ``ties``: what was said of single plates."""

    wanted: tuple[Wanted, ...]
    spacing: Spacing
    heads: tuple[tuple[str, Head], ...]
    one_after_another: bool
    locked: tuple[tuple[str, int, int, float, float, float], ...] = ()
    ties: tuple[Tie, ...] = ()

    def head(self, printer: PrinterFacts) -> Head:
        return dict(self.heads).get(printer.name, Head())

    def answer(self, ask: Answerer) -> Laid:
        groups: dict[tuple[object, ...], list[Wanted]] = {}
        taken: dict[str, Taken] = {}
        plates: list[Plate] = []
        left: list[str] = []
        for i, w in enumerate(self.wanted):
            # One part that cannot be printed as it is stops none of the others.
            try:
                taken[w.key] = ask(w.taken, 0.7 * i / len(self.wanted), 0.7 * (i + 1) / len(self.wanted))
            except Refused as refusal:
                left.append(f"{w.title}: {refusal}")
                continue
            groups.setdefault(group_of(w), []).append(w)
        for i, group in enumerate(groups.values()):
            ask.tick(0.7 + 0.3 * i / len(groups), f"laying out {group[0].filament}")
            made, words = self._group(i, group, taken)
            plates += made
            left += words
        as_drawn = (f"{w.title}: {words}" for w in self.wanted if w.key in taken for words in taken[w.key].as_drawn)
        return Laid(tuple(plates), tuple(left), tuple(as_drawn))

    def _group(self, which: int, group: list[Wanted], taken: dict[str, Taken]) -> tuple[list[Plate], list[str]]:
        printer = group[0].printer
        bed = printer.bed_mm[0], printer.bed_mm[1]
        left = [
            f"{w.title} is {taken[w.key].height:.0f} mm high; {printer.name} prints {printer.bed_mm[2]:.0f}."
            for w in group
            if taken[w.key].height > printer.bed_mm[2]
        ]
        items: list[Item] = []
        for w in group:
            if taken[w.key].height > printer.bed_mm[2]:
                continue
            try:
                one = Item(w.key, w.title, taken[w.key].outline, w.turns)
                pack([one], bed, Spacing(0.0, self.spacing.edge))
            except Refused as refusal:
                left.append(str(refusal))
                continue
            tall = self.one_after_another and taken[w.key].height > self.head(printer).bar
            items += [Item(f"{w.key}/{k}", w.title, one.shape, w.turns, tall) for k in w.copies]
        if not items:
            return [], left
        by_key = {i.key: i for i in items}
        held = [
            Placed(by_key[f"{key}/{copy}"], plate, x, y, angle, True)
            for key, copy, plate, x, y, angle in self.locked
            if f"{key}/{copy}" in by_key
        ]
        free = [i for i in items if i.key not in {p.item.key for p in held}]
        wanted = {w.key: w for w in group}
        # A plate that lost all its pieces by hand is none; the others keep their numbers.
        there = [(k, on) for k, on in enumerate(self._packed(free, held, printer, taken)) if on]
        return [self._plate(f"group-{which + 1}-{k + 1}", on, wanted, taken) for k, on in there], left

    def _packed(
        self, free: list[Item], held: list[Placed], printer: PrinterFacts, taken: dict[str, Taken]
    ) -> list[tuple[Placed, ...]]:
        """What lies on each plate. One after another, pieces that have no order on a plate go on more plates; what
        somebody put there stays, and is told."""
        head, bed = self.head(printer), (printer.bed_mm[0], printer.bed_mm[1])
        if not self.one_after_another:
            plain = pack(free, bed, Spacing(self.spacing.clearance, self.spacing.edge), held)
            return [plain.on(k) for k in range(plain.plates)]
        spacing = Spacing(self.spacing.clearance, self.spacing.edge, head.reach, min(head.front, head.back))
        packed = pack(free, bed, spacing, held)
        out: list[tuple[Placed, ...]] = []
        over: list[Item] = []
        for k in range(packed.plates):
            on, rest = in_some_order(_standing(packed.on(k), taken), head)
            out.append(tuple(s.placed for s in on))
            over += [s.placed.item for s in rest]
        if over:
            first = len(out)
            more = self._packed(over, [], printer, taken)
            out += [tuple(replace(p, plate=first + k) for p in on) for k, on in enumerate(more)]
        return out

    def _plate(self, key: str, placed: tuple[Placed, ...], wanted: dict[str, Wanted], taken: dict[str, Taken]) -> Plate:
        parts = [p.item.part for p in placed]
        standing = _standing(placed, taken)
        order, why = None, ""
        try:
            order = order_of(standing, self.head(wanted[parts[0]].printer))
        except Refused as refusal:
            why = str(refusal)
        first = wanted[parts[0]]
        tie = next((t for t in self.ties if t.holds(placed)), Tie(()))
        together, single = at_once(standing), one_by_one(standing)
        total = single.hours if self.one_after_another and order is not None else together.hours
        low, high = (sum(getattr(taken[o].hours, end) for o in parts) for end in ("low", "high"))
        plain = sum(taken[o].hours.value for o in parts)
        return Plate(
            key,
            tie.name or _title(placed),
            first.printer,
            first.filament,
            first.recipe,
            placed,
            standing,
            order,
            why,
            together,
            single,
            Range(total, total * low / plain, total * high / plain, first.taken.price.factor.source),
            float(np.sum([taken[o].grams for o in parts])),
            any(wanted[o].taken.made is not None or wanted[o].taken.frame is not None for o in parts),
            tie.spool,
            tie.printer,
        )


def _standing(placed: Sequence[Placed], taken: dict[str, Taken]) -> tuple[Standing, ...]:
    told = [(p, taken[p.item.part]) for p in placed]
    return tuple(Standing(p, t.height, t.layers, t.hours.value, t.grams, t.pace) for p, t in told)


def _title(placed: tuple[Placed, ...]) -> str:
    """What is on it, in words: "4 union nuts, 2 clips"."""
    count: dict[str, int] = {}
    for p in placed:
        count[p.item.name] = count.get(p.item.name, 0) + 1
    return ", ".join(name if n == 1 else f"{n} × {name}" for name, n in count.items())
