"""3MF core specification, reading: a zip with one XML model, treated as hostile."""

from __future__ import annotations

import io
import zipfile
from typing import Any

import numpy as np

from knollside.core.model import Array, Ints, Refused

_NS = "{http://schemas.microsoft.com/3dmanufacturing/core/2015/02}"
_RELS = "{http://schemas.openxmlformats.org/package/2006/relationships}"
_START = "http://schemas.microsoft.com/3dmanufacturing/2013/01/3dmodel"
_UNIT = {"micron": 0.001, "millimeter": 1.0, "centimeter": 10.0, "inch": 25.4, "foot": 304.8, "meter": 1000.0}
_MAX_XML = 800 * 1024 * 1024
_MAX_DEPTH = 16


def read_3mf(data: bytes, name: str, max_triangles: int) -> tuple[Array, Ints, list[str]]:
    """All built objects, placed and scaled to millimetres; bodies stay apart."""
    from defusedxml.ElementTree import fromstring

    try:
        archive = zipfile.ZipFile(io.BytesIO(data))
    except zipfile.BadZipFile:
        raise Refused(f"{name} is not a 3MF file: its outer archive is broken or cut short.") from None
    with archive:
        infos = {i.filename.lstrip("/"): i for i in archive.infolist()}
        if len(infos) > 5000:
            raise Refused(f"{name} holds {len(infos)} entries; that is no plain 3MF file.")

        def part(path: str) -> bytes:
            info = infos.get(path.lstrip("/"))
            if info is None:
                raise Refused(f"{name}: the part '{path[:60]}' it points to is missing.")
            if info.file_size > _MAX_XML or info.file_size > 1000 * max(info.compress_size, 1):
                raise Refused(f"{name}: '{path[:60]}' unpacks to {info.file_size / 1e6:.0f} MB; refused.")
            return archive.read(info)

        target = "3D/3dmodel.model"
        if "_rels/.rels" in infos:
            for relation in fromstring(part("_rels/.rels")).iter(f"{_RELS}Relationship"):
                if relation.get("Type") == _START:
                    target = relation.get("Target", target)
        model = fromstring(part(target), forbid_dtd=True)
    unit = model.get("unit", "millimeter")
    if unit not in _UNIT:
        raise Refused(f"{name}: unknown unit '{unit[:30]}'.")
    objects = {o.get("id"): o for o in model.iter(f"{_NS}object")}
    points: list[Array] = []
    triangles: list[Ints] = []
    count = [0, 0]
    build = model.find(f"{_NS}build")
    for item in build if build is not None else ():
        _add(
            objects,
            item.get("objectid"),
            _matrix(item.get("transform")),
            points,
            triangles,
            count,
            max_triangles,
            name,
            0,
        )
    if not points:
        raise Refused(f"{name} builds nothing: no object with triangles.")
    notes = [] if unit == "millimeter" else [f"The file is in {unit}; converted to mm."]
    return np.vstack(points) * _UNIT[unit], np.vstack(triangles), notes


def _matrix(text: str | None) -> Array:
    m = np.eye(4)
    if text:
        values = np.array(text.split(), dtype=np.float64)
        if values.size != 12:
            raise Refused("a 3MF transform needs twelve numbers.")
        m[:, :3] = values.reshape(4, 3)
    return m


def _add(
    objects: dict[Any, Any],
    key: Any,
    placed: Array,
    points: list[Array],
    triangles: list[Ints],
    count: list[int],
    limit: int,
    name: str,
    depth: int,
) -> None:
    thing = objects.get(key)
    if thing is None or depth > _MAX_DEPTH:
        raise Refused(f"{name}: object {str(key)[:20]} is missing or nested too deeply.")
    count[1] += 1
    if count[1] > 10_000:
        raise Refused(f"{name} builds more than 10,000 objects.")
    grid = thing.find(f"{_NS}mesh")
    if grid is not None:
        v = np.array([(p.get("x"), p.get("y"), p.get("z")) for p in grid.iter(f"{_NS}vertex")], dtype=np.float64)
        f = np.array([(t.get("v1"), t.get("v2"), t.get("v3")) for t in grid.iter(f"{_NS}triangle")], dtype=np.int64)
        if len(f):
            if f.min() < 0 or f.max() >= len(v):
                raise Refused(f"{name}: a triangle names a corner that is not there.")
            triangles.append(f + sum(len(p) for p in points))
            points.append((np.c_[v, np.ones(len(v))] @ placed)[:, :3])
            count[0] += len(f)
            if count[0] > limit:
                raise Refused(f"{name} has more than {limit:,} triangles.")
    for child in thing.iter(f"{_NS}component"):
        _add(
            objects,
            child.get("objectid"),
            _matrix(child.get("transform")) @ placed,
            points,
            triangles,
            count,
            limit,
            name,
            depth + 1,
        )
