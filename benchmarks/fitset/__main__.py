"""``python -m fitset make FOLDER [SEED ...]`` writes the set; each part in a process of its own: kernels do not mix."""

from __future__ import annotations

import json
import subprocess
import sys
from dataclasses import asdict
from pathlib import Path

import numpy as np

from fitset import kernels
from fitset.recipes import RECIPES
from fitset.shapes import Made

HOW = {
    "occ": kernels.occ,
    "occ-fine": lambda m: kernels.occ(m, 0.01, 0.12),
    "occ-coarse": lambda m: kernels.occ(m, 0.3, 0.6),
    "delaunay": lambda m: kernels.gmsh(m, 5),
    "frontal": lambda m: kernels.gmsh(m, 6, 16),
    "adapted": lambda m: kernels.gmsh(m, 1, 32, 4.0),
    "netgen": kernels.netgen,
    "netgen-fine": lambda m: kernels.netgen(m, 2.5, 5.0),
    "manifold": kernels.manifold,
    "manifold-fine": lambda m: kernels.manifold(m, 128),
}
COARSE = ("manifold",)
KINDS = ("occ", "delaunay", "netgen", "manifold", "occ-fine", "frontal", "netgen-fine", "manifold-fine", "occ-coarse",
         "adapted")  # fmt: skip


def drawn(recipe: int, seed: int) -> Made:
    return RECIPES[recipe](np.random.default_rng(1000 * seed + recipe))


def one(recipe: int, seed: int, kind: str, out: Path) -> None:
    made = drawn(recipe, seed)
    v, f = HOW[kind](made)
    name = f"{made.name}-{seed}-{kind}"
    truth = json.dumps([asdict(t) for t in made.truth], default=lambda x: np.asarray(x).tolist())
    np.savez_compressed(out / f"{name}.npz", vertices=v, faces=f, truth=np.array(truth), bodies=len(made.bodies))


def make(out: Path, seeds: list[int], kinds: tuple[str, ...] = KINDS) -> None:
    out.mkdir(parents=True, exist_ok=True)
    for seed in seeds:
        for recipe in range(len(RECIPES)):
            name = drawn(recipe, seed).name
            for kind in COARSE if name.startswith("coarse") else kinds:
                if (out / f"{name}-{seed}-{kind}.npz").exists():
                    continue
                call = [sys.executable, "-m", "fitset", "one", str(recipe), str(seed), kind, str(out)]
                try:
                    done = subprocess.run(call, capture_output=True, text=True, timeout=45)
                    if done.returncode:
                        print(f"{name} {seed} {kind}: {(done.stderr or done.stdout).strip()[-200:]}", flush=True)
                except subprocess.TimeoutExpired:
                    print(f"{name} {seed} {kind}: too long", flush=True)


def main(words: list[str]) -> None:
    if words[0] == "one":
        one(int(words[1]), int(words[2]), words[3], Path(words[4]))
        return
    kinds = tuple(w for w in words[2:] if w in HOW) or KINDS
    make(Path(words[1]), [int(w) for w in words[2:] if w.isdigit()] or [1], kinds)


if __name__ == "__main__":
    main(sys.argv[1:])
