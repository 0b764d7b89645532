"""The record of prints: what one was printed as, how two differ, the words it is found by, and tables of it."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Iterable
from dataclasses import dataclass

from knollside.core.job.file import Printed
from knollside.core.model import Measurement, Recipe
from knollside.core.model.prints import ASPECTS, PrintDetails


@dataclass(frozen=True)
class Kept:
    """A print with the names of what it belongs to, and in words what went wrong and was done about it, and what was
    measured of prints that day."""

    number: int
    part: str
    printer: str
    printed: Printed
    faults: tuple[str, ...] = ()
    measured: tuple[str, ...] = ()

    @property
    def details(self) -> PrintDetails:
        return self.printed.details or PrintDetails()


@dataclass(frozen=True)
class Difference:
    """One thing in which two prints differ; ``outcome``: something that came out, not something that was set."""

    what: str
    first: str
    second: str
    outcome: bool = False


def recipe_words(r: Recipe | None) -> tuple[tuple[str, str], ...]:
    """A recipe's settings by name, in words."""
    if r is None:
        return ()
    return (
        ("layers", f"{r.layer_height:g} mm"),
        ("walls", f"{r.walls}"),
        ("infill", f"{100 * r.infill:.0f} % {r.pattern}"),
        ("tops and bottoms", f"{r.tops} and {r.bottoms}"),
        ("line width", f"{r.line_width:g} mm"),
        ("nozzle", f"{r.nozzle_c:g} °C" if r.nozzle_c is not None else "usual heat"),
        ("fan", f"{100 * r.fan:.0f} %" if r.fan is not None else "usual fan"),
        ("first layer", f"{r.first_layer:g} mm" if r.first_layer is not None else "as advised"),
    )


def _set(k: Kept) -> dict[str, str]:
    d, p = k.details, k.printed
    lies = "" if d.direction is None else "({:.2f}, {:.2f}, {:.2f}) up".format(*d.direction)
    out = {
        "revision": "" if d.revision is None else f"{d.revision}",
        "printer": k.printer,
        "material": p.material,
        "spool": d.spool,
        "lot": d.lot,
        "plate": d.plate,
        "lies": lies,
    }
    return out | dict(recipe_words(d.recipe))


def _came(k: Kept) -> dict[str, str]:
    d, p = k.details, k.printed
    broke = ""
    if p.broke is not None:
        load = f" at {p.broke.load_N:.0f} N" if p.broke.load_N else ""
        broke = f"{p.broke.mode}{load}"
    return {
        "came out": p.outcome,
        "hours": f"{p.actual_hours:g}" if p.actual_hours else "",
        "grams": f"{d.actual_g:g}" if d.actual_g else "",
        "broke": broke,
        "went wrong": "; ".join(k.faults),
        "measured": "; ".join(k.measured),
        **dict(d.judged),
    }


def measured_words(readings: Iterable[Measurement]) -> tuple[str, ...]:
    """Readings by what was measured, as "upright hole 5.3: 5.12, 5.10 mm"."""
    by: dict[tuple[str, str, float], list[float]] = {}
    for m in readings:
        if not m.left_out:
            by.setdefault((m.kind, m.axis, m.drawn), []).append(m.printed)
    out = []
    for (kind, axis, drawn), printed in sorted(by.items()):
        what = "outside" if kind == "pin" else kind
        told = ", ".join(f"{p:.2f}" for p in printed[:8])
        more = f" and {len(printed) - 8} more" if len(printed) > 8 else ""
        out.append(f"{axis} {what} {drawn:g}: {told}{more} mm")
    return tuple(out)


def differences(a: Kept, b: Kept) -> tuple[Difference, ...]:
    """What differed between two prints: what was set first, then what came out. What one says nothing of is left out
    where both say nothing, and shown as unknown where one does."""
    out = []
    for told, outcome in ((_set, False), (_came, True)):
        first, second = told(a), told(b)
        for what in dict.fromkeys((*first, *second)):
            one, two = first.get(what, ""), second.get(what, "")
            if one != two:
                nothing = "nothing said" if outcome else "not known"
                out.append(Difference(what, one or nothing, two or nothing, outcome))
    return tuple(out)


def words_of(k: Kept) -> str:
    """All the words that a print is found by."""
    d, p = k.details, k.printed
    when = p.made.strftime("%Y-%m-%d %d %b %B %Y") if p.made is not None else ""
    told = (k.part, when, *_set(k).values(), *_came(k).values(), d.why, d.next)
    heat = f"{d.recipe.nozzle_c:g}" if d.recipe is not None and d.recipe.nozzle_c is not None else ""
    judged = " ".join(f"{a} {v}" for a, v in d.judged)
    return " ".join(w for w in (*told, heat, judged) if w)


_COLUMNS = (
    "made",
    "part",
    "revision",
    "printer",
    "material",
    "spool",
    "lot",
    "plate",
    "estimate_hours",
    "actual_hours",
    "estimate_g",
    "actual_g",
    "came_out",
    *ASPECTS,
    "layer_height_mm",
    "walls",
    "infill",
    "nozzle_c",
    "fan",
    "broke",
    "went_wrong",
    "why",
    "next",
)


def _row(k: Kept) -> dict[str, object]:
    d, p = k.details, k.printed
    r = d.recipe
    out: dict[str, object] = {
        "made": p.made.isoformat(" ") if p.made is not None else "",
        "part": k.part,
        "printer": k.printer,
        "material": p.material,
        "estimate_hours": p.estimate_hours,
        "actual_hours": p.actual_hours,
        "came_out": p.outcome,
        "broke": _came(k)["broke"],
        "went_wrong": "; ".join(k.faults),
        "layer_height_mm": r.layer_height if r is not None else None,
        "walls": r.walls if r is not None else None,
        "infill": r.infill if r is not None else None,
        "nozzle_c": r.nozzle_c if r is not None else None,
        "fan": r.fan if r is not None else None,
    }
    same = ("revision", "spool", "lot", "plate", "estimate_g", "actual_g", *ASPECTS, "why", "next")
    return out | {name: getattr(d, name) for name in same}


def prints_csv(kept: Iterable[Kept]) -> str:
    """Prints as a table; cells that a spreadsheet would take for a formula get an apostrophe."""
    out = io.StringIO()
    writer = csv.DictWriter(out, _COLUMNS, lineterminator="\n")
    writer.writeheader()
    for k in kept:
        writer.writerow({name: _plain(v) for name, v in _row(k).items()})
    return out.getvalue()


def _plain(value: object) -> object:
    if isinstance(value, str) and value[:1] in ("=", "+", "-", "@", "\t", "\r"):
        return f"'{value}"
    return "" if value is None else value


def prints_json(kept: Iterable[Kept]) -> str:
    """Prints as JSON: every record as it is stored, with the names of part and printer."""
    told = [
        {"part": k.part, "printer": k.printer, "faults": list(k.faults)}
        | k.printed.model_dump(mode="json", exclude_defaults=True)
        for k in kept
    ]
    return json.dumps({"prints": told}, indent=1) + "\n"
