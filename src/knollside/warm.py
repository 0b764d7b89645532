"""Compiles and keeps the number-crunching kernels, so that the first answer does not wait for it."""

from __future__ import annotations

import os

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np
from manifold3d import Manifold

from knollside.core.job import answer
from knollside.core.job.ask import Answerer
from knollside.core.job.asked import ask_board, ask_orientations, ask_strength
from knollside.core.job.questions.detail import Detail
from knollside.core.job.questions.part import Part, names_of_new
from knollside.core.job.stated import Stated
from knollside.core.mesh.columns import facing_up
from knollside.core.mesh.distance import shortest
from knollside.core.mesh.facemap import Motion, trace
from knollside.core.mesh.features import find_features
from knollside.core.mesh.inside import points_inside
from knollside.core.mesh.recognition.pointed import feature_pointed_at
from knollside.core.mesh.recognition.scanned import scanned_skin
from knollside.core.mesh.recognition.skin import skin_of
from knollside.core.mesh.solid import mesh_of
from knollside.core.model import DesignCase, FixedFixture, ForceLoad, LoadCase, Mesh
from knollside.core.run.gcode import parse_gcode
from knollside.core.strength import mesh_size


def box(x: float, y: float, z: float) -> Mesh:
    """A plain closed box from the origin."""
    corner = np.array([[i & 1, i >> 1 & 1, i >> 2 & 1] for i in range(8)], float) * (x, y, z)
    faces = np.array(
        [
            [0, 2, 1],
            [1, 2, 3],
            [4, 5, 6],
            [5, 7, 6],
            [0, 1, 4],
            [1, 5, 4],
            [2, 6, 3],
            [3, 6, 7],
            [0, 4, 2],
            [2, 4, 6],
            [1, 3, 5],
            [3, 7, 5],
        ]
    )
    return Mesh(corner, faces)


def main() -> None:
    from knollside.gui.viewport.warmup import draw_once

    part = answer.read_part(box(40, 8, 8))
    points_inside(part.mesh, np.zeros((1, 3)))
    load = LoadCase(name="a", loads=(ForceLoad(at=(40, 4, 4), force_N=(0, 0, -5)),))
    design_case = DesignCase(fixtures=(FixedFixture(at=(0, 4, 4)),), cases=(load,))
    ask, stated = Answerer(), Stated(design_case=design_case)
    key = ask.meshes.put(part.mesh)
    named = Part(key, names_of_new(key, part))
    strength = ask_strength(named, stated, 4000, exactly=True)
    ask(ask_orientations(strength, stated, 50))
    ask(Detail(strength, stated.printer.bed_mm, (0.0, 0.0, 1.0)))
    ask(ask_board(strength, stated, (0.0, 0.0, 1.0), 0.0))
    mesh_size.choose_mesh_size(part.mesh, 2000, None)
    parse_gcode(np.frombuffer(b"G1 X1 Y1 Z1 E1\nG1 X2 E2\n", np.uint8))
    round_ = mesh_of(Manifold.cylinder(5, 2, circular_segments=12))
    find_features(round_)
    facing_up(round_, part.mesh, 1.0)
    scanned_skin(skin_of(round_, 1e-4), 1e-3)
    feature_pointed_at(round_, "pin", ((2.0, 0.0, 2.5),))
    feature_pointed_at(part.mesh, "flat", ((20.0, 4.0, 8.0),))
    shortest(round_, Mesh(round_.vertices + 10.0, round_.faces))
    trace(part.mesh, Mesh(part.mesh.vertices, part.mesh.faces[::-1]), Motion(by=0.1))
    draw_once(part.mesh)


if __name__ == "__main__":
    main()
