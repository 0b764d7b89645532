"""Reading meshes: STL (both kinds), OBJ, PLY, 3MF (core) and STEP.

Every file is treated as hostile: limits on bytes, triangles and coordinates
are checked before and after parsing, archives are never unpacked to disk.
"""

from __future__ import annotations

import io
import tempfile
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from knollside.core.mesh.rounding import grid_of
from knollside.core.mesh.threemf_read import read_3mf
from knollside.core.mesh.tidy import tidied
from knollside.core.mesh.weld import weld
from knollside.core.model import Array, Ints, Mesh, Refused

MAX_BYTES = 200 * 1024 * 1024
MAX_TRIANGLES = 5_000_000
MAX_COORDINATE = 1e5  # mm; a hundred metres is no part of a desktop printer
FAR = 500.0  # mm from the origin
MAX_AT_CORNER = 10_000  # triangles that meet in one corner: finding what crosses what takes their square
KINDS = (".stl", ".obj", ".ply", ".3mf", ".step", ".stp")

_STL_TRIANGLE = np.dtype([("normal", "<f4", 3), ("corner", "<f4", (3, 3)), ("extra", "<u2")])


@dataclass(frozen=True)
class Loaded:
    """A mesh as read, welded, with what the reading had to say, and how far ``away`` it stood before it was moved to
    the origin, in the file's unit."""

    mesh: Mesh
    name: str
    kind: str
    notes: tuple[str, ...] = field(default=())
    away: tuple[float, float, float] = (0.0, 0.0, 0.0)


def load_file(path: str | Path) -> Loaded:
    """Read a mesh file. Raises :class:`Refused` with the file's name and the reason."""
    path = Path(path)
    try:
        size = path.stat().st_size
        if size > MAX_BYTES:
            raise Refused(f"{path.name} is {size / 1e6:.0f} MB; the limit is {MAX_BYTES // 2**20} MB.")
        data = path.read_bytes()
    except OSError as error:
        raise Refused(f"{path.name} could not be read: {error.strerror or error}.") from None
    return load_bytes(data, path.name)


def load_bytes(data: bytes, name: str, exactly: str = "") -> Loaded:
    """Read a mesh from memory; the ending of ``name`` tells the kind, the content must agree. A mesh that has the
    fingerprint ``exactly`` is taken corner by corner as it is.

    >>> load_bytes(b"solid nothing", "part.txt")
    Traceback (most recent call last):
    ...
    knollside.core.model.base.Refused: part.txt: '.txt' is not a mesh file. It reads .stl,
    .obj, .ply, .3mf, .step, .stp.
    """
    kind = Path(name).suffix.lower()
    if kind not in KINDS:
        raise Refused(f"{name}: '{kind or 'no ending'}' is not a mesh file. It reads {', '.join(KINDS)}.")
    if not data.strip():
        raise Refused(f"{name} is empty.")
    if len(data) > MAX_BYTES:
        raise Refused(f"{name} is {len(data) / 1e6:.0f} MB; the limit is {MAX_BYTES // 2**20} MB.")
    notes: list[str] = []
    try:
        if kind == ".stl":
            vertices, faces = _stl(data, name)
        elif kind == ".3mf":
            vertices, faces, said = read_3mf(data, name, MAX_TRIANGLES)
            notes += said
        elif kind in (".step", ".stp"):
            vertices, faces = _step(data, name)
        else:
            vertices, faces = _by_library(data, kind, name)
    except Refused:
        raise
    except MemoryError:
        raise Refused(f"{name} needs more memory than there is.") from None
    except Exception as error:
        raise Refused(
            f"{name} is not a readable {kind[1:].upper()} file ({type(error).__name__}). "
            "It may be cut short or have the wrong ending."
        ) from None
    made, away = _checked(vertices, faces, name, notes, exactly)
    x, y, z = (float(v) for v in away)
    return Loaded(made, Path(name).stem, kind, tuple(notes), (x, y, z))


def _checked(vertices: Array, faces: Ints, name: str, notes: list[str], exactly: str) -> tuple[Mesh, Array]:
    vertices, faces = np.asarray(vertices, np.float64), np.asarray(faces, np.int64)
    if faces.size and (vertices.ndim != 2 or vertices.shape[1] != 3 or faces.ndim != 2 or faces.shape[1] != 3):
        raise Refused(f"{name} is damaged: its corners have no three numbers each, or its triangles no three corners.")
    if len(faces) == 0:
        raise Refused(f"{name} holds no triangles.")
    if len(faces) > MAX_TRIANGLES:
        raise Refused(f"{name} has {len(faces):,} triangles; the limit is {MAX_TRIANGLES:,}.")
    if faces.min() < 0 or faces.max() >= len(vertices):
        raise Refused(
            f"{name}: triangle {int(np.argmax((faces >= len(vertices)).any(1)))} names a corner that is not there."
        )
    bad = ~np.isfinite(vertices).all(axis=1)
    if bad.any():
        raise Refused(
            f"{name}: {int(bad.sum())} corners have no finite position (first: corner {int(np.argmax(bad))})."
        )
    made = Mesh(vertices, faces)
    reach = float(np.abs(made.bounds).max())
    if reach > MAX_COORDINATE:
        raise Refused(
            f"{name} reaches {reach:.3g} mm from the origin; more than "
            f"{MAX_COORDINATE:.0e} mm cannot be a printed part. Is the unit right?"
        )
    away: Array = np.zeros(3)
    if not exactly or made.fingerprint() != exactly:
        made, away = _put_right(weld(vertices, faces), notes)
    crowd = int(np.bincount(made.faces.ravel()).max())
    if crowd > MAX_AT_CORNER:
        raise Refused(
            f"{name}: {crowd:,} triangles meet in one corner; up to {MAX_AT_CORNER:,} are read. "
            "Write it again with a coarser curve."
        )
    return made, away


def _put_right(mesh: Mesh, notes: list[str]) -> tuple[Mesh, Array]:
    """Waste dropped, one winding, right side out, near the origin, and how far off it was; ``notes`` get what was
    done."""
    done = tidied(mesh)
    notes += done.account
    made = done.mesh
    away = np.round(made.bounds.mean(axis=0))
    if float(np.abs(away).max()) > max(FAR, 5 * float(made.size.max())):
        # Far out, single-precision files and sums of squares lose what a thousandth of a millimetre needs.
        made = Mesh(made.vertices - away, made.faces)
        x, y, z = (f"{v:g}" for v in away)
        notes.append(f"It stood about ({x}, {y}, {z}) mm and was moved to the origin.")
    else:
        away = np.zeros(3)
    step = grid_of(made.vertices)
    if step >= 0.005:
        notes.append(f"Its corners are rounded to {step:g} mm, so nothing on it is known better than that.")
    return made, away


def _stl(data: bytes, name: str) -> tuple[Array, Ints]:
    count = int.from_bytes(data[80:84], "little") if len(data) >= 84 else -1
    expected = 84 + 50 * count
    looks_text = data[:512].lstrip()[:5].lower() == b"solid" and b"facet" in data[:4096]
    if count >= 0 and len(data) == expected and not (looks_text and count == 0):
        pass
    elif looks_text or (data[:5].lower() == b"solid" and b"endsolid" in data[:4096].lower()):
        return _stl_text(data, name)
    elif count > 0 and len(data) < expected:
        raise Refused(
            f"{name} is cut short: it promises {count:,} triangles and holds {max(0, (len(data) - 84) // 50):,}."
        )
    elif len(data) < 84:
        raise Refused(f"{name} is too short to be an STL file.")
    elif count <= 0:
        raise Refused(f"{name} holds no triangles.")
    if count > MAX_TRIANGLES:
        raise Refused(f"{name} has {count:,} triangles; the limit is {MAX_TRIANGLES:,}.")
    raw = np.frombuffer(data, _STL_TRIANGLE, count=count, offset=84)
    return raw["corner"].reshape(-1, 3).astype(np.float64), np.arange(3 * count).reshape(-1, 3)


def _stl_text(data: bytes, name: str) -> tuple[Array, Ints]:
    words = data.split()
    where = [i for i, w in enumerate(words) if w.lower() == b"vertex"]
    ends = sum(1 for w in words if w.lower() == b"endfacet")
    if not where:
        raise Refused(f"{name} holds no triangles.")
    if len(where) % 3 or ends * 3 != len(where) or where[-1] + 3 >= len(words):
        raise Refused(f"{name} is cut short after {len(where) // 3:,} triangles.")
    try:
        flat = np.array([words[i + k] for i in where for k in (1, 2, 3)], dtype=np.float64)
    except ValueError:
        raise Refused(f"{name}: a corner's position is not a number.") from None
    return flat.reshape(-1, 3), np.arange(len(where)).reshape(-1, 3)


def _by_library(data: bytes, kind: str, name: str) -> tuple[Array, Ints]:
    import trimesh

    if kind == ".ply" and not data.startswith(b"ply"):
        raise Refused(f"{name} does not begin like a PLY file.")
    scene: Any = trimesh.load_mesh(io.BytesIO(data), file_type=kind[1:], process=False)
    return np.asarray(scene.vertices), np.asarray(scene.faces)


def _step(data: bytes, name: str) -> tuple[Array, Ints]:
    if not data.lstrip().startswith(b"ISO-10303-21"):
        raise Refused(f"{name} does not begin like a STEP file.")
    import cascadio
    import trimesh

    # The reader wants a path; the file's own name never becomes part of it.
    with tempfile.TemporaryDirectory() as folder:
        source, target = Path(folder) / "in.step", Path(folder) / "out.glb"
        source.write_bytes(data)
        cascadio.step_to_glb(str(source), str(target), tol_linear=0.01, tol_angular=0.2)
        if not target.exists():
            raise Refused(f"{name} holds no solid that could be read.")
        scene: Any = trimesh.load_mesh(target, process=False)
    return np.asarray(scene.vertices) * 1000.0, np.asarray(scene.faces)
