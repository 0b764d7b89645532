"""``python -m fitset.correct FOLDER``: every sized feature of the set made 0.2 mm larger and smaller, each by itself,
and read back; what is refused is listed with its reason."""

from __future__ import annotations

import sys
from collections import Counter
from pathlib import Path

import numpy as np

from fitset.score import meshes
from knollside.core.job import answer, correcting
from knollside.core.job.answer import PartFacts
from knollside.core.mesh.check import check
from knollside.core.mesh.edit import can_move, resize
from knollside.core.mesh.features import find_features
from knollside.core.mesh.wallmoves import Sizes
from knollside.core.model import SIZED, Feature, Mesh, Recipe, Refused

BY = (0.2, -0.2)
LEAST_SWEEP = 60.0  # degrees of a part round that something could go in


def changed(part: PartFacts, f: Feature, to: Sizes) -> Mesh:
    """The part with one feature of another size. Raises :class:`Refused`."""
    if not f.rough and can_move(part.mesh, f, to):
        try:
            return resize(part.mesh, part.features, {f.id: to}).mesh
        except Refused:
            pass
    work = correcting.Cutting(part.mesh, part.features, (0.0, 0.0, 1.0), Recipe(), 0.0)
    return correcting.carved(part.mesh, f, to, work.steps(f, None, to), Recipe())[0]


def read_back(made: Mesh, f: Feature, size: float) -> bool:
    """Whether the changed mesh has the feature on its line with that size, to 0.002 mm."""
    for g in find_features(made):
        if g.kind != f.kind or g.diameter is None or abs(float(np.dot(g.axis, f.axis))) < 0.999:
            continue
        off = np.subtract(g.centre, f.centre)
        off = off - np.asarray(f.axis) * float(off @ np.asarray(f.axis))
        if np.linalg.norm(off) < 0.05 and abs(g.diameter - size) < 2e-3:
            return True
    return False


def main(words: list[str]) -> None:
    count: Counter[str] = Counter()
    for name, mesh, _ in meshes(Path(words[0])):
        part = answer.read_part(mesh)
        if not part.soundness.sound:
            count["parts not sound"] += 1
            continue
        for f in part.features:
            if f.kind not in SIZED or not f.diameter or (f.kind == "round" and (f.sweep or 0) < LEAST_SWEEP):
                continue
            for by in BY:
                count["asked"] += 1
                try:
                    made = changed(part, f, Sizes(f.diameter + by))
                except Refused as refusal:
                    count["refused"] += 1
                    print(f"{name} {f.id} {by:+}: {refusal}")
                    continue
                told = "not sound" if not check(made).sound else "done"
                if told == "done" and not read_back(made, f, f.diameter + by):
                    told = "not read back"
                if told != "done":
                    print(f"{name} {f.id} {by:+}: {told}")
                count[told] += 1
    print(", ".join(f"{k} {v}" for k, v in count.items()))


if __name__ == "__main__":
    main(sys.argv[1:])
