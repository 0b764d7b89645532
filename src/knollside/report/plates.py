"""A plate handed over: one 3MF with every copy where it lies, and a page with the plate's picture."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from html import escape
from pathlib import Path

import numpy as np
import shapely
import shapely.affinity

from knollside.core.job.questions.plates import Laid, Plate, Plates, Taken
from knollside.core.mesh.write import BuildItem, threemf_of
from knollside.core.run.packing import Placed
from knollside.report.export import file_name, write_whole

_STYLE = """
body, p, td, th {font-family:"Atkinson Hyperlegible Next",sans-serif; font-size:10pt; color:#2A2520}
body {background:#FBF9F2; max-width:46em; margin:2em auto; padding:0 1em; line-height:1.45}
h1 {font-size:18pt; margin:0} table {border-collapse:collapse}
th, td {text-align:left; padding:2px 14px 2px 0; border-bottom:1px solid #DAD4C3}
svg {width:100%; max-height:34em; background:#EAE4D3}
.care {background:#F3E8CB; padding:8px 12px; margin-top:12px}
"""


def item_of(placed: Placed, number: int, taken: Taken) -> BuildItem:
    """Where a lying mesh goes so that its outline lies as it was packed."""
    a = np.radians(placed.angle)
    turn = np.array([[np.cos(a), -np.sin(a), 0.0], [np.sin(a), np.cos(a), 0.0], [0.0, 0.0, 1.0]])
    low_x, low_y = shapely.affinity.rotate(placed.item.shape, placed.angle, origin=(0, 0)).bounds[:2]
    return BuildItem(number, np.round(turn, 12), (placed.x - low_x, placed.y - low_y, 0.0))


def plate_3mf(plate: Plate, taken: Mapping[str, Taken], titles: Mapping[str, str]) -> bytes:
    """The plate as 3MF core, its front left corner at nought; ``taken`` and ``titles`` by the part's key."""
    keys = list(dict.fromkeys(p.item.part for p in plate.placed))
    items = [item_of(p, keys.index(p.item.part), taken[p.item.part]) for p in plate.placed]
    facts = {"Filament": plate.filament, "Printer": plate.printer.name}
    return threemf_of([(taken[k].mesh, titles[k]) for k in keys], items, plate.title, facts)


def plate_svg(plate: Plate) -> str:
    """The plate from above, front down, mm."""
    wide, high, _ = plate.printer.bed_mm
    out = [
        f'<svg viewBox="-4 -4 {wide + 8:g} {high + 8:g}" xmlns="http://www.w3.org/2000/svg">'
        f'<rect width="{wide:g}" height="{high:g}" fill="#FBF9F2" stroke="#8B8069"/>'
    ]
    for p in plate.placed:
        for part in shapely.get_parts(p.shape):
            rings = [part.exterior, *part.interiors]
            path = " ".join(
                "M" + " ".join(f"{x:.1f},{high - y:.1f}" for x, y in np.asarray(r.coords)[:, :2]) + "Z" for r in rings
            )
            out.append(f'<path d="{path}" fill="#DAD4C3" stroke="#2A2520" stroke-width="0.6" fill-rule="evenodd"/>')
        at = shapely.point_on_surface(p.shape)
        out.append(
            f'<text x="{at.x:.1f}" y="{high - at.y:.1f}" font-size="5" text-anchor="middle">'
            f"{escape(p.item.name)}</text>"
        )
    return "".join([*out, "</svg>"])


def plate_html(plate: Plate, number: int, one_after_another: bool) -> str:
    """A page of its own that needs nothing else."""
    r, cost = plate.recipe, plate.single if one_after_another else plate.together
    rows = [
        ("On it", plate.title),
        ("Printer", f"{plate.printer.name}, {plate.printer.nozzle_mm:g} mm nozzle"),
        ("Filament", f"{plate.filament}, about {plate.grams:.0f} g with supports"),
        ("Layers", f"{r.layer_height:g} mm, the first {r.first_mm(plate.printer.nozzle_mm):.2f} mm"),
        ("Hours", f"{plate.hours.words(1)} ({plate.hours.source})"),
        ("Printed", "one after another" if one_after_another else "all at once"),
    ]
    if one_after_another and plate.order is not None:
        rows.append(("In this order", ", ".join(plate.placed[k].item.name for k in plate.order)))
    melt = ""
    if cost.melt:
        melt = f"<p>Layers of {escape(', '.join(cost.melt))} are laid too quick to set: give them company.</p>"
    table = "".join(f"<tr><th>{escape(a)}</th><td>{escape(b)}</td></tr>" for a, b in rows)
    care = (
        "Someone in and awake until it ends; smoke alarm tested. Walls, infill and supports of each part are on its "
        "own sheet. Not for climbing, lifting people, vehicles, gas, mains or medical use; local rules come first."
    )
    return (
        f'<!DOCTYPE html><html lang="en"><head><meta charset="utf-8"><title>Plate {number}</title>'
        f"<style>{_STYLE}</style>"
        f"</head><body><h1>Plate {number}: {escape(plate.title)}</h1><table>{table}</table>{melt}{plate_svg(plate)}"
        f'<div class="care">{care}</div></body></html>'
    )


@dataclass(frozen=True)
class WrittenPlates:
    """``files`` that were written, and in words which plates were not, and why."""

    files: tuple[Path, ...]
    left: tuple[str, ...]


def write_plates(
    folder: Path,
    plates: Plates,
    laid: Laid,
    taken: Mapping[str, Taken],
    titles: Mapping[str, str],
    tick: Callable[[float], None] = lambda share: None,
) -> WrittenPlates:
    """Every plate that can be printed as it was asked for; one that cannot stops none of the others. Raises
    :class:`Refused` where a file cannot be written."""
    files: list[Path] = []
    left: list[str] = []
    for k, plate in enumerate(laid.plates):
        tick(k / len(laid.plates))
        if plates.one_after_another and plate.order is None:
            left.append(f"Plate {k + 1} is not written: {plate.why}")
        else:
            files += _write_plate(folder, plate, k + 1, taken, titles, plates.one_after_another)
    return WrittenPlates(tuple(files), tuple(left))


def _write_plate(
    folder: Path,
    plate: Plate,
    number: int,
    taken: Mapping[str, Taken],
    titles: Mapping[str, str],
    one_after_another: bool,
) -> tuple[Path, ...]:
    """The plate's 3MF and its page; raises :class:`Refused` where they cannot be written."""
    name = f"plate-{number}-{file_name(plate.title)[:40]}"
    files = folder / f"{name}.3mf", folder / f"{name}.html"
    write_whole(files[0], plate_3mf(plate, taken, titles))
    write_whole(files[1], plate_html(plate, number, one_after_another).encode())
    return files
