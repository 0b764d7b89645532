"""One afternoon of a new user at the simulated workshop, from the first pulled bar to why the second clip is cooler."""

from __future__ import annotations

from datetime import datetime, timedelta
from pathlib import Path

import manifold3d as m3
import numpy as np
from conftest import Desk, mesh_of, pick, press, press_in_panel, seen, type_in

from knollside.core.mesh.write import stl_bytes
from knollside.core.model import Mesh
from knollside.store.records import Kind

NOON = datetime(2026, 11, 28, 12)


class Afternoon:
    """The desk with a clock of its own."""

    def __init__(self, desk: Desk) -> None:
        self.desk, self.now = desk, NOON
        desk.workspace.clock = lambda: self.now

    def later(self, minutes: float = 20) -> None:
        self.now += timedelta(minutes=minutes)

    def opens(self, name: str) -> None:
        self.desk.workspace.open(next(p.id for p in self.desk.shop.parts.names() if p.name == name))
        self.desk.settle(lambda: self.desk.facts is not None)

    def printed(self, heat: float, outcome: str = "came out well") -> None:
        """The clip printed at a heat and recorded."""
        desk = self.desk
        recipe = desk.part.recipe.model_copy(update={"nozzle_c": heat})
        desk.workspace.edit({Kind.RECIPE: recipe}, f"{heat:.0f}")
        desk.at("Bench", "Record")
        desk.settle(lambda: desk.fresh("price") is not None)
        self.later()
        pick(desk, "How the print came out", outcome)
        press(desk, "Record the print")


def settle_the_gap(desk: Desk) -> None:
    desk.at("Bench", "Trials", "Support gap")
    gaps = desk.window.steps["Bench"].trials.gaps
    for _ in range(8):
        if gaps.found().settled:
            break
        press_in_panel(desk, "Try it, simulated")
    assert gaps.found().settled
    best = gaps.found().best
    if abs(desk.part.support_settings.gap_mm - best) > 1e-9:
        press(desk, "Use it at Lay")
    assert desk.stored.orientation is None or abs(desk.part.support_settings.gap_mm - best) < 1e-9


def cure_the_strings(desk: Desk, hour: Afternoon) -> None:
    desk.at("Bench", "What went wrong")
    desk.settle(lambda: desk.fresh("supports") is not None)
    faults = desk.window.steps["Bench"].faults
    press_in_panel(desk, "A print goes wrong, simulated")
    number = faults.number
    for _ in range(16):
        if faults.number != number:
            break
        hour.later(5)
        waits = bool(faults.case.cures) and faults.case.cures[-1].helped is None
        press_in_panel(desk, "I did this" if faults.found().settled and not waits else "Do it, simulated")
    assert desk.shop.running.faults()[number].helped is not None


def clean_and_try(desk: Desk, hour: Afternoon, name: str) -> None:
    hour.opens(name)
    desk.at("Bench", "Clean up")
    desk.settle(lambda: desk.fresh("finish") is not None)
    clean = desk.window.steps["Bench"].clean
    while clean.chore is not None:
        press(desk, "Done, next")
    if any(t.moving for t in clean.finishing.tries):
        press_in_panel(desk, "by itself")


def break_one(desk: Desk) -> None:
    desk.window.take("Lay")
    desk.settle(lambda: desk.fresh("lay") is not None)
    desk.window.steps["Lay"]._choose("A")
    desk.settle(lambda: desk.fresh("detail") is not None)
    desk.at("Bench", "Trials", "Breaking")
    desk.settle(lambda: desk.fresh("detail") is not None)
    breaks = desk.window.steps["Bench"].trials.breaks
    face = int(np.argmax(desk.facts.mesh.triangles[:, :, 2].mean(axis=1)))
    desk.window._picked(face, desk.window.stage.to_screen(desk.facts.mesh.triangles[face].mean(axis=0)))
    desk.settle()
    assert breaks.clicked is not None and "Clicked" in seen(desk)
    type_in(desk, "Load when it broke", "60 N")
    press(desk, "Record it")
    test = desk.shop.learned.prints()[-1].broke
    assert test.load_N == 60 and test.at is not None and test.foretold_at is not None and test.predicted_N


def test_an_afternoon_at_the_bench(desk: Desk, tmp_path: Path) -> None:
    hour = Afternoon(desk)
    hour.opens("Trellis clip")
    hour.printed(250.0, "usable, with faults")
    # The clip's material pulled at four heats; its card follows.
    desk.at("Bench", "Trials", "Pull tests")
    press(desk, "New study")
    press(desk, "Pull them, simulated")
    plain = desk.part.plain_card
    press_in_panel(desk, "Take it into the card")
    assert len(desk.part.plain_card.bond_curves[0].points) == 4 and plain.bond_curves == ()
    settle_the_gap(desk)
    cure_the_strings(desk, hour)
    hour.printed(238.0)
    for name in ("Gate latch", "Vent hinge", "M6 knob"):
        clean_and_try(desk, hour, name)
    assert len(desk.shop.running.fit_checks()) == 2
    break_one(desk)
    # The knob is drawn anew, a little stouter, and says why.
    mesh = desk.facts.mesh
    taller = Mesh(mesh.vertices * np.array([1.0, 1.0, 1.06]), mesh.faces)
    path = tmp_path / "knob-2.stl"
    path.write_bytes(stl_bytes(taller, "knob"))
    mates = desk.stored.mates
    desk.window.part_step.open_revision(str(path))
    desk.settle(lambda: desk.part.revision == 2 and desk.facts is not None)
    assert desk.stored.revision_note.startswith("it broke") and desk.stored.mates == mates
    assert not desk.view.spoken_of_lost
    # Why was the second clip printed at 238?
    desk.window.take("Workshop")
    type_in(desk, "Search the record", "clip 238 bars")
    table = desk.window.steps["Workshop"].table
    hour.opens("Trellis clip")
    second = [r for r in desk.shop.learned.prints() if r.part_id == desk.part.id][-1]
    assert second.id in table.shown and second.details.recipe.nozzle_c == 238
    assert "Nozzle 238 °C, before 250 °C, by 30 pulled bars." in second.details.why
    assert "cured" in second.details.why


def test_a_revision_of_other_triangles_is_still_the_same_part(desk: Desk, tmp_path: Path) -> None:
    """The same plate from another mesher: twice as many facets."""

    def plate(sides: int) -> bytes:
        solid = m3.Manifold.cube((50, 30, 6))
        for x in (9, 41):
            solid = solid - m3.Manifold.cylinder(20, 2.6, circular_segments=sides).translate((x, 15, -5))
        return stl_bytes(mesh_of(solid), "plate")

    (tmp_path / "plate.stl").write_bytes(plate(32))
    (tmp_path / "finer.stl").write_bytes(plate(64))
    desk.settle(lambda: desk.facts is not None)
    desk.window.part_step.open_file(str(tmp_path / "plate.stl"))
    desk.settle(lambda: desk.part.name == "Plate" and desk.facts is not None)
    before = {f.id: f.centre for f in desk.facts.features}
    desk.window.part_step.open_revision(str(tmp_path / "finer.stl"))
    desk.settle(lambda: desk.part.revision == 2 and desk.facts is not None)
    after = {f.id: f.centre for f in desk.facts.features}
    assert before.keys() == after.keys()
    assert all(np.allclose(before[k], after[k], atol=0.1) for k in before)
