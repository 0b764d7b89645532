"""What broken files are thrown at. Each reader must answer or refuse in a sentence; anything else is a finding."""

from __future__ import annotations

import io
import json
import tempfile
import zipfile
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from functools import cache
from pathlib import Path

import manifold3d as m3
import numpy as np
import trimesh
from conftest import mesh_of
from PyQt6.QtCore import QBuffer, QByteArray, QIODevice
from PyQt6.QtGui import QImage

from knollside.core.job.answer import read_part
from knollside.core.job.ask import Answerer
from knollside.core.job.asked import ask_fits, ask_orientations, ask_strength, part_of, stated_of
from knollside.core.job.file import Job, parse_job, write_job
from knollside.core.learning.breakstable import read_breaks
from knollside.core.learning.faultsfile import believed_of, parse_faults
from knollside.core.learning.pullstable import read_pulls
from knollside.core.learning.readingstable import read_readings, write_readings
from knollside.core.mesh.load import load_bytes
from knollside.core.mesh.write import stl_bytes
from knollside.core.model import (
    DesignCase,
    FixedFixture,
    ForceLoad,
    LoadCase,
    Mate,
    Measurement,
    Mesh,
    Orientation,
    Refused,
)
from knollside.core.run.gcode import parse_gcode
from knollside.demo.fill import fill_demo
from knollside.foreign.photo import made_small
from knollside.foreign.reading import read_mesh
from knollside.store.copies import folder_of
from knollside.store.whole import parse_whole, whole_bytes
from knollside.store.workshop import Workshop

TESTS = Path(__file__).parents[1]
_DEMO = TESTS.parent / "src/knollside/demo"


@cache
def plate() -> Mesh:
    hole = m3.Manifold.cylinder(9, 2.5, circular_segments=12).translate((8, 7, -2))
    return mesh_of(m3.Manifold.cube((20, 15, 4)) - hole)


@dataclass(frozen=True)
class Target:
    """``seeds`` are sound files by name; ``throw`` reads one, raising only what is a finding."""

    seeds: Callable[[], dict[str, bytes]]
    throw: Callable[[bytes, str], None]


@cache
def _meshes() -> dict[str, bytes]:
    solid = trimesh.Trimesh(plate().vertices, plate().faces, process=False)
    out = {"a.stl": stl_bytes(plate(), "a")}
    for kind in ("stl_ascii", "ply", "obj", "off", "3mf"):
        data = solid.export(file_type=kind)
        out[f"b.{kind.removesuffix('_ascii')}" if kind != "stl_ascii" else "c.stl"] = (
            data.encode() if isinstance(data, str) else data
        )
    return out


def _mesh(data: bytes, name: str) -> None:
    try:
        found = load_bytes(data, name).mesh
        assert np.isfinite(found.vertices).all() and found.faces.max(initial=-1) < len(found.vertices)
        if len(found.faces) < 3000:
            read_part(found)
    except Refused:
        pass


def _inner(data: bytes, name: str) -> None:
    """A 3MF with one of its inner files broken, and the container sound."""
    sound = io.BytesIO(_meshes()["b.3mf"])
    out = io.BytesIO()
    with zipfile.ZipFile(sound) as old, zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as new:
        for entry in old.namelist():
            new.writestr(entry, data if entry.endswith(".model") else old.read(entry))
    _mesh(out.getvalue(), "a.3mf")


def _models() -> dict[str, bytes]:
    with zipfile.ZipFile(io.BytesIO(_meshes()["b.3mf"])) as z:
        return {"a.model": next(z.read(n) for n in z.namelist() if n.endswith(".model"))}


def _step(data: bytes, name: str) -> None:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / name
        path.write_bytes(data)
        with suppress(Refused):
            read_mesh(path)


def _jobs() -> dict[str, bytes]:
    case = LoadCase(name="it", loads=(ForceLoad(feature="flat-1", force_N=(0, 0, -9)),))
    job = Job(
        name="plate",
        mesh="a.stl",
        design_case=DesignCase(fixtures=(FixedFixture(feature="hole-1"),), cases=(case,)),
        orientation=Orientation(direction=(0, 0, 1), reason="mine"),
        mates=(Mate(feature="hole-1", hardware="M5"),),
        readings=(Measurement(kind="hole", axis="upright", drawn=5, printed=4.8),),
    )
    old = b'{"format": "knollside-job-1", "mesh": "a.stl", "duty": {"held": [{"at": [0, 0, 0]}], "cases": []}}'
    return {"a.json": write_job(job).encode(), "old.json": old}


def _job(data: bytes, name: str) -> None:
    """What is read as a job can also be asked all that a job is asked of, short of the solving."""
    try:
        job = parse_job(data.decode("utf-8", "replace"), name)
        ask = Answerer()
        part, stated = part_of(job, ask.meshes.put(plate())), stated_of(job)
        assert parse_job(write_job(job), name) == job, "a job written and read again is another"
        strength = ask_strength(part, stated, 200)
        assert strength.key and ask_orientations(strength, stated).key
        ask(ask_fits(part, stated))
    except Refused:
        pass


def _tables() -> dict[str, bytes]:
    made = tuple(Measurement(kind="hole", axis="upright", drawn=5 + k, printed=4.8 + k) for k in range(3))
    return {"a.csv": write_readings(made).encode()}


def _table(data: bytes, name: str) -> None:
    with suppress(Refused):
        read_readings(data.decode("utf-8", "replace"), name)


def _toolpaths() -> dict[str, bytes]:
    found = sorted((_DEMO / "toolpaths").glob("*.gcode"))[0].read_bytes()
    arcs = b"M104 S210\nG90\nG1 X1 Y1 Z.2 F900\nG2 X9 Y1 I4 J0 E1\nG3 X1 Y1 R4 E1\n"
    return {"a.gcode": found[:6000], "arc.gcode": arcs}


def _toolpath(data: bytes, name: str) -> None:
    try:
        found = parse_gcode(np.frombuffer(data, np.uint8), name)
        assert np.isfinite(found.at).all() and np.isfinite(found.length).all() and np.isfinite(found.speed).all()
    except Refused:
        pass


@cache
def kept_workshop() -> tuple[bytes, bytes]:
    """The bytes of the demo workshop and of the copy beside it."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "w.sqlite"
        shop = Workshop(path)
        fill_demo(shop)
        copy = shop.keep_copy()
        shop.close()
        return path.read_bytes(), copy.read_bytes()


def workshop() -> bytes:
    return kept_workshop()[0]


@cache
def _wholes() -> dict[str, bytes]:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "w.sqlite"
        path.write_bytes(workshop())
        shop = Workshop(path)
        data = whole_bytes(shop)
        shop.close()
        return {"a.zip": data}


def _whole(data: bytes, name: str) -> None:
    with suppress(Refused):
        parse_whole(data, name)


def _workshop(data: bytes, name: str) -> None:
    """Whatever was done to its bytes, it opens, can be listed and written to."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "w.sqlite"
        path.write_bytes(data)
        folder_of(path).mkdir()
        (folder_of(path) / "2026-11-01 08.00.00, daily.sqlite").write_bytes(kept_workshop()[1])
        shop = Workshop(path)
        for p in shop.parts.names():
            try:
                shop.parts.mesh(shop.parts.get(p.id).mesh_hash)
            except Refused:
                continue
        shop.parts.add_job("it can be written to")
        shop.close()


def _photos() -> dict[str, bytes]:
    out = {}
    for kind in ("JPEG", "PNG", "BMP"):
        image = QImage(90, 60, QImage.Format.Format_RGB32)
        image.fill(0x557722)
        data = QByteArray()
        buffer = QBuffer(data)
        buffer.open(QIODevice.OpenModeFlag.WriteOnly)
        image.save(buffer, kind)
        out[f"a.{kind.lower()}"] = bytes(data.data())
    return out


def _photo(data: bytes, name: str) -> None:
    """What is kept of a picture is always a small JPEG of its own."""
    try:
        for made in made_small(data, name):
            assert made.startswith(b"\xff\xd8") and b"Exif" not in made
    except Refused:
        pass


def _cases() -> dict[str, bytes]:
    told = {
        "seen": ["strings", "matte and rough"],
        "answers": [{"test": "listen while it purges", "answer": "yes"}],
        "tried": ["nozzle too hot"],
        "known": {"water": 1.3, "fan": 0.5},
        "helped": {"wet filament": 2},
    }
    return {"a.json": json.dumps(told).encode()}


def _case(data: bytes, name: str) -> None:
    try:
        found = believed_of(parse_faults(data.decode("utf-8", "replace"), name))
        assert abs(sum(x for _, x in found.causes) + found.other) < 3 and np.isfinite(found.best[1])
    except Refused:
        pass


def _trials() -> dict[str, bytes]:
    bars = b"level,load_N,area_mm2,run\n230,400,24,1\n240,500,24,1\n"
    broke = b"mode,load_N,foretold_N,at\nalong a layer,80,120,1 2 3\n"
    return {"bars.csv": bars, "breaks.csv": broke}


def _trial(data: bytes, name: str) -> None:
    text = data.decode("utf-8", "replace")
    for read in (read_pulls, read_breaks):
        with suppress(Refused):
            read(text, name)


TARGETS: dict[str, Target] = {
    "photo": Target(_photos, _photo),
    "case": Target(_cases, _case),
    "trials": Target(_trials, _trial),
    "mesh": Target(_meshes, _mesh),
    "model": Target(_models, _inner),
    "step": Target(lambda: {"a.step": (TESTS / "core/block.step").read_bytes()}, _step),
    "job": Target(_jobs, _job),
    "table": Target(_tables, _table),
    "toolpath": Target(_toolpaths, _toolpath),
    "whole": Target(_wholes, _whole),
    "workshop": Target(lambda: {"w.sqlite": workshop()}, _workshop),
}
