"""What every step of the rail has: words, a verdict, a panel, and what it shows on the stage."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any

from PyQt6.QtWidgets import QWidget

from knollside.gui.derived import Node
from knollside.gui.session import Seeing, Session
from knollside.gui.viewport.scene import Scene


class Mark(StrEnum):
    """How a step stands in the rail."""

    OPEN = "open"
    HALF = "half"
    FULL = "full"
    CRACK = "crack"


@dataclass(frozen=True)
class Standing:
    """A step's mark and its one or two lines in the rail."""

    mark: Mark
    words: str


@dataclass(frozen=True)
class Act:
    """A button of the verdict line."""

    words: str
    do: Callable[[], None]
    enabled: bool = True


@dataclass(frozen=True)
class Verdict:
    """The verdict line: a number with its range, what to do, why, how sure, and the buttons. ``old`` crosses the
    number through: it was made from other inputs."""

    title: str
    body: str = ""
    number: str = ""
    unit: str = ""
    under: tuple[str, ...] = ()
    tone: str = "peat"
    source: str = ""
    acts: tuple[Act, ...] = field(default=())
    old: bool = False


def no_verdict(why: str, *acts: Act) -> Verdict:
    """What a step says where none may be given, or where it is held back, with the reason."""
    return Verdict("No verdict, and that is an answer.", why, number="none", tone="clay", acts=acts)


class Step(Seeing):
    """One step. Subclasses build their panel once and fill it from the view; they give commands to the session and its
    workspace, and know no other step. All but ``needs_part`` False are asked only while a part is open."""

    name = ""
    stage = "part"  # "part", or "own" where the step's drawing takes the stage
    has_log = False
    needs_part = True

    def __init__(self, session: Session) -> None:
        self.session = session
        self.go: Callable[[str], None] = lambda name: None
        self.panel: QWidget = QWidget()
        self.strip: QWidget | None = None
        self.strip_height = 180
        self.own: QWidget | None = None

    def enter(self) -> None:
        """The step came to the front."""

    def needs(self) -> tuple[Node[Any], ...]:
        """What the page in front wants answered, in order; asked by the scheduler alone."""
        return ()

    @property
    def takes_places(self) -> bool:
        """Whether a click on the stage is one on the part."""
        return True

    def pointed_at(self, place: tuple[float, float, float]) -> bool:
        """The person clicked a place on the part; whether that was all, and no card of the feature is wanted."""
        return False

    def refresh(self) -> None:
        """Show the view again."""

    def standing(self) -> Standing:
        return Standing(Mark.OPEN, "")

    def verdict(self) -> Verdict:
        return Verdict("")

    def scene(self) -> Scene:
        return Scene()
