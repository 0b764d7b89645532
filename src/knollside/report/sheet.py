"""The job sheet: settings, reasons, cautions and the list before the print, as HTML and PDF."""

from __future__ import annotations

from dataclasses import dataclass
from html import escape
from pathlib import Path

from knollside.core.fit.correction import Correction
from knollside.core.mesh.edit import Change
from knollside.core.run.preflight import Caution, Check

_DPI = 300
_application: object = None  # kept alive: one that is let go takes its fonts with it


@dataclass(frozen=True)
class Sheet:
    """What goes on the sheet, already in words and numbers with their doubts."""

    title: str
    job: str
    date: str
    settings: tuple[tuple[str, str], ...]
    reasons: tuple[str, ...]
    corrections: tuple[Correction, ...]
    changes: tuple[Change, ...]
    checks: tuple[Check, ...]
    cautions: tuple[Caution, ...]


# What a browser lays out besides; on paper the sheet itself is the margin.
_ON_SCREEN = "body {background:#FBF9F2; max-width:46em; margin:2em auto; padding:0 1em; line-height:1.45}"


def sheet_html(s: Sheet, more_style: str = _ON_SCREEN) -> str:
    """A page of its own that needs nothing else."""
    rows = "".join(f"<tr><th>{escape(a)}</th><td>{escape(b)}</td></tr>" for a, b in s.settings)
    why = "".join(f"<p>{escape(r)}</p>" for r in s.reasons)
    moved = "".join(
        f"<tr><td>{escape(c.feature)}</td><td>{c.from_mm:.2f}</td><td>{c.to_mm:.2f}</td>"
        f"<td>{c.low:.2f} to {c.high:.2f}</td><td>{escape(c.target.words)}</td><td>{escape(c.source)}</td></tr>"
        for c in s.corrections
    )
    table = (
        ""
        if not moved
        else "<h2>Holes and pins, drawn diameter</h2><table><tr><th>place</th><th>from mm</th>"
        f"<th>to mm</th><th>doubt</th><th>for</th><th>source</th></tr>{moved}</table>"
        f"<p>{len(s.changes)} of them changed in the mesh; every other corner is where it was.</p>"
    )
    ticks = "".join(f"<p>&#9744; {escape(c.text)} <span>{escape(c.detail)}</span></p>" for c in s.checks)
    care = "".join(f"<p><b>{escape(c.title)}.</b> {escape(c.text)}</p>" for c in s.cautions)
    return f"""<!DOCTYPE html>
<html lang="en"><head><meta charset="utf-8"><title>{escape(s.title)}</title><style>
body, p, td, th {{font-family:"Atkinson Hyperlegible Next",sans-serif; font-size:10pt; color:#2A2520}}
p {{margin:2px 0}} h1 {{font-size:18pt; margin:0}} h2 {{font-size:12pt; margin:10px 0 3px 0}} span {{color:#66604F}}
table {{border-collapse:collapse}} th, td {{text-align:left; padding:2px 14px 2px 0; border-bottom:1px solid #DAD4C3}}
.care {{background:#F3E8CB; padding:8px 12px; margin-top:12px}} .care h2 {{margin-top:0}}
{more_style}
</style></head><body><h1>{escape(s.title)}</h1><p>{escape(s.job)}, {escape(s.date)}</p>
<h2>Set this</h2><table>{rows}</table><h2>Why</h2>{why}{table}
<h2>Before the print</h2>{ticks}<div class="care"><h2>Care</h2>{care}</div>
</body></html>
"""


def sheet_pdf(s: Sheet) -> bytes:
    """The very same page as a PDF on A4 sheets."""
    return page_pdf(s.title, sheet_html(s, ""))


def page_pdf(title: str, html: str) -> bytes:
    """A page of HTML as a PDF on A4 sheets."""
    from PyQt6.QtCore import QBuffer, QIODevice, QMarginsF
    from PyQt6.QtGui import QFont, QPageLayout, QPageSize, QPdfWriter, QTextDocument

    _a_page_can_be_set()
    made = QBuffer()
    made.open(QIODevice.OpenModeFlag.WriteOnly)
    writer = QPdfWriter(made)
    writer.setTitle(title)
    writer.setCreator("Knollside")
    writer.setResolution(_DPI)
    margins = QMarginsF(18, 16, 18, 16)
    writer.setPageLayout(
        QPageLayout(
            QPageSize(QPageSize.PageSizeId.A4), QPageLayout.Orientation.Portrait, margins, QPageLayout.Unit.Millimeter
        )
    )
    page = QTextDocument()
    page.documentLayout().setPaintDevice(writer)  # type: ignore[union-attr]
    page.setDocumentMargin(0)
    # Not the window's own font: its even digits are glyphs that a PDF cannot be searched for.
    page.setDefaultFont(QFont("Atkinson Hyperlegible Next", 10))
    page.setHtml(html)
    page.setPageSize(writer.pageLayout().paintRectPixels(_DPI).size().toSizeF())
    page.print(writer)
    made.close()
    return made.data().data()


def _a_page_can_be_set() -> None:
    """Text is set by the same means as in a window; a worker or a command has none yet, and needs no screen."""
    global _application
    from PyQt6.QtGui import QFontDatabase, QGuiApplication

    if QGuiApplication.instance() is None:
        _application = QGuiApplication(["knollside", "-platform", "offscreen"])
    if "Atkinson Hyperlegible Next" not in QFontDatabase.families():
        for font in (Path(__file__).parent.parent / "gui/theme/fonts").glob("*.[to]tf"):
            QFontDatabase.addApplicationFont(str(font))
