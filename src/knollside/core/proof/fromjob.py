"""Which test pieces a job calls for, with sizes taken from the job itself; and making one (T2)."""

from __future__ import annotations

from dataclasses import dataclass, replace

from knollside.core.fit.correction import axis_of
from knollside.core.model import Feature, Refused
from knollside.core.proof.bar import hole_and_pin_bar
from knollside.core.proof.couples import snap_arms, thread_pair
from knollside.core.proof.ladders import (
    flare_piece,
    gap_ladder,
    roof_pads,
    single_wall,
    square_piece,
    supported_face,
    three_hinges,
)
from knollside.core.proof.piece import TestPiece
from knollside.core.proof.pullbars import pull_bars

_LARGEST = 30.0  # mm; rounds above that tell nothing a smaller one does not, and cost an hour


@dataclass(frozen=True)
class Wish:
    """A piece by name with its sizes; ``for_job`` says in words what in this job it is for, or nothing."""

    name: str
    title: str
    sizes: tuple[float, ...]
    lying: tuple[float, ...]
    values: tuple[tuple[str, float], ...]
    for_job: str

    def value(self, name: str) -> float:
        return dict(self.values)[name]

    def with_value(self, name: str, value: float) -> Wish:
        return replace(self, values=tuple((k, value if k == name else v) for k, v in self.values))


def roof_to_try(face: tuple[float, float] | None) -> tuple[float, float]:
    """Sides of the roof that stands for a held face in a trial, mm: no larger than a trial is worth."""
    return (12.0, 12.0) if face is None else (min(max(face[0], 6.0), 20.0), min(max(face[1], 6.0), 20.0))


def wishes(
    features: tuple[Feature, ...],
    direction: tuple[float, float, float],
    layer_height: float,
    gap: float | None,
    frees: float,
    strain: float,
    line: float = 0.45,
    face: tuple[float, float] | None = None,
) -> tuple[Wish, ...]:
    """Every kind of piece, its sizes those of this job: ``gap`` the least between bodies (mm), ``frees`` what the
    printer is known to free, ``strain`` (share) what one snap of the material may reach; ``line`` width, and the sides
    of the largest ``face`` that is held up, mm."""
    face_words = f"its largest held face: {face[0]:.0f} × {face[1]:.0f} mm" if face is not None else ""
    face = roof_to_try(face)
    rounds = [f for f in features if f.kind in ("hole", "pin") and f.all_round and 0 < (f.diameter or 0) <= _LARGEST]
    sizes = sorted({round(float(f.diameter or 0), 1) for f in rounds})[:8]
    lying = sorted({round(float(f.diameter or 0), 1) for f in rounds if f.kind == "hole" and _lies(f, direction)})[:4]
    thread = next((f for f in features if f.kind == "thread"), None)
    major = thread.readings[0] if thread is not None and thread.readings is not None else 12.0
    pitch = float(thread.pitch or 1.75) if thread is not None else 1.75
    between = f"its bodies are {gap:.2f} mm apart" if gap is not None else ""
    told = ", ".join(f"{s:g}" for s in sizes)
    return (
        Wish("bar", "Hole and pin bar", tuple(sizes), tuple(lying), (), f"its rounds: {told} mm" if sizes else ""),
        Wish("ladder", "Gap ladder", (), (), (("middle gap", frees), ("layer", layer_height)), between),
        Wish("flare", "Flare piece", (), (), (("width", 20.0),), "every part has a first layer"),
        Wish("square", "Frame square", (), (), (("side", 100.0),), ""),
        Wish("pull", "Pull bars, standing", (), (), (("bars", 4.0), ("lot", 0.0)), ""),
        Wish("pull lying", "Pull bars, lying", (), (), (("bars", 4.0), ("lot", 0.0)), ""),
        Wish("wall", "Single wall", (), (), (("line", line),), ""),
        Wish("pads", "Roof pads", (), (), (("pads", 5.0),), ""),
        Wish("face", "Supported face", (), (), (("wide", face[0]), ("deep", face[1])), face_words),
        Wish("hinges", "Hinge of three gaps", (), (), (("middle gap", gap or 0.4),), between),
        Wish(
            "threads",
            "Thread pair",
            (),
            (),
            (("across", round(major, 1)), ("a turn", round(pitch, 2))),
            f"its thread of {major:.1f} mm" if thread is not None else "",
        ),
        Wish("snap", "Snap arms", (), (), (("length", 20.0), ("thick", 2.0), ("strain", strain)), ""),
    )


def _lies(f: Feature, direction: tuple[float, float, float]) -> bool:
    return axis_of(f, direction) == "lying"


def make(wish: Wish) -> TestPiece:
    """The piece itself; raises :class:`Refused` for sizes that make none."""
    v = dict(wish.values)
    if wish.name == "bar":
        return hole_and_pin_bar(list(wish.sizes), lying=wish.lying)
    if wish.name == "ladder":
        return gap_ladder(v["middle gap"], v["layer"])
    if wish.name == "flare":
        if not 8 <= v["width"] <= 100:
            raise Refused("A flare piece is 8 to 100 mm wide.")
        return flare_piece(v["width"])
    if wish.name == "square":
        if not 40 <= v["side"] <= 400:
            raise Refused("A frame square is 40 to 400 mm wide.")
        return square_piece(v["side"])
    if wish.name in ("pull", "pull lying"):
        return pull_bars(round(v["bars"]), wish.name == "pull", round(v["lot"]))
    if wish.name == "pads":
        return roof_pads(round(v["pads"]))
    if wish.name == "wall":
        return single_wall(v["line"])
    if wish.name == "face":
        return supported_face(v["wide"], v["deep"])
    if wish.name == "hinges":
        return three_hinges(v["middle gap"])
    if wish.name == "threads":
        return thread_pair(v["across"], v["a turn"])
    if wish.name == "snap":
        return snap_arms(v["length"], v["thick"], 8.0, v["strain"])
    raise Refused(f"There is no test piece '{wish.name}'.")
