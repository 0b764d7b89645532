"""What a page is given: a read-only view of the open part and its answers, and the workspace to command."""

from __future__ import annotations

from dataclasses import replace
from functools import cached_property
from typing import Any, TypeVar

from PyQt6.QtCore import QObject, pyqtSignal

from knollside.core.job import edits
from knollside.core.job.answer import PartFacts
from knollside.core.job.questions.part import feature_named, names_of_new, naming
from knollside.core.job.questions.strength import RankedOrientations
from knollside.core.lay.orientations import RatedOrientation, held_to, listed_orientation
from knollside.core.mesh.appearance import Appearance
from knollside.core.mesh.identity import Named
from knollside.core.model import DesignCase, FaceMark, Feature, Mate
from knollside.core.strength.discretisation import GridDoubt, widened
from knollside.core.strength.stability import Stability
from knollside.gui import nodes
from knollside.gui.answers import Answer
from knollside.gui.derived import READ, Derived, Inputs, Node
from knollside.gui.openpart import OpenPart
from knollside.gui.worker import Outcome, Worker
from knollside.gui.workspace import Workspace
from knollside.store.records import Kind

T = TypeVar("T")


class View:
    """The open part with its answers as they are at this moment; there is one as long as a part is open."""

    def __init__(self, part: OpenPart, derived: Derived) -> None:
        self.part, self._derived = part, derived
        self.inputs: Inputs = derived.inputs

    def get(self, node: Node[T]) -> Answer[T]:
        return self._derived.answer(node)

    def waiting(self, node: Node[Any]) -> bool:
        return self._derived.waiting(node)

    # The mesh

    @property
    def facts(self) -> PartFacts | None:
        """Features under their lasting names; None until the mesh is read and they are known."""
        return self.inputs.facts

    @property
    def look(self) -> Appearance | None:
        read = self.get(READ).fresh
        return None if read is None else read.look

    @cached_property
    def spoken_of_lost(self) -> tuple[Named, ...]:
        """Features that something is said of and that this mesh has no more."""
        facts = self.facts
        said = edits.spoken_of(self.part.design_case, self.part.mates)
        return tuple(e for e in facts.lost if e.id in said) if facts is not None else ()

    def lost_of_design_case(self) -> tuple[Named, ...]:
        said = edits.spoken_of(self.part.design_case, ())
        return tuple(e for e in self.spoken_of_lost if e.id in said)

    def lost_of_mates(self) -> tuple[Named, ...]:
        said = edits.spoken_of(DesignCase(), self.part.mates)
        return tuple(e for e in self.spoken_of_lost if e.id in said)

    # Strength and ways

    @cached_property
    def ranked(self) -> Answer[RankedOrientations]:
        """The rated ways with the doubt of their grid, in the order the person's own weights give."""
        return nodes.ranked(self.inputs)

    @property
    def grid(self) -> GridDoubt | None:
        """What another grid said of the ways; None until it was tried."""
        settled = self.get(nodes.SETTLED).fresh
        return None if settled is None else settled.grid

    @property
    def stability(self) -> Stability | None:
        """What buckles first; None until it was looked for."""
        settled = self.get(nodes.SETTLED).fresh
        return None if settled is None else settled.stability

    def steadied(self, w: RatedOrientation) -> RatedOrientation:
        """A way rated by itself, as buckling leaves it."""
        facts = self.facts
        return w if facts is None else held_to(facts.mesh, facts.features, w, self.stability)

    @property
    def orientations(self) -> tuple[RatedOrientation, ...]:
        """The short list on show: by strength, fresh or old; by shape alone where no load is stated."""
        return nodes.listed(self.inputs).shown or ()

    @cached_property
    def chosen(self) -> RatedOrientation | None:
        """The chosen way: as listed (of an old list it is old, too), else rated by itself with its grid's doubt."""
        orientation = self.part.orientation
        if orientation is None:
            return None
        listed, detail = listed_orientation(self.orientations, orientation.direction), self.get(nodes.DETAIL).fresh
        if listed is not None or detail is None or not self.part.loaded:
            return listed
        alone, doubt = detail.orientation, nodes.doubt(self.inputs, orientation.direction)
        return self.steadied(replace(alone, letter="", reserve=widened(alone.reserve, doubt)))


class Session(QObject):
    """The open workshop in one window. ``changed`` fires when anything shown may be another, ``closing`` before the
    workshop is let go."""

    changed = pyqtSignal()
    closing = pyqtSignal()

    def __init__(self, workspace: Workspace, worker: Worker) -> None:
        super().__init__()
        self.workspace, self.worker = workspace, worker
        self.derived = Derived(worker)
        self._view: View | None = None
        workspace.changed.connect(self._stored)
        workspace.opened.connect(self._opened)
        self.derived.changed.connect(self._answered)
        worker.finished.connect(self._once)
        self._callers: dict[str, Any] = {}

    @property
    def has_part(self) -> bool:
        return self.workspace.part is not None

    @property
    def view(self) -> View:
        """The view of the open part; asked for only while one is open."""
        part = self.workspace.part
        assert part is not None, "no part is open"
        if self._view is None:
            self._view = View(part, self.derived)
        return self._view

    def close(self) -> None:
        """Nothing more is asked, and the workshop is let go."""
        self.closing.emit()
        self.derived.close()
        self.workspace.shop.close()

    def _stored(self) -> None:
        self.derived.put_part(self.workspace.part)
        self._view = None
        self.changed.emit()

    def _opened(self) -> None:
        self.derived.picked = ""
        self.derived.put_part(self.workspace.part)
        self._view = None

    def _answered(self, name: str) -> None:
        self._view = None
        if name in (READ.name, nodes.NAMES.name) and self.has_part:
            self._name_features()
        self.changed.emit()

    def _name_features(self) -> None:
        """Names given once: of a mesh without a history as it was found, else as they were followed."""
        part = self.workspace.part
        if part is None or part.doc.newest.names is not None:
            return
        read, followed = self.derived.answer(READ).fresh, self.derived.answer(nodes.NAMES).fresh
        if part.doc.before is None and read is not None:
            self.workspace.keep_names(part.id, part.doc.revision, names_of_new(part.mesh_key, read.facts))
        elif followed is not None:
            self.workspace.keep_names(part.id, part.doc.revision, followed)

    # What a page may do

    def pick(self, name: str) -> None:
        """Put one feature under discussion, or none."""
        self.derived.picked = name
        self.touch()

    @property
    def picked(self) -> str:
        """The feature under discussion, or nothing."""
        return self.derived.picked

    def touch(self) -> None:
        """A page was turned: what it needs may be another."""
        self._view = None
        self.derived.touch()
        self.changed.emit()

    def ask(self, node: Node[Any], choice: Any = None) -> None:
        """Have something answered because the person wants it."""
        self._view = None
        if self.has_part:
            self.derived.ask(node, choice)
        self.changed.emit()

    def choose(self, node: Node[Any], choice: Any) -> None:
        """Turn a node to another choice of its page."""
        if self.derived.choice(node) != choice:
            self.derived.choose(node, choice)
            self._view = None

    def once(self, name: str, question: Any, done: Any) -> None:
        """Something done once, like reading a file; ``done`` gets the :class:`Outcome`."""
        self._callers[question.key] = done
        self.worker.once(name, question)
        self.changed.emit()

    def _once(self, outcome: Outcome) -> None:
        done = self._callers.pop(outcome.key, None) if outcome.once else None
        if done is not None:
            done(outcome)
            self.changed.emit()

    # Edits that speak of features

    def put_design_case(self, design_case: DesignCase, text: str) -> None:
        self._put(edits.Said(design_case, self.view.part.mates), text)

    def put_mates(self, mates: tuple[Mate, ...], text: str) -> None:
        self._put(edits.Said(self.view.part.design_case, mates), text)

    def mark(self, name: str, mark: FaceMark | None) -> None:
        """Say something of a feature, in one step of undo."""
        facts, part = self.view.facts, self.view.part
        f = feature_named(facts, name) if facts is not None else None
        if f is None:
            return
        words = f"{name.replace('-', ' ')} {mark.value if mark else 'plain again'}"
        self._put(edits.marked(part.design_case, part.mates, f, mark), words)

    def _put(self, said: edits.Said, text: str) -> None:
        facts, part = self.view.facts, self.view.part
        names = part.doc.newest.names
        if facts is not None and names is not None:
            wider = naming(names, facts, edits.spoken_of(said.design_case, said.mates))
            names = wider if wider is not names else None
        else:
            names = None
        change: dict[Kind, object] = {}
        if said.design_case != part.design_case:
            change[Kind.DESIGN_CASE] = said.design_case
        if said.mates != part.mates:
            change[Kind.MATES] = said.mates
        if change:
            self.workspace.edit(change, text, names)

    def feature(self, name: str) -> Feature | None:
        """A feature by its id, an unnamed patch too."""
        facts = self.view.facts if self.has_part else None
        return feature_named(facts, name) if facts is not None and name else None


class Seeing:
    """A page's way to what it was given: the view to read, the workspace to command."""

    session: Session

    @property
    def view(self) -> View:
        return self.session.view

    @property
    def part(self) -> OpenPart:
        return self.session.view.part

    @property
    def workspace(self) -> Workspace:
        return self.session.workspace
