"""3MF core specification, reading: a zip with one XML model, treated as hostile."""

from __future__ import annotations

import io
import zipfile
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from knollside.core.model import Array, Ints, Refused

_NS = "{http://schemas.microsoft.com/3dmanufacturing/core/2015/02}"
_RELS = "{http://schemas.openxmlformats.org/package/2006/relationships}"
_START = "http://schemas.microsoft.com/3dmanufacturing/2013/01/3dmodel"
_UNIT = {"micron": 0.001, "millimeter": 1.0, "centimeter": 10.0, "inch": 25.4, "foot": 304.8, "meter": 1000.0}
_VERTEX = f"{_NS}mesh/{_NS}vertices/{_NS}vertex"
_TRIANGLE = f"{_NS}mesh/{_NS}triangles/{_NS}triangle"
_MAX_XML = 800 * 1024 * 1024
_MAX_SHARE = 1000  # times its packed size that an entry may unpack to
_MAX_DEPTH = 16
_MAX_PLACED = 10_000


def read_3mf(data: bytes, name: str, max_triangles: int) -> tuple[Array, Ints, list[str]]:
    """All built objects, placed and scaled to millimetres; bodies stay apart."""
    from defusedxml.ElementTree import fromstring

    text = _model(data, name)
    # Counted before anything is built: a small package may unpack to many millions.
    if text.count(b"triangle ") > max_triangles + 1000 or text.count(b"<") > 3 * max_triangles:
        raise Refused(f"{name} has more than {max_triangles:,} triangles.")
    model = fromstring(text, forbid_dtd=True)
    unit = model.get("unit", "millimeter")
    if unit not in _UNIT:
        raise Refused(f"{name}: unknown unit '{unit[:30]}'.")
    resources = model.find(f"{_NS}resources")
    objects = {o.get("id"): o for o in resources.iterfind(f"{_NS}object")} if resources is not None else {}
    made = _Building(objects, max_triangles, name)
    build = model.find(f"{_NS}build")
    for item in build.iterfind(f"{_NS}item") if build is not None else ():
        made.place(item.get("objectid"), _matrix(item.get("transform")))
    if not made.points:
        raise Refused(f"{name} builds nothing: no object with triangles.")
    notes = [] if unit == "millimeter" else [f"The file is in {unit}; converted to mm."]
    return np.vstack(made.points) * _UNIT[unit], np.vstack(made.triangles), notes


def _model(data: bytes, name: str) -> bytes:
    """The model's XML out of the package."""
    from defusedxml.ElementTree import fromstring

    try:
        archive = zipfile.ZipFile(io.BytesIO(data))
    except zipfile.BadZipFile:
        raise Refused(f"{name} is not a 3MF file: its outer archive is broken or cut short.") from None
    with archive:
        infos = {i.filename.lstrip("/"): i for i in archive.infolist()}
        if len(infos) > 5000:
            raise Refused(f"{name} holds {len(infos)} entries; that is no plain 3MF file.")
        target = "3D/3dmodel.model"
        if "_rels/.rels" in infos:
            for relation in fromstring(_entry(archive, infos, "_rels/.rels", name)).iter(f"{_RELS}Relationship"):
                if relation.get("Type") == _START:
                    target = relation.get("Target", target)
        return _entry(archive, infos, target, name)


def _entry(archive: zipfile.ZipFile, infos: dict[str, zipfile.ZipInfo], path: str, name: str) -> bytes:
    """One entry of the package; what it unpacks to is counted, not what it says of itself."""
    info = infos.get(path.lstrip("/"))
    if info is None:
        raise Refused(f"{name}: the part '{path[:60]}' it points to is missing.")
    most = min(_MAX_XML, _MAX_SHARE * max(info.compress_size, 1))
    with archive.open(info) as entry:
        out = entry.read(most + 1)
    if len(out) > most:
        raise Refused(f"{name}: '{path[:60]}' unpacks to more than {most / 1e6:.0f} MB; refused.")
    return out


def _matrix(text: str | None) -> Array:
    m = np.eye(4)
    if text:
        values = np.array(text.split(), dtype=np.float64)
        if values.size != 12:
            raise Refused("a 3MF transform needs twelve numbers.")
        m[:, :3] = values.reshape(4, 3)
    return m


@dataclass
class _Building:
    """Objects as they are placed one after the other. Each object's own corners are read once, however often it is
    placed; what is placed is counted against the limits before it is made."""

    objects: dict[Any, Any]
    limit: int
    name: str
    points: list[Array] = field(default_factory=list)
    triangles: list[Ints] = field(default_factory=list)
    _read: dict[Any, tuple[Array, Ints]] = field(default_factory=dict)
    _corners: int = 0
    _count: int = 0
    _placed: int = 0

    def place(self, key: Any, placed: Array, depth: int = 0) -> None:
        thing = self.objects.get(key)
        if thing is None or depth > _MAX_DEPTH:
            raise Refused(f"{self.name}: object {str(key)[:20]} is missing or nested too deeply.")
        self._placed += 1
        if self._placed > _MAX_PLACED:
            raise Refused(f"{self.name} builds more than {_MAX_PLACED:,} objects.")
        v, f = self._grid(key, thing)
        if len(f):
            self._count += len(f)
            if self._count > self.limit:
                raise Refused(f"{self.name} has more than {self.limit:,} triangles.")
            self.triangles.append(f + self._corners)
            with np.errstate(all="ignore"):  # what comes out not finite is refused for the whole mesh
                self.points.append((v @ placed)[:, :3])
            self._corners += len(v)
        for child in thing.iterfind(f"{_NS}components/{_NS}component"):
            self.place(child.get("objectid"), _matrix(child.get("transform")) @ placed, depth + 1)

    def _grid(self, key: Any, thing: Any) -> tuple[Array, Ints]:
        """An object's own corners (n, 4), the last column ones, and triangles."""
        if key not in self._read:
            v = np.array([(p.get("x"), p.get("y"), p.get("z")) for p in thing.iterfind(_VERTEX)], dtype=np.float64)
            f = np.array([(t.get("v1"), t.get("v2"), t.get("v3")) for t in thing.iterfind(_TRIANGLE)], dtype=np.int64)
            if len(f) and (not len(v) or f.min() < 0 or f.max() >= len(v)):
                raise Refused(f"{self.name}: a triangle names a corner that is not there.")
            self._read[key] = np.c_[v.reshape(-1, 3), np.ones(len(v))], f.reshape(-1, 3)
        return self._read[key]
