"""The stored half of the window: the workshop's documents, every edit as one named step of undo, one transaction.

What an edit changed is noted by the store itself and kept by the history, which takes it back.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from datetime import datetime
from pathlib import Path
from typing import TypeVar

from PyQt6.QtCore import QObject, pyqtSignal

from knollside.core.job.ask import Meshes, MeshKey
from knollside.core.job.revising import with_moved
from knollside.core.mesh.facemap import Motion
from knollside.core.mesh.identity import Names
from knollside.core.model import Mesh, Refused
from knollside.gui.fileasks import JobIn, ReadIn
from knollside.gui.history import History
from knollside.gui.keptedits import KeptEdits
from knollside.gui.openpart import OpenPart, Shelf
from knollside.gui.runedits import RunEdits
from knollside.store.changes import Change
from knollside.store.copies import Copy
from knollside.store.jobs import put_job
from knollside.store.meshes import PackedMesh
from knollside.store.records import Kind
from knollside.store.tables import RevisionRow
from knollside.store.workshop import Workshop

T = TypeVar("T")


class Workspace(QObject):
    """What is stored, and the commands that change it. ``changed`` fires after any stored edit, ``opened`` when
    another part came, ``said`` carries a sentence for the person."""

    changed = pyqtSignal()
    opened = pyqtSignal()
    said = pyqtSignal(str)

    def __init__(self, shop: Workshop, meshes: Meshes) -> None:
        super().__init__()
        self.shop, self.meshes = shop, meshes
        self.clock: Callable[[], datetime] = datetime.now
        self.part: OpenPart | None = None
        self.shelf = self._read_shelf()
        self.history = History(shop.make, self.title_of)
        self.kept, self.runs = KeptEdits(self), RunEdits(self)

    def now(self) -> datetime:
        """The hour, to the second, by the clock on the wall."""
        return self.clock().replace(microsecond=0)

    # What is stored

    def _read_shelf(self) -> Shelf:
        m, r, parts = self.shop.machines, self.shop.running, tuple(self.shop.parts.names())
        logs = r.runs(), r.spool_logs(), r.printer_logs(), r.presence(), r.studies(), r.gaps()
        more = r.faults(), r.fit_checks()
        return Shelf(m.printers(), tuple(m.spools()), m.own_cards(), *logs, *more, parts)

    def _read_part(self, part_id: int) -> OpenPart:
        doc, learned = self.shop.parts.get(part_id), self.shop.learned
        printer = doc.printer_id
        if printer is None:
            return OpenPart.of(doc, self.shelf)
        return OpenPart.of(
            doc,
            self.shelf,
            tuple(learned.measurements(printer, doc.material)),
            tuple(learned.gap_trials(printer, doc.material)),
            tuple(learned.prints(printer)),
        )

    def open(self, part_id: int) -> bool:
        """Open a part; False, and a sentence, where it cannot be. The part that was open then stays."""
        try:
            part = self._read_part(part_id)
            self._at_hand(part.mesh_hash)
            self._hand_over_before(part)
        except Refused as refusal:
            self.said.emit(str(refusal))
            return False
        self.part = part
        self.history.show(part_id)
        self.opened.emit()
        self.changed.emit()
        for words in part.doc.troubles:
            self.said.emit(words)
        return True

    def _at_hand(self, fingerprint: str) -> None:
        """A stored mesh is there to be asked of. Raises :class:`Refused`."""
        if fingerprint not in self.meshes:
            self.meshes.put(self.shop.parts.mesh(fingerprint), fingerprint)

    def _hand_over_before(self, part: OpenPart) -> None:
        """The mesh that names are carried over from, where that is still to be done."""
        before = part.doc.before
        if part.doc.newest.names is None and before is not None:
            self._at_hand(before.mesh_hash)

    def close_part(self) -> None:
        self.part = None
        self.history.show(0)
        self.opened.emit()
        self.changed.emit()

    def _reread(self) -> None:
        """All that is shown, as it is stored now; what cannot be read stays as it was last read, and is told."""
        try:
            self.shelf = self._read_shelf()
            if self.part is not None:
                part = self._read_part(self.part.id)
                self._at_hand(part.mesh_hash)
                self._hand_over_before(part)
                self.part = part
        except Refused as refusal:
            self.said.emit(str(refusal))
        self.changed.emit()

    # Edits: each is one act of the history and one transaction

    def push(self, text: str, do: Callable[[], T], names_too: bool = False) -> T | None:
        """Do it, in one transaction; what it returns, or None and a sentence where the store did not take it. What it
        changed can be taken back. Names that features are given on the way stay (unless ``names_too``): a name once
        given is never another's."""
        try:
            with self.shop.together():
                done = do()
        except Refused as refusal:
            self.said.emit(str(refusal))
            return None
        changes = self.shop.changes
        self._reread()
        self.history.add(text, changes if names_too else tuple(_without_names(changes)))
        return done

    def take_back(self, line: int | None = None) -> None:
        """Undo, of the named line if one is; a refusal is said."""
        self._moved(self.history.undo, line)

    def make_again(self, line: int | None = None) -> None:
        """Redo, likewise."""
        self._moved(self.history.redo, line)

    def _moved(self, step: Callable[[int | None], None], line: int | None) -> None:
        try:
            step(line)
        except Refused as refusal:
            self.said.emit(str(refusal))
            return
        self._reread()

    def title_of(self, part: int) -> str:
        """A part's name."""
        return next((p.name for p in self.shelf.parts if p.id == part), f"part {part}")

    def edit(self, change: dict[Kind, object], text: str, names: Names | None = None) -> bool:
        """Replace stored records of the open part under a name for undo. ``names`` go with it, not with its undo."""
        part = self.open_part()
        now = {k: getattr(part, k.field) for k in change}
        if all(now[k] == v for k, v in change.items()):
            return False

        def do() -> bool:
            if names is not None:
                self.shop.parts.put_names(part.id, part.doc.revision, names)
            for kind, value in change.items():
                self.shop.parts.put(part.id, kind, value)
            return True

        return bool(self.push(text, do))

    def open_part(self) -> OpenPart:
        assert self.part is not None, "no part is open"
        return self.part

    def keep_names(self, part_id: int, number: int, names: Names) -> None:
        """Names of a revision, once they are known; no edit of the person's, so nothing to undo."""
        try:
            self.shop.parts.put_names(part_id, number, names)
        except Refused as refusal:
            self.said.emit(str(refusal))
            return
        self._reread()

    def put_names(self, names: Names, text: str) -> None:
        """Other names of the open part's features, as one act."""
        part = self.open_part()
        self.push(text, lambda: self.shop.parts.put_names(part.id, part.doc.revision, names), names_too=True)

    def rename_part(self, name: str) -> None:
        part = self.open_part()
        if name and name != part.name:
            self.push(f"name {name}", lambda: self.shop.parts.rename(part.id, name))

    # Parts and revisions

    def take_in(self, found: ReadIn) -> None:
        """A mesh from a file becomes a part beside the open one, and is opened."""
        loaded = found.loaded
        name = loaded.name.replace("-", " ").replace("_", " ").strip().capitalize()[:100] or "Part"
        self.meshes.put(loaded.mesh, found.packed.fingerprint)
        self._add_part(name, found.packed, f"from a file, {loaded.kind[1:].upper()}")
        if loaded.notes:
            self.said.emit(" ".join(loaded.notes))

    def _add_part(self, name: str, packed: PackedMesh, note: str) -> None:
        printer = self.part.printer_id if self.part is not None else next(iter(self.shelf.printers), None)
        spool = self.part.spool_id if self.part is not None else None
        self._added(lambda job: (self.shop.parts.add(job, name, packed, note, printer, spool), []))

    def take_job(self, found: JobIn) -> None:
        """A job file becomes a part of the workshop, all of it or nothing, and is opened."""
        self._added(lambda job: put_job(self.shop, job, found.job, found.name, found.packed))

    def _added(self, add: Callable[[int], tuple[int, list[str]]]) -> None:
        """A new part beside the open one, in one transaction; it is opened."""
        try:
            with self.shop.together():
                known = self.shop.parts.names()
                mine = next((p.job_id for p in known if self.part is not None and p.id == self.part.id), None)
                made, told = add(mine or (known[-1].job_id if known else self.shop.parts.add_job("My job")))
        except Refused as refusal:
            self.said.emit(str(refusal))
            return
        self.shelf = self._read_shelf()
        self.open(made)
        for words in told:
            self.said.emit(words)

    def set_of_meshes(self) -> tuple[tuple[int, str, MeshKey], ...]:
        """Every part of the open part's job with its mesh at hand: number, name, mesh."""
        part, out = self.open_part(), []
        known = self.shelf.parts
        job = next(p.job_id for p in known if p.id == part.id)
        for p in known:
            if p.job_id != job:
                continue
            try:
                key = self.shop.parts.get(p.id).mesh_hash
                self._at_hand(key)
                out.append((p.id, p.name, MeshKey(key)))
            except Refused as refusal:
                self.said.emit(f"{p.name}: {refusal}")
        return tuple(out)

    def part_at_hand(self, part_id: int) -> OpenPart:
        """Any part of the workshop as it is stored, its mesh at hand. Raises :class:`Refused`."""
        part = self.part if self.part is not None and self.part.id == part_id else self._read_part(part_id)
        self._at_hand(part.mesh_hash)
        return part

    def new_mesh(self, mesh: Mesh, note: str, motion: Motion | None) -> None:
        """A new revision of the part; undo takes it away again."""
        self.new_meshes(((self.open_part().id, mesh, motion),), note)

    def new_meshes(self, made: tuple[tuple[int, Mesh, Motion | None], ...], note: str) -> None:
        """New revisions of several parts at once, all or none; one undo takes them all away again."""

        def do() -> None:
            for part, mesh, motion in made:
                self.shop.parts.add_revision(part, mesh, note, motion)
                self.meshes.put(mesh)

        self.push(note, do)

    def take_revision(self, found: ReadIn) -> None:
        """A newer mesh of the open part, from a file."""
        part = self.open_part()
        if found.packed.fingerprint == part.mesh_hash:
            self.said.emit(f"{found.loaded.name} is the mesh that is open: nothing was changed.")
            return
        note = self._cause() or f"from {found.loaded.name}"

        def do() -> None:
            self.shop.parts.add_revision(part.id, found.packed, note)
            self.meshes.put(found.loaded.mesh, found.packed.fingerprint)
            if found.moved:
                self.shop.parts.put(part.id, Kind.DESIGN_CASE, with_moved(part.design_case, found.moved))

        self.push(note, do)
        if found.loaded.notes:
            self.said.emit(" ".join(found.loaded.notes))

    def _cause(self) -> str:
        """Why the open part is likely drawn anew: the last break or unfitting print since its newest revision was
        first printed."""
        part = self.open_part()
        last = next((r for r in reversed(self.kept.every_print()) if r.part_id == part.id), None)
        if last is None or (last.details is not None and (last.details.revision or 0) < part.revision):
            return ""
        if last.broke is not None:
            load = f" at {last.broke.load_N:.0f} N" if last.broke.load_N else ""
            return f"it broke {last.broke.mode}{load}"
        return "it did not fit" if last.outcome == "does not fit" else ""

    def restore_revision(self, number: int) -> None:
        """An older state of the open part's mesh becomes its newest."""
        part = self.open_part()
        old = next((r for r in self.shop.parts.revisions(part.id) if r.number == number), None)
        if old is None or number == part.revision:
            return
        try:
            mesh = self.shop.parts.mesh(old.mesh_hash)
        except Refused as refusal:
            self.said.emit(str(refusal))
            return
        self.new_mesh(mesh, f"revision {number} again", None)

    def put_revision_note(self, note: str) -> None:
        """Why the newest revision was made, in the person's words."""
        part = self.open_part()
        if note and note != part.revision_note:
            at = part.id, part.revision
            self.push("why it was changed", lambda: self.shop.parts.put_note(*at, note))

    # The machine it is printed on

    def put_machine(self, printer_id: int | None, spool_id: int | None, text: str) -> None:
        part = self.open_part()
        self.push(text, lambda: self.shop.parts.put_machine(part.id, printer_id, spool_id))

    # The workshop as a whole

    def restore(self, copy: Copy) -> Path:
        """Put a copy in place of what is there now; returns where that was set aside. Raises :class:`Refused`."""
        aside = self.shop.restore(copy)
        self._anew()
        return aside

    def take_in_whole(self, made: Path) -> Path:
        """Put a workshop that was read in place of this one; returns where this one was set aside."""
        try:
            aside = self.shop.take_in(made)
        finally:
            for ending in ("", "-wal", "-shm"):
                Path(str(made) + ending).unlink(missing_ok=True)
        self._anew()
        return aside

    def _anew(self) -> None:
        """Another content under the same window: nothing that was undone or open is what it was."""
        self.history.clear()
        here = self.part.id if self.part is not None else 0
        self.part = None
        self.shelf = self._read_shelf()
        known = [p.id for p in self.shelf.parts]
        for number in (here, *known):
            if number in known and self.open(number):
                return
        self.close_part()


def _without_names(changes: tuple[Change, ...]) -> Iterator[Change]:
    """Changes less those of nothing but names that features of a mesh were given."""
    for c in changes:
        if not (c.of(RevisionRow) and c.before is not None and set(c.after or ()) == {"names"}):
            yield c
