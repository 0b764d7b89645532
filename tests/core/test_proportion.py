"""Files made to be dear: work stays in proportion to what is in them, or a stated limit refuses them.

Before, a cone of 12,000 slivers took six minutes and a polygon of 100,000 corners hours; the limit of seconds on
each test here is far above what they take and far below that.
"""

from __future__ import annotations

import io
import zipfile

import manifold3d as m3
import numpy as np
import pytest
from conftest import box, mesh_of

from knollside.core.job import answer
from knollside.core.mesh.crossing import crossing_pairs
from knollside.core.mesh.load import load_bytes
from knollside.core.mesh.write import stl_bytes
from knollside.core.model import Mesh, Refused

pytestmark = pytest.mark.timeout(90)
NS = "http://schemas.microsoft.com/3dmanufacturing/core/2015/02"


def cone(n: int) -> Mesh:
    """A cone of n slivers on a fan of n slivers."""
    a = np.linspace(0, 2 * np.pi, n, endpoint=False)
    corners = np.vstack([np.c_[20 * np.cos(a), 20 * np.sin(a), 0 * a], [[0, 0, 0], [0, 0, 10]]])
    i = np.arange(n)
    j = (i + 1) % n
    return Mesh(corners, np.r_[np.c_[j, i, np.full(n, n)], np.c_[i, j, np.full(n, n + 1)]])


def polygon(n: int) -> bytes:
    """One flat face of n corners, as OBJ."""
    a = np.linspace(0, 2 * np.pi, n, endpoint=False)
    corners = "\n".join(f"v {20 * x:.6f} {20 * y:.6f} 0" for x, y in zip(np.cos(a), np.sin(a), strict=True))
    return f"{corners}\nf {' '.join(str(k + 1) for k in range(n))}\n".encode()


def threemf(objects: str, items: str) -> bytes:
    model = f'<model unit="millimeter" xmlns="{NS}"><resources>{objects}</resources><build>{items}</build></model>'
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as z:
        z.writestr("3D/3dmodel.model", model)
    return out.getvalue()


def grid(mesh: Mesh) -> str:
    v = "".join(f'<vertex x="{x}" y="{y}" z="{z}"/>' for x, y, z in mesh.vertices)
    t = "".join(f'<triangle v1="{a}" v2="{b}" v3="{c}"/>' for a, b, c in mesh.faces)
    return f"<mesh><vertices>{v}</vertices><triangles>{t}</triangles></mesh>"


def beside(mm: float) -> str:
    return f'transform="1 0 0 0 1 0 0 0 1 {mm} 0 0"'


def nested(depth: int) -> bytes:
    """A cube three times in an object that is three times in the next, and so on."""
    objects = f'<object id="0">{grid(box(3, 3, 3))}</object>'
    for d in range(1, depth + 1):
        parts = "".join(f'<component objectid="{d - 1}" {beside(4 * k * 3 ** (d - 1))}/>' for k in range(3))
        objects += f'<object id="{d}"><components>{parts}</components></object>'
    return threemf(objects, f'<item objectid="{depth}"/>')


def test_a_cone_of_six_thousand_slivers_is_read_as_any_other() -> None:
    part = answer.read_part(load_bytes(stl_bytes(cone(6000), "cone"), "cone.stl").mesh)
    assert part.soundness.sound and len(part.mesh.faces) == 12_000
    assert part.mesh.volume == pytest.approx(np.pi * 400 * 10 / 3, rel=1e-4)


@pytest.mark.parametrize("corners", [5_000, 100_000])
def test_a_polygon_of_many_corners_is_read_or_refused_by_the_limit(corners: int) -> None:
    if corners < 10_000:
        assert len(load_bytes(polygon(corners), "p.obj").mesh.faces) == corners - 2
    else:
        with pytest.raises(Refused, match=r"99,99\d triangles meet in one corner; up to 10,000 are read"):
            load_bytes(polygon(corners), "p.obj")


def test_components_eight_deep_are_placed_each_once() -> None:
    mesh = load_bytes(nested(8), "deep.3mf").mesh
    assert len(mesh.faces) == 12 * 3**8 and mesh.volume == pytest.approx(27 * 3**8, rel=1e-9)
    # 9,841 objects in all; the next depth is past the ten thousand that are built.
    with pytest.raises(Refused, match="more than 10,000 objects"):
        load_bytes(nested(9), "deeper.3mf")


def test_a_thousand_items_of_one_mesh_read_it_once() -> None:
    ball = mesh_of(m3.Manifold.sphere(5, 16))
    items = "".join(f'<item objectid="1" {beside(12 * k)}/>' for k in range(1000))
    mesh = load_bytes(threemf(f'<object id="1">{grid(ball)}</object>', items), "many.3mf").mesh
    assert len(mesh.faces) == 1000 * len(ball.faces) and mesh.volume == pytest.approx(1000 * ball.volume, rel=1e-6)


def test_what_an_entry_unpacks_to_is_counted_and_not_believed() -> None:
    """The directory may lie about the size; the bytes that come out are what counts."""
    data = bytearray(threemf("", " " * 60_000_000))
    at = data.rfind(b"PK\x01\x02")
    data[at + 24 : at + 28] = (1000).to_bytes(4, "little")  # says it unpacks to a thousand bytes
    with pytest.raises(Refused, match="not a readable"):
        load_bytes(bytes(data), "lying.3mf")
    with pytest.raises(Refused, match="unpacks to more than"):
        load_bytes(threemf("", " " * 120_000_000), "bomb.3mf")


def passes(p: np.ndarray, q: np.ndarray, t: np.ndarray) -> bool:
    """Whether segment p-q passes through triangle t, by signed volumes."""

    def side(a: np.ndarray, b: np.ndarray, c: np.ndarray, d: np.ndarray) -> float:
        return float(np.linalg.det(np.array([b - a, c - a, d - a])))

    if side(p, *t) * side(q, *t) >= 0:
        return False
    turns = [side(p, q, t[k], t[(k + 1) % 3]) for k in range(3)]
    return all(v > 0 for v in turns) or all(v < 0 for v in turns)


@pytest.mark.parametrize("seed", range(4))
def test_crossing_triangles_are_those_that_every_pair_tried_finds(seed: int) -> None:
    rng = np.random.default_rng(seed)
    rod = mesh_of(m3.Manifold.cylinder(20, 4, circular_segments=40).rotate(tuple(rng.uniform(0, 360, 3))))
    ball = mesh_of(m3.Manifold.sphere(6, 12).translate(tuple(rng.uniform(-5, 5, 3))))
    n = len(rod.vertices)
    both = Mesh(np.vstack([rod.vertices, ball.vertices]), np.vstack([rod.faces, ball.faces + n]))
    tri, expected = both.triangles, set()
    for a in range(len(rod.faces)):
        for b in range(len(rod.faces), len(both.faces)):
            x, y = tri[a], tri[b]
            if (x.max(axis=0) < y.min(axis=0)).any() or (y.max(axis=0) < x.min(axis=0)).any():
                continue
            edges = [(x[k], x[(k + 1) % 3], y) for k in range(3)] + [(y[k], y[(k + 1) % 3], x) for k in range(3)]
            if any(passes(*e) for e in edges):
                expected.add((a, b))
    assert len(expected) > 20 and {(int(a), int(b)) for a, b in crossing_pairs(both)} == expected
