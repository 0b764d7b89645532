"""Proof: the hole and pin bar of this job's own sizes."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtWidgets import QFileDialog

from knollside.core.mesh.write import stl_bytes, threemf_bytes
from knollside.core.model import Refused
from knollside.desk import tasks
from knollside.desk.instruments.widgets import column, heading, label, rule
from knollside.desk.stage.scene import Scene
from knollside.desk.state import State
from knollside.desk.stepbase import Act, Mark, Standing, Step, Verdict
from knollside.report.export import write_whole


class ProofStep(Step):
    name = "Proof"

    def __init__(self, state: State) -> None:
        super().__init__(state)
        self.sizes_text = label("", wrap=True)
        self.about = label(
            "A flat bar with an upright hole and pin of each size. Print it with this job's material and layer "
            "height, measure it at the Bench, and the corrections become yours.",
            dim=True,
            wrap=True,
        )
        self.cannot = label(
            "It cannot tell: holes lying on their side, fits after painting, or how a fit wears.", dim=True, wrap=True
        )
        self.list = label("", 14, wrap=True)
        self.panel = column(
            heading("Hole and pin bar"),
            self.about,
            self.sizes_text,
            rule(),
            heading("Places, in order"),
            self.list,
            rule(),
            self.cannot,
            margins=(16, 10, 16, 10),
        )
        self.panel.layout().addStretch(1)  # type: ignore[union-attr]
        self.saved = ""

    def sizes(self) -> list[float]:
        """Drawn diameters this job needs: its holes and pins, as corrected where that is known."""
        facts = self.state.facts
        if facts is None:
            return []
        own = {
            round(f.diameter, 1)
            for f in facts.features
            if f.kind in ("hole", "pin") and f.diameter and f.diameter <= 30
        }
        return sorted(own)[:8]

    @property
    def key(self) -> object:
        return tuple(self.sizes())

    def enter(self) -> None:
        self.make()

    def make(self) -> None:
        if self.state.facts is not None and self.state.answers.fresh("bar", self.key) is None:
            self.state.work.ask("bar", self.key, tasks.make_bar, self.sizes())

    def piece(self) -> tasks.Piece | None:
        return self.state.answers.get("bar")

    def _save(self) -> None:
        piece, doc = self.piece(), self.state.doc
        if piece is None or doc is None:
            return
        path, _ = QFileDialog.getSaveFileName(
            self.panel, "Keep the bar as", "hole-and-pin-bar.3mf", "Mesh (*.3mf *.stl)"
        )
        if path:
            self.save_to(Path(path))

    def save_to(self, path: Path) -> None:
        piece = self.piece()
        if piece is None:
            return
        make = stl_bytes if path.suffix.lower() == ".stl" else threemf_bytes
        try:
            write_whole(path, make(piece.bar.mesh, "hole and pin bar"))
            self.saved = path.name
        except Refused as refusal:
            self.state.said.emit(str(refusal))
        self.state.changed.emit()

    def refresh(self) -> None:
        piece = self.piece()
        sizes = self.sizes()
        self.sizes_text.setText(
            "This job's sizes: " + (", ".join(f"{s:g}" for s in sizes) + " mm." if sizes else "none found.")
        )
        self.list.setText(
            "\n".join(f"{s.name.capitalize()}: drawn {s.drawn:g} mm" for s in piece.bar.spots) if piece else ""
        )

    def standing(self) -> Standing:
        if self.piece() is None:
            return Standing(Mark.OPEN, "No test piece yet.")
        if self.state.doc is not None and self.state.answers.key("bar") != self.key:
            return Standing(Mark.CRACK, "The bar was made for other sizes.")
        return Standing(
            Mark.FULL if self.saved else Mark.HALF, "Bar kept as a file." if self.saved else "Bar made, not kept."
        )

    def verdict(self) -> Verdict:
        piece = self.piece()
        if self.state.facts is None:
            return Verdict("Open a part first.")
        if piece is None:
            refused = self.state.answers.refusal("bar", self.key)
            return Verdict(
                "No bar for this part." if refused else "Making the bar.",
                refused,
                acts=(Act("Make the bar", self.make),),
            )
        return Verdict(
            "Print the bar before the part." if not self.saved else f"{self.saved} is kept.",
            f"{len(piece.bar.spots)} places to measure. A failed part costs hours; the bar tells shift and scatter.",
            number=f"{piece.bar.grams_solid:.0f}",
            unit="g",
            under=("if printed solid",),
            source="Sizes from this part; wall 3 mm, 6 mm thick.",
            acts=(Act("Keep the bar as a file …", self._save), Act("Measure it", lambda: self.go("Bench"))),
        )

    def scene(self) -> Scene:
        piece = self.piece()
        if piece is None:
            return Scene(title="Hole and pin bar")
        size = piece.bar.mesh.size
        bed = self.state.printer.bed_mm
        return Scene(
            look=piece.look,
            direction=(0.0, 0.0, 1.0),
            bed=(bed[0], bed[1]),
            title="Hole and pin bar",
            subtitle=f"{size[0]:.0f} × {size[1]:.0f} × {size[2]:.0f} mm; the cut corner is the small end",
        )
