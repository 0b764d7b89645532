"""Writing meshes: binary STL and 3MF (core specification)."""

from __future__ import annotations

import io
import zipfile
from collections.abc import Sequence
from dataclasses import dataclass
from xml.sax.saxutils import escape, quoteattr

import numpy as np

from knollside.core.mesh.topology import bodies_of
from knollside.core.model import Array, Mesh

_TYPES = (
    '<?xml version="1.0" encoding="UTF-8"?>\n'
    '<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types">'
    '<Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/>'
    '<Default Extension="model" ContentType="application/vnd.ms-package.3dmanufacturing-3dmodel+xml"/></Types>'
)
_RELS = (
    '<?xml version="1.0" encoding="UTF-8"?>\n'
    '<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships">'
    '<Relationship Target="/3D/3dmodel.model" Id="rel0" '
    'Type="http://schemas.microsoft.com/3dmanufacturing/2013/01/3dmodel"/></Relationships>'
)
_EPOCH = (1980, 1, 1, 0, 0, 0)  # a fixed stamp, so that the same part gives the same bytes


def stl_bytes(mesh: Mesh, title: str = "part") -> bytes:
    """Binary STL with outward normals.

    >>> len(stl_bytes(plate)) == 84 + 50 * len(plate.faces)
    True
    """
    record = np.zeros(len(mesh.faces), np.dtype([("n", "<f4", 3), ("p", "<f4", (3, 3)), ("x", "<u2")]))
    record["n"] = mesh.normals
    record["p"] = mesh.triangles
    head = b"binary " + title.encode("ascii", "replace")[:60]
    return head.ljust(80, b" ") + len(mesh.faces).to_bytes(4, "little") + record.tobytes()


@dataclass(frozen=True)
class BuildItem:
    """One copy of an object on the bed: ``turn`` (3, 3) takes its corners (as columns), then ``shift`` mm moves
    them."""

    number: int
    turn: Array
    shift: tuple[float, float, float]


def threemf_bytes(mesh: Mesh, title: str, facts: dict[str, str] | None = None) -> bytes:
    """3MF core package in millimetres; each body an object of its own, joined as components."""
    return threemf_of([(mesh, title)], [BuildItem(0, np.eye(3), (0.0, 0.0, 0.0))], title, facts)


def threemf_of(
    objects: Sequence[tuple[Mesh, str]], items: Sequence[BuildItem], title: str, facts: dict[str, str] | None = None
) -> bytes:
    """3MF core package of several parts, mm: each once, by name, and build items that say where its copies lie."""
    out = io.StringIO()
    out.write(
        '<?xml version="1.0" encoding="UTF-8"?>\n<model unit="millimeter" xml:lang="en-US" '
        'xmlns="http://schemas.microsoft.com/3dmanufacturing/core/2015/02">\n'
    )
    out.write(f'<metadata name="Title">{escape(title)}</metadata>\n<metadata name="Application">Knollside</metadata>\n')
    description = "; ".join(f"{k}: {v}" for k, v in (facts or {}).items())
    if description:
        out.write(f'<metadata name="Description">{escape(description)}</metadata>\n')
    out.write("<resources>\n")
    tops: list[int] = []
    number = 0
    for mesh, name in objects:
        number = _object(out, mesh, name, number)
        tops.append(number)
    out.write("</resources>\n<build>")
    out.writelines(f'<item objectid="{tops[item.number]}"{_placed(item)}/>' for item in items)
    out.write("</build>\n</model>\n")
    package = io.BytesIO()
    with zipfile.ZipFile(package, "w", zipfile.ZIP_DEFLATED) as archive:
        for path, text in (
            ("[Content_Types].xml", _TYPES),
            ("_rels/.rels", _RELS),
            ("3D/3dmodel.model", out.getvalue()),
        ):
            archive.writestr(zipfile.ZipInfo(path, _EPOCH), text, zipfile.ZIP_DEFLATED)
    return package.getvalue()


def _placed(item: BuildItem) -> str:
    """The transform of a build item: a row vector times its matrix (3MF core specification, 3.3)."""
    if np.array_equal(item.turn, np.eye(3)) and item.shift == (0.0, 0.0, 0.0):
        return ""
    return f' transform="{" ".join(f"{v:.7g}" for v in (*np.asarray(item.turn).T.ravel(), *item.shift))}"'


def _object(out: io.StringIO, mesh: Mesh, title: str, number: int) -> int:
    """Write one part after ``number`` objects; the number of the object that stands for it."""
    count, label = bodies_of(mesh)
    for body in range(count):
        faces = mesh.faces[label == body]
        used, faces = np.unique(faces, return_inverse=True)
        faces = faces.reshape(-1, 3)
        name = title if count == 1 else f"{title}, body {body + 1}"
        out.write(f'<object id="{number + body + 1}" type="model" name={quoteattr(name)}><mesh><vertices>\n')
        out.write(
            "".join(f'<vertex x="{x:.7g}" y="{y:.7g}" z="{z:.7g}"/>\n' for x, y, z in mesh.vertices[used].tolist())
        )
        out.write("</vertices><triangles>\n")
        out.write("".join(f'<triangle v1="{a}" v2="{b}" v3="{c}"/>\n' for a, b, c in faces.tolist()))
        out.write("</triangles></mesh></object>\n")
    if count == 1:
        return number + 1
    top = number + count + 1
    out.write(f'<object id="{top}" type="model" name={quoteattr(title)}><components>')
    out.write("".join(f'<component objectid="{number + b + 1}"/>' for b in range(count)))
    out.write("</components></object>\n")
    return top


def ply_bytes(mesh: Mesh) -> bytes:
    """A binary PLY file with every digit of the corners (float64), so that the same mesh comes back."""
    head = (
        "ply\nformat binary_little_endian 1.0\ncomment millimetres\n"
        f"element vertex {len(mesh.vertices)}\nproperty double x\nproperty double y\nproperty double z\n"
        f"element face {len(mesh.faces)}\nproperty list uchar int vertex_indices\nend_header\n"
    )
    rows = np.zeros(len(mesh.faces), np.dtype([("count", "u1"), ("corner", "<i4", 3)]))
    rows["count"], rows["corner"] = 3, mesh.faces
    return head.encode() + np.ascontiguousarray(mesh.vertices, "<f8").tobytes() + rows.tobytes()
