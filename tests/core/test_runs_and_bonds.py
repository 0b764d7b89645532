"""Plain nodes in runs on every level, several loads at once, and the bond's slope with the nozzle."""

from __future__ import annotations

import numpy as np
import pytest
from conftest import box

from knollside.core.material.bond import PER_DEGREE, bond_at
from knollside.core.material.cards import material
from knollside.core.strength.element import Brick, isotropic
from knollside.core.strength.grid import CORNERS, make_grid
from knollside.core.strength.multigrid import Operator


def operator(shape: tuple[int, int, int], scale: np.ndarray | None = None) -> tuple[Operator, np.ndarray, np.ndarray]:
    """A block of unit cells held at its low end, with every node's stiffness assembled plainly besides."""
    grid = make_grid(box(*shape), 1.0)
    brick = Brick(grid.size, isotropic(1000.0, 0.3))
    even = np.ones(len(grid.cells)) if scale is None else scale
    held = {int(c): np.eye(24) * 1e4 for c in np.flatnonzero(grid.cells[:, 0] == 0)}
    made = Operator(brick, even, grid.cells, grid.nodes, grid.cut, grid.moments, held)
    full = np.zeros((3 * len(grid.points),) * 2)
    dof = (3 * grid.nodes[:, :, None] + np.arange(3)).reshape(-1, 24)
    for c, row in enumerate(dof):
        full[np.ix_(row, row)] += even[c] * brick.stiffness + held.get(c, np.zeros((24, 24)))
    return made, full, grid.points


def test_runs_of_plain_nodes_are_the_assembled_matrix_whatever_their_length() -> None:
    for shape in ((4, 4, 4), (3, 4, 11), (5, 4, 37)):
        made, full, points = operator(shape)
        u = np.random.default_rng(3).standard_normal((2, 3 * len(points)))
        for k in range(2):
            assert made.apply(u[k]) == pytest.approx(full @ u[k], rel=1e-9, abs=1e-8)
        assert made.apply(u) == pytest.approx(u @ full, rel=1e-9, abs=1e-8)
        single = made.fine.apply(u.astype(np.float32))
        assert np.abs(single - u @ full).max() < 3e-6 * np.abs(full).max() * 9
        assert (made.fine.run[:, 1].sum() + (made.fine.node >= 0).sum()) == len(points)


def test_coarse_cells_of_even_children_are_their_exact_sum() -> None:
    made, full, points = operator((8, 8, 8))
    # Interpolation from the first coarse level, put down node by node.
    who, weight = made.levels[0].parents
    count = len(made.levels[1].inverse)
    p = np.zeros((3 * len(points), 3 * count))
    for n in range(len(points)):
        for b in range(8):
            for d in range(3):
                p[3 * n + d, 3 * who[n, b] + d] += weight[n, b]
    v = np.random.default_rng(5).standard_normal((1, 3 * count)).astype(np.float32)
    got = made.levels[1].stencil.apply(v)[0]
    assert got == pytest.approx(p.T @ (full @ (p @ v[0])), rel=2e-4, abs=2e-3)
    assert (made.levels[1].stencil.run[:, 1]).sum() > 0


def test_several_loads_and_none_are_solved_together() -> None:
    made, full, points = operator((6, 4, 5), np.where(np.arange(120) % 7 == 0, 0.3, 1.0))
    f = np.random.default_rng(1).standard_normal((3, 3 * len(points)))
    f[1] = 0.0
    u, rounds = made.solve(f, 1e-9)
    assert 0 < rounds < 60 and not u[1].any()
    assert u[[0, 2]] == pytest.approx(np.linalg.solve(full, f[[0, 2]].T).T, rel=1e-5, abs=1e-7)
    assert made.solve(f[1])[0].shape == f[1].shape and len(CORNERS) == 8


def test_a_colder_nozzle_leaves_less_of_the_bond_and_a_hotter_one_no_more() -> None:
    card = material("PETG")
    middle = sum(card.nozzle) / 2
    assert bond_at(card, middle) == bond_at(card, middle + 40) == 1.0
    assert bond_at(card, middle - 10) == pytest.approx(1 - 10 * PER_DEGREE)
    assert bond_at(card, 20.0) == 0.2
