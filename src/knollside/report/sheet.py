"""The job sheet: settings, reasons, cautions and the list before the print, as HTML and PDF."""

from __future__ import annotations

import io
from dataclasses import dataclass
from html import escape

from knollside.core.fit.correction import Correction
from knollside.core.mesh.edit import Change
from knollside.core.run.preflight import Caution, Check


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


def sheet_html(s: Sheet) -> str:
    """A page of its own that needs nothing else."""
    rows = "".join(f"<tr><th>{escape(a)}</th><td>{escape(b)}</td></tr>" for a, b in s.settings)
    why = "".join(f"<li>{escape(r)}</li>" for r in s.reasons)
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
    ticks = "".join(f"<li>&#9744; {escape(c.text)} <small>{escape(c.detail)}</small></li>" for c in s.checks)
    care = "".join(f"<li><b>{escape(c.title)}.</b> {escape(c.text)}</li>" for c in s.cautions)
    return f"""<!DOCTYPE html>
<html lang="en"><head><meta charset="utf-8"><title>{escape(s.title)}</title><style>
body{{font:15px/1.45 "Atkinson Hyperlegible Next",sans-serif;color:#2A2520;background:#FBF9F2;max-width:46em;margin:2em auto;padding:0 1em}}
h1{{font-size:1.6em;margin:0}} h2{{font-size:1.1em;border-bottom:1px solid #C6BEA9;margin-top:1.4em}}
table{{border-collapse:collapse}} th,td{{text-align:left;padding:.2em 1em .2em 0;border-bottom:1px solid #DAD4C3;vertical-align:top}}
.care{{background:#F3E8CB;padding:.6em 1em}} ul{{padding-left:1.2em}} .plain{{list-style:none;padding:0}}
</style></head><body><h1>{escape(s.title)}</h1><p>{escape(s.job)}, {escape(s.date)}</p>
<h2>Set this</h2><table>{rows}</table><h2>Why</h2><ul>{why}</ul>{table}
<h2>Before the print</h2><ul class="plain">{ticks}</ul><div class="care"><h2>Care</h2><ul>{care}</ul></div>
</body></html>
"""


def sheet_pdf(s: Sheet) -> bytes:
    """The same sheet as a PDF of one or two A4 pages."""
    from reportlab.lib import colors
    from reportlab.lib.pagesizes import A4
    from reportlab.lib.styles import ParagraphStyle, getSampleStyleSheet
    from reportlab.lib.units import mm
    from reportlab.platypus import Paragraph, SimpleDocTemplate, Spacer, Table, TableStyle

    styles = getSampleStyleSheet()
    body = ParagraphStyle("body", parent=styles["BodyText"], fontSize=10, leading=13)
    head = ParagraphStyle("head", parent=styles["Heading2"], fontSize=12, spaceBefore=8, spaceAfter=3)
    rule = TableStyle(
        [
            ("LINEBELOW", (0, 0), (-1, -1), 0.4, colors.HexColor("#C6BEA9")),
            ("VALIGN", (0, 0), (-1, -1), "TOP"),
            ("LEFTPADDING", (0, 0), (-1, -1), 0),
        ]
    )

    def cells(rows: list[tuple[str, ...]], widths: list[float]) -> Table:
        return Table(
            [[Paragraph(escape(c), body) for c in r] for r in rows], colWidths=[w * mm for w in widths], style=rule
        )

    story: list = [
        Paragraph(escape(s.title), styles["Title"]),
        Paragraph(escape(f"{s.job}, {s.date}"), body),
        Paragraph("Set this", head),
        cells(list(s.settings), [45, 125]),
        Paragraph("Why", head),
    ]
    story += [Paragraph("- " + escape(r), body) for r in s.reasons]
    if s.corrections:
        rows: list[tuple[str, ...]] = [("place", "from mm", "to mm", "doubt", "for", "source")]
        rows += [
            (c.feature, f"{c.from_mm:.2f}", f"{c.to_mm:.2f}", f"{c.low:.2f} to {c.high:.2f}", c.target.words, c.source)
            for c in s.corrections
        ]
        story += [Paragraph("Holes and pins, drawn diameter", head), cells(rows, [22, 20, 20, 35, 48, 25])]
    story.append(Paragraph("Before the print", head))
    story += [
        Paragraph("[ &nbsp; ] " + escape(c.text + (f" ({c.detail})" if c.detail else "")), body) for c in s.checks
    ]
    story.append(Paragraph("Care", head))
    story += [Paragraph(f"<b>{escape(c.title)}.</b> {escape(c.text)}", body) for c in s.cautions]
    story.append(Spacer(1, 4))
    out = io.BytesIO()
    SimpleDocTemplate(
        out,
        pagesize=A4,
        title=s.title,
        author="Knollside",
        leftMargin=18 * mm,
        rightMargin=18 * mm,
        topMargin=16 * mm,
        bottomMargin=16 * mm,
        invariant=1,
    ).build(story)
    return out.getvalue()
