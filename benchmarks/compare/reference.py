"""The other program: a mesh of quadratic tetrahedra by gmsh, solved by scikit-fem and pyamg, read at given points."""

from __future__ import annotations

from dataclasses import dataclass

import gmsh
import numpy as np
import pyamg
import skfem
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree
from skfem.helpers import ddot, sym_grad, trace

from compare.parts import PARTS, Bearing, Drawn

POISSON = 0.35
LAM, MU = POISSON / ((1 + POISSON) * (1 - 2 * POISSON)), 1 / (2 * (1 + POISSON))  # of a modulus of 1 MPa
FINE, SMALL, WIDE, GROWTH = 0.12, 0.13, 2.0, 0.35  # mm at sharp edges, at rounds and rims, elsewhere; per mm away
_PAIRS = ((0, 1), (1, 2), (0, 2), (0, 3), (1, 3), (2, 3))


@skfem.BilinearForm
def _stiffness(u, v, w):  # type: ignore[no-untyped-def]
    return LAM * trace(sym_grad(u)) * trace(sym_grad(v)) + 2 * MU * ddot(sym_grad(u), sym_grad(v))


@dataclass
class Reference:
    """A solved part: its surface for our own program (corners, triangles), and displacements on the tetrahedra."""

    drawn: Drawn
    corners: np.ndarray
    triangles: np.ndarray
    mesh: skfem.MeshTet
    basis: skfem.Basis
    u: np.ndarray

    @property
    def movement(self) -> float:
        return float(np.linalg.norm(self.u[self.basis.nodal_dofs], axis=0).max())


def solved(name: str) -> Reference:
    """Draw, mesh and solve one part."""
    gmsh.initialize()
    gmsh.option.setNumber("General.Verbosity", 1)
    try:
        drawn = PARTS[name]()
        gmsh.model.occ.synchronize()
        corners, triangles = _surface()
        points, tets = _volume(drawn)
    finally:
        gmsh.finalize()
    mesh = skfem.MeshTet(points.T.copy(), tets.T.copy())
    basis = skfem.Basis(mesh, skfem.ElementVector(skfem.ElementTetP2()), intorder=2)
    return Reference(drawn, corners, triangles, mesh, basis, _displacement(drawn, mesh, basis))


def _surface() -> tuple[np.ndarray, np.ndarray]:
    gmsh.option.setNumber("Mesh.MeshSizeFromCurvature", 48)
    gmsh.option.setNumber("Mesh.MeshSizeMax", 8)
    gmsh.model.mesh.generate(2)
    out = _elements(2, 2, 3)
    gmsh.model.mesh.clear()
    return out


def _volume(drawn: Drawn) -> tuple[np.ndarray, np.ndarray]:
    trees = [
        (cKDTree(np.vstack([e.points(0.1) for e in edges])), h)
        for edges, h in ((drawn.sharp, FINE), (drawn.small, SMALL))
        if edges
    ]

    def size(dim: int, tag: int, x: float, y: float, z: float, lc: float) -> float:
        return min([WIDE, *(h + GROWTH * max(tree.query((x, y, z))[0] - 3 * h, 0) for tree, h in trees)])

    for name in ("FromCurvature", "ExtendFromBoundary", "FromPoints"):
        gmsh.option.setNumber(f"Mesh.MeshSize{name}", 0)
    gmsh.option.setNumber("Mesh.Algorithm3D", 10)
    gmsh.model.mesh.setSizeCallback(size)
    gmsh.model.mesh.generate(3)
    return _elements(3, 4, 4)


def _elements(dim: int, kind: int, corners: int) -> tuple[np.ndarray, np.ndarray]:
    tags, xyz, _ = gmsh.model.mesh.getNodes()
    place = np.zeros(int(tags.max()) + 1, int)
    place[tags] = np.arange(len(tags))
    kinds, _, nodes = gmsh.model.mesh.getElements(dim)
    cells = np.vstack([place[n].reshape(-1, corners) for k, n in zip(kinds, nodes, strict=True) if k == kind])
    used, cells = np.unique(cells, return_inverse=True)
    return xyz.reshape(-1, 3)[used], cells.reshape(-1, corners)


def _flat(mesh: skfem.MeshTet, at: tuple[float, float, float]) -> np.ndarray:
    """Boundary facets of the flat face that the one nearest to a place lies on."""
    facets = mesh.boundary_facets()
    p = mesh.p[:, mesh.facets[:, facets]]
    middle = p.mean(axis=1).T
    normal = np.cross((p[:, 1] - p[:, 0]).T, (p[:, 2] - p[:, 0]).T)
    normal /= np.linalg.norm(normal, axis=1, keepdims=True)
    k = int(np.argmin(np.linalg.norm(middle - np.array(at), axis=1)))
    flat = np.flatnonzero((np.abs(normal @ normal[k]) > 0.9999) & (np.abs((middle - middle[k]) @ normal[k]) < 1e-4))
    # One face of the part, not all that lie in its plane: what hangs together by corners.
    corners = mesh.facets[:, facets[flat]]
    which = np.tile(np.arange(len(flat)), 3)
    links = coo_matrix((np.ones(which.size), (which, corners.ravel())), shape=(len(flat), mesh.p.shape[1])).tocsr()
    piece = connected_components(links @ links.T, directed=False)[1]
    return facets[flat[piece == piece[np.flatnonzero(flat == k)[0]]]]


def _loads(drawn: Drawn, mesh: skfem.MeshTet, basis: skfem.Basis) -> np.ndarray:
    force = np.array(drawn.force, float)
    if isinstance(drawn.pushed, Bearing):
        hole = drawn.pushed.hole
        facets = mesh.boundary_facets()
        p = mesh.p[:, mesh.facets[:, facets]] - np.array(hole.centre, float)[:, None, None]
        on = (np.abs(np.hypot(p[0], p[1]) - hole.radius) < 0.02 * hole.radius).all(axis=0)
        face = skfem.FacetBasis(mesh, basis.elem, facets=facets[on], intorder=4)
        toward = force / np.linalg.norm(force)

        def press(w):  # type: ignore[no-untyped-def]
            return np.maximum(sum(w.n[d] * toward[d] for d in range(3)), 0.0)

        along = skfem.Functional(lambda w: press(w) ** 2).assemble(face)
        size = np.linalg.norm(force) / along
        return skfem.LinearForm(lambda v, w: sum(w.n[d] * v[d] for d in range(3)) * press(w) * size).assemble(face)
    face = skfem.FacetBasis(mesh, basis.elem, facets=_flat(mesh, drawn.pushed), intorder=2)
    area = skfem.Functional(lambda w: 1.0 + 0 * w.x[0]).assemble(face)
    return skfem.LinearForm(lambda v, w: sum(force[d] / area * v[d] for d in range(3))).assemble(face)


def _displacement(drawn: Drawn, mesh: skfem.MeshTet, basis: skfem.Basis) -> np.ndarray:
    held = np.unique(np.concatenate([basis.get_dofs(_flat(mesh, h)).flatten() for h in drawn.held]))
    stiffness = _stiffness.assemble(basis).tocsr()
    k, f, u, free = skfem.condense(stiffness, _loads(drawn, mesh, basis), D=held)
    near = _rigid(basis)[free]
    solver = pyamg.smoothed_aggregation_solver(k.tocsr(), B=near, strength=("symmetric", {"theta": 0.0}))
    u = u.copy()
    u[free] = solver.solve(f, tol=1e-8, accel="cg", maxiter=400)
    return u


def _rigid(basis: skfem.Basis) -> np.ndarray:
    """The six rigid motions of every unknown."""
    x, y, z = basis.doflocs
    own = [np.concatenate([basis.nodal_dofs[d], basis.edge_dofs[d]]) for d in range(3)]
    out = np.zeros((basis.N, 6))
    for d in range(3):
        out[own[d], d] = 1
    out[own[1], 3], out[own[2], 3] = -z[own[1]], y[own[2]]
    out[own[0], 4], out[own[2], 4] = z[own[0]], -x[own[2]]
    out[own[0], 5], out[own[1], 5] = -y[own[0]], x[own[1]]
    return out


def stress_at(r: Reference, points: np.ndarray, around: float = 0.06) -> tuple[np.ndarray, np.ndarray]:
    """Stress (n, 6) in our order at points, the mean over thirteen places within ``around`` mm: raw values jump from
    one tetrahedron to the next by some per cent. And which points lie in none (n,)."""
    g = (1 + 5**0.5) / 2
    off = np.array([np.roll((0, a, b * g), k) for k in range(3) for a in (1, -1) for b in (1, -1)])
    off = np.vstack([np.zeros(3), around * off / np.linalg.norm(off, axis=1, keepdims=True)])
    total, count, lost = np.zeros((len(points), 6)), np.zeros(len(points)), np.zeros(len(points), bool)
    reader = _Reader(r)
    for k, o in enumerate(off):
        s, outside = reader(points + o)
        total[~outside] += s[~outside]
        count += ~outside
        if k == 0:
            lost = outside
    return total / np.maximum(count, 1)[:, None], lost


class _Reader:
    def __init__(self, r: Reference) -> None:
        m = r.mesh
        self.r, self.corner = r, m.p[:, m.t[0]].T
        self.inverse = np.linalg.inv(np.stack([m.p[:, m.t[k]].T - self.corner for k in (1, 2, 3)], axis=2))
        self.tree = cKDTree(m.p[:, m.t].mean(axis=1).T)

    def __call__(self, points: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        near = self.tree.query(points, k=40)[1]
        x = np.einsum("pkij,pkj->pki", self.inverse[near], points[:, None] - self.corner[near])
        least = np.minimum(x.min(axis=2), 1 - x.sum(axis=2))
        pick = least.argmax(axis=1)
        row = np.arange(len(points))
        cell, x = near[row, pick], x[row, pick]
        bary = np.c_[1 - x.sum(axis=1), x]
        slope = np.vstack([[-1.0, -1, -1], np.eye(3)])
        grad = np.empty((len(points), 10, 3))
        grad[:, :4] = (4 * bary - 1)[:, :, None] * slope
        for k, (a, b) in enumerate(_PAIRS):
            grad[:, 4 + k] = 4 * (bary[:, a, None] * slope[b] + bary[:, b, None] * slope[a])
        grad = np.einsum("pai,pij->paj", grad, self.inverse[cell])
        u = self.r.u[self.r.basis.element_dofs[:, cell]].T.reshape(len(points), 10, 3)
        d = np.einsum("pai,paj->pij", u, grad)
        e = (d + d.transpose(0, 2, 1)) / 2
        s = LAM * np.trace(e, axis1=1, axis2=2)[:, None, None] * np.eye(3) + 2 * MU * e
        out = np.stack([s[:, 0, 0], s[:, 1, 1], s[:, 2, 2], s[:, 1, 2], s[:, 0, 2], s[:, 0, 1]], axis=1)
        return out, least.max(axis=1) < -0.05
