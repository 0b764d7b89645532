"""Meshes in the workshop: by fingerprint, packed; packed and unpacked aside, as large ones take a while."""

from __future__ import annotations

import zlib
from dataclasses import dataclass

import numpy as np
from sqlalchemy.orm import Session

from knollside.core.mesh.load import MAX_TRIANGLES
from knollside.core.model import Mesh, Refused
from knollside.store.tables import MeshRow


@dataclass(frozen=True)
class PackedMesh:
    """A mesh as it is kept: little-endian float64 corners and int64 triangles, deflated, with its fingerprint."""

    fingerprint: str
    corners: int
    triangles: int
    data: bytes


def pack(mesh: Mesh) -> PackedMesh:
    raw = np.ascontiguousarray(mesh.vertices, "<f8").tobytes() + np.ascontiguousarray(mesh.faces, "<i8").tobytes()
    return PackedMesh(mesh.fingerprint(), len(mesh.vertices), len(mesh.faces), zlib.compress(raw, 1))


def unpack(packed: PackedMesh) -> Mesh:
    """Raises :class:`Refused` where what is kept is not the mesh of that fingerprint."""
    if not 0 < packed.triangles <= MAX_TRIANGLES or not 0 < packed.corners <= 3 * MAX_TRIANGLES:
        raise Refused("The workshop's copy of this mesh is missing or damaged.")
    size = 24 * (packed.corners + packed.triangles)
    try:
        raw = zlib.decompressobj().decompress(packed.data, size + 1)
    except zlib.error:
        raw = b""
    if len(raw) != size:
        raise Refused("The workshop's copy of this mesh is damaged.")
    corners = np.frombuffer(raw, "<f8", 3 * packed.corners).reshape(-1, 3)
    faces = np.frombuffer(raw, "<i8", 3 * packed.triangles, offset=24 * packed.corners).reshape(-1, 3)
    mesh = Mesh(corners.astype(np.float64), faces.astype(np.int64))
    if mesh.fingerprint() != packed.fingerprint:
        raise Refused("The workshop's copy of this mesh does not match its fingerprint.")
    return mesh


def keep(session: Session, packed: PackedMesh) -> str:
    """Keep a mesh once, whatever number of parts have it; its fingerprint."""
    row = session.get(MeshRow, packed.fingerprint)
    if row is None:
        session.add(
            MeshRow(hash=packed.fingerprint, corners=packed.corners, triangles=packed.triangles, data=packed.data)
        )
        session.flush()
    elif row.data != packed.data:
        # What is at hand is known to be good; what was kept under its name may not be.
        row.corners, row.triangles, row.data = packed.corners, packed.triangles, packed.data
    return packed.fingerprint


def kept(session: Session, fingerprint: str) -> PackedMesh:
    row = session.get(MeshRow, fingerprint)
    if row is None:
        raise Refused("The workshop's copy of this mesh is missing or damaged.")
    return PackedMesh(row.hash, row.corners, row.triangles, row.data)
