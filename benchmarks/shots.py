"""Refreshes docs/screenshots from the demo: each main view in Day, two in Lamp."""

from __future__ import annotations

import os

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import sys
import tempfile
import time
from functools import partial
from pathlib import Path

OUT = Path(__file__).parent.parent / "docs/screenshots"


def main() -> None:
    from datetime import datetime

    from PyQt6.QtWidgets import QApplication

    sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
    from conftest import open_desk
    from palette import save_small

    from knollside.core.model.faults import Symptom
    from knollside.gui.theme.look import look

    wanted = sys.argv[1:]  # all of them where none is named
    app = QApplication([])
    OUT.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as folder:
        desk = open_desk(app, Path(folder) / "w.sqlite")
        desk.settle = partial(desk.settle, seconds=600)  # full grids here, not a test's coarse ones
        window = desk.window

        def shot(name: str) -> None:
            desk.settle()
            if wanted and name not in wanted:
                return
            time.sleep(0.3)
            for _ in range(20):
                app.processEvents()
                time.sleep(0.01)
            save_small(window.grab().toImage(), OUT / f"{name}.png")
            print(f"{name}.png")

        desk.settle(lambda: desk.facts is not None)
        desk.session.pick("hole-3")
        shot("1-part")
        window.take("Lay")
        desk.settle(lambda: desk.fresh("lay") is not None)
        window.steps["Lay"]._choose("A")
        desk.settle(lambda: desk.fresh("detail") is not None)
        desk.settle(lambda: desk.fresh("layers") is not None)
        shot("3-lay")
        lay = window.steps["Lay"]
        lay.turn_to(4)
        desk.settle(lambda: desk.fresh("supports") is not None)
        shot("3-lay-supports")
        lay.turn_to(0)
        window.take("Duty")
        shot("2-duty")
        window.take("Build")
        desk.settle(lambda: desk.fresh("build") is not None)
        board = desk.fresh("build").board
        best = board.preset("Lightest that holds") or board.preset("Some of both")
        build = window.steps["Build"]
        build._try(best.recipe)
        shot("4-build")
        build.turn_to(0)
        window.steps["Build"]._use()
        desk.settle(lambda: desk.fresh("prove") is not None)
        window.take("Fits")
        desk.settle(lambda: desk.fresh("fits") is not None)
        fits = window.steps["Fits"]
        fits._set("hole-1", {"shape": "teardrop"})
        desk.session.pick("hole-1")
        desk.settle(lambda: desk.fresh("fits") is not None)
        fits.correct()
        desk.settle(lambda: desk.fresh("correct") is not None)
        shot("5-fits")
        arm = desk.part.id
        desk.workspace.open(next(p.id for p in desk.shop.parts.names() if p.name == "Vent hinge"))
        desk.settle(lambda: desk.facts is not None)
        window.take("Bench")
        bench = window.steps["Bench"].measuring
        for piece, count in (("bar", 8), ("flare", 4), ("ladder", 11)):
            bench.choose(piece)
            desk.settle(lambda count=count: bench.slip.count == count)
            bench.simulate_rest()
            desk.settle()
        window.take("Fits")
        fits.tabs.turn_to(1)
        desk.settle(lambda: desk.fresh("gaps") is not None)
        fits._show_gap(desk.fresh("gaps")[0].gap)
        shot("5-fits-hinge")
        fits.tabs.turn_to(0)
        window.take("Proof")
        window.steps["Proof"].choose("ladder")
        desk.settle(lambda: window.steps["Proof"].pieces.piece is not None)
        shot("6-proof")
        desk.workspace.open(arm)
        desk.settle(lambda: desk.facts is not None)
        window.take("Run")
        window.steps["Run"].export_to(Path(folder))
        shot("7-run")
        run = window.steps["Run"]
        run.tabs.turn_to(1)
        desk.settle(lambda: run.plates.desk.laid.fresh is not None)
        shot("7-run-plates")
        run.tabs.turn_to(2)
        desk.workspace.clock = lambda: datetime(2026, 11, 30, 17, 10)
        run.week.plan()
        desk.settle(lambda: run.plates.desk.planned.fresh is not None)
        shot("7-run-week")
        planned = run.week.desk.planned.fresh
        for slot in planned.plan.slots[:2]:
            run.week._begin(slot, planned)
        run.tabs.turn_to(3)
        desk.workspace.clock = lambda: datetime(2026, 11, 30, 19, 0)
        for k in range(2):
            run.watch._take(k)
            run.watch._first_layer("right")
        shot("7-run-watch")
        desk.workspace.clock = datetime.now
        run.tabs.turn_to(0)
        window.take("Bench")
        bench.choose("bar")
        desk.settle(lambda: bench.slip.count > 0)
        for _ in range(3):
            bench.simulate()
            desk.settle()
        look.switch(True)
        shot("8-bench-lamp")
        look.switch(False)
        whole = window.steps["Bench"]
        whole.tabs.turn_to(2)
        desk.settle()
        whole.trials.pulls.begin()
        whole.trials.pulls._change({"levels": (214.0, 226.0, 238.0, 250.0), "each": 8}, "four heats")
        whole.trials.pulls.simulate()
        shot("8-bench-pulls")
        desk.workspace.open(next(p.id for p in desk.shop.parts.names() if p.name == "Gate latch"))
        desk.settle(lambda: desk.facts is not None)
        window.take("Bench")
        whole.tabs.turn_to(4)
        desk.settle(lambda: desk.fresh("finish") is not None)
        whole.clean.next()
        shot("8-bench-clean")
        desk.workspace.open(next(p.id for p in desk.shop.parts.names() if p.name == "Trellis clip"))
        desk.settle(lambda: desk.facts is not None)
        window.take("Bench")
        whole.tabs.turn_to(3)
        desk.settle(lambda: desk.fresh("supports") is not None)
        for symptom in (Symptom.GRINDING, Symptom.THIN):
            whole.faults.take(symptom)
        whole.faults.point((0.0, 0.0, 9.0))
        whole.faults.turn(False)
        shot("8-bench-wrong")
        whole.tabs.turn_to(5)
        desk.settle(lambda: desk.fresh("price") is not None)
        whole.record._compare(whole.record.prints[0].id)
        shot("8-bench-record")
        whole.tabs.turn_to(0)
        window.take("Workshop")
        shot("9-workshop")
        window.steps["Workshop"].tabs.turn_to(1)
        shot("9-workshop-spools")
        window.close()


if __name__ == "__main__":
    main()
