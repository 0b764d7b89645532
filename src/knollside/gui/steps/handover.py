"""What Run hands over: a part's files with their sheet, and the job as an open file; and what they rest on."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import date
from functools import partial
from pathlib import Path

from PyQt6.QtWidgets import QFileDialog, QWidget

from knollside.core.mesh.write import ply_bytes
from knollside.core.model import Range, Refused
from knollside.gui import nodes
from knollside.gui.fileasks import Export
from knollside.gui.session import Seeing, Session
from knollside.gui.worker import Outcome
from knollside.report.export import SheetInputs, reasons_of, write_whole
from knollside.store.jobs import job_of, write_job


@dataclass(frozen=True)
class _HandedOver:
    """Files of a part, the key of what they were made of, and why the last try wrote none."""

    files: tuple[Path, ...] = ()
    of: str = ""
    refused: str = ""


_NOTHING = _HandedOver()


class HandOver(Seeing):
    """The files of the open part. ``panel``: what a question for a folder belongs to."""

    def __init__(self, session: Session, panel: QWidget) -> None:
        self.session, self._panel = session, panel
        self._handed: dict[int, _HandedOver] = {}

    def ask_folder(self) -> None:
        folder = QFileDialog.getExistingDirectory(self._panel, "Write the files to")
        if folder:
            self.export_to(Path(folder))

    def _sheet(self) -> SheetInputs:
        """What the sheet says, from answers that are true of what is stored and from no others."""
        view, part = self.view, self.part
        fitting, orientation = view.get(nodes.FITS).fresh, view.chosen
        fresh = view.ranked.fresh is not None or not part.loaded
        reasons = reasons_of(part.orientation, orientation if fresh else None)
        corrected = view.get(nodes.CORRECT).fresh
        if (corrected is None or not corrected.changes) and fitting and fitting.corrections:
            reasons += ("The corrections below were not made in the mesh; make them at Fits first if you want them.",)
        reasons += tuple(f"Left as drawn: {why}" for why in self.not_corrected())
        reserve, said = self.strength()
        return SheetInputs(
            part.name,
            part.job,
            date.today().isoformat(),
            fitting.corrections if fitting else (),
            part.design_case,
            part.recipe,
            part.card,
            part.direction,
            orientation.title if orientation else "as drawn" if part.orientation is None else "the way that was chosen",
            reserve,
            said,
            reasons,
            part.printer,
            part.spool.grams_left if part.spool else None,
            part.factor,
            part.frame,
            part.support_settings if part.orientation is not None else None,
        )

    def not_corrected(self) -> tuple[str, ...]:
        """Why some of what was asked for is left as drawn."""
        corrected = self.view.get(nodes.CORRECT).fresh
        return tuple(why for _, why in corrected.refused) if corrected is not None else ()

    def strength(self) -> tuple[Range | None, str]:
        """The reserve of exactly these settings: solved for the recipe, else rated with every way; else why none."""
        view, part = self.view, self.part
        if not part.loaded:
            return None, ""
        lost = view.lost_of_design_case()
        if lost:
            words = ", ".join(e.id.replace("-", " ") for e in lost)
            return None, f"Nothing is said about strength: what was said of {words} is not on this mesh any more."
        proved = view.get(nodes.PROVE)
        if proved.fresh is not None:
            return proved.fresh.solved, "Solved with this shell and core."
        if proved.refusal:
            return None, f"Nothing is said about strength: {proved.refusal}"
        orientation = view.chosen
        if view.ranked.fresh is not None and orientation is not None and view.grid is not None:
            return orientation.reserve, "An estimate, rated together with every other way; solve the recipe at Build."
        return None, "Nothing is said about strength: it was not worked out for these settings."

    def export_to(self, folder: Path) -> None:
        """Write 3MF, STL, HTML and PDF aside."""
        part = self.part
        if part.question is None or self.view.facts is None:
            return
        asked = Export(folder, part.name.lower(), part.question, nodes.made(self.view.inputs), self._sheet())
        self._handed[part.id] = replace(self.last, refused="")
        self.session.once("export", asked, partial(self._exported, part.id, self._state_key()))

    def _exported(self, part_id: int, of: str, outcome: Outcome) -> None:
        """``of`` is what the files were asked of: what was changed meanwhile is not in them."""
        if outcome.refused:
            self._handed[part_id] = replace(self._handed[part_id], refused=outcome.refused)
            self.workspace.said.emit(outcome.refused)
        elif outcome.result is not None:
            self._handed[part_id] = _HandedOver(outcome.result, of)

    @property
    def last(self) -> _HandedOver:
        """What was last handed over of the open part."""
        return self._handed.get(self.part.id, _NOTHING) if self.session.has_part else _NOTHING

    @property
    def written(self) -> tuple[Path, ...]:
        return self.last.files

    def _state_key(self) -> str:
        """All that the written files rest on."""
        if not self.session.has_part or self.part.question is None:
            return ""
        made = nodes.made(self.view.inputs)
        return Export(Path(), "", self.part.question, made, self._sheet()).key

    @property
    def old(self) -> bool:
        return bool(self.written) and self.last.of != self._state_key()

    def ask_job(self) -> None:
        path, _ = QFileDialog.getSaveFileName(self._panel, "Keep the job as", "job.json", "Job (*.json)")
        if path:
            self.save_job(Path(path))

    def save_job(self, path: Path) -> None:
        """The job and its mesh beside it, in open formats."""
        facts = self.view.facts
        if facts is None:
            return
        mesh_name = path.stem + ".ply"
        try:
            # With all its digits: a job read back is to give the same answers.
            write_whole(path.with_name(mesh_name), ply_bytes(facts.mesh))
            write_whole(path, write_job(job_of(self.part, self.part, mesh_name)).encode())
            self.workspace.said.emit(f"Kept as {path.name} with {mesh_name} beside it.")
        except Refused as refusal:
            self.workspace.said.emit(str(refusal))
