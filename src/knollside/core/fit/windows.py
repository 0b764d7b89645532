"""What printed size counts as fitting: classes, standards, a thing that must go inside, and windows of one's own."""

from __future__ import annotations

from dataclasses import dataclass

from knollside.core.fit.hardware import item
from knollside.core.model import Mate, Refused

# Diametral windows of the fit classes, hole minus pin, mm (docs/methods.md 7.4; typical).
CLASSES: dict[str, tuple[float, float]] = {
    "press": (-0.10, 0.00),
    "snug": (0.00, 0.15),
    "slide": (0.15, 0.35),
    "free": (0.35, 0.60),
    "print in place": (0.50, 0.80),
}
# Where a material gives way or swells, its classes lie elsewhere (typical).
_BY_MATERIAL: dict[str, dict[str, tuple[float, float]]] = {
    "TPU 95A": {"press": (-0.40, -0.15), "snug": (-0.15, 0.05), "slide": (0.10, 0.40)},
    "Nylon": {"slide": (0.20, 0.40), "free": (0.40, 0.70)},
}
Windows = dict[str, tuple[float, float]]
_AS_DRAWN = 0.1


@dataclass(frozen=True)
class Target:
    """What the printed size should be, with the window that still counts as fitting.

    ``partner`` is the size of what goes in (or over); ``low`` and ``high`` bound the printed diameter.
    """

    size: float
    low: float
    high: float
    partner: float
    words: str

    def moved(self, by: float) -> Target:
        """The same window ``by`` mm larger (smaller where negative), for a surface that will be painted."""
        return Target(self.size + by, self.low + by, self.high + by, self.partner, self.words)


def windows_for(material: str, own: Windows | None = None) -> Windows:
    """The class windows of a material: typical, then its own ways, then the person's."""
    return CLASSES | _BY_MATERIAL.get(material, {}) | (own or {})


def gap_window(mate: Mate, windows: Windows | None = None) -> tuple[float, float]:
    """Least and most gap, hole minus pin, of a mate's class or of its own window."""
    if mate.window is not None:
        return mate.window
    found = (windows or CLASSES).get(mate.fit)
    if found is None:
        raise Refused(f"'{mate.fit}' says nothing of a gap; choose one of {', '.join(CLASSES)}.")
    return found


def target(mate: Mate, hole: bool, drawn: float, windows: Windows | None = None) -> Target:
    """Printed size wanted of a hole (or a pin); raises :class:`Refused`.

    A class adds its window to the partner's size; a standard names the hole itself. A thing with a size of its own
    counts with its sleeve on both sides, and its tolerance widens what must be let in.
    """
    if mate.size_mm is not None:
        thing = mate.size_mm + 2 * mate.sleeve_mm
        low, high = gap_window(mate, windows)
        # The largest such thing must still go in (or the smallest still hold on a pin).
        loose = mate.tolerance_mm if hole else -mate.tolerance_mm
        edges = sorted(thing + loose + (1 if hole else -1) * w for w in (low, high))
        words = f"{thing:g} mm inside" if hole else f"{thing:g} mm over it"
        return Target(sum(edges) / 2, edges[0], edges[1], thing, f"{words}, {mate.fit}")
    if mate.fit == "as drawn" or mate.hardware in ("", "as drawn", "none"):
        return Target(drawn, drawn - _AS_DRAWN, drawn + _AS_DRAWN, drawn, "as drawn")
    piece = item(mate.hardware)
    standard = piece.bores.get(mate.fit)
    if standard is not None:
        if not hole:
            raise Refused(f"'{mate.fit}' is a class of holes ({piece.source}), not of pins; choose press to free.")
        low, size, high = standard
        source = piece.source if mate.fit in ("close", "medium", "coarse") else ""
        return Target(size, low, high, piece.size, ", ".join(w for w in (piece.name, f"{source} {mate.fit}".strip())))
    if mate.window is None and mate.fit not in (windows or CLASSES):
        raise Refused(f"{piece.name} has no fit '{mate.fit}'. It has: {', '.join(piece.fits)}.")
    edges = sorted(piece.size + (1 if hole else -1) * w for w in gap_window(mate, windows))
    return Target(sum(edges) / 2, edges[0], edges[1], piece.size, f"{piece.name}, {mate.fit}")
