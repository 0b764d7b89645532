"""Everything a finished job hands over: the turned, corrected mesh and its sheet."""

from __future__ import annotations

import math
import os
import re
import tempfile
from dataclasses import dataclass
from pathlib import Path

from knollside.core.fit.correction import Correction
from knollside.core.job.answer import laid
from knollside.core.lay.orientations import RatedOrientation
from knollside.core.material.allowables import target_reserve, withheld
from knollside.core.material.cards import Material
from knollside.core.mesh.edit import Edited
from knollside.core.mesh.write import stl_bytes, threemf_bytes
from knollside.core.model import (
    DesignCase,
    Mesh,
    Orientation,
    PrinterFacts,
    Range,
    Recipe,
    Refused,
    SupportSettings,
)
from knollside.core.recipe.board import PlainPricer
from knollside.core.recipe.price import PrinterMotion
from knollside.core.run.preflight import cautions, preflight
from knollside.core.run.square import Frame, printed_true
from knollside.report.sheet import Sheet, sheet_html, sheet_pdf


@dataclass(frozen=True)
class SheetInputs:
    """All that a sheet says. ``reserve`` is one made from exactly these settings, or None, and ``said`` then tells why
    nothing is said about strength."""

    title: str
    job: str
    date: str
    corrections: tuple[Correction, ...]
    design_case: DesignCase
    recipe: Recipe
    card: Material
    direction: tuple[float, float, float]
    orientation_title: str
    reserve: Range | None
    said: str
    reasons: tuple[str, ...]
    printer: PrinterFacts
    spool_left: float | None
    factor: Range
    frame: Frame | None = None
    supports: SupportSettings | None = None


def make_sheet(told: SheetInputs, edited: Edited) -> Sheet:
    """Settings and reasons in words."""
    recipe, card, printer, direction = told.recipe, told.card, told.printer, told.direction
    # Priced as the window prices it: one number for one thing.
    cost = PlainPricer(edited.mesh, card, direction, PrinterMotion(), told.factor, recipe).price(recipe)
    height = float(laid(edited.mesh, direction).size[2])
    first = recipe.first_mm(printer.nozzle_mm)
    layers = 1 + max(math.ceil((height - first) / recipe.layer_height - 0.5), 0)
    settings = [
        ("Printer", f"{printer.name}, {printer.nozzle_mm:g} mm nozzle"),
        ("Material", card.name),
        ("Lies", f"{told.orientation_title}; the exported mesh is already turned"),
        ("First layer", f"{first:.2f} mm"),
        ("Layers", f"{recipe.layer_height:g} mm, {layers} of them, {height:.1f} mm high"),
        *_frame_words(edited.mesh, direction, told.frame),
        ("Walls", f"{recipe.walls}, lines {recipe.line_width:g} mm wide"),
        ("Tops and bottoms", f"{recipe.tops} and {recipe.bottoms}"),
        ("Infill", f"{recipe.infill * 100:.0f} % {recipe.pattern}" if recipe.infill else "none"),
        *_support_words(told.supports),
        ("Filament", f"about {cost.grams:.0f} g, without supports"),
        ("Hours", f"{cost.hours.words(1)} ({cost.hours.source})"),
    ]
    return Sheet(
        told.title,
        told.job,
        told.date,
        tuple(settings),
        (strength_words(told), *told.reasons),
        told.corrections,
        edited.changes,
        preflight(card, recipe, cost.grams, told.spool_left, height, printer.bed_mm[2]),
        cautions(card, told.design_case),
    )


def _support_words(s: SupportSettings | None) -> tuple[tuple[str, str], ...]:
    if s is None or s.preset == "none":
        return ()
    where = "everywhere below the limit" if s.preset == "all" else "only where it pays"
    roof = f"{s.interface} solid layers under the part" if s.interface else "no solid roof"
    return (("Supports", f"{where}, {s.gap_mm:.2f} mm under the part, {roof}, {100 * s.density:.0f} %"),)


def _frame_words(mesh: Mesh, direction: tuple[float, float, float], frame: Frame | None) -> tuple[tuple[str, str], ...]:
    if frame is None:
        return ()
    moved = lying_true(mesh, direction, frame)[1]
    off = "; ".join(frame.off) or "within its doubt"
    return (("Frame", f"{off}: taken out of the mesh, its farthest corner by {moved:.2f} mm; for this printer only"),)


def reasons_of(orientation: Orientation | None, rated: RatedOrientation | None) -> tuple[str, ...]:
    """Why it lies as it does: the person's own reason, then what was worked out of that way."""
    own = (f"Your reason: {orientation.reason}",) if orientation is not None and orientation.reason else ()
    return own if rated is None else (*own, *(words for words in (rated.reason, rated.gives_up) if words))


def strength_words(told: SheetInputs) -> str:
    """What the sheet says of strength: no verdict where none may be given, and none from other settings."""
    held_back = withheld(told.design_case)
    if held_back:
        return held_back
    r, need = told.reserve, target_reserve(told.design_case)
    if r is None:
        return told.said or "No loads were stated; nothing is said about strength."
    sure = "holds" if r.low >= need else "does not surely hold" if r.high >= need else "does not hold"
    words = f"Reserve {r.value:.1f} ({r.low:.1f} to {r.high:.1f}) where {need:.0f} is needed: it {sure}."
    return f"{words} {told.said}".strip()


def file_name(title: str) -> str:
    """A title as a file's name without its ending."""
    return re.sub(r"[^\w.-]+", "-", title).strip("-.") or "part"


def lying_true(mesh: Mesh, direction: tuple[float, float, float], frame: Frame | None) -> tuple[Mesh, float]:
    """The mesh as it lies, changed so that the printer's ``frame`` prints it true; and how far its farthest corner
    moved for that, mm."""
    turned = laid(mesh, direction)
    return (turned, 0.0) if frame is None else printed_true(turned, frame)


def write_all(
    folder: Path,
    stem: str,
    edited: Edited,
    direction: tuple[float, float, float],
    sheet: Sheet,
    frame: Frame | None = None,
) -> list[Path]:
    """Write 3MF, STL, HTML and PDF. A file appears whole or not at all; raises :class:`Refused`."""
    turned, _ = lying_true(edited.mesh, direction, frame)
    stem = file_name(stem)
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
