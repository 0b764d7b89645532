"""What a step says where something was said of a face or place that this mesh has no more."""

from __future__ import annotations

from dataclasses import replace

from knollside.core.mesh.identity import Named
from knollside.gui.stepbase import Act, Mark, Standing, Verdict
from knollside.gui.viewport.scene import Scene

Lost = tuple[Named, ...]


def lost_standing(lost: Lost) -> Standing:
    """The crack in the rail."""
    return Standing(Mark.CRACK, f"{_said(lost[0])} is gone from this mesh.")


def lost_verdict(lost: Lost, kind: str, before: str, instead: str, acts: tuple[Act, ...]) -> Verdict:
    """They are named, and never taken for others; ``kind`` says what several are, ``before`` what was said of them."""
    names = ", ".join(f"{_said(e)} {_where(e)}" for e in lost[:3])
    title = f"{_said(lost[0])} is gone from this mesh." if len(lost) == 1 else f"{len(lost)} {kind} are gone."
    told = f"{before} before the last edit: {names}. {instead}, or undo the edit."
    return Verdict(title, told, number="?", tone="clay", acts=acts)


def with_lost(scene: Scene, lost: Lost) -> Scene:
    """The place on the stage where the first of them was."""
    if not lost:
        return scene
    return replace(scene, place=lost[0].signature.centre, place_words=f"{_said(lost[0])} was here")


def _said(entry: Named) -> str:
    """A feature by its name, as on the screen."""
    return entry.id.replace("-", " ").capitalize()


def _where(entry: Named) -> str:
    x, y, z = entry.signature.centre
    return f"at ({x:.0f}, {y:.0f}, {z:.0f}) mm"
