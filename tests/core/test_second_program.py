"""The stress solve held against another program: quadratic bricks of a general finite-element library."""

from __future__ import annotations

import manifold3d as m3
import numpy as np
import pytest
import skfem
from conftest import box, mesh_of
from skfem.helpers import ddot, sym_grad, trace

from knollside.core.mesh.features import find_features
from knollside.core.model import DesignCase, FixedFixture, ForceLoad, LoadCase, Mesh
from knollside.core.strength.field import POISSON, Medium, solve

E = 2000.0
LAM, MU = E * POISSON / ((1 + POISSON) * (1 - 2 * POISSON)), E / (2 * (1 + POISSON))


@skfem.BilinearForm
def stiffness(u, v, w):  # type: ignore[no-untyped-def]
    return LAM * trace(sym_grad(u)) * trace(sym_grad(v)) + 2 * MU * ddot(sym_grad(u), sym_grad(v))


def theirs(bricks, held, loaded, force: np.ndarray, at: np.ndarray) -> np.ndarray:  # type: ignore[no-untyped-def]
    """Displacement (k, 3) at nodes near ``at`` (k, 3) with a force spread evenly over the loaded faces."""
    basis = skfem.Basis(bricks, skfem.ElementVector(skfem.ElementHexS2()), intorder=4)
    facets = skfem.FacetBasis(bricks, basis.elem, facets=bricks.facets_satisfying(loaded), intorder=4)
    area = skfem.Functional(lambda w: 1.0 + 0 * w.x[0]).assemble(facets)

    @skfem.LinearForm
    def load(v, w):  # type: ignore[no-untyped-def]
        return sum(float(force[d]) / area * v[d] for d in range(3))

    fixed = basis.get_dofs(held)
    u = skfem.solve(*skfem.condense(stiffness.assemble(basis), load.assemble(facets), D=fixed))
    x = basis.doflocs
    out = np.empty((len(at), 3))
    for k, p in enumerate(at):
        near = np.argsort(((x - p[:, None]) ** 2).sum(axis=0), kind="stable")[:3]
        assert np.abs(x[:, near] - p[:, None]).max() < 1e-9, "asked for where a node is"
        out[k] = u[np.sort(near)]
    return out


def ours(part: Mesh, held: tuple[float, ...], loaded: tuple[float, ...], force, at, cells: int) -> np.ndarray:  # type: ignore[no-untyped-def]
    case = LoadCase(name="a", loads=(ForceLoad(at=loaded, force_N=tuple(force)),))
    design_case = DesignCase(fixtures=(FixedFixture(at=held),), cases=(case,))
    return np.asarray(
        solve(part, find_features(part), design_case, Medium(E), cells, probes=np.asarray(at)).probed[0, :, :3]
    )


@pytest.mark.parametrize("force", [(0.0, 0.0, -20.0), (0.0, 20.0, 0.0), (300.0, 0.0, 0.0)])
def test_a_short_beam_bends_and_stretches_as_in_another_program(force: tuple[float, ...]) -> None:
    length, wide, deep = 60.0, 8.0, 12.0
    grid = np.linspace(0, length, 13), np.linspace(0, wide, 3), np.linspace(0, deep, 4)
    at = np.array([[length, wide / 2, deep / 2], [length / 2, wide / 2, deep]])
    other = theirs(
        skfem.MeshHex.init_tensor(*grid),
        lambda x: x[0] < 1e-9,
        lambda x: x[0] > length - 1e-9,
        np.array(force),
        at,
    )
    own = ours(box(length, wide, deep), (0, wide / 2, deep / 2), (length, wide / 2, deep / 2), force, at, 12_000)
    assert own == pytest.approx(other, rel=0.015, abs=0.015 * np.abs(other).max())


@pytest.mark.parametrize("force", [(-30.0, 0.0, 0.0), (0.0, 30.0, 0.0)])
def test_an_angle_bends_and_twists_as_in_another_program(force: tuple[float, ...]) -> None:
    """A leg of 40 with an upright of 30 on its end: bent in its plane, and bent and twisted out of it."""
    solid = m3.Manifold.cube((40, 10, 10)) + m3.Manifold.cube((10, 10, 40)).translate((30, 0, 0))
    step = np.linspace(0, 40, 9)
    bricks = skfem.MeshHex.init_tensor(step, np.linspace(0, 10, 3), step)
    middle = bricks.p[:, bricks.t].mean(axis=1)
    bricks = bricks.restrict(np.flatnonzero((middle[2] < 10) | (middle[0] > 30)))
    at = np.array([[35.0, 5.0, 40.0], [40.0, 5.0, 20.0], [20.0, 5.0, 10.0]])
    other = theirs(bricks, lambda x: x[0] < 1e-9, lambda x: x[2] > 40 - 1e-9, np.array(force), at)
    own = ours(mesh_of(solid), (0, 5, 5), (35, 5, 40), force, at, 20_000)
    assert own == pytest.approx(other, rel=0.02, abs=0.02 * np.abs(other).max())
