"""Pairs of revised parts with what became what known by how they were drawn; how names are carried over."""

from __future__ import annotations

from dataclasses import dataclass

import manifold3d as m3
import numpy as np

from knollside.core.mesh.features import find_features
from knollside.core.mesh.weld import weld
from knollside.core.model import Feature, Mesh

Solid = m3.Manifold


def mesh_of(solid: Solid) -> Mesh:
    raw = solid.to_mesh64()
    return weld(np.asarray(raw.vert_properties, float)[:, :3], np.asarray(raw.tri_verts, np.int64))


@dataclass
class Drawn:
    """A solid with what was drawn: name to (kind, a place on it, axis)."""

    solid: Solid
    known: dict[str, tuple[str, np.ndarray, np.ndarray]]

    def hole(self, name: str, d: float, at: tuple[float, float, float], axis: int, long: float) -> None:
        tool = Solid.cylinder(long, d / 2, circular_segments=48, center=True)
        tool = tool.rotate(((0, 90, 0), (90, 0, 0), (0, 0, 0))[axis]).translate(at)
        self.solid = self.solid - tool
        self.known[name] = ("hole", np.array(at, float), np.eye(3)[axis])

    def peg(self, name: str, d: float, at: tuple[float, float, float], high: float) -> None:
        self.solid = self.solid + Solid.cylinder(high, d / 2, circular_segments=48).translate(at)
        self.known[name] = ("pin", np.add(at, (0, 0, high / 2)), np.eye(3)[2])

    def face(self, name: str, at: tuple[float, float, float], normal: tuple[float, float, float]) -> None:
        self.known[name] = ("flat", np.array(at, float), np.array(normal, float))


def bracket(p: dict[str, float], extra: set[str]) -> Drawn:
    """An angle: a foot with holes, a wall with holes, a peg."""
    long, wide, thick, high = p["long"], p["wide"], p["thick"], p["high"]
    d = Drawn(Solid.cube((long, wide, thick)) + Solid.cube((thick, wide, high)), {})
    for k, x in enumerate((p["x1"], long - p["x2"])):
        for m, y in enumerate((p["y"], wide - p["y"])):
            if f"no foot {k}{m}" not in extra:
                d.hole(f"foot {k}{m}", p["d"], (x, y, thick / 2), 2, 4 * thick)
    d.hole("wall", p["wall d"], (thick / 2, wide / 2, p["wall z"]), 0, 4 * thick)
    if "second wall" in extra:
        d.hole("second wall", p["wall d"], (thick / 2, wide * 0.25, p["wall z"] * 0.6), 0, 4 * thick)
    if "no peg" not in extra:
        d.peg("peg", p["peg d"], (long * 0.55, wide / 2, thick - 0.5), p["peg"])
    d.face("under", (long / 2, wide / 2, 0), (0, 0, -1))
    d.face("back", (0, wide / 2, high * 0.8), (-1, 0, 0))
    d.face("end", (long, wide / 2, thick / 2), (1, 0, 0))
    d.face("top", (thick / 2, wide * 0.4, high), (0, 0, 1))
    d.face("left", (thick / 2, 0, high * 0.7), (0, -1, 0))
    d.face("right", (thick / 2, wide, high * 0.7), (0, 1, 0))
    return d


def flange(p: dict[str, float], extra: set[str]) -> Drawn:
    """A plate with a bore, holes round it, and a collar."""
    n = 4
    d = Drawn(Solid.cube((p["long"], p["wide"], p["thick"])).translate((-p["long"] / 2, -p["wide"] / 2, 0)), {})
    d.solid = d.solid + Solid.cylinder(p["collar"], p["bore"] / 2 + 4, circular_segments=64).translate(
        (0, 0, p["thick"] - 0.5)
    )
    d.hole("bore", p["bore"], (0, 0, p["thick"]), 2, 200)
    for k in range(n):
        a = np.pi / 4 + k * np.pi / 2
        if f"no hole {k}" not in extra:
            d.hole(f"hole {k}", p["d"], (p["ring"] * np.cos(a), p["ring"] * np.sin(a), p["thick"] / 2), 2, 60)
    if "side hole" in extra:
        d.hole("side hole", 3.0, (0, -p["wide"] / 2 + 3, p["thick"] / 2), 1, 6)
    d.face("under", (p["long"] * 0.4, 0, 0), (0, 0, -1))
    d.face("over", (p["long"] * 0.45, 0, p["thick"]), (0, 0, 1))
    for name, s in (("right", 1), ("left", -1)):
        d.face(name, (s * p["long"] / 2, 0, p["thick"] / 2), (s, 0, 0))
    return d


_FIRST = {
    "bracket": {
        "long": 70, "wide": 36, "thick": 6, "high": 50, "x1": 20, "x2": 10, "y": 9, "d": 5.2, "wall d": 8.4,
        "wall z": 34, "peg d": 7, "peg": 8,
    },
    "flange": {"long": 70, "wide": 56, "thick": 7, "bore": 22, "ring": 29, "d": 4.4, "collar": 14},
}  # fmt: skip
_MAKE = {"bracket": bracket, "flange": flange}
# What people change from one revision to the next: sizes by a share, or something more or less.
_CHANGES = {
    "bracket": (
        {"long": 0.2}, {"thick": 0.35}, {"d": 0.2}, {"wall d": 0.3}, {"wall z": -0.12}, {"high": 0.2, "wall z": 0.2},
        {"wide": 0.25}, {"peg d": 0.2}, {"peg": 0.8}, {"y": 0.3}, {"x1": 0.12}, {"long": 0.15, "thick": 0.2},
    ),
    "flange": (
        {"bore": 0.15}, {"d": 0.25}, {"thick": 0.4}, {"long": 0.12, "wide": 0.12}, {"ring": 0.06}, {"collar": 0.5},
        {"thick": 0.3, "d": 0.15}, {"long": 0.2},
    ),
}  # fmt: skip
_EXTRAS = {"bracket": ("second wall", "no foot 11", "no peg"), "flange": ("side hole", "no hole 2")}


@dataclass(frozen=True)
class Pair:
    """An old and a new part, and how the new one was placed: new = turn old + move."""

    old: Drawn
    new: Drawn
    turn: np.ndarray
    move: np.ndarray


def some_pair(rng: np.random.Generator, placed: bool) -> Pair:
    """One revision: one or two changes, sometimes something more or less, sometimes drawn elsewhere."""
    kind = str(rng.choice(list(_MAKE)))
    first = {k: v * rng.uniform(0.9, 1.15) for k, v in _FIRST[kind].items()}
    after, extra = dict(first), set()
    for _ in range(int(rng.integers(1, 3))):
        change = _CHANGES[kind][int(rng.integers(len(_CHANGES[kind])))]
        for k, share in change.items():
            after[k] = first[k] * (1 + share * rng.uniform(0.5, 1.0))
    if rng.random() < 0.4:
        extra.add(str(rng.choice(_EXTRAS[kind])))
    old, new = _MAKE[kind](first, set()), _MAKE[kind](after, extra)
    turn, move = np.eye(3), np.zeros(3)
    if placed and rng.random() < 0.5:
        move = rng.uniform(-60, 60, 3)
        # A plate that is alike from both sides tells no turn.
        if kind == "bracket" and rng.random() < 0.5:
            turn = np.array([[0.0, -1, 0], [1, 0, 0], [0, 0, 1]])
        rows = np.column_stack([turn, move])
        new.solid = new.solid.transform(rows)
        new.known = {n: (k, turn @ at + move, turn @ axis) for n, (k, at, axis) in new.known.items()}
    return Pair(old, new, turn, move)


def named_by(drawn: Drawn, features: tuple[Feature, ...]) -> dict[str, int]:
    """Which found feature each drawn thing is."""
    out = {}
    for name, (kind, at, axis) in drawn.known.items():
        best, off = None, 0.6
        for j, f in enumerate(features):
            if f.kind != kind:
                continue
            along = float(np.dot(f.axis, axis))
            step = np.asarray(f.centre) - at
            if kind == "flat":
                away = abs(float(step @ axis)) if along > 0.99 else 9.0
                # Of several flats in one plane, the one that has the place.
                away += 0.001 * float(np.linalg.norm(step))
            else:
                away = float(np.linalg.norm(step - axis * float(step @ axis))) if abs(along) > 0.99 else 9.0
                away += 0.001 * float(np.linalg.norm(step))
            if away < off:
                best, off = j, away
        if best is not None:
            out[name] = best
    return out


def score(count: int, seed: int, placed: bool = True) -> tuple[int, int, int, list[str]]:
    """Features that are in both, carried right, carried to a wrong face; and what went wrong in words."""
    from knollside.core.mesh.revised import matched, placement

    rng, total, right, wrong, told = np.random.default_rng(seed), 0, 0, 0, []
    for n in range(count):
        pair = some_pair(rng, placed)
        a, b = mesh_of(pair.old.solid), mesh_of(pair.new.solid)
        size = float(np.ptp(a.bounds, axis=0).max())
        old, new = find_features(a), find_features(b)
        where = placement(old, new, a.bounds, b.bounds)
        if where.rivals:
            told.append(f"{n}: it fits in more than one way, and is refused")
            continue
        back = Mesh(where.back(b.vertices), b.faces)
        again = find_features(back)
        found = matched(old, again, size)
        # Turned back, the features are found in another order: known ones are looked for again.
        known = {
            k: (kind, where.back(at[None])[0], where.turn.T @ axis) for k, (kind, at, axis) in pair.new.known.items()
        }
        first, second = named_by(pair.old, old), named_by(Drawn(pair.new.solid, known), again)
        for name in first.keys() & second.keys():
            total += 1
            to = found.get(first[name])
            right += to == second[name]
            if to is not None and to != second[name]:
                wrong += 1
                told.append(f"{n}: {name} went to another")
            elif to is None:
                told.append(f"{n}: {name} was lost")
        for name in first.keys() - second.keys():
            if first[name] in found:
                wrong += 1
                told.append(f"{n}: {name}, which is gone, was given to another")
    return total, right, wrong, told


if __name__ == "__main__":
    for s in range(3):
        total, right, wrong, told = score(30, s)
        print(f"{total} features, {100 * right / total:.1f} % carried right, {wrong} wrong")
        for words in told:
            print("  ", words)
