"""A small run of the fuzz with kept seeds, and every file that was ever a finding."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from fuzz.mutate import broken
from fuzz.targets import TARGETS

FOUND = sorted(p for p in (Path(__file__).parent / "found").rglob("*") if p.is_file())
# Some are slow to throw at: a process of its own for STEP, a whole demo workshop.
TIMES = {"step": 6, "workshop": 12, "whole": 15, "mesh": 120, "model": 60}


@pytest.mark.parametrize("path", FOUND, ids=lambda p: f"{p.parent.name}-{p.name}")
def test_what_was_once_a_finding_is_answered_or_refused(path: Path) -> None:
    TARGETS[path.parent.name].throw(path.read_bytes(), path.name)


@pytest.mark.parametrize("name", TARGETS)
def test_sound_files_are_read_and_broken_ones_answered_or_refused(name: str) -> None:
    target, rng = TARGETS[name], np.random.default_rng(20261127)
    seeds = target.seeds()
    for sound in seeds.items():
        target.throw(sound[1], sound[0])
    names = sorted(seeds)
    for _ in range(TIMES.get(name, 200)):
        which = names[int(rng.integers(len(names)))]
        target.throw(broken(seeds[which], rng), which)
