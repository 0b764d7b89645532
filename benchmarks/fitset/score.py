"""``python -m fitset.score FOLDER [NOISE [EDGE]]``: what of the set is found, by kind, and how exact. With NOISE (mm)
every corner is moved about by that much, after edges longer than EDGE mm were parted, as a scan's would be."""

from __future__ import annotations

import json
import sys
import time
from collections import defaultdict
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from knollside.core.mesh.features import find_features
from knollside.core.mesh.tidy import tidied
from knollside.core.mesh.weld import weld
from knollside.core.model import Feature, Mesh

# What a person would call each truth: kinds, and a form or a role that goes with them.
KINDS: dict[str, tuple[tuple[str, ...], str]] = {
    "hole": (("hole",), ""),
    "pin": (("pin",), ""),
    "slot": (("slot",), ""),
    "arc slot": (("slot",), "arc"),
    "open slot": (("slot",), "open"),
    "d-bore": (("hole",), "D"),
    "d-shaft": (("pin",), "D"),
    "keyhole": (("hole",), "keyhole"),
    "keyed bore": (("hole",), "keyed"),
    "counterbore": (("hole",), "counterbore"),
    "countersink": (("cone",), "countersink"),
    "rounded rectangle": (("rectangle",), ""),
    "knuckle": (("pin", "round"), ""),
    "groove": (("round",), ""),
    "socket": (("ball",), ""),
    "ball": (("ball",), ""),
    "taper": (("taper",), ""),
    "square": (("square",), ""),
    "hexagon": (("hexagon",), ""),
}


@dataclass
class Count:
    """Of one kind: how many there are, how many were found, and how far off each size was, mm."""

    there: int = 0
    found: int = 0
    off: list[float] = field(default_factory=list)


def meshes(folder: Path, noise: float = 0.0, edge: float = 1.0) -> Any:
    """Name, mesh and truth of every part of a folder."""
    import manifold3d as m3

    for path in sorted(folder.glob("*.npz")):
        with np.load(path) as z:
            mesh = tidied(weld(z["vertices"].astype(float), z["faces"].astype(np.int64))).mesh  # as a file is read
            truth = json.loads(str(z["truth"]))
        if noise:
            solid = m3.Manifold(m3.Mesh64(mesh.vertices, mesh.faces.astype(np.uint64)))
            if solid.is_empty():
                continue
            raw = solid.refine_to_length(edge).to_mesh64()
            fine = weld(np.asarray(raw.vert_properties, float)[:, :3], np.asarray(raw.tri_verts, np.int64))
            moved = fine.vertices + np.random.default_rng(7).normal(0, noise, fine.vertices.shape)
            mesh = Mesh(moved, fine.faces)
        yield path.stem, mesh, truth


def matches(f: Feature, t: dict[str, Any], loose: float) -> bool:
    """Whether a feature is what is there: of the kind, on the line, of the size."""
    kinds, special = KINDS.get(t["kind"], ((t["kind"], "polygon"), ""))
    if f.kind not in kinds or f.diameter is None or (special and special not in (f.form, f.role)):
        return False
    axis, at = np.asarray(t["axis"], float), np.asarray(t["at"], float)
    off = np.asarray(f.centre) - at
    if f.kind != "ball":
        if abs(float(np.dot(f.axis, axis))) < 0.998:
            return False
        off = off - axis * (off @ axis)
    if t["kind"] == "countersink":  # a face that leans cuts it anywhere: the line and the angle tell it
        return bool(np.linalg.norm(off) < 0.05)
    return bool(np.linalg.norm(off) < 0.05 + 0.02 * t["size"]) and abs(f.diameter - t["size"]) < loose


def score(folder: Path, noise: float = 0.0, edge: float = 1.0) -> tuple[dict[str, Count], int, list[str], float]:
    """Counts by kind, holes and pins that are none, what was missed, and seconds per million triangles."""
    counts: dict[str, Count] = defaultdict(Count)
    missed, false, spent, triangles = [], 0, 0.0, 0
    for name, mesh, truth in meshes(folder, noise, edge):
        start = time.perf_counter()
        found = find_features(mesh)
        spent += time.perf_counter() - start
        triangles += len(mesh.faces)
        used = set()
        for t in truth:
            c = counts[t["kind"]]
            c.there += 1
            near = [f for f in found if matches(f, t, 0.05 + 3 * noise) and f.id not in used]
            if not near:
                missed.append(f"{name}: {t['kind']} {t['size']:.2f} at {np.round(t['at'], 1).tolist()}")
                continue
            best = min(near, key=lambda f: abs((f.diameter or 0) - t["size"]))
            used.add(best.id)
            c.found += 1
            if t["kind"] != "countersink":
                c.off.append(abs((best.diameter or 0.0) - t["size"]))
        for f in found:
            if f.kind in ("hole", "pin") and f.id not in used and not _explained(f, truth):
                false += 1
                missed.append(f"{name}: no {f.kind} of {f.diameter:.2f} is at {np.round(f.centre, 1).tolist()}")
    return counts, false, missed, spent / max(triangles, 1) * 1e6


def _explained(f: Feature, truth: list[dict[str, Any]]) -> bool:
    """Whether a round that nobody named is part of what is there, such as a step of the same line."""
    for t in truth:
        axis = np.asarray(t["axis"], float)
        off = np.asarray(f.centre) - np.asarray(t["at"], float)
        if abs(float(np.dot(f.axis, axis))) > 0.99 and np.linalg.norm(off - axis * (off @ axis)) < 0.2:
            return True
    return False


def main(words: list[str]) -> None:
    noise, edge = (float(words[k]) if len(words) > k else d for k, d in ((1, 0.0), (2, 1.0)))
    counts, false, missed, speed = score(Path(words[0]), noise, edge)
    for kind, c in sorted(counts.items()):
        off = np.array(c.off or [0.0])
        print(
            f"{kind:18s} {c.found:4d} of {c.there:4d}   off {np.median(off):.4f}, 95 % {np.quantile(off, 0.95):.4f} mm"
        )
    print(f"holes and pins that are none: {false}; {speed:.1f} s a million triangles")
    print("\n".join(missed[:60]))


if __name__ == "__main__":
    main(sys.argv[1:])
