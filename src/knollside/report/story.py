"""A part's whole story: revisions, prints with their photos, what went wrong, broke and was measured; HTML or PDF."""

from __future__ import annotations

import base64
from collections.abc import Sequence
from dataclasses import dataclass
from html import escape

from knollside.core.job.record import Kept, recipe_words

MOST_PRINTS = 500
_STYLE = """
body {font-family:"Atkinson Hyperlegible Next",sans-serif; font-size:10pt; color:#2A2520}
h1 {font-size:18pt; margin:0} h2 {font-size:12pt; margin:14px 0 3px 0; border-bottom:1px solid #DAD4C3}
p {margin:2px 0} table {border-collapse:collapse} th, td {text-align:left; padding:2px 14px 2px 0; vertical-align:top}
.dim {color:#66604F}
"""
_ON_SCREEN = "body {background:#FBF9F2; max-width:48em; margin:2em auto; padding:0 1em; line-height:1.45}"


@dataclass(frozen=True)
class Story:
    """What is told: ``revisions`` (number, when or nothing, note) and prints, the oldest first, with their ``photos``
    (thumbnails, JPEG) by number; ``more`` lines of what was tried and measured."""

    part: str
    job: str
    revisions: tuple[tuple[int, str], ...]
    prints: tuple[Kept, ...]
    photos: dict[int, tuple[bytes, ...]]
    more: tuple[str, ...] = ()


def story_html(s: Story, more_style: str = _ON_SCREEN) -> str:
    """A page of its own that needs nothing else. Of more than 500 prints the newest are told, and that is said."""
    shown = s.prints[-MOST_PRINTS:]
    left = len(s.prints) - len(shown)
    revisions = "".join(f"<p><b>{n}</b> {escape(note)}</p>" for n, note in s.revisions)
    begin = f"<p class='dim'>The first {left} prints are left out.</p>" if left else ""
    told = "".join(_print(k, s.photos.get(k.number, ())) for k in shown)
    more = "".join(f"<p>{escape(m)}</p>" for m in s.more)
    besides = f"<h2>Tried and measured</h2>{more}" if more else ""
    return f"""<!DOCTYPE html>
<html lang="en"><head><meta charset="utf-8"><title>{escape(s.part)}</title><style>{_STYLE}{more_style}</style></head>
<body><h1>{escape(s.part)}</h1><p>{escape(s.job)}</p><h2>Revisions</h2>{revisions}{begin}{told}{besides}</body></html>
"""


def _print(k: Kept, photos: Sequence[bytes]) -> str:
    p, d = k.printed, k.details
    when = f"{p.made:%d %b %Y}" if p.made is not None else "no day"
    rows = [("Printer", f"{k.printer}, {p.material}")]
    if d.revision is not None:
        rows.append(("Revision", f"{d.revision}"))
    if d.spool or d.lot:
        rows.append(("Spool", ", ".join(w for w in (d.spool, f"lot {d.lot}" if d.lot else "") if w)))
    if d.recipe is not None:
        rows.append(("Settings", ", ".join(f"{a} {b}" for a, b in recipe_words(d.recipe))))
    hours = [f"{h:g} h {w}" for h, w in ((p.estimate_hours, "foretold"), (p.actual_hours, "taken")) if h]
    grams = [f"{g:g} g {w}" for g, w in ((d.estimate_g, "foretold"), (d.actual_g, "taken")) if g]
    if hours or grams:
        rows.append(("Cost", ", ".join((*hours, *grams))))
    if d.judged:
        rows.append(("Judged", ", ".join(f"{a} {v}" for a, v in d.judged)))
    if p.broke is not None:
        load = f" at {p.broke.load_N:.0f} N" if p.broke.load_N else ""
        rows.append(("Broke", f"{p.broke.mode}{load}"))
    rows += [("Measured that day", m) for m in k.measured]
    rows += [("Went wrong", f) for f in k.faults]
    rows += [(a, w) for a, w in (("Why so", d.why), ("Change next", d.next)) if w]
    table = "".join(f"<tr><th>{escape(a)}</th><td>{escape(b)}</td></tr>" for a, b in rows)
    pictures = "".join(
        f"<img alt='a photo of the print' src='data:image/jpeg;base64,{base64.b64encode(t).decode()}'> " for t in photos
    )
    return f"<h2>{escape(when)}: {escape(p.outcome or 'printed')}</h2><table>{table}</table>{pictures}"


def story_pdf(s: Story) -> bytes:
    """The very same page as a PDF on A4 sheets."""
    from knollside.report.sheet import page_pdf

    return page_pdf(s.part, story_html(s, ""))
