"""Fits' change report: feature, from, to, why and how, volume foretold and found, and what stayed to the bit."""

from __future__ import annotations

from collections.abc import Callable

from knollside.core.fit.correction import Correction
from knollside.core.job.questions.fits import Changed
from knollside.core.mesh.edit import Edited
from knollside.gui.instruments.fitmarks import SectionMark
from knollside.gui.instruments.widgets import button, heading, label, row, rule
from knollside.gui.session import Seeing, Session
from knollside.gui.steps.page import Page, Same, line


class ChangePage(Seeing, Page):
    def __init__(self, session: Session, keep: Callable[[], None]) -> None:
        super().__init__()
        self.session, self._keep = session, keep

    def put(self, edited: Edited | None, rows: tuple[Correction, ...], report: Changed | None, old: bool) -> None:
        if not self.fresh((Same(edited), Same(report), rows, old)):
            return
        self.add(heading("Change report"))
        if edited is None:
            self.add(
                label(
                    "Nothing has been corrected yet. Correct the mesh, and each change is listed here.",
                    dim=True,
                    wrap=True,
                )
            )
            return
        if old:
            self.add(label("Old: sizes or readings changed since; correct again.", 13, 600, wrap=True))
        why = {c.feature: c for c in rows}
        for c in edited.changes:
            f = self.view.facts.feature(c.feature) if self.view.facts is not None else None
            kind = "pin" if f is not None and f.kind == "pin" else "hole"
            title = f.title if f is not None else c.feature
            self.add(
                row(
                    SectionMark(kind),
                    label(title, 14, 600),
                    label(f"{c.from_mm:.2f} › {c.to_mm:.2f}", 15, 700),
                    stretch=1,
                )
            )
            to = why.get(c.feature)
            reason = f"For {to.target.words}; shift {to.shift.value:+.2f} mm, {to.source}. " if to is not None else ""
            moved = f"{c.moved} corners moved" if c.moved else c.how
            if c.along is not None:
                moved += f", its length now {c.along:.2f} mm"
            volume = f"volume {c.volume_found:+.1f} mm³, {c.volume_predicted:+.1f} foretold"
            self.add(label(f"{reason}{moved[:1].upper()}{moved[1:]}; {volume}.", dim=True, wrap=True))
        for name, reason in edited.refused:
            f = self.view.facts.feature(name) if self.view.facts is not None else None
            kind = "pin" if f is not None and f.kind == "pin" else "hole"
            whose = label(f.title if f is not None else name, 14, 600)
            self.add(row(SectionMark(kind), whose, label("as drawn", 15, 700), stretch=1))
            self.add(label(reason, dim=True, wrap=True))
        if not edited.changes and not edited.refused:
            self.add(label("Every chosen place is as it should be; nothing was moved.", dim=True, wrap=True))
        self.add(rule())
        if report is not None:
            gone = report.corners - report.same
            self.add(
                line(
                    "Corners exactly as they were",
                    f"{report.same:,}",
                    f"of {report.corners:,}; {gone:,} were on a corrected wall",
                ),
            )
            if report.lettering:
                under = "not one was touched" if report.lettering == report.lettering_same else "some were moved"
                self.add(line("Lettering", f"{report.lettering_same:,} of {report.lettering:,}", under))
            self.add(line("Volume", f"{report.volume:+.1f} mm³", "closed, same bodies, checked after the change"))
        keep = button("Keep as a new revision", self._keep, main=True)
        keep.setEnabled(not old)
        self.add(row(keep, stretch=-2))
