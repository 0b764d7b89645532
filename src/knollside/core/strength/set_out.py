"""A design case put on a grid: the bodies it is solved for, what holds them, and every case with its forces."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from knollside.core.mesh.check import check
from knollside.core.mesh.features import feature_at
from knollside.core.mesh.topology import bodies_of
from knollside.core.model import (
    GRAVITY,
    Array,
    DesignCase,
    Feature,
    FixedFixture,
    Fixture,
    Ints,
    Load,
    Mesh,
    PinFixture,
    Placed,
    Refused,
    ScrewFixture,
    ThreadFixture,
    WallFixture,
)
from knollside.core.strength import conditions
from knollside.core.strength.graded import Graded, Sizing, graded
from knollside.core.strength.grid import Grid, choose_size, make_grid, pieces
from knollside.core.strength.mesh_size import refuse_if_short
from knollside.core.strength.setups import Pushed
from knollside.core.strength.setups import pushed as pushed_by


def place_feature(mesh: Mesh, features: tuple[Feature, ...], place: Placed) -> Feature:
    """The feature a held place or load names, by id or by nearest point."""
    if place.feature is not None:
        for f in features:
            if f.id == place.feature:
                return f
        if place.feature.startswith("patch-") and place.feature[6:].isdigit():
            from knollside.core.mesh.features import feature_of_face

            face = int(place.feature[6:])
            if face < len(mesh.faces):
                return feature_of_face(mesh, features, face)
        raise Refused(f"There is no feature '{place.feature}' on this part.")
    assert place.at is not None
    return feature_at(mesh, features, place.at)


@dataclass(frozen=True)
class CellSize:
    """Cells of about so many mm, in place of about so many cells."""

    mm: float


@dataclass(frozen=True)
class SetOut:
    """The design case on its grid: the bodies it is solved for, what holds them, and every case with its forces;
    ``asked`` the cell size the grid was laid for, mm."""

    work: Mesh
    grid: Grid | Graded
    held: list[tuple[conditions.Constraint, Feature]]
    cases: list[Pushed]
    notes: tuple[str, ...]
    asked: float
    rims: Array


def set_out(
    mesh: Mesh,
    features: tuple[Feature, ...],
    design_case: DesignCase,
    cells: int | CellSize,
    sizing: Sizing | None,
    density: float = 0.0,
) -> SetOut:
    """``density`` g/cm3, for cases in which the part's own weight acts."""
    fixtures = [(h, place_feature(mesh, features, h)) for h in design_case.fixtures]
    pushed = [[(ld, place_feature(mesh, features, ld)) for ld in case.loads] for case in design_case.cases]
    for row in pushed:
        _refuse_into_the_hold(row, fixtures)
    work, keep, notes = _held_bodies(mesh, [f for _, f in fixtures], [f for row in pushed for _, f in row])
    renumber = np.full(len(mesh.faces), -1, np.int64)
    renumber[keep] = np.arange(len(keep))
    asked = cells.mm if isinstance(cells, CellSize) else choose_size(work, cells)
    base = make_grid(work, asked)
    refuse_if_short(len(base.cells))
    _refuse_pieces(work, base)
    grid = base if sizing is None else graded(work, base, sizing)
    rims = [conditions.rim(work, renumber[f.faces], h, f, 0.25 * design_case.critical_mm) for h, f in fixtures]
    held = [(conditions.constrain(grid, work, renumber[f.faces], h, f), f) for h, f in fixtures]
    conditions.refuse_if_loose([c for c, _ in held], float(work.size.max()))
    cases = [
        pushed_by(
            grid,
            work,
            case.name,
            [(ld, f, renumber[f.faces]) for ld, f in row],
            density * 1e-6 * GRAVITY if case.own_weight else 0.0,
        )
        for case, row in zip(design_case.cases, pushed, strict=True)
        if row or case.own_weight
    ]
    return SetOut(work, grid, held, cases, tuple(notes), asked, np.vstack(rims))


def _refuse_into_the_hold(loads: list[tuple[Load, Feature]], fixtures: list[tuple[Fixture, Feature]]) -> None:
    """A load on a face that is held all over goes straight into the hold: the part would seem not to feel it."""
    for _, pushed_on in loads:
        for fixture, held_by in fixtures:
            if (
                isinstance(fixture, FixedFixture | ScrewFixture | ThreadFixture | PinFixture | WallFixture)
                and np.isin(pushed_on.faces, held_by.faces).all()
            ):
                raise Refused(
                    f"A load acts on {pushed_on.title.lower()}, which is held: it would go straight into the hold and "
                    "the part not feel it. Push another face, or hold another one."
                )


def _refuse_pieces(work: Mesh, grid: Grid) -> None:
    count, _ = pieces(grid)
    bodies = state_bodies(work, len(np.unique(bodies_of(work)[1])))
    if count > bodies:
        raise Refused(
            f"On cells of {grid.size.max():.2f} mm the part falls into {count} pieces: a wall is thinner "
            "than a cell. Ask for more cells, or thicken it."
        )
    if count < bodies:
        raise Refused(
            f"On cells of {grid.size.max():.2f} mm the gap between held bodies is lost. Hold one body at a time, "
            "or ask for more cells."
        )
    if len(grid.cells) < 40:
        raise Refused("The part is too small for a stress grid.")


def state_bodies(work: Mesh, shells: int) -> int:
    """Bodies a grid should show: shells less cavities."""
    return check(work, crossing=False).bodies if shells > 1 else 1


def _held_bodies(mesh: Mesh, fixtures: list[Feature], pushed: list[Feature]) -> tuple[Mesh, Ints, list[str]]:
    count, label = bodies_of(mesh)
    if count == 1:
        return mesh, np.arange(len(mesh.faces)), []
    sound = check(mesh, crossing=False)
    if sound.bodies == 1:  # one body with cavities
        return mesh, np.arange(len(mesh.faces)), []
    held_bodies = {int(label[f.faces[0]]) for f in fixtures}
    for f in pushed:
        if int(label[f.faces[0]]) not in held_bodies:
            raise Refused(
                f"{f.title} is pushed, but its body ({int(label[f.faces[0]]) + 1} of {count}) is held "
                "nowhere. Bodies that only touch do not hold each other here."
            )
    keep = np.flatnonzero(np.isin(label, list(held_bodies)))
    notes = (
        []
        if len(held_bodies) == count
        else [f"{count - len(held_bodies)} of {count} bodies are not held and carry nothing; they were left out."]
    )
    return Mesh(mesh.vertices, mesh.faces[keep]), keep, notes
