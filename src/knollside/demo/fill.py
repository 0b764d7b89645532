"""Fills an empty workshop with the demonstration job: our own club, parts, printers and records."""

from __future__ import annotations

from datetime import datetime, timedelta
from pathlib import Path

import numpy as np

from knollside.core.job.file import PrinterFacts
from knollside.core.mesh.features import feature_at, find_features
from knollside.core.mesh.load import load_file
from knollside.core.model import (
    BreakTest,
    Danger,
    Duty,
    FaceMark,
    Held,
    Load,
    LoadCase,
    Mate,
    Measurement,
    Purpose,
    Recipe,
    Surroundings,
)
from knollside.sim.desk import SimulatedCalliper, printer_named
from knollside.store.workshop import PrintRecord, Workshop

PARTS = Path(__file__).parent / "parts"
_START = datetime(2026, 9, 5, 9, 0)
OUTDOORS = Surroundings(temperature_c=45.0, sun=True, wet=True)


def _arm() -> tuple[Duty, Recipe, tuple[Mate, ...]]:
    mesh = load_file(PARTS / "hose-arm.stl").mesh
    # By place: numbers shift when recognition learns something new.
    saddle = feature_at(mesh, find_features(mesh), (120, 0, 78)).id
    holes = [f"hole-{i}" for i in (1, 2, 3, 4)]
    duty = Duty(
        purpose=Purpose.WORKING,
        held=tuple(Held(feature=h, kind="screw", head_mm=9.2) for h in holes),
        cases=(
            LoadCase(
                name="the wet hose",
                loads=(Load(feature=saddle, force_N=(0, 0, -88.26)),),
                permanent=True,
                knocked=True,
            ),
            LoadCase(name="a sideways bump", loads=(Load(at=(146, 0, 84), force_N=(0, 60, 0)),), knocked=True),
        ),
        surroundings=OUTDOORS,
        danger=Danger.NOBODY,
        marks={**dict.fromkeys(holes, FaceMark.HELD), saddle: FaceMark.PUSHED},
    )
    return (
        duty,
        Recipe(walls=4, infill=0.3, tops=5, bottoms=4),
        tuple(Mate(feature=h, hardware="M5", fit="close") for h in holes),
    )


def _hinge() -> tuple[Duty, Recipe, tuple[Mate, ...]]:
    duty = Duty(
        purpose=Purpose.WORKING,
        held=(Held(feature="hole-1"), Held(feature="hole-2")),
        cases=(
            LoadCase(
                name="the lid",
                loads=(Load(at=(0, 7, 12), force_N=(0, 0, -7)), Load(at=(0, 43, 12), force_N=(0, 0, -7))),
                repeated=True,
            ),
        ),
        surroundings=Surroundings(temperature_c=55.0, sun=True, wet=True),
        danger=Danger.NOBODY,
        marks={"hole-1": FaceMark.HELD, "hole-2": FaceMark.HELD},
    )
    return (
        duty,
        Recipe(walls=4, infill=1.0),
        tuple(Mate(feature=f"hole-{i}", hardware="M4", fit="medium") for i in (1, 2, 3, 4)),
    )


def _knob() -> tuple[Duty, Recipe, tuple[Mate, ...]]:
    turn = 2000.0 / 41.0  # 2 N m as a pair of pushes 41 mm apart: two fingers on opposite lobes
    duty = Duty(
        purpose=Purpose.WORKING,
        held=(Held(feature="hexagon-1"),),
        cases=(
            LoadCase(
                name="a hand turning it",
                repeated=True,
                loads=(Load(at=(20.5, 0, 17), force_N=(0, turn, 0)), Load(at=(-20.5, 0, 17), force_N=(0, -turn, 0))),
            ),
        ),
        surroundings=OUTDOORS,
        danger=Danger.NOBODY,
        marks={"hexagon-1": FaceMark.MATES},
    )
    return duty, Recipe(walls=3, infill=0.3), (Mate(feature="hole-1", hardware="M6", fit="close"),)


def _clip() -> tuple[Duty, Recipe, tuple[Mate, ...]]:
    duty = Duty(
        purpose=Purpose.WORKING,
        held=(Held(feature="hole-1", kind="screw", head_mm=8.0), Held(feature="hole-2", kind="screw", head_mm=8.0)),
        cases=(
            LoadCase(
                name="snapped on",
                repeated=True,
                cycles=20,
                loads=(
                    Load(at=(9.6, 6.4, 7), kind="deflection", deflection_mm=(0, 0.6, 0)),
                    Load(at=(9.6, -6.4, 7), kind="deflection", deflection_mm=(0, -0.6, 0)),
                ),
            ),
            LoadCase(name="the vine", loads=(Load(at=(-8.15, 0, 7), force_N=(25, 0, 0)),), permanent=True),
        ),
        surroundings=OUTDOORS,
        danger=Danger.NOBODY,
        marks={"hole-1": FaceMark.HELD, "hole-2": FaceMark.HELD},
    )
    return duty, clip_recipe(), (Mate(feature="hole-1", hardware="M4", fit="medium"),)


def clip_recipe() -> Recipe:
    """What the trellis clip is planned with; the demo's sliced files are made from it."""
    return Recipe(walls=3, infill=1.0)


def _label() -> tuple[Duty, Recipe, tuple[Mate, ...]]:
    duty = Duty(purpose=Purpose.SHOW, surroundings=OUTDOORS, danger=Danger.NOBODY)
    return (
        duty,
        Recipe(layer_height=0.16, walls=3, infill=0.2),
        (Mate(feature="hole-1", hardware="M4", fit="medium"), Mate(feature="hole-2", hardware="M4", fit="medium")),
    )


def fill_demo(shop: Workshop) -> None:
    """Put everything in; does nothing to a workshop that already holds a job."""
    if shop.parts():
        return
    tom = shop.add_printer(
        PrinterFacts(name="Old Tom", bed_mm=(220.0, 220.0, 250.0), nozzle_max_c=260.0, bed_max_c=90.0)
    )
    brick = shop.add_printer(
        PrinterFacts(
            name="The Brick",
            bed_mm=(250.0, 250.0, 260.0),
            nozzle_max_c=300.0,
            bed_max_c=110.0,
            enclosed=True,
            hard_nozzle=True,
        )
    )
    green = shop.add_spool("PETG green", "PETG", 640, True)
    shop.add_spool("PETG white", "PETG", 86, True)
    grey = shop.add_spool("ASA grey", "ASA", 690, True)
    shop.add_spool("Nylon", "Nylon", 288, False)
    job = shop.add_job("Cold frame and hose corner")
    ids = {}
    for stem, title, make, printer, spool in (
        ("hose-arm", "Hose arm", _arm, tom, green),
        ("vent-hinge", "Vent hinge", _hinge, tom, green),
        ("m6-knob", "M6 knob", _knob, brick, grey),
        ("label-plate", "Label plate", _label, tom, green),
        ("trellis-clip", "Trellis clip", _clip, tom, green),
    ):
        part = shop.add_part(job, title, load_file(PARTS / f"{stem}.stl").mesh, "as made", printer, spool)
        ids[stem] = part
        duty, recipe, mates = make()
        for kind, value in (("duty", duty), ("recipe", recipe), ("mates", mates)):
            shop.put_document(part, kind, value)
    _records(shop, tom, brick, ids)


def _records(shop: Workshop, tom: int, brick: int, ids: dict[str, int]) -> None:
    rng = np.random.default_rng(20260905)
    calliper = SimulatedCalliper()
    for printer, name, material, sizes in (
        (tom, "Old Tom", "PETG", (3.0, 4.0, 5.0)),
        (brick, "The Brick", "ASA", (4.0, 5.0, 6.0, 8.0)),
    ):
        machine = printer_named(name)
        for i, drawn in enumerate(sizes):
            for kind in ("hole", "pin"):
                size = calliper.read(machine.printed(kind, "upright", drawn, rng), rng)
                shop.add_measurement(
                    printer,
                    material,
                    _START + timedelta(days=20, minutes=3 * i),
                    Measurement(kind=kind, axis="upright", drawn=drawn, printed=size, source="calliper"),
                )
    for i, (printer, material, estimate, over, outcome) in enumerate(
        (
            (tom, "PETG", 6.5, 1.13, "came out well"),
            (tom, "PETG", 2.2, 1.09, "strings in the corners"),
            (tom, "PETG", 4.0, 1.12, "came out well"),
            (tom, "PETG", 1.1, 1.16, "corner lifted, usable"),
            (brick, "ASA", 3.2, 1.03, "came out well"),
            (brick, "ASA", 5.5, 1.02, "came out well"),
            (brick, "ASA", 0.9, 1.06, "came out well"),
        )
    ):
        shop.add_print(
            PrintRecord(
                0,
                ids["hose-arm"] if i == 0 else None,
                printer,
                material,
                _START + timedelta(days=5 * i),
                estimate,
                round(estimate * over, 2),
                outcome,
                None,
            )
        )
    for i, ratio in enumerate((0.55, 0.61, 0.58, 0.60, 0.56, 0.59)):
        shop.add_print(
            PrintRecord(
                0,
                None,
                tom,
                "PETG",
                _START + timedelta(days=58, hours=i),
                None,
                None,
                "pair of pull bars",
                BreakTest(mode="along a layer", ratio=ratio),
            )
        )
