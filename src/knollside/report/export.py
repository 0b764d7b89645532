"""Everything a finished job hands over: the turned, corrected mesh and its sheet."""

from __future__ import annotations

import os
import re
import tempfile
from pathlib import Path

from knollside.core.build.price import Pace
from knollside.core.fit.correction import Correction
from knollside.core.job.answer import PartFacts, laid, price_of
from knollside.core.job.file import PrinterFacts
from knollside.core.material.allowables import target_reserve, withheld
from knollside.core.material.cards import Material
from knollside.core.mesh.edit import Edited
from knollside.core.mesh.write import stl_bytes, threemf_bytes
from knollside.core.model import Duty, Range, Recipe, Refused
from knollside.core.run.preflight import cautions, preflight
from knollside.report.sheet import Sheet, sheet_html, sheet_pdf


def make_sheet(
    title: str,
    job: str,
    date: str,
    part: PartFacts,
    edited: Edited,
    found: tuple[Correction, ...],
    duty: Duty,
    recipe: Recipe,
    card: Material,
    direction: tuple[float, float, float],
    way_title: str,
    reserve: Range | None,
    reasons: tuple[str, ...],
    printer: PrinterFacts,
    spool_left: float | None,
    factor: Range,
) -> Sheet:
    """Settings and reasons in words."""
    cost = price_of(edited.mesh, direction, recipe, card, Pace(), factor)
    height = float(laid(edited.mesh, direction).size[2])
    settings = [
        ("Printer", f"{printer.name}, {printer.nozzle_mm:g} mm nozzle"),
        ("Material", card.name),
        ("Lies", f"{way_title}; the exported mesh is already turned"),
        ("Layers", f"{recipe.layer_height:g} mm, {round(height / recipe.layer_height)} of them, {height:.1f} mm high"),
        ("Walls", f"{recipe.walls}, lines {recipe.line_width:g} mm wide"),
        ("Tops and bottoms", f"{recipe.tops} and {recipe.bottoms}"),
        ("Infill", f"{recipe.infill * 100:.0f} % {recipe.pattern}" if recipe.infill else "none"),
        ("Filament", f"about {cost.grams:.0f} g, without supports"),
        ("Hours", f"{cost.hours.low:.1f} to {cost.hours.high:.1f} ({cost.hours.source})"),
    ]
    why = list(reasons)
    held_back = withheld(duty)
    if held_back:
        why.insert(0, held_back)
    elif reserve is not None:
        sure = "holds" if reserve.low >= target_reserve(duty) else "does not surely hold"
        why.insert(
            0,
            f"Reserve {reserve.value:.1f} ({reserve.low:.1f} to {reserve.high:.1f}) where "
            f"{target_reserve(duty):.0f} is needed: it {sure}.",
        )
    else:
        why.insert(0, "No loads were stated; nothing is said about strength.")
    return Sheet(
        title,
        job,
        date,
        tuple(settings),
        tuple(why),
        found,
        edited.changes,
        preflight(card, recipe, cost.grams, spool_left, height, printer.bed_mm[2]),
        cautions(card, duty),
    )


def write_all(
    folder: Path, stem: str, edited: Edited, direction: tuple[float, float, float], sheet: Sheet
) -> list[Path]:
    """Write 3MF, STL, HTML and PDF. A file appears whole or not at all; raises :class:`Refused`."""
    turned = laid(edited.mesh, direction)
    stem = re.sub(r"[^\w.-]+", "-", stem).strip("-.") or "part"
    contents = {
        f"{stem}.3mf": threemf_bytes(turned, sheet.title, dict(sheet.settings)),
        f"{stem}.stl": stl_bytes(turned, stem),
        f"{stem}-sheet.html": sheet_html(sheet).encode(),
        f"{stem}-sheet.pdf": sheet_pdf(sheet),
    }
    written = []
    for name, data in contents.items():
        written.append(write_whole(folder / name, data))
    return written


def write_whole(path: Path, data: bytes) -> Path:
    """Write beside, then rename, so that a full disk leaves no half file."""
    temporary = ""
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        handle, temporary = tempfile.mkstemp(dir=path.parent, prefix=".part-")
        with os.fdopen(handle, "wb") as out:
            out.write(data)
            out.flush()
            os.fsync(out.fileno())
        os.chmod(temporary, 0o644)
        os.replace(temporary, path)
    except OSError as error:
        if temporary:
            Path(temporary).unlink(missing_ok=True)
        raise Refused(f"{path.name} could not be written to {path.parent}: {error.strerror or error}.") from None
    return path
