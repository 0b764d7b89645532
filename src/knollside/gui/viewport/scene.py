"""What the stage is told to show: records only."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from knollside.core.mesh.appearance import Appearance
from knollside.core.model import Array


@dataclass(frozen=True)
class Arrow:
    """A push (clay) drawn on the part: where and which way, in the part's frame, with words."""

    at: tuple[float, float, float]
    along: tuple[float, float, float]
    words: str
    colour: str = "clay"
    handle: tuple[int, int] | None = None  # case and load; such an arrow can be taken by its tail and turned


@dataclass(frozen=True)
class Scene:
    """Everything the stage shows. ``direction`` lays the part; None shows it as drawn."""

    look: Appearance | None = None
    direction: tuple[float, float, float] | None = None
    marks: Array = field(default_factory=lambda: np.zeros(0, np.int64))
    reserve: Array | None = None
    target: float = 0.0
    cursor: float = -1.0
    opened: bool = False  # whether the part is shown open at the cursor, without what lies above
    layer: float = 0.2
    bed: tuple[float, float] = (220.0, 220.0)
    show_bed: bool = True
    arrows: tuple[Arrow, ...] = ()
    title: str = ""
    subtitle: str = ""
    place: tuple[float, float, float] | None = None
    place_words: str = ""
    legend: tuple[str, ...] = ()
    places: tuple[tuple[tuple[float, float, float], str], ...] = ()
    below: bool = False  # whether the underside is what is spoken of
    bend: Array | None = None  # (v, 3) mm at the drawn corners; shown enlarged
    bend_words: str = ""  # in place of how many times it is enlarged
