"""Writes the demo's sliced files: the trellis clip as planned, and one that is wrong in five ways.

Run by hand (``python -m knollside.demo.make_toolpaths``); the files are kept with the demo.
"""

from __future__ import annotations

from pathlib import Path

from knollside.core.mesh.load import load_file
from knollside.demo import TOOLPATHS
from knollside.demo.design_cases import clip_recipe
from knollside.sim.toolpath import write_toolpath

HERE = Path(__file__).parent
UP = (0.0, 0.0, 1.0)


def main() -> None:
    mesh = load_file(HERE / "parts" / "trellis-clip.stl").mesh
    plan = clip_recipe()
    folder = TOOLPATHS
    folder.mkdir(exist_ok=True)
    (folder / "clip-as-planned.gcode").write_text(write_toolpath(mesh, UP, plan, 240, 80))
    # Fewer walls, thicker layers, less infill, too cold a nozzle and bed.
    wrong = plan.model_copy(update={"walls": 1, "layer_height": 0.3, "infill": 0.1})
    (folder / "clip-wrong.gcode").write_text(write_toolpath(mesh, UP, wrong, 205, 45))


if __name__ == "__main__":
    main()
