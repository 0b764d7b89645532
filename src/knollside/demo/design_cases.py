"""What each demo part is for: its duty, its recipe, what goes into its holes."""

from __future__ import annotations

from pathlib import Path

from knollside.core.mesh.features import feature_at, find_features
from knollside.core.mesh.load import load_file
from knollside.core.model import (
    Danger,
    DeflectionLoad,
    DesignCase,
    FixedFixture,
    ForceLoad,
    LoadCase,
    Mate,
    Purpose,
    Recipe,
    ScrewFixture,
    SlidingFixture,
    Surroundings,
)

PARTS = Path(__file__).parent / "parts"
OUTDOORS = Surroundings(temperature_c=45.0, sun=True, wet=True)
_Made = tuple[DesignCase, Recipe, tuple[Mate, ...]]


def arm() -> _Made:
    mesh = load_file(PARTS / "hose-arm.stl").mesh
    # By place: numbers shift when recognition learns something new.
    saddle = feature_at(mesh, find_features(mesh), (120, 0, 78)).id
    holes = [f"hole-{i}" for i in (1, 2, 3, 4)]
    design_case = DesignCase(
        purpose=Purpose.WORKING,
        fixtures=tuple(ScrewFixture(feature=h, head_mm=9.2) for h in holes),
        cases=(
            LoadCase(
                name="the wet hose",
                loads=(ForceLoad(feature=saddle, force_N=(0, 0, -88.26)),),
                permanent=True,
                knocked=True,
            ),
            LoadCase(name="a sideways bump", loads=(ForceLoad(at=(146, 0, 84), force_N=(0, 60, 0)),), knocked=True),
        ),
        surroundings=OUTDOORS,
        danger=Danger.NOBODY,
    )
    return (
        design_case,
        Recipe(walls=4, infill=0.3, tops=5, bottoms=4),
        tuple(Mate(feature=h, hardware="M5", fit="close") for h in holes),
    )


def hinge() -> _Made:
    design_case = DesignCase(
        purpose=Purpose.WORKING,
        fixtures=(FixedFixture(feature="hole-1"), FixedFixture(feature="hole-2")),
        cases=(
            LoadCase(
                name="the lid",
                loads=(ForceLoad(at=(0, 7, 12), force_N=(0, 0, -7)), ForceLoad(at=(0, 43, 12), force_N=(0, 0, -7))),
                repeated=True,
            ),
        ),
        surroundings=Surroundings(temperature_c=55.0, sun=True, wet=True),
        danger=Danger.NOBODY,
    )
    return (
        design_case,
        Recipe(walls=4, infill=1.0),
        tuple(Mate(feature=f"hole-{i}", hardware="M4", fit="medium") for i in (1, 2, 3, 4)),
    )


def knob() -> _Made:
    turn = 2000.0 / 41.0  # 2 N m as a pair of pushes 41 mm apart: two fingers on opposite lobes
    design_case = DesignCase(
        purpose=Purpose.WORKING,
        fixtures=(FixedFixture(feature="hexagon-1"),),
        cases=(
            LoadCase(
                name="a hand turning it",
                repeated=True,
                loads=(
                    ForceLoad(at=(20.5, 0, 17), force_N=(0, turn, 0)),
                    ForceLoad(at=(-20.5, 0, 17), force_N=(0, -turn, 0)),
                ),
            ),
        ),
        surroundings=OUTDOORS,
        danger=Danger.NOBODY,
    )
    return design_case, Recipe(walls=3, infill=0.3), (Mate(feature="hole-1", hardware="M6", fit="close"),)


def clip() -> _Made:
    design_case = DesignCase(
        purpose=Purpose.WORKING,
        fixtures=(ScrewFixture(feature="hole-1", head_mm=8.0), ScrewFixture(feature="hole-2", head_mm=8.0)),
        cases=(
            LoadCase(
                name="snapped on",
                repeated=True,
                cycles=20,
                loads=(
                    DeflectionLoad(at=(9.6, 6.4, 7), deflection_mm=(0, 0.6, 0)),
                    DeflectionLoad(at=(9.6, -6.4, 7), deflection_mm=(0, -0.6, 0)),
                ),
            ),
            LoadCase(name="the vine", loads=(ForceLoad(at=(-8.15, 0, 7), force_N=(25, 0, 0)),), permanent=True),
        ),
        surroundings=OUTDOORS,
        danger=Danger.NOBODY,
    )
    return design_case, clip_recipe(), (Mate(feature="hole-1", hardware="M4", fit="medium"),)


def clip_recipe() -> Recipe:
    """What the trellis clip is planned with; the demo's sliced files are made from it."""
    return Recipe(walls=3, infill=1.0)


def label() -> _Made:
    design_case = DesignCase(purpose=Purpose.SHOW, surroundings=OUTDOORS, danger=Danger.NOBODY)
    return (
        design_case,
        Recipe(layer_height=0.16, walls=3, infill=0.2),
        (Mate(feature="hole-1", hardware="M4", fit="medium"), Mate(feature="hole-2", hardware="M4", fit="medium")),
    )


def bar() -> _Made:
    """Held at its pin, one tooth near the end takes the lid."""
    design_case = DesignCase(
        purpose=Purpose.WORKING,
        fixtures=(FixedFixture(feature="hole-1"), SlidingFixture(at=(60, 0, 5))),
        cases=(
            LoadCase(
                name="the lid on a tooth", loads=(ForceLoad(at=(139, 12, 5), force_N=(-60, 0, 0)),), repeated=True
            ),
        ),
        surroundings=Surroundings(temperature_c=55.0, sun=True, wet=True),
        danger=Danger.NOBODY,
    )
    return design_case, Recipe(walls=4, infill=0.4), (Mate(feature="hole-1", hardware="M5", fit="close"),)


def pawl() -> _Made:
    """The lever on its pin; the tooth's face takes 60 N along the bar."""
    design_case = DesignCase(
        purpose=Purpose.WORKING,
        fixtures=(FixedFixture(feature="hole-1"),),
        cases=(
            LoadCase(
                name="the lid on the tooth", loads=(ForceLoad(at=(41.3, -7.5, 6), force_N=(-60, 0, 0)),), repeated=True
            ),
        ),
        surroundings=Surroundings(temperature_c=55.0, sun=True, wet=True),
        danger=Danger.NOBODY,
    )
    return design_case, Recipe(walls=4, infill=0.4), (Mate(feature="hole-1", hardware="M5", fit="medium"),)


def latch() -> _Made:
    return (
        DesignCase(purpose=Purpose.WORKING, surroundings=OUTDOORS, danger=Danger.NOBODY),
        Recipe(walls=3, infill=0.3),
        tuple(Mate(feature=f"hole-{i}", hardware="M4", fit="medium") for i in (1, 2, 3, 4)),
    )


def nut() -> _Made:
    return (
        DesignCase(purpose=Purpose.WORKING, surroundings=OUTDOORS, danger=Danger.NOBODY),
        Recipe(walls=4, infill=0.4),
        (),
    )


# File, title, what it is for, printer and spool by their place in the workshop.
DEMO = (
    ("hose-arm", "Hose arm", arm, 0),
    ("vent-hinge", "Vent hinge", hinge, 0),
    ("m6-knob", "M6 knob", knob, 1),
    ("label-plate", "Label plate", label, 0),
    ("trellis-clip", "Trellis clip", clip, 0),
    ("stay-bar", "Stay bar", bar, 0),
    ("stay-pawl", "Stay pawl", pawl, 0),
    ("gate-latch", "Gate latch", latch, 0),
    ("union-nut", "Union nut", nut, 0),
)
