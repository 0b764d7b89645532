"""Proof: a tray of test pieces in this job's own sizes, and a test section of the part itself."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PyQt6.QtWidgets import QFileDialog

from knollside.core.job.questions.proof import Cropped, Piece
from knollside.core.mesh.write import stl_bytes, threemf_bytes
from knollside.core.model import Mesh, Refused
from knollside.gui import nodes
from knollside.gui.derived import Node
from knollside.gui.nodes import CropWish
from knollside.gui.pieces import Pieces
from knollside.gui.session import Session
from knollside.gui.stepbase import Act, Mark, Standing, Step, Verdict
from knollside.gui.steps.proofpages import SectionPage, TrayPage
from knollside.gui.steps.scenes import base_scene
from knollside.gui.steps.tabs import Tabs
from knollside.gui.viewport.scene import Scene
from knollside.report.export import write_whole


class ProofStep(Step):
    name = "Proof"

    def __init__(self, session: Session, pieces: Pieces) -> None:
        super().__init__(session)
        self.pieces = pieces
        self.tray = TrayPage(self.choose, self._resize)
        self.section = SectionPage(self._crop, self._toggle)
        self.section.margin.entered.connect(lambda _: self._follow())
        self.tabs = Tabs((("Test pieces", self.tray), ("Piece of the part", self.section)), 2, (16, 10, 14, 2))
        self.tabs.turned.connect(lambda _: session.touch())
        self.panel = self.tabs.panel()
        self.around: tuple[str, ...] = ()
        self._around_of: object = None
        self._saved: dict[str, str] = {}

    takes_places = False  # what stands there is a piece, not the part

    # What is asked for

    def needs(self) -> tuple[Node[Any], ...]:
        bodies = self.view.facts is not None and self.view.facts.soundness.bodies > 1
        return (nodes.FITS, *((nodes.GAPS,) if bodies else ()), nodes.PIECE)

    def choose(self, name: str) -> None:
        self.pieces.choose(name)

    def _resize(self, name: str, value: float) -> None:
        self.pieces.resize(name, value)

    def make(self) -> None:
        """Make the piece again, also after it was refused or given up."""
        self.session.ask(nodes.PIECE)

    def _toggle(self, name: str) -> None:
        self.around = tuple(n for n in self.around if n != name) if name in self.around else (*self.around, name)
        self._follow()

    def _follow(self) -> None:
        """The section shown is of the present features and margin only."""
        self.session.choose(nodes.SECTION, CropWish(self.around, self.section.margin.value))
        self.session.touch()

    def _crop(self) -> None:
        self.session.ask(nodes.SECTION, CropWish(self.around, self.section.margin.value))

    @property
    def cropped(self) -> Cropped | None:
        return self.view.get(nodes.SECTION).fresh

    @property
    def saved(self) -> str:
        """The name of the file that what is in hand was kept as; nothing where it was not."""
        return self._saved.get(self._in_hand, "")

    @property
    def _in_hand(self) -> str:
        """The key of the section or piece that is shown."""
        inputs = self.view.inputs
        section, piece = inputs.question(nodes.SECTION), inputs.question(nodes.PIECE)
        if self.tabs.front == 1:
            return section.key if section is not None else ""
        return piece.key if piece is not None else ""

    # Keeping it as a file

    def _mesh(self) -> tuple[Mesh, str] | None:
        if self.tabs.front == 1:
            return (self.cropped.section.mesh, "test section") if self.cropped is not None else None
        piece = self.pieces.piece
        return (piece.piece.mesh, piece.piece.title) if piece is not None else None

    def _save(self) -> None:
        made = self._mesh()
        if made is None:
            return
        stem = made[1].lower().replace(" ", "-")
        path, _ = QFileDialog.getSaveFileName(self.panel, "Keep it as", f"{stem}.3mf", "Mesh (*.3mf *.stl)")
        if path:
            self.save_to(Path(path))

    def save_to(self, path: Path) -> None:
        made = self._mesh()
        if made is None:
            return
        make = stl_bytes if path.suffix.lower() == ".stl" else threemf_bytes
        try:
            write_whole(path, make(*made))
            self._saved[self._in_hand] = path.name
        except Refused as refusal:
            self.workspace.said.emit(str(refusal))
        self.session.changed.emit()

    # Showing

    def refresh(self) -> None:
        facts = self.view.facts
        if facts is None:
            return
        if self._around_of != self.part.id:
            self._around_of = self.part.id
            self.around = tuple(m.feature for m in self.part.mates if facts.feature(m.feature) is not None)[:1]
        answer, section = self.pieces.answer, self.view.get(nodes.SECTION)
        self.tray.put(self.pieces.wishes, self.pieces.chosen, self.pieces.piece, answer.refusal)
        self.section.put(facts.features, self.around, section.fresh, section.refusal)

    def standing(self) -> Standing:
        answer, piece = self.pieces.answer, self.pieces.piece
        if piece is None:
            if answer.old:
                return Standing(Mark.CRACK, "The piece was made for other sizes.")
            return Standing(Mark.OPEN, "No test piece yet.")
        kept = self._saved.get(self.view.inputs.question(nodes.PIECE).key, "")  # type: ignore[union-attr]
        words = f"{piece.piece.title} kept as a file." if kept else f"{piece.piece.title} made, not kept."
        return Standing(Mark.FULL if kept else Mark.HALF, words)

    def verdict(self) -> Verdict:
        if self.view.facts is None:
            return Verdict("Reading the part.")
        return self._section_verdict() if self.tabs.front == 1 else self._piece_verdict(self.pieces.piece)

    def _piece_verdict(self, piece: Piece | None) -> Verdict:
        if piece is None:
            refused = self.pieces.answer.refusal
            return Verdict(
                "No such piece can be made." if refused else "Making the piece.",
                refused,
                acts=(Act("Make it", self.make),),
            )
        p, saved = piece.piece, self.saved
        what = (
            f"{len(p.spots)} places to measure."
            if p.spots
            else f"{len(p.gap_steps)} gaps to try."
            if p.gap_steps
            else ""
        )
        return Verdict(
            f"Print the {p.title.lower()} before the part." if not saved else f"{saved} is kept.",
            f"{what} A failed part costs hours; this costs {piece.hours:.1f} h.".strip(),
            number=f"{piece.grams:.0f}",
            unit="g",
            under=(f"about {piece.hours:.1f} h", "with this recipe"),
            source="Sizes from this job; print it as it lies.",
            acts=(
                Act("Keep it as a file …", self._save),
                *([Act("Measure it", lambda: self.go("Bench"))] if p.spots or p.gap_steps else []),
            ),
        )

    def _section_verdict(self) -> Verdict:
        made = self.cropped
        if made is None:
            refused = self.view.get(nodes.SECTION).refusal
            return Verdict(
                "Nothing was cut." if refused else "Print the tricky bit first.",
                refused or "A piece of the part round the features that must fit, lying the same way.",
                tone="clay" if refused else "peat",
                acts=(Act("Cut it out", self._crop, bool(self.around)),),
            )
        return Verdict(
            f"Saves {made.hours_whole - made.hours:.1f} hours and {made.grams_whole - made.grams:.0f} g."
            if not self.saved
            else f"{self.saved} is kept.",
            "It tells the fit and the look of these features. It cannot tell strength, warping or how the whole lies.",
            number=f"{made.grams:.0f}",
            unit="g",
            under=(f"about {made.hours:.1f} h", f"of {made.hours_whole:.1f} h"),
            source="Closed, in the part's own frame, same way to lie.",
            acts=(Act("Keep it as a file …", self._save),),
        )

    def scene(self) -> Scene:
        bed = self.part.printer.bed_mm
        if self.tabs.front == 1:
            made = self.cropped
            if made is None:
                words = ", ".join(n.replace("-", " ") for n in self.around) or "nothing chosen yet"
                return base_scene(self.session, True, "Piece of the part", f"Round: {words}")
            size = made.section.mesh.size
            words = f"{size[0]:.0f} × {size[1]:.0f} × {size[2]:.0f} mm; {100 * made.section.share:.0f} % of the part"
            orientation = self.part.direction
            return Scene(made.look, orientation, bed=(bed[0], bed[1]), title="Piece of the part", subtitle=words)
        return piece_scene(self.pieces.piece, (bed[0], bed[1]))


def piece_scene(piece: Piece | None, bed: tuple[float, float]) -> Scene:
    """A test piece as it prints."""
    if piece is None:
        return Scene(title="Test piece")
    size = piece.piece.mesh.size
    return Scene(
        look=piece.look,
        direction=(0.0, 0.0, 1.0),
        bed=bed,
        title=piece.piece.title,
        subtitle=f"{size[0]:.0f} × {size[1]:.0f} × {size[2]:.0f} mm, as it prints",
    )
