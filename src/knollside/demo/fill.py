"""Fills an empty workshop with the demonstration job: our own club, parts, printers and records."""

from __future__ import annotations

from datetime import datetime, timedelta

import numpy as np

from knollside.core.mesh.load import load_file
from knollside.core.model import BreakTest, Measurement, PrinterFacts, Recipe
from knollside.core.model.faults import Answered, Cause, Cured, FaultCase, FaultTest, Symptom
from knollside.core.model.prints import PrintDetails
from knollside.core.model.running import Presence, PrinterEvent, PrinterLog, Run, RunPiece, SpoolLog, Stay
from knollside.demo.design_cases import DEMO, PARTS
from knollside.sim.desk import SimulatedCalliper, printer_named
from knollside.store.records import Kind, PrintRecord
from knollside.store.running import Log
from knollside.store.workshop import Workshop

_START = datetime(2026, 9, 5, 9, 0)
_WHITE = ("label-plate", "trellis-clip")
_COPIES = {
    "hose-arm": 1,
    "vent-hinge": 2,
    "m6-knob": 6,
    "label-plate": 8,
    "trellis-clip": 6,
    "stay-bar": 2,
    "stay-pawl": 4,
    "gate-latch": 2,
    "union-nut": 4,
}


def fill_demo(shop: Workshop) -> None:
    """Put everything in; does nothing to a workshop that already holds a job."""
    if shop.parts.names():
        return
    with shop.together():
        _fill(shop)


def _fill(shop: Workshop) -> None:
    tom = shop.machines.add_printer(
        PrinterFacts(name="Old Tom", bed_mm=(220.0, 220.0, 250.0), nozzle_max_c=260.0, bed_max_c=90.0)
    )
    brick = shop.machines.add_printer(
        PrinterFacts(
            name="The Brick",
            bed_mm=(250.0, 250.0, 260.0),
            nozzle_max_c=300.0,
            bed_max_c=110.0,
            enclosed=True,
            hard_nozzle=True,
        )
    )
    green = shop.machines.add_spool("PETG green", "PETG", 640, True)
    white = shop.machines.add_spool("PETG white", "PETG", 86, True)
    grey = shop.machines.add_spool("ASA grey", "ASA", 690, True)
    nylon = shop.machines.add_spool("Nylon", "Nylon", 288, False)
    job = shop.parts.add_job("Cold frame and hose corner")
    ids = {}
    for stem, title, make, which in DEMO:
        printer, spool = ((tom, white if stem in _WHITE else green), (brick, grey))[which]
        part = shop.parts.add(job, title, load_file(PARTS / f"{stem}.stl").mesh, "as made", printer, spool)
        ids[stem] = part
        design_case, recipe, mates = make()
        for kind, value in ((Kind.DESIGN_CASE, design_case), (Kind.RECIPE, recipe), (Kind.MATES, mates)):
            shop.parts.put(part, kind, value)
    _records(shop, tom, brick, ids)
    _remembered(shop, tom, ids)
    _running(shop, (tom, brick), (green, white, grey, nylon), ids)


def _running(shop: Workshop, printers: tuple[int, int], spools: tuple[int, ...], ids: dict[str, int]) -> None:
    """A run of all parts, what is loaded, and how the spools were kept."""
    for printer, loaded in zip(printers, ("PETG green", "ASA grey"), strict=True):
        done = PrinterEvent(kind="first use", at=_START - timedelta(days=2))
        shop.running.put(Log.PRINTER, printer, PrinterLog(loaded=loaded, events=(done,), monitor="simulated"))
    for spool, net, days, where in zip(spools, (640, 86, 690, 288), (30, 70, 25, 60), ("box", "box", "box", "open")):
        opened = _START + timedelta(days=80 - days)
        stay = Stay.model_validate({"since": opened, "where": where, "humidity": 0.2 if where == "box" else 0.5})
        log = SpoolLog(opened=opened.date(), net_g=net, net_doubt_g=0.06 * net, stays=(stay,))
        shop.running.put(Log.SPOOL, spool, log)
    shop.running.put(Log.PRESENCE, 0, Presence(zone="Europe/London"))
    pieces = tuple(RunPiece(part=ids[stem], copies=n) for stem, n in _COPIES.items())
    shop.running.add(Log.RUN, Run(name="Two plots fitted", pieces=pieces))


def _records(shop: Workshop, tom: int, brick: int, ids: dict[str, int]) -> None:
    _measured(shop, tom, brick)
    _printed(shop, tom, brick, ids)


def _remembered(shop: Workshop, tom: int, ids: dict[str, int]) -> None:
    """Prints of which more is known: a clip that strung, cured and printed cooler; a knob that was tight."""
    begun = _START + timedelta(days=62)
    strung = FaultCase(
        part=ids["trellis-clip"],
        printer=tom,
        material="PETG",
        opened=begun,
        height=18.0,
        seen=(Symptom.STRINGS, Symptom.MATTE),
        answers=(Answered(test=FaultTest.LISTEN, answer="yes", at=begun + timedelta(hours=1)),),
        cures=(Cured(cause=Cause.WET, at=begun + timedelta(hours=2), helped=True),),
        closed=True,
    )
    shop.running.put(Log.FAULT, 1, strung)
    hot = Recipe(nozzle_c=250.0, fan=0.4, infill=0.4)
    cooler = hot.model_copy(update={"nozzle_c": 238.0})
    clip = {"revision": 1, "spool": "PETG white", "direction": (0.0, 0.0, 1.0), "estimate_g": 9.4}
    for stem, days, outcome, details in (
        (
            "trellis-clip",
            62,
            "usable, with faults",
            clip | {"recipe": hot, "fit": "good", "strength": "good", "look": "bad", "faults": (1,), "actual_g": 9.9},
        ),
        (
            "trellis-clip",
            64,
            "came out well",
            clip
            | {
                "recipe": cooler,
                "fit": "good",
                "strength": "good",
                "look": "good",
                "ease": "good",
                "actual_g": 9.5,
                "why": "Nozzle 238 °C, before 250 °C: bars at 238 were as strong within 10 %. Strings: wet filament, "
                "dried and cured.",
            },
        ),
        (
            "m6-knob",
            66,
            "does not fit",
            {"revision": 1, "recipe": cooler, "spool": "PETG green", "fit": "bad", "strength": "good"}
            | {"next": "The nut's pocket 0.15 mm wider across"},
        ),
    ):
        made = PrintDetails.model_validate(details)
        at = _START + timedelta(days=days)
        shop.learned.add_print(PrintRecord(0, ids[stem], tom, "PETG", at, None, None, outcome, None, made))


def _measured(shop: Workshop, tom: int, brick: int) -> None:
    """Holes and pins that a calliper was held to."""
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
                shop.learned.add_measurements(
                    printer,
                    material,
                    _START + timedelta(days=20, minutes=3 * i),
                    [
                        Measurement(
                            kind=kind,
                            axis="upright",
                            drawn=drawn,
                            printed=size,
                            source="calliper",
                            nozzle_mm=0.4,
                            bar="hole and pin bar",
                        )
                    ],
                )


def _printed(shop: Workshop, tom: int, brick: int, ids: dict[str, int]) -> None:
    """Prints with their hours and outcome, and bars that were broken."""
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
        shop.learned.add_print(
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
        shop.learned.add_print(
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
