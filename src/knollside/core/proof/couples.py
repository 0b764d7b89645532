"""The thread pair and the snap arm: a screw with three nuts, and arms bent by three ways."""

from __future__ import annotations

import manifold3d as m3
import numpy as np
from manifold3d import Manifold as Solid

from knollside.core.mesh.helix import helical
from knollside.core.model import Refused
from knollside.core.proof.piece import TestPiece, box, notches, placed

FLANK = np.radians(30)  # half the profile's angle (ISO 68-1; pipe threads have 27.5)


def thread_radius(major: float, pitch: float, outwards: float, phase: np.ndarray) -> np.ndarray:
    """Radius of ISO 68-1's profile at a phase (turns along the helix), its surface moved ``outwards`` mm along the
    flanks' normals. Flats of a quarter of the pitch at the root and an eighth at the crest, flanks at 30 degrees."""
    deep = 5 / 8 * (np.sqrt(3) / 2) * pitch
    along = np.abs((phase % 1.0) - 0.5) * pitch  # from the root's middle
    level = np.clip((along - pitch / 8) / np.tan(FLANK), 0, deep)
    return np.asarray(major / 2 - deep + level + outwards / np.sin(FLANK))


def screw(major: float, pitch: float, high: float, outwards: float = 0.0) -> Solid:
    """A threaded rod of ISO's profile, right-handed, along +Z."""
    return helical(lambda phase: thread_radius(major, pitch, outwards, phase), pitch, high)


def thread_pair(
    major: float, pitch: float, allowances: tuple[float, ...] = (0.05, 0.10, 0.15), high: float = 8.0
) -> TestPiece:
    """A bolt and a nut for each allowance, mm a flank (half of it on each partner)."""
    if not 3 <= major <= 60 or not 0.4 <= pitch <= 6 or pitch > major / 3:
        raise Refused(f"A thread of {major:g} mm with {pitch:g} mm a turn is none to print a pair of.")
    across = major * 1.7 + 6
    bolt = screw(major, pitch, high + 4) + Solid.cylinder(5, across / 2, circular_segments=6).translate((0, 0, -5))
    bodies = [bolt]
    for k, a in enumerate(allowances):
        x = (k + 1) * (across + 3)
        nut = Solid.cylinder(high, across / 2, circular_segments=6) - screw(major, pitch, high + 2, a).translate(
            (0, 0, -1)
        )
        for n in notches(k + 1, -0.8 * k, -across / 2 * np.cos(np.pi / 6), 0, high):
            nut = nut - n
        bodies.append(nut.translate((x, 0, -5)))
    words = ", ".join(f"{a:.2f}" for a in allowances)
    return TestPiece(
        "threads",
        "Thread pair",
        placed(*bodies),
        (),
        (),
        f"A screw and {len(allowances)} nuts with {words} mm a flank. Take the tightest that runs on by hand: threads "
        "loosen by 0.05 to 0.1 mm with use.",
        "It cannot tell: what load the thread carries, or whether it seals.",
    )


def snap_arms(length: float, thick: float, width: float, strain: float) -> TestPiece:
    """Three arms whose hooks ask for 0.7, 1 and 1.4 times the deflection that reaches ``strain`` at the root.

    A cantilever bent at its end: strain = 1.5 thick deflection / length squared (Roark, table 8.1).
    """
    if not (4 <= length <= 120 and 0.8 <= thick <= 10 and 0.002 <= strain <= 0.3):
        raise Refused(f"An arm of {length:g} x {thick:g} mm bent to {100 * strain:.1f} % is none to try.")
    limit = strain * length**2 / (1.5 * thick)
    wide = max(width, 4.0)
    base = box(0, 12, 0, 3 * (thick + limit * 1.4 + 6) + 6, 0, wide)
    solid, y = base, 6.0
    told = []
    for k, times in enumerate((0.7, 1.0, 1.4)):
        reach = limit * times
        solid = solid + box(11, 12 + length, y, y + thick, 0, wide)
        hook = m3.CrossSection([np.array([(0, 0), (3, 0), (3 - min(2.0, reach), reach), (1.0, reach)])])
        tip = Solid.extrude(hook, wide).translate((12 + length - 3, y + thick - 0.01, 0))
        solid = solid + tip
        for n in notches(k + 1, 2, 0, 0, wide):
            solid = solid - n.translate((0, y, 0)) if k else solid - n
        told.append(f"{reach:.1f}")
        y += thick + limit * 1.4 + 6
    return TestPiece(
        "snap",
        "Snap arms",
        placed(solid),
        (),
        (),
        f"Three arms whose hooks bend them by {', '.join(told)} mm: 0.7, 1 and 1.4 times what one snap may reach. "
        "Press each flat ten times; note the first that whitens or cracks.",
        "It cannot tell: a thousand snaps, cold weather, or an arm printed standing.",
    )
