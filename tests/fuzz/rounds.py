"""The rounds of a fuzz run, each in a process of its own that tells what it is about to do before it does it."""

from __future__ import annotations

import faulthandler
import tempfile
import traceback
from pathlib import Path

import numpy as np

from fuzz.mutate import broken
from fuzz.targets import TARGETS

A_ROUND = {"step": 4, "workshop": 8, "whole": 20}
ACTS = 60


def throw_some(name: str, seed: int, report) -> None:  # type: ignore[no-untyped-def]
    """In a process of its own: files of one target; the one in hand is told before it is thrown."""
    faulthandler.enable()
    rng, seeds = np.random.default_rng(seed), TARGETS[name].seeds()
    for _ in range(A_ROUND.get(name, 150)):
        which = sorted(seeds)[int(rng.integers(len(seeds)))]
        data = broken(seeds[which], rng)
        report.send((which, data, ""))
        try:
            TARGETS[name].throw(data, which)
        except Exception:
            report.send((which, data, traceback.format_exc()))
    report.send(None)


def use_window(name: str, seed: int, report) -> None:  # type: ignore[no-untyped-def]
    """In a process of its own: a user at the demo workshop."""
    from conftest import open_desk
    from PyQt6.QtWidgets import QApplication

    from fuzz.user import User

    faulthandler.enable()
    app = QApplication([])
    with tempfile.TemporaryDirectory() as folder:
        here = Path(folder)
        files = []
        rng = np.random.default_rng(seed)
        for kind in ("mesh", "job", "table", "toolpath"):
            for which, data in TARGETS[kind].seeds().items():
                for k, made in enumerate((data, broken(data, rng))):
                    files.append(here / f"{k}-{which}")
                    files[-1].write_bytes(made)
        desk = open_desk(app, here / "w.sqlite")
        user = User(desk.window, seed, files, here)
        for _ in range(ACTS):
            report.send(("actions.txt", "\n".join(user.done).encode(), ""))
            user.act()
            if user.faults:
                report.send(("actions.txt", "\n".join(user.done).encode(), user.faults[0]))
                break
        desk.window.close()
        report.send(None)
