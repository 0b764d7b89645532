"""Proof: a tray of test pieces in this job's own sizes, and a test section of the part itself."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtWidgets import QFileDialog

from knollside.core.mesh.write import stl_bytes, threemf_bytes
from knollside.core.model import Mesh, Refused
from knollside.core.proof.fromjob import Wish
from knollside.desk import prooftasks
from knollside.desk.stage.scene import Scene
from knollside.desk.state import State
from knollside.desk.stepbase import Act, Mark, Standing, Step, Verdict
from knollside.desk.steps.proofpages import SectionPage, TrayPage
from knollside.desk.steps.tabs import Tabs
from knollside.report.export import write_whole


class ProofStep(Step):
    name = "Proof"

    def __init__(self, state: State) -> None:
        super().__init__(state)
        self.tray = TrayPage(self.choose, self.resize)
        self.section = SectionPage(self._crop, self._toggle)
        self.tabs = Tabs((("Test pieces", self.tray), ("Piece of the part", self.section)), 2, (16, 10, 14, 2))
        self.tabs.turned.connect(lambda _: self.state.changed.emit())
        self.panel = self.tabs.panel()
        self.chosen = "bar"
        self._own: dict[tuple[str, str, str], float] = {}
        self.around: tuple[str, ...] = ()
        self.saved = ""

    # What is asked for

    @property
    def wishes(self) -> tuple[Wish, ...]:
        """Every piece with this job's sizes, and the person's own where given."""
        doc = self.state.doc
        if doc is None or self.state.facts is None:
            return ()
        out = []
        for w in self.state.wishes:
            for name, _ in w.values:
                own = self._own.get((doc.mesh_hash, w.name, name))
                w = w if own is None else w.with_value(name, own)
            out.append(w)
        return tuple(out)

    @property
    def wish(self) -> Wish | None:
        return next((w for w in self.wishes if w.name == self.chosen), None)

    @property
    def key(self) -> object:
        assert self.state.doc is not None
        return (self.wish, self.state.doc.recipe, self.state.card.name, self.state.factor)

    @property
    def section_key(self) -> object:
        assert self.state.doc is not None
        return (self.state.doc.mesh_hash, self.around, self.section.margin.value, self.state.way)

    def enter(self) -> None:
        self.make()

    def choose(self, name: str) -> None:
        self.chosen, self.saved = name, ""
        self.make()
        self.state.changed.emit()

    def resize(self, name: str, value: float) -> None:
        """A size of the chosen piece as the person wants it."""
        if self.state.doc is not None:
            self._own[self.state.doc.mesh_hash, self.chosen, name] = value
            self.make()
            self.state.changed.emit()

    def make(self) -> None:
        wish, doc = self.wish, self.state.doc
        if wish is not None and doc is not None and self.state.answers.fresh("piece", self.key) is None:
            at = wish, doc.recipe, self.state.card, self.state.factor
            self.state.work.ask("piece", self.key, prooftasks.make_piece, *at)

    def piece(self) -> prooftasks.Piece | None:
        """The piece as last made; the bar until another is chosen."""
        found: prooftasks.Piece | None = self.state.answers.get("piece")
        return found if found is not None and found.piece.name == self.chosen else None

    def _toggle(self, name: str) -> None:
        self.around = tuple(n for n in self.around if n != name) if name in self.around else (*self.around, name)
        self.state.changed.emit()

    def _crop(self) -> None:
        doc, facts = self.state.doc, self.state.facts
        if doc is not None and facts is not None:
            at = facts, self.around, self.section.margin.value, self.state.way, doc.recipe
            self.state.work.ask("section", self.section_key, prooftasks.crop, *at, self.state.card, self.state.factor)

    @property
    def cropped(self) -> prooftasks.Cropped | None:
        return self.state.answers.fresh("section", self.section_key) if self.state.doc is not None else None

    # Keeping it as a file

    def _mesh(self) -> tuple[Mesh, str] | None:
        if self.tabs.front == 1:
            return (self.cropped.section.mesh, "test section") if self.cropped is not None else None
        piece = self.piece()
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
            self.saved = path.name
        except Refused as refusal:
            self.state.said.emit(str(refusal))
        self.state.changed.emit()

    # Showing

    def refresh(self) -> None:
        doc, facts = self.state.doc, self.state.facts
        if doc is None or facts is None:
            return
        if not self.around:
            self.around = tuple(m.feature for m in doc.mates if facts.feature(m.feature) is not None)[:1]
        refused = self.state.answers.refusal("piece", self.key)
        self.tray.put(self.wishes, self.chosen, self.piece(), refused)
        self.section.put(
            facts.features, self.around, self.cropped, self.state.answers.refusal("section", self.section_key)
        )

    def standing(self) -> Standing:
        piece = self.piece()
        if piece is None or self.state.doc is None:
            return Standing(Mark.OPEN, "No test piece yet.")
        if self.state.answers.key("piece") != self.key:
            return Standing(Mark.CRACK, "The piece was made for other sizes.")
        kept = f"{piece.piece.title} kept as a file." if self.saved else f"{piece.piece.title} made, not kept."
        return Standing(Mark.FULL if self.saved else Mark.HALF, kept)

    def verdict(self) -> Verdict:
        if self.state.facts is None:
            return Verdict("Open a part first.")
        return self._section_verdict() if self.tabs.front == 1 else self._piece_verdict()

    def _piece_verdict(self) -> Verdict:
        piece = self.piece()
        if piece is None:
            refused = self.state.answers.refusal("piece", self.key)
            return Verdict(
                "No such piece can be made." if refused else "Making the piece.",
                refused,
                acts=(Act("Make it", self.make),),
            )
        p = piece.piece
        what = f"{len(p.spots)} places to measure." if p.spots else f"{len(p.rungs)} gaps to try." if p.rungs else ""
        return Verdict(
            f"Print the {p.title.lower()} before the part." if not self.saved else f"{self.saved} is kept.",
            f"{what} A failed part costs hours; this costs {piece.hours:.1f} h.".strip(),
            number=f"{piece.grams:.0f}",
            unit="g",
            under=(f"about {piece.hours:.1f} h", "with this recipe"),
            source="Sizes from this job; print it as it lies.",
            acts=(
                Act("Keep it as a file …", self._save),
                *([Act("Measure it", lambda: self.go("Bench"))] if p.spots or p.rungs else []),
            ),
        )

    def _section_verdict(self) -> Verdict:
        made = self.cropped
        if made is None:
            refused = self.state.answers.refusal("section", self.section_key)
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
        bed = self.state.printer.bed_mm
        if self.tabs.front == 1:
            made = self.cropped
            if made is None:
                from knollside.desk.steps.scenes import base_scene

                words = ", ".join(n.replace("-", " ") for n in self.around) or "nothing chosen yet"
                return base_scene(self.state, True, "Piece of the part", f"Round: {words}")
            size = made.section.mesh.size
            words = f"{size[0]:.0f} × {size[1]:.0f} × {size[2]:.0f} mm; {100 * made.section.share:.0f} % of the part"
            return Scene(made.look, self.state.way, bed=(bed[0], bed[1]), title="Piece of the part", subtitle=words)
        piece = self.piece()
        if piece is None:
            return Scene(title="Test piece")
        size = piece.piece.mesh.size
        return Scene(
            look=piece.look,
            direction=(0.0, 0.0, 1.0),
            bed=(bed[0], bed[1]),
            title=piece.piece.title,
            subtitle=f"{size[0]:.0f} × {size[1]:.0f} × {size[2]:.0f} mm, as it prints",
        )
