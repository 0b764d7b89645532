"""Hardware by public standards, as people write it, and what a drawn size is likely meant for."""

from __future__ import annotations

import pytest

from knollside.core.fit.hardware import catalogue, item, suggestions, sure
from knollside.core.job.edits import all_mated
from knollside.core.model import Feature, Refused


@pytest.mark.parametrize(
    ("written", "name", "size"),
    [
        ("1/4-20", "1/4 in", 6.35),  # a camera's screw
        ("3/8-16", "3/8 in", 9.525),
        ("M5x16", "M5", 5.0),
        ("M 5", "M5", 5.0),
        ("m8 x 40", "M8", 8.0),
        ("M10x1", "M10x1", 10.0),
        ("M5 screw", "M5", 5.0),
        ("10-32", "#10-32", 4.826),
        ("4-40", "#4", 2.8448),
        ("1/4-28", "1/4-28", 6.35),
        ("5/16-18 x 1", "5/16 in", 7.9375),
        ("rod 1/4 in", "rod 1/4 in", 6.35),
        ("8 mm rod", "rod 8 mm", 8.0),
        ("rod 6,35", "rod 6,35", 6.35),
        ("1 1/4 in tube", "tube 31.75 mm", 31.75),
        ("608zz", "bearing 608", 22.0),
        ("608-2RS", "bearing 608", 22.0),
        ("mr105zz", "bearing MR105", 10.0),
        ("lm8uu", "LM8UU", 15.0),
        ("nut m5", "nut M5", 8.0),
        ("M5 nut", "nut M5", 8.0),
        ("m3 insert", "insert M3", 4.0),
        ("insert M3x5,7", "insert M3 x 5.7", 4.0),
        ("washer M4", "washer M4", 9.0),
        ("magnet 6x3", "magnet 6 mm", 6.0),
        ("G 1/4", "G 1/4", 13.157),
        ("g1/2", "G 1/2", 20.955),
        ("1/2 npt", "1/2 NPT", 21.336),
    ],
)
def test_hardware_is_read_as_people_write_it(written: str, name: str, size: float) -> None:
    found = item(written)
    assert found.name == name and found.size == pytest.approx(size, abs=1e-3)


@pytest.mark.parametrize(
    "written",
    ["", "M99x", "1/0 in", "a bolt", "rod", "nut 5 apples", "insert M3 x 90", "insert M7 x 5", "#77", "1/4-77"],
)
def test_what_is_no_hardware_is_said_to_be_none(written: str) -> None:
    with pytest.raises(Refused, match="is not known"):
        item(written)


@pytest.mark.parametrize(
    ("name", "size"),
    [
        ("button head M6", 10.5),  # ISO 7380-1
        ("countersunk head M5", 11.2),  # ISO 10642
        ("hexagon head M8", 13.0),  # ISO 4014
        ("nut M10, self-locking", 16.0),  # ISO 7040
        ("nut M12x1.5", 19.0),  # DIN 934
        ("square nut M4", 7.0),  # DIN 562
        ("slot nut 8 mm", 8.0),  # DIN 508
        ("small washer M6", 11.0),  # ISO 7092
        ("large washer M6", 18.0),  # ISO 7093
        ("nut 1/2 in", 19.05),  # ASME B18.2.2
        ("nut #4", 6.35),
        ("bearing 6804", 32.0),  # ISO 15
        ("bearing 6204", 47.0),
        ("bore of 6004", 20.0),
        ("LM12UU", 21.0),
        ("G 1 1/2", 47.803),  # ISO 228-1
        ("1 1/2 NPT", 48.26),  # ASME B1.20.1
    ],
)
def test_sizes_are_those_of_the_standards(name: str, size: float) -> None:
    assert catalogue()[name].size == pytest.approx(size, abs=1e-3)


def test_fine_threads_cut_their_own_core_and_pass_the_coarse_ones_holes() -> None:
    assert item("M10x1").bores["thread"][1] == pytest.approx(9.0) and item("M10x1").bores["medium"][1] == 11.0
    assert item("#10-32").bores["thread"][1] == pytest.approx((0.190 - 1 / 32) * 25.4)
    assert item("G 1/4").bores["thread"][0] == pytest.approx(11.445)


@pytest.mark.parametrize(
    ("drawn", "first", "among"),
    [
        (22.0, "bearing 608", "M20"),
        (6.0, "rod 6 mm", "M6"),
        (5.0, "rod 5 mm", "M5"),
        (5.5, "M5", "head M3"),
        (4.0, "rod 4 mm", "insert M3"),
        (15.0, "LM8UU", "M14"),
        (9.728, "G 1/8", "G 1/8"),
    ],
)
def test_exact_sizes_come_first_and_two_or_three_are_offered(drawn: float, first: str, among: str) -> None:
    got = suggestions(drawn)
    assert got[0].name == first and among in [s.name for s in got] and len(got) <= 3
    assert all(s.fit in catalogue()[s.name].fits for s in got)


def test_in_bulk_nothing_is_guessed() -> None:
    assert sure(5.5) == ("M5", "medium") and sure(22.0)[0] == sure(6.0)[0] == sure(5.05)[0] == "as drawn"

    def hole(name: str, d: float) -> Feature:
        return Feature(name, "hole", (0, 0, 0), (0, 0, 1), [], 1.0, d, 5.0, True)  # type: ignore[arg-type]

    mates = all_mated((), (hole("hole-1", 5.5), hole("hole-2", 22.0), hole("hole-3", 5.05)))
    assert [m.hardware for m in mates] == ["M5", "as drawn", "as drawn"] and mates[0].fit == "medium"
