"""How show faces will look in one way to lie: on the sheet, topped with lines, layer by layer, or in steps."""

from __future__ import annotations

import numpy as np

from knollside.core.model import Feature, Mesh


def surface_steps(
    mesh: Mesh,
    features: tuple[Feature, ...],
    marks: dict[str, str],
    direction: tuple[float, float, float],
    h: float,
) -> str:
    """The roughest that covers a tenth of the faces marked as shown, in words; empty where none is marked.

    A face that leans by ``a`` from the level shows steps of h / tan(a); upright ones only the layer's own ripple.
    """
    mine = [f.faces for f in features if marks.get(f.id) == "shown"]
    if not mine:
        return ""
    faces = np.concatenate(mine)
    n = np.asarray(direction)
    up, area = mesh.normals[faces] @ n, mesh.areas[faces]
    level = float((mesh.vertices @ n).min())
    low = (mesh.triangles[faces] @ n).max(axis=1) < level + 0.5 * h
    flat, wall = np.abs(up) > 0.999, np.abs(up) < 0.05
    slope = ~flat & ~wall
    total = float(area.sum())
    if area[slope].sum() > 0.1 * total:
        s = slope & (area > 0)
        width = h * np.abs(up[s]) / np.sqrt(1 - up[s] ** 2)
        order = np.argsort(width)
        heavy = np.cumsum(area[s][order]) / area[s].sum()
        return f"steps {float(width[order][np.searchsorted(heavy, 0.9)]):.1f} mm"
    if area[flat & (up < 0) & ~low].sum() > 0.1 * total:
        return "underside"
    if area[wall].sum() > 0.1 * total:
        return "layers"
    return "on the sheet" if area[flat & low].sum() > 0.5 * total else "top lines"
