"""What every step of the core has: words, a verdict, a panel, and what it shows on the stage."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from enum import StrEnum

from PyQt6.QtWidgets import QWidget

from knollside.desk.stage.scene import Scene
from knollside.desk.state import State


class Mark(StrEnum):
    """How a step stands in the core."""

    OPEN = "open"
    HALF = "half"
    FULL = "full"
    CRACK = "crack"


@dataclass(frozen=True)
class Standing:
    """A step's mark and its one or two lines in the core."""

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
    """The verdict line: a number with its range, what to do, why, how sure, and the buttons."""

    title: str
    body: str = ""
    number: str = ""
    unit: str = ""
    under: tuple[str, ...] = ()
    tone: str = "peat"
    source: str = ""
    acts: tuple[Act, ...] = field(default=())


class Step:
    """One step. Subclasses build their panel once and refresh it from the state."""

    name = ""
    stage = "part"  # "part", or "own" where the step's drawing takes the stage
    has_log = False

    def __init__(self, state: State) -> None:
        self.state = state
        self.go: Callable[[str], None] = lambda name: None
        self.panel: QWidget = QWidget()
        self.strip: QWidget | None = None
        self.strip_height = 180
        self.own: QWidget | None = None

    def enter(self) -> None:
        """Called when the step comes to the front: ask for what it needs."""

    def refresh(self) -> None:
        """Show the state again."""

    def standing(self) -> Standing:
        return Standing(Mark.OPEN, "")

    def verdict(self) -> Verdict:
        return Verdict("")

    def scene(self) -> Scene:
        return Scene()
