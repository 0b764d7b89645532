"""Ways to fail that are no stress of the solid at a point, in the words they are told in."""

from __future__ import annotations

from enum import IntEnum


class Rule(IntEnum):
    """What a place is judged for besides the stress that was solved there."""

    NET_SECTION = 0
    SHEAR_OUT = 1
    BEARING = 2
    HEAD = 3
    PULLED_THROUGH = 4
    PULLED_OUT = 5
    ROOT = 6
    DENT = 7
    BENT_IN = 8
    PUNCHED = 9
    CORE = 10
    WRINKLING = 11

    @property
    def words(self) -> str:
        """What happens, for a person."""
        return _WORDS[self]

    @property
    def by_hand(self) -> bool:
        """Whether it comes from forces by a formula, not from the stress at the place."""
        return self < Rule.CORE


_WORDS = {
    Rule.NET_SECTION: "torn through beside the hole",
    Rule.SHEAR_OUT: "hole torn out to the edge",
    Rule.BEARING: "wall of the hole crushed",
    Rule.HEAD: "crushed under the screw's head",
    Rule.PULLED_THROUGH: "screw's head pulled through",
    Rule.PULLED_OUT: "thread or insert pulled out",
    Rule.ROOT: "broken off at the hold",
    Rule.DENT: "dented: infill crushed under the load",
    Rule.BENT_IN: "shell bent in under the load",
    Rule.PUNCHED: "shell punched through under the load",
    Rule.CORE: "infill torn or crushed",
    Rule.WRINKLING: "shell wrinkled over soft infill",
}
