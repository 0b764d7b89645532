"""Cells chosen by the part, walls by rays, memory asked for before it is taken, and several loads at once."""

from __future__ import annotations

import numpy as np
import pytest
import solving
from conftest import box, mesh_of, plate_with_hole

from knollside.core.job import answer
from knollside.core.material.cards import material
from knollside.core.mesh.walls import thickness
from knollside.core.model import DesignCase, FixedFixture, ForceLoad, LoadCase, Mesh, Recipe, Refused
from knollside.core.strength import mesh_size
from knollside.core.strength.grid import choose_size
from knollside.core.strength.skin import skin_of


def beam_duty(*forces: tuple[float, float, float]) -> DesignCase:
    cases = tuple(LoadCase(name=f"c{i}", loads=(ForceLoad(at=(60, 5, 5), force_N=f),)) for i, f in enumerate(forces))
    return DesignCase(fixtures=(FixedFixture(at=(0, 5, 5)),), cases=cases)


def test_thickness_by_rays_is_the_distance_between_the_faces() -> None:
    mesh = box(40, 30, 3)
    points = np.array([[10, 10, 3.0], [10, 10, 0.0], [40.0, 7, 1.5], [20, 30.0, 1.0]])
    normals = np.array([[0, 0, 1.0], [0, 0, -1.0], [1.0, 0, 0], [0, 1.0, 0]])
    assert thickness(mesh, points, normals) == pytest.approx([3, 3, 40, 30])


def test_a_ray_stops_at_the_first_hole_wall_and_finds_nothing_where_the_mesh_is_open() -> None:
    mesh = plate_with_hole(sides=48, d=5.0)
    # From the left end towards +X at the height of the axis: 12 - 2.5 mm of material.
    assert thickness(mesh, np.array([[0.0, 15, 4]]), np.array([[-1.0, 0, 0]]))[0] == pytest.approx(9.5, abs=0.02)
    cube = box(10, 10, 10)
    open_ = Mesh(cube.vertices, cube.faces[cube.normals[:, 0] < 0.9])
    assert thickness(open_, np.array([[0.0, 5, 5]]), np.array([[-1.0, 0, 0]]))[0] == np.inf


def test_a_tilted_wall_is_as_thick_as_when_it_stood() -> None:
    import manifold3d as m3

    solid = m3.Manifold.cube((30, 20, 2)).rotate((33, 17, 51))
    assert mesh_size.thin_wall(mesh_of(solid)) == pytest.approx(2.0, abs=1e-3)


def test_a_slit_narrower_than_a_cell_is_spoken_of_and_a_wide_one_is_not() -> None:
    import manifold3d as m3

    def slit(wide: float) -> Mesh:
        return mesh_of(m3.Manifold.cube((40, 20, 10)) - m3.Manifold.cube((30, wide, 20)).translate((-1, 10, -5)))

    assert mesh_size.narrow_slit(slit(0.3)) == pytest.approx(0.3, abs=1e-6)
    assert mesh_size.narrow_slit(box(40, 20, 10)) == np.inf
    design_case = DesignCase(
        fixtures=(FixedFixture(at=(40, 10, 5)),),
        cases=(LoadCase(name="a", loads=(ForceLoad(at=(0, 5, 5), force_N=(0, -2, 0)),)),),
    )
    for wide, told in ((0.3, True), (4.0, False)):
        s = solving.strength(answer.read_part(slit(wide)), design_case, Recipe(infill=1.0), material("PETG"), 3000)
        assert any("A slit of 0.3 mm is narrower" in n for n in s.field.notes) is told


def test_cells_are_chosen_for_half_the_shell_then_for_thin_walls_then_by_count() -> None:
    stout, recipe = box(40, 30, 20), Recipe(walls=2, line_width=0.45, infill=0.2)
    usual = choose_size(stout, 10_000)
    chosen = mesh_size.choose_mesh_size(stout, 10_000, skin_of(recipe))
    assert chosen.wanted == pytest.approx(0.45) and chosen.short and chosen.size < usual
    assert "half the shell" in chosen.why
    plain = mesh_size.choose_mesh_size(stout, 10_000, None)
    assert plain.size == pytest.approx(usual) and not plain.short
    thin = mesh_size.choose_mesh_size(box(60, 40, 1.2), 3000, None)
    assert thin.wanted == pytest.approx(0.6, abs=0.01) and "thin walls, 1.2 mm" in thin.why


def test_the_wall_where_it_would_go_is_told_with_the_cells_across_it() -> None:
    part = answer.read_part(box(60, 10, 3))
    design_case = DesignCase(
        fixtures=(FixedFixture(at=(0, 5, 1.5)),),
        cases=(LoadCase(name="a", loads=(ForceLoad(at=(60, 5, 1.5), force_N=(0, 0, -2)),)),),
    )
    s = solving.strength(part, design_case, Recipe(infill=1.0), material("PETG"), 4000, exactly=True)
    wall = mesh_size.wall_at(part.mesh, s.field, (20.0, 5.0, 3.0))
    assert wall.depth == pytest.approx(3.0, abs=0.01)
    assert wall.cells == pytest.approx(3.0 / s.field.cell, rel=0.01) and wall.too_stiff == 0.0


def test_a_slanted_wall_of_few_cells_is_doubted_and_one_along_the_lattice_is_not() -> None:
    slant = np.array([0.6, 0.8, 0.0])
    assert mesh_size.too_stiff(1.0, slant) == 0.33 and mesh_size.too_stiff(2.0, slant) == 0.13
    assert mesh_size.too_stiff(8.0, slant) == 0.0 and mesh_size.too_stiff(1.0, np.array([0, 0, 1.0])) == 0.0


def test_too_little_memory_is_said_before_it_is_taken(monkeypatch) -> None:  # type: ignore[no-untyped-def]
    monkeypatch.setattr(mesh_size, "free_memory", lambda: 40e6)
    part = answer.read_part(box(60, 10, 10))
    with pytest.raises(Refused, match=r"cells need about 0\.1 GB and 0\.0 GB are free"):
        solving.strength(part, beam_duty((0, 0, -5)), Recipe(infill=1.0), material("PETG"), 12_000, exactly=True)


def test_free_memory_is_read_from_the_system_and_never_less_than_nothing() -> None:
    assert 1e6 < mesh_size.free_memory() < 1e14


def test_loads_solved_together_are_those_solved_alone() -> None:
    part = answer.read_part(box(60, 10, 10))
    forces = [(0.0, 0.0, -20.0), (0.0, 13.0, 4.0), (50.0, 0.0, 0.0), (1.0, -2.0, 3.0), (0.0, 7.0, 0.0)]
    at = Recipe(infill=0.3), material("PETG"), 2000
    together = solving.strength(part, beam_duty(*forces), *at, exactly=True).field
    for k, f in enumerate(forces):
        alone = solving.strength(part, beam_duty(f), *at, exactly=True).field
        scale = np.abs(alone.stress[0]).max()
        solved = [f.stress[:, : len(f.points) - len(f.rules)] for f in (together, alone)]
        assert np.abs(solved[0][k] - solved[1][0]).max() < 1e-5 * scale
        assert together.cases[k].displacement == pytest.approx(alone.cases[0].displacement, abs=1e-6)


def test_a_known_ground_gives_the_same_list_as_a_fresh_survey() -> None:
    part, bed = answer.read_part(box(60, 10, 10)), (220.0, 220.0, 250.0)
    recipe = Recipe(infill=1.0)
    s = solving.strength(part, beam_duty((0, 0, -20)), recipe, material("PETG"), 2000, exactly=True)
    under = answer.ground(part, recipe, bed, 300)
    a = answer.orientations(part, beam_duty((0, 0, -20)), s, bed, 300)
    b = answer.orientations(part, beam_duty((0, 0, -20)), s, bed, known=under)
    assert [w.direction for w in a.orientations] == [w.direction for w in b.orientations]
    assert np.array_equal(a.net.reserve, b.net.reserve)


def test_the_net_knows_where_the_part_is_too_large_for_the_bed() -> None:
    from knollside.core.lay.stability import fitting

    bar, bed = box(200, 10, 10), (220.0, 220.0, 150.0)
    directions = np.array([[0, 0, 1.0], [1.0, 0, 0], [0, 1.0, 0], [0.8, 0, 0.6]])
    # Upright it is 200 mm high; leaning, 0.8 x 200 + 0.6 x 10 = 166.
    assert fitting(bar, directions, bed).tolist() == [True, False, True, False]
    assert fitting(bar, directions, (220.0, 220.0, 250.0)).all()
