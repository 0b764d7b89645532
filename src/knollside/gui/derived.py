"""What follows from the stored part: a declared graph of questions, their last answers, and the one scheduler.

A node makes its question from the open part, the choices of a page and fresh answers of nodes it rests on; nothing
else. The scheduler asks for what the page in front needs, in the order it names, and for what a person asked.
"""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any, Generic, TypeVar

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from knollside.core.job.answer import PartFacts
from knollside.core.job.ask import Question
from knollside.core.job.questions.part import MeshFacts, ReadMesh, with_names
from knollside.gui.answers import Answer, Declined, Fresh, Missing, Stale
from knollside.gui.openpart import OpenPart
from knollside.gui.runin import RunIn
from knollside.gui.worker import Outcome, Request, Worker

T = TypeVar("T")
_REMEMBERED = 40  # refusals and cancels of one part
_PARTS = 3  # whose answers are kept while another part is open


class Memo:
    """The last value made of some objects, given again while they are the very same ones."""

    def __init__(self) -> None:
        self._kept: dict[str, tuple[tuple[object, ...], object]] = {}

    def get(self, name: str, of: tuple[object, ...], make: Callable[[], T]) -> T:
        kept = self._kept.get(name)
        if kept is None or len(kept[0]) != len(of) or any(a is not b for a, b in zip(kept[0], of, strict=True)):
            kept = self._kept[name] = (of, make())
        return kept[1]  # type: ignore[return-value]


@dataclass(frozen=True, eq=False)
class Node(Generic[T]):
    """One kind of question. ``make`` gives the present one, or None while it cannot be asked; ``rests_on`` the nodes
    whose fresh answers it looks at; ``doing`` what the window says meanwhile (nothing where its page says so itself);
    ``behind`` work that nobody waits for; ``of_run``: it rests on the run in front, not on the open part."""

    name: str
    make: Callable[[Inputs], Question[T] | None]
    rests_on: tuple[Node[Any], ...] = ()
    doing: str = ""
    behind: bool = False
    of_run: bool = False


# What everything else needs first.
READ: Node[MeshFacts] = Node("read", lambda v: ReadMesh(v.part.mesh_key), doing="Reading the part")


class Inputs:
    """What a node may look at: the open part, the choices of pages, fresh answers. One for each state of these."""

    part: OpenPart

    def __init__(self, part: OpenPart, derived: Derived) -> None:
        self.part, self._derived = part, derived
        self._questions: dict[str, Question[Any] | None] = {}

    @property
    def facts(self) -> PartFacts | None:
        """The mesh as it was read, its features under their lasting names; None until both are there."""
        read, names = self._derived.answer_to_mesh(self.part), self.part.doc.newest.names
        if read is None or names is None:
            return None
        return self.made("facts", (read, names), lambda: with_names(read, names))

    @property
    def picked(self) -> str:
        """The feature under discussion, or nothing."""
        return self._derived.picked

    @cached_property
    def run(self) -> RunIn | None:
        """The run in front with all that it rests on; None where there is none."""
        return self._derived.run_in()

    def question(self, node: Node[T]) -> Question[T] | None:
        """The present question of a node."""
        if node.name not in self._questions:
            self._questions[node.name] = node.make(self)
        return self._questions[node.name]

    def fresh(self, node: Node[T]) -> T | None:
        """A node's answer, if it is true of the present inputs."""
        return self.answer(node).fresh

    def answer(self, node: Node[T]) -> Answer[T]:
        """A node's answer, by what it is worth now."""
        return self._derived.answer_to(node, self.question(node))

    def made(self, name: str, of: tuple[object, ...], make: Callable[[], T]) -> T:
        """What is made of some objects, made again only when one of them is another."""
        return self._derived.memo.get(name, of, make)

    def choice(self, node: Node[Any]) -> Any:
        """What the node's page was last set to; None before."""
        return self._derived.choice(node)


@dataclass
class _Kept:
    """An answer with the key of its question; one from ``before`` another part was open is worth something only as
    long as it is fresh."""

    key: str
    value: Any
    before: bool = False


@dataclass
class _Of:
    """Answers to the questions of one thing, the open part or the run in front, what was asked of it, and what pages
    that ask are turned to."""

    kept: dict[str, _Kept] = field(default_factory=dict)
    refusals: dict[tuple[str, str], str] = field(default_factory=dict)
    halted: set[str] = field(default_factory=set)
    asked: set[str] = field(default_factory=set)
    demanded: dict[str, tuple[Node[Any], str]] = field(default_factory=dict)
    choices: dict[str, Any] = field(default_factory=dict)


class Derived(QObject):
    """Answers of the open part and of the run in front. ``changed`` names a node whose answer arrived, was refused or
    was given up."""

    changed = pyqtSignal(str)
    refused = pyqtSignal(str, str)

    def __init__(self, worker: Worker) -> None:
        super().__init__()
        self.worker = worker
        self.picked = ""
        self.memo = Memo()
        self.front: Callable[[], tuple[Node[Any], ...]] = lambda: ()
        self._part: OpenPart | None = None
        self._inputs: Inputs | None = None
        self.run_in: Callable[[], RunIn | None] = lambda: None
        self._of_part, self._of_run = _Of(), _Of()
        self._set_aside: OrderedDict[int, dict[str, _Kept]] = OrderedDict()
        self._closed = False
        worker.finished.connect(self._take)
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(0)
        self._timer.timeout.connect(self._schedule)

    # What it rests on

    def put_part(self, part: OpenPart | None) -> None:
        """The open part as it is stored now. Another part begins with what was answered when it was last open."""
        if part is None or self._part is None or part.id != self._part.id:
            self._of_part = _Of(self._answers_before(part))
        self._part = part
        self.touch()

    def _answers_before(self, part: OpenPart | None) -> dict[str, _Kept]:
        """What was answered of a part when it was last open; what is of the one that is open now is set aside."""
        if self._part is not None:
            self._set_aside[self._part.id] = {n: replace(k, before=True) for n, k in self._of_part.kept.items()}
            self._set_aside.move_to_end(self._part.id)
        before = self._set_aside.pop(part.id, {}) if part is not None else {}
        while len(self._set_aside) > _PARTS:
            self._set_aside.popitem(last=False)
        return before

    def _of(self, node: Node[Any]) -> _Of:
        return self._of_run if node.of_run else self._of_part

    def choose(self, node: Node[Any], choice: Any) -> None:
        """Set what a page is turned to; the node's question follows."""
        if self.choice(node) != choice:
            self._of(node).choices[node.name] = choice
            self.touch()

    def choice(self, node: Node[Any]) -> Any:
        """What a node's page was last set to; None before."""
        return self._of(node).choices.get(node.name)

    def touch(self) -> None:
        """What is needed may have changed: plan anew, once the present turn of the loop is over."""
        self._inputs = None
        self._timer.start()

    @property
    def inputs(self) -> Inputs:
        if self._inputs is None:
            assert self._part is not None, "no part is open"
            self._inputs = Inputs(self._part, self)
        return self._inputs

    def close(self) -> None:
        """Want nothing more: the pages that said what is needed are going."""
        self._closed = True
        self._timer.stop()
        self.worker.close()

    # Answers

    def answer(self, node: Node[T]) -> Answer[T]:
        """A node's answer, by what it is worth now."""
        if self._part is None:
            return Missing()
        return self.answer_to(node, self.inputs.question(node))

    def answer_to(self, node: Node[T], question: Question[T] | None) -> Answer[T]:
        of = self._of(node)
        kept = of.kept.get(node.name)
        if kept is not None and kept.before and (question is None or kept.key != question.key):
            kept = None
        if question is None:
            return Stale(kept.value) if kept else Missing()
        if kept is not None and kept.key == question.key:
            return Fresh(kept.value)
        reason = of.refusals.get((node.name, question.key))
        if reason is not None:
            return Declined(reason, kept.value if kept else None)
        return Stale(kept.value) if kept else Missing()

    def answer_to_mesh(self, part: OpenPart) -> PartFacts | None:
        """The part's mesh as it was read, features as they were found."""
        read = self.answer_to(READ, ReadMesh(part.mesh_key)).fresh
        return None if read is None else read.facts

    def waiting(self, node: Node[Any]) -> bool:
        """Whether a node's question runs or waits."""
        return self.worker.waiting(node.name)

    # Asking

    def ask(self, node: Node[Any], choice: Any = None) -> bool:
        """Have a node answered because the person wants it, also after a refusal or a cancel; whether it can be."""
        if choice is not None:
            self.choose(node, choice)
        question = self.inputs.question(node)
        if question is None:
            return False
        of = self._of(node)
        of.refusals.pop((node.name, question.key), None)
        of.halted.discard(question.key)
        of.demanded[node.name] = (node, question.key)
        self._timer.start()
        return True

    def forget(self, node: Node[Any]) -> None:
        """Drop a node's answer: what it offered was taken or thrown away."""
        self._of(node).kept.pop(node.name, None)
        self.touch()
        self.changed.emit(node.name)

    def _schedule(self) -> None:
        if self._closed:
            return
        if self._part is None:
            self.worker.plan([])
            return
        wanted: list[Request] = []
        taken: set[str] = set()
        pending: set[str] = set()
        for node in (*self._still_demanded(), *self.front()):
            if any(n.name in pending for n in node.rests_on):
                continue  # its question will be another one when that is answered
            question = self.inputs.question(node)
            if question is None or question.key in taken or question.key in self._of(node).halted:
                continue
            if isinstance(self.answer_to(node, question), Fresh | Declined):
                continue
            taken.add(question.key)
            self._of(node).asked.add(question.key)
            if not node.behind:
                pending.add(node.name)
            wanted.append(Request(node.name, question, node.behind))
        wanted.sort(key=lambda r: r.behind)
        self.worker.plan(wanted)

    def _still_demanded(self) -> list[Node[Any]]:
        """Nodes a person asked for whose question is still the same and not answered."""
        out = []
        for of in (self._of_part, self._of_run):
            for name, (node, key) in list(of.demanded.items()):
                question = self.inputs.question(node)
                answered = isinstance(self.answer_to(node, question), Fresh | Declined)
                if question is None or question.key != key or answered:
                    del of.demanded[name]
                else:
                    out.append(node)
        return out

    def _take(self, outcome: Outcome) -> None:
        # What was asked of another part, or once, is no answer of this one.
        of = next((o for o in (self._of_part, self._of_run) if outcome.key in o.asked), None)
        if self._part is None or outcome.once or of is None:
            return
        if outcome.result is not None:
            of.kept[outcome.name] = _Kept(outcome.key, outcome.result)
        elif outcome.refused:
            while len(of.refusals) >= _REMEMBERED:
                of.refusals.pop(next(iter(of.refusals)))
            of.refusals[outcome.name, outcome.key] = outcome.refused
            self.refused.emit(outcome.name, outcome.refused)
        elif outcome.by_person:
            of.halted.add(outcome.key)
            of.demanded.pop(outcome.name, None)
        self.touch()
        self.changed.emit(outcome.name)
