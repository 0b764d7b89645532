"""Toolpaths nobody would write by hand: odd words, numbers without end, one letter a million times, cut anywhere."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from knollside.core.model import Refused
from knollside.core.run.gcode import Toolpath, parse_gcode

HEAD = "G21\nG90\nM82\nG1 Z0.2 F600\nG0 X0 Y0\n"
LINE = "G1 X10 Y0 E1 F1800\n"


def parsed(text: str) -> Toolpath:
    return parse_gcode(np.frombuffer(text.encode(), np.uint8), "x.gcode")


def arcs_of(command: str) -> np.ndarray:
    return parsed(HEAD + f"{command} X10 Y0 I5 J0 E1\n" + "G1 X20 E2\n").at


@pytest.mark.parametrize("word", ["G002", "G+2", "g2", "G2.0", "N7 G2", "G02 ", "G 2".replace(" ", "")])
def test_one_command_however_it_is_spelt(word: str) -> None:
    assert np.array_equal(arcs_of(word), arcs_of("G2")) and not np.array_equal(arcs_of("G3"), arcs_of("G2"))


@pytest.mark.parametrize("word", ["G1.6", "G-1", "G10", "G99999", "G1" + "0" * 300, "GX", "G"])
def test_what_is_another_command_moves_nothing(word: str) -> None:
    """G1.6 was read as G1, and G-1 as one of the table's last."""
    found = parsed(HEAD + LINE + f"{word} X99 Y99 E9\n" + "G1 X20 E2\n")
    assert found.at[:, 0].max() == pytest.approx(20) and found.pushed.sum() == pytest.approx(2)


def test_a_number_of_three_hundred_digits_is_none() -> None:
    for digits in ("9" * 300, "1" + "0" * 300, "-" + "9" * 300):
        found = parsed(HEAD + LINE + f"G1 X{digits} E2\n" + "G1 X20 E2\n")
        assert np.isfinite(found.at).all() and np.abs(found.at).max() <= 20
        assert any("could not be read" in n for n in found.notes)
    zeros = parsed(HEAD + f"G1 X{'0' * 300}10.{'5' * 300} E1\n")
    assert zeros.at[-1, 0] == pytest.approx(10.5555555)


@pytest.mark.parametrize("word", ["G2", "G3 I1", "G1", "M104", "X", "1", "(", ";", "E", "\r", "N", "-", "."])
def test_one_word_a_million_times(word: str) -> None:
    """``G2G2G2...`` on one line wrote past the end of what was set aside for it."""
    body = (word * (2_000_000 // len(word))).encode()
    try:
        found = parse_gcode(np.frombuffer((HEAD + LINE).encode() + body, np.uint8), "x.gcode")
        assert found.at[-1, 0] == pytest.approx(10) and found.pushed.sum() == pytest.approx(1)
    except Refused as refusal:
        assert "x.gcode" in str(refusal)


def test_a_million_arcs_and_settings_grow_as_they_come() -> None:
    arc = b"G2 X10 Y0 I5 J0 E1\nG3 X0 Y0 I-5 J0 E2\nM106 S255\n"
    found = parse_gcode(np.frombuffer(HEAD.replace("M82", "M83").encode() + arc * 20_000, np.uint8), "x.gcode")
    assert len(found.fan) == 20_000 and found.pushed.sum() == pytest.approx(60_000)
    # Two half circles of 5 mm radius each round.
    assert found.length.sum() == pytest.approx(20_000 * 2 * np.pi * 5, rel=1e-6)


tokens = st.sampled_from(
    [
        *("G0", "G1", "G2", "G3", "G20", "G28", "G90", "G91", "G92", "M82", "M83", "M104", "M106", "M117", "T0", "N1"),
        *("X", "Y", "Z", "E", "F", "I", "J", "R", "S", "-", "+", ".", "1", "10", "1e9", "9" * 40, " ", "\n", "\r\n"),
        *(";", "(", ")", "*", "\t", "\x00", "é"),
    ]
)


@settings(max_examples=300, deadline=None)
@given(st.lists(tokens, max_size=80))
def test_any_words_in_any_order_give_finite_moves_or_a_sentence(words: list[str]) -> None:
    try:
        found = parsed(HEAD + LINE + "".join(words))
    except Refused as refusal:
        assert str(refusal).endswith(".")
        return
    for made in (found.at, found.pushed, found.speed, found.length, found.nozzle, found.bed, found.fan):
        assert np.isfinite(made).all()
    assert (found.length >= 0).all() and (found.line >= 1).all()


BOUNDED = """
import random, sys
import numpy as np
from knollside.core.model import Refused
from knollside.core.run.gcode import parse_gcode
words = "G0 G1 G2 G3 G28 G91 G92 M83 M104 M106 M117 X Y Z E F I J R S - . 1 10 7.5 999999999999 ; ( ) *".split()
words.append("\\n")
draw = random.Random(4)
whole = ("G21\\nG1 Z0.2 F600\\n" + "G2 X9 Y0 I4 J1 E1\\nG1 X0 E2\\nM106 S1\\n" * 3000).encode()
for k in range(400):
    text = "".join(draw.choice(words) + draw.choice(("", " ", "\\n")) for _ in range(60)).encode()
    data = whole[: draw.randrange(len(whole))] if k % 4 == 0 else b"G1 X1 E1\\n" + text
    try:
        parse_gcode(np.frombuffer(data, np.uint8))
    except Refused:
        pass
print("within bounds")
"""


def test_no_word_is_written_outside_what_is_set_aside(tmp_path: Path) -> None:
    """The same with every index checked; in a process of its own, for the check is compiled in."""
    more = {"NUMBA_BOUNDSCHECK": "1", "NUMBA_CACHE_DIR": str(tmp_path)}
    done = subprocess.run(
        [sys.executable, "-c", BOUNDED], env=os.environ | more, capture_output=True, text=True, timeout=300, check=False
    )
    assert done.stdout.strip() == "within bounds", done.stderr[-2000:]
