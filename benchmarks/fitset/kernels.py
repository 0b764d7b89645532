"""The same solid through different geometry kernels and meshers. Each returns corners (n, 3) and triangles (m, 3)."""

from __future__ import annotations

from typing import Any

import numpy as np

from fitset.shapes import Made, Node, frame

Raw = tuple[np.ndarray, np.ndarray]


def _stack(parts: list[Raw]) -> Raw:
    off, vs, fs = 0, [], []
    for v, f in parts:
        vs.append(v)
        fs.append(f + off)
        off += len(v)
    return np.vstack(vs), np.vstack(fs)


# --- boundary representation, its own incremental mesher ---------------------------------------------------------


def _occ(node: Node) -> Any:
    from OCP.BRepAlgoAPI import BRepAlgoAPI_Common, BRepAlgoAPI_Cut, BRepAlgoAPI_Fuse
    from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeFace, BRepBuilderAPI_MakePolygon
    from OCP.BRepPrimAPI import (
        BRepPrimAPI_MakeCone,
        BRepPrimAPI_MakeCylinder,
        BRepPrimAPI_MakePrism,
        BRepPrimAPI_MakeSphere,
        BRepPrimAPI_MakeTorus,
    )
    from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt, gp_Vec

    a = node.at

    def ax() -> Any:
        return gp_Ax2(gp_Pnt(*a["at"]), gp_Dir(*a["axis"]))

    if node.op == "cylinder":
        return BRepPrimAPI_MakeCylinder(ax(), a["d"] / 2, a["h"]).Shape()
    if node.op == "cone":
        return BRepPrimAPI_MakeCone(ax(), a["d0"] / 2, a["d1"] / 2, a["h"]).Shape()
    if node.op == "ball":
        return BRepPrimAPI_MakeSphere(gp_Pnt(*a["at"]), a["d"] / 2).Shape()
    if node.op == "ring":
        return BRepPrimAPI_MakeTorus(ax(), a["R"], a["r"]).Shape()
    if node.op == "prism":
        poly = BRepBuilderAPI_MakePolygon()
        for x, y in a["outline"]:
            poly.Add(gp_Pnt(*(a["at"] + x * a["turn"][0] + y * a["turn"][1])))
        poly.Close()
        out = a["turn"][2] * a["h"]
        return BRepPrimAPI_MakePrism(BRepBuilderAPI_MakeFace(poly.Wire()).Face(), gp_Vec(*out)).Shape()
    left, right = (_occ(n) for n in node.of)
    how = {"join": BRepAlgoAPI_Fuse, "cut": BRepAlgoAPI_Cut, "common": BRepAlgoAPI_Common}[node.op]
    return how(left, right).Shape()


def occ(made: Made, linear: float = 0.05, angular: float = 0.35) -> Raw:
    from OCP.BRep import BRep_Tool
    from OCP.BRepMesh import BRepMesh_IncrementalMesh
    from OCP.ShapeUpgrade import ShapeUpgrade_UnifySameDomain
    from OCP.TopAbs import TopAbs_FACE, TopAbs_REVERSED
    from OCP.TopExp import TopExp_Explorer
    from OCP.TopLoc import TopLoc_Location
    from OCP.TopoDS import TopoDS

    raws = []
    for body in made.bodies:
        same = ShapeUpgrade_UnifySameDomain(_occ(body), True, True, True)
        same.Build()
        shape = same.Shape()
        BRepMesh_IncrementalMesh(shape, linear, False, angular, False)
        walk = TopExp_Explorer(shape, TopAbs_FACE)
        while walk.More():
            face = TopoDS.Face_s(walk.Current()) if hasattr(TopoDS, "Face_s") else TopoDS.Face(walk.Current())
            where = TopLoc_Location()
            tri = BRep_Tool.Triangulation_s(face, where)
            if tri is not None:
                move = where.Transformation()
                pts = [tri.Node(i + 1).Transformed(move) for i in range(tri.NbNodes())]
                v = np.array([(p.X(), p.Y(), p.Z()) for p in pts])
                f = np.array([tri.Triangle(i + 1).Get() for i in range(tri.NbTriangles())], np.int64).reshape(-1, 3) - 1
                raws.append((v, f[:, ::-1] if face.Orientation() == TopAbs_REVERSED else f))
            walk.Next()
    return _stack(raws)


# --- the same representation, other meshers -----------------------------------------------------------------------


def _gm(g: Any, node: Node) -> list[tuple[int, int]]:
    o, a = g.model.occ, node.at
    if node.op == "cylinder":
        return [(3, o.addCylinder(*a["at"], *(a["axis"] * a["h"]), a["d"] / 2))]
    if node.op == "cone":
        return [(3, o.addCone(*a["at"], *(a["axis"] * a["h"]), a["d0"] / 2, a["d1"] / 2))]
    if node.op == "ball":
        return [(3, o.addSphere(*a["at"], a["d"] / 2))]
    if node.op == "ring":
        tag = o.addTorus(0, 0, 0, a["R"], a["r"])
        t = frame(a["axis"])
        m = np.eye(4)
        m[:3, :3], m[:3, 3] = t.T, a["at"]
        o.affineTransform([(3, tag)], m.ravel().tolist())
        return [(3, tag)]
    if node.op == "prism":
        ps = [o.addPoint(*(a["at"] + x * a["turn"][0] + y * a["turn"][1])) for x, y in a["outline"]]
        ls = [o.addLine(p, q) for p, q in zip(ps, ps[1:] + ps[:1], strict=True)]
        face = o.addPlaneSurface([o.addCurveLoop(ls)])
        return [e for e in o.extrude([(2, face)], *(a["turn"][2] * a["h"])) if e[0] == 3]
    left, right = (_gm(g, n) for n in node.of)
    how = {"join": o.fuse, "cut": o.cut, "common": o.intersect}[node.op]
    return how(left, right)[0]


def gmsh(made: Made, algorithm: int = 5, around: int = 24, largest: float = 8.0) -> Raw:
    """``algorithm`` 1 mesh adaption, 5 Delaunay, 6 frontal, 8 frontal for quads."""
    import gmsh as g

    raws = []
    for body in made.bodies:
        g.initialize(interruptible=False)
        try:
            g.option.setNumber("General.Terminal", 0)
            _gm(g, body)
            g.model.occ.synchronize()
            for name, value in (
                ("Mesh.Algorithm", algorithm),
                ("Mesh.MeshSizeFromCurvature", around),
                ("Mesh.MeshSizeMax", largest),
                ("Mesh.MeshSizeMin", 0.05),
            ):
                g.option.setNumber(name, value)
            g.model.mesh.generate(2)
            tags, xyz, _ = g.model.mesh.getNodes()
            place = np.zeros(int(max(tags)) + 1, np.int64)
            place[tags.astype(np.int64)] = np.arange(len(tags))
            faces = []
            for dim, tag in g.model.getEntities(2):
                kinds, _, nodes = g.model.mesh.getElements(dim, tag)
                for kind, n in zip(kinds, nodes, strict=True):
                    if kind == 2:
                        faces.append(place[n.astype(np.int64)].reshape(-1, 3))
            raws.append((xyz.reshape(-1, 3).copy(), np.vstack(faces)))
        finally:
            g.finalize()
    return _stack(raws)


# --- half-spaces and quadrics, advancing front --------------------------------------------------------------------


def _ng(node: Node) -> Any:
    from netgen.csg import Cone, Cylinder, Plane, Pnt, Sphere, Torus, Vec

    a = node.at

    def plane(p: np.ndarray, n: np.ndarray) -> Any:
        return Plane(Pnt(*map(float, p)), Vec(*map(float, n)))

    if node.op in ("cylinder", "cone"):
        top = a["at"] + a["axis"] * a["h"]
        p, q = Pnt(*map(float, a["at"])), Pnt(*map(float, top))
        side = Cylinder(p, q, a["d"] / 2) if node.op == "cylinder" else Cone(p, q, a["d0"] / 2, a["d1"] / 2)
        return side * plane(a["at"], -a["axis"]) * plane(top, a["axis"])
    if node.op == "ball":
        return Sphere(Pnt(*map(float, a["at"])), a["d"] / 2)
    if node.op == "ring":
        return Torus(Pnt(*map(float, a["at"])), Vec(*map(float, a["axis"])), a["R"], a["r"])
    if node.op == "prism":
        t, o = a["turn"], a["outline"]
        out = plane(a["at"], -t[2]) * plane(a["at"] + t[2] * a["h"], t[2])
        for p, q in zip(o, np.roll(o, -1, axis=0), strict=True):
            n = np.array([q[1] - p[1], p[0] - q[0]])
            out = out * plane(a["at"] + p[0] * t[0] + p[1] * t[1], n[0] * t[0] + n[1] * t[1])
        return out
    left, right = (_ng(n) for n in node.of)
    return {"join": lambda: left + right, "cut": lambda: left - right, "common": lambda: left * right}[node.op]()


def netgen(made: Made, largest: float = 4.0, curve: float = 3.0) -> Raw:
    from netgen.csg import CSGeometry
    from netgen.meshing import MeshingParameters, MeshingStep

    raws = []
    for body in made.bodies:
        geo = CSGeometry()
        geo.Add(_ng(body))
        mp = MeshingParameters(maxh=largest, curvaturesafety=curve, perfstepsend=MeshingStep.MESHSURFACE)
        mesh = geo.GenerateMesh(mp)
        v = np.array([tuple(p.p) for p in mesh.Points()])
        sides = {k + 1: mesh.FaceDescriptor(k + 1).domin for k in range(mesh.GetNFaceDescriptors())}
        f = np.array(
            [[i.nr - 1 for i in (e.vertices if sides[e.index] else reversed(e.vertices))] for e in mesh.Elements2D()],
            np.int64,
        )
        raws.append((v, f))
    return _stack(raws)


# --- booleans of meshes -------------------------------------------------------------------------------------------


def _mf(node: Node, n: int) -> Any:
    import manifold3d as m3

    a = node.at

    def put(s: Any) -> Any:
        t = a["turn"] if "turn" in a else frame(a["axis"])
        return s.transform(np.c_[t.T, a["at"]])

    if node.op == "cylinder":
        return put(m3.Manifold.cylinder(a["h"], a["d"] / 2, circular_segments=n))
    if node.op == "cone":
        return put(m3.Manifold.cylinder(a["h"], max(a["d0"], 1e-9) / 2, a["d1"] / 2, n))
    if node.op == "ball":
        return m3.Manifold.sphere(a["d"] / 2, n).translate(a["at"])
    if node.op == "ring":
        circle = m3.CrossSection.circle(a["r"], n).translate((a["R"], 0))
        return put(m3.Manifold.revolve(circle, n))
    if node.op == "prism":
        return put(m3.Manifold.extrude(m3.CrossSection([a["outline"]]), a["h"]))
    left, right = (_mf(x, n) for x in node.of)
    return {"join": lambda: left + right, "cut": lambda: left - right, "common": lambda: left ^ right}[node.op]()


def manifold(made: Made, facets: int | None = None) -> Raw:
    raws = []
    for body in made.bodies:
        raw = _mf(body, facets or made.facets).to_mesh64()
        raws.append((np.asarray(raw.vert_properties)[:, :3].copy(), np.asarray(raw.tri_verts, np.int64).copy()))
    return _stack(raws)


# --- level sets: what a scan or a voxel remesher leaves -----------------------------------------------------------


def _depth(node: Node, p: np.ndarray) -> np.ndarray:
    """Signed distance bound, negative inside."""
    a = node.at
    if node.op in ("cylinder", "cone"):
        q = p - a["at"]
        z = q @ a["axis"]
        r = np.linalg.norm(q - z[:, None] * a["axis"], axis=1)
        if node.op == "cylinder":
            side = r - a["d"] / 2
        else:
            slope = (a["d1"] - a["d0"]) / 2 / a["h"]
            side = (r - a["d0"] / 2 - slope * z) / np.hypot(1, slope)
        return np.maximum(side, np.maximum(-z, z - a["h"]))
    if node.op == "ball":
        return np.linalg.norm(p - a["at"], axis=1) - a["d"] / 2
    if node.op == "ring":
        q = p - a["at"]
        z = q @ a["axis"]
        r = np.linalg.norm(q - z[:, None] * a["axis"], axis=1)
        return np.hypot(r - a["R"], z) - a["r"]
    if node.op == "prism":
        q = (p - a["at"]) @ a["turn"].T
        out = np.maximum(-q[:, 2], q[:, 2] - a["h"])
        o = a["outline"]
        for s, e in zip(o, np.roll(o, -1, axis=0), strict=True):
            n = np.array([e[1] - s[1], s[0] - e[0]]) / np.linalg.norm(e - s)
            out = np.maximum(out, (q[:, :2] - s) @ n)
        return out
    left, right = (_depth(n, p) for n in node.of)
    if node.op == "join":
        return np.minimum(left, right)
    return np.maximum(left, -right) if node.op == "cut" else np.maximum(left, right)


def level(made: Made, cell: float = 0.5) -> Raw:
    from skimage.measure import marching_cubes

    raws = []
    for body in made.bodies:
        v, _ = manifold(Made(made.name, (body,), ()), 24)
        low, high = v.min(axis=0) - 2.3 * cell, v.max(axis=0) + 2.3 * cell
        n = np.ceil((high - low) / cell).astype(int) + 1
        grid = np.stack(np.meshgrid(*(low[k] + cell * np.arange(n[k]) for k in range(3)), indexing="ij"), axis=-1)
        d = _depth(body, grid.reshape(-1, 3)).reshape(n)
        verts, faces, _, _ = marching_cubes(d, 0.0, spacing=(cell,) * 3)
        raws.append((verts + low, np.asarray(faces, np.int64)))
    return _stack(raws)
