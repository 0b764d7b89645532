"""Reading a sliced file: plain G-code to moves, whatever program wrote it.

Only the commands count; comments are passed over. Millimetres and inches, absolute and relative places and
extrusion, arcs (as short chords), temperatures and fan. Nothing is run or sent. A lexer turns a line into words, an
interpreter turns words into moves; what is made grows as it is made, and never past its stated limits.
"""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numba
import numpy as np

from knollside.core.model import Array, Ints, Refused

MOST_BYTES = 200_000_000
MOST_MOVES = 16_000_000
_CHORD = 0.1  # mm an arc's chords may leave the arc
_MOST_CHORDS = 64
_COLUMNS = 7  # x, y, z at the end, filament pushed, feed, length, command's line
_FIRST_ROOM = 4096
_LARGEST = 1e7  # a number past this is none: no place, heat or feed of a printer is
# Words by their letter, A is 0.
_E, _F, _G, _I, _J, _M, _R, _S, _X, _Y, _Z = 4, 5, 6, 8, 9, 12, 17, 18, 23, 24, 25
# State of the interpreter: where the head is, what was pushed, feed mm/min, scale to mm, absolute places and extrusion.
_AT, _PUSHED, _FEED, _SCALE, _ABSOLUTE, _ABSOLUTE_E, _STATE = 0, 3, 4, 5, 6, 7, 8
# What was met: inches, arcs, relative moves, an end inside a command; the first line that could not be read.
_INCHES, _ARCS, _RELATIVE, _CUT, _FAULT, _NOTED = 0, 1, 2, 3, 4, 5


@numba.njit(cache=True, nogil=True)
def _number(b, i, end):  # type: ignore[no-untyped-def]
    """A number at ``i``: its value and where it ends; where it starts if there is none, or it is beyond all sense."""
    start, sign, value, digits = i, 1.0, 0.0, 0
    if i < end and (b[i] == 45 or b[i] == 43):
        sign = -1.0 if b[i] == 45 else 1.0
        i += 1
    while i < end and 48 <= b[i] <= 57:
        value = 10 * value + (b[i] - 48) if value < 1e15 else value
        digits += 1
        i += 1
    if i < end and b[i] == 46:
        i += 1
        part = 0.1
        while i < end and 48 <= b[i] <= 57:
            value += part * (b[i] - 48)
            part *= 0.1
            digits += 1
            i += 1
    if not digits or value > _LARGEST:
        return 0.0, start
    return sign * value, i


@numba.njit(cache=True, nogil=True)
def _line_end(b, i):  # type: ignore[no-untyped-def]
    while i < b.shape[0] and b[i] != 10 and b[i] != 13:
        i += 1
    return i


@numba.njit(cache=True, nogil=True)
def _past_aside(b, k, end):  # type: ignore[no-untyped-def]
    """Past a remark in brackets."""
    while k < end and b[k] != 41:
        k += 1
    return k + 1


@numba.njit(cache=True, nogil=True)
def _lex(b, k, end, word, have):  # type: ignore[no-untyped-def]
    """The words of one line, the first of each letter; whether it is a command that could not be read."""
    have[:] = False
    first = True
    while k < end:
        c = b[k]
        if c == 59 or c == 42:  # ; or the * of a checksum
            break
        if c == 40:  # ( ... )
            k = _past_aside(b, k, end)
            continue
        if 97 <= c <= 122:
            c -= 32
        k += 1
        if c < 65 or c > 90:
            continue
        value, after = _number(b, k, end)
        if first and c != 78:  # N numbers a line; a command starts with G, M or T, all else is a macro's text
            first = False
            if (c != 71 and c != 77 and c != 84) or after == k:
                return c == 71 or c == 77
        bare = c == 88 or c == 89 or c == 90  # G28 X
        if after == k and not bare:
            return c == 69 or c == 70 or (k < end and 43 <= b[k] <= 57)
        if after == k and k < end and 43 <= b[k] <= 57:
            return True  # a place that is no number
        if not have[c - 65]:
            have[c - 65] = True
            word[c - 65] = value
        k = after
        if have[_M] and (word[_M] == 117 or word[_M] == 118 or word[_M] == 23):
            break  # text follows
    return False


@numba.njit(cache=True, nogil=True)
def _code(value):  # type: ignore[no-untyped-def]
    """The whole number of a command; -1 where it has a part after the point (another command) or makes no sense."""
    if value < 0 or value > 9999:
        return -1
    whole = int(value + 1e-9)
    return whole if abs(value - whole) < 1e-9 else -1


@numba.njit(cache=True, nogil=True)
def _mode(g, word, have, s, noted):  # type: ignore[no-untyped-def]
    """Units, absolute and relative, homing, and setting where one is."""
    if g == 20:
        s[_SCALE] = 25.4
        noted[_INCHES] = 1
    elif g == 21:
        s[_SCALE] = 1.0
    elif g == 90:
        s[_ABSOLUTE], s[_ABSOLUTE_E] = 1.0, 1.0
    elif g == 91:
        s[_ABSOLUTE], s[_ABSOLUTE_E] = 0.0, 0.0
        noted[_RELATIVE] = 1
    elif g == 28:
        every = not (have[_X] or have[_Y] or have[_Z])
        for d in range(3):
            if every or have[_X + d]:
                s[_AT + d] = 0.0
    elif g == 92:
        if have[_E]:
            s[_PUSHED] = word[_E] * s[_SCALE]
        for d in range(3):
            if have[_X + d]:
                s[_AT + d] = word[_X + d] * s[_SCALE]


@numba.njit(cache=True, nogil=True)
def _target(word, have, s):  # type: ignore[no-untyped-def]
    """Where a move goes, and how much filament it pushes; the feed is taken along."""
    if have[_F]:
        s[_FEED] = word[_F] * s[_SCALE]
    to = np.empty(3)
    for d in range(3):
        to[d] = s[_AT + d]
        if have[_X + d]:
            to[d] = word[_X + d] * s[_SCALE] + (0.0 if s[_ABSOLUTE] > 0 else s[_AT + d])
    pushed = 0.0
    if have[_E]:
        pushed = word[_E] * s[_SCALE] - (s[_PUSHED] if s[_ABSOLUTE_E] > 0 else 0.0)
        s[_PUSHED] += pushed
    return to, pushed


@numba.njit(cache=True, nogil=True)
def _centre(g, word, have, s, to):  # type: ignore[no-untyped-def]
    """The middle of an arc, by its offset or by its radius."""
    x, y = s[_AT], s[_AT + 1]
    if have[_I] or have[_J]:
        i = word[_I] * s[_SCALE] if have[_I] else 0.0
        j = word[_J] * s[_SCALE] if have[_J] else 0.0
        return x + i, y + j
    r = word[_R] * s[_SCALE]
    dx, dy = to[0] - x, to[1] - y
    d = max(np.hypot(dx, dy), 1e-9)
    up = np.sqrt(max(r * r - d * d / 4, 0.0)) / d
    side = 1.0 if (g == 3) == (r > 0) else -1.0
    return (x + to[0]) / 2 - side * up * dy, (y + to[1]) / 2 + side * up * dx


@numba.njit(cache=True, nogil=True)
def _arc(g, word, have, s, to, pushed, line, moves, n):  # type: ignore[no-untyped-def]
    """An arc as chords; how many rows there are afterwards."""
    x, y, z = s[_AT], s[_AT + 1], s[_AT + 2]
    cx, cy = _centre(g, word, have, s, to)
    r = max(np.hypot(x - cx, y - cy), 1e-9)
    a0, a1 = np.arctan2(y - cy, x - cx), np.arctan2(to[1] - cy, to[0] - cx)
    turn = a1 - a0
    if g == 2 and turn >= -1e-9:
        turn -= 2 * np.pi
    if g == 3 and turn <= 1e-9:
        turn += 2 * np.pi
    step = max(2 * np.arccos(max(1 - _CHORD / max(r, _CHORD), 0.0)), 0.05)
    parts = min(max(int(np.ceil(abs(turn) / step)), 1), _MOST_CHORDS)
    for p in range(1, parts + 1):
        a = a0 + turn * p / parts
        moves[n, 0], moves[n, 1] = cx + r * np.cos(a), cy + r * np.sin(a)
        moves[n, 2] = z + (to[2] - z) * p / parts
        moves[n, 3], moves[n, 4] = pushed / parts, s[_FEED] / 60
        moves[n, 5], moves[n, 6] = abs(turn) * r / parts, line
        n += 1
    moves[n - 1, 0], moves[n - 1, 1] = to[0], to[1]
    return n


@numba.njit(cache=True, nogil=True)
def _move(g, word, have, s, noted, line, moves, n):  # type: ignore[no-untyped-def]
    """A straight move or an arc; how many rows there are afterwards."""
    to, pushed = _target(word, have, s)
    if g >= 2 and (have[_I] or have[_J] or have[_R]):
        noted[_ARCS] = 1
        n = _arc(g, word, have, s, to, pushed, line, moves, n)
    else:
        length = 0.0
        for d in range(3):
            length += (to[d] - s[_AT + d]) ** 2
        length = np.sqrt(length)
        if length > 0 or pushed != 0:
            moves[n, :3] = to
            moves[n, 3], moves[n, 4], moves[n, 5], moves[n, 6] = pushed, s[_FEED] / 60, length, line
            n += 1
    s[_AT : _AT + 3] = to
    return n


@numba.njit(cache=True, nogil=True)
def _setting(m, word, have, s, noted, events, e, n):  # type: ignore[no-untyped-def]
    """Heat, fan and the way extrusion is counted; how many events there are afterwards."""
    if m == 82:
        s[_ABSOLUTE_E] = 1.0
    elif m == 83:
        s[_ABSOLUTE_E] = 0.0
        noted[_RELATIVE] = 1
    elif m == 104 or m == 109 or m == 140 or m == 190 or m == 106 or m == 107:
        kind = 0 if m == 104 or m == 109 else (1 if m == 140 or m == 190 else 2)
        value = word[_S] if have[_S] else (255.0 if m == 106 else 0.0)
        if m != 107 and kind < 2 and not have[_S]:
            value = word[_R] if have[_R] else 0.0
        events[e, 0], events[e, 1], events[e, 2], events[e, 3] = kind, 0.0 if m == 107 else value, m == 109, n
        e += 1
    return e


@numba.njit(cache=True, nogil=True)
def _interpret(b, i, line, s, noted, moves, events, n, e):  # type: ignore[no-untyped-def]
    """Go on from byte ``i`` until the file or the room is at its end; where that is, and how much there is of each."""
    word, have = np.zeros(26), np.zeros(26, np.bool_)
    while i < b.shape[0] and n + _MOST_CHORDS < moves.shape[0] and e + 1 < events.shape[0]:
        line += 1
        end = _line_end(b, i)
        odd = _lex(b, i, end, word, have)
        if odd and end >= b.shape[0]:
            noted[_CUT] = 1
        elif odd and noted[_FAULT] == 0:
            noted[_FAULT] = line
        if not odd and have[_G]:
            g = _code(word[_G])
            if 0 <= g <= 3:
                n = _move(g, word, have, s, noted, line, moves, n)
            else:
                _mode(g, word, have, s, noted)
        elif not odd and have[_M]:
            e = _setting(_code(word[_M]), word, have, s, noted, events, e, n)
        i = end + 1
    return i, line, n, e


@dataclass(frozen=True)
class Toolpath:
    """Moves of a file in order: ``at`` (n, 3) where each ends, mm; ``pushed`` (n,) mm of filament; ``speed`` (n,)
    mm/s; ``length`` (n,) mm; ``line`` (n,) of the file. ``nozzle``, ``bed``, ``fan``: (k, 2) of move number and
    value (degrees C, degrees C, share). ``notes`` say what was met and how it was read."""

    at: Array
    pushed: Array
    speed: Array
    length: Array
    line: Ints
    nozzle: Array
    bed: Array
    fan: Array
    notes: tuple[str, ...]

    @property
    def drawn(self) -> np.ndarray:
        """Which moves lay a line: they go along and push filament."""
        along = np.hypot(*np.diff(self.at[:, :2], axis=0, prepend=self.at[:1, :2]).T)
        return np.asarray((self.pushed > 0) & (along > 1e-6))


def read_gcode(path: Path) -> Toolpath:
    """Read a file of plain G-code. Refuses what is too large, binary, empty of moves or of extrusion."""
    try:
        size = path.stat().st_size
    except OSError as e:
        raise Refused(f"{path.name} cannot be opened: {e.strerror}.") from None
    if size > MOST_BYTES:
        raise Refused(f"{path.name} has {size / 1e6:.0f} MB; up to {MOST_BYTES // 1_000_000} MB are read.")
    return parse_gcode(np.fromfile(path, np.uint8), path.name)


def parse_gcode(data: np.ndarray, name: str = "The file") -> Toolpath:
    """Moves from the bytes (uint8) of a file. Raises :class:`Refused`; see :func:`read_gcode`."""
    if len(data) == 0:
        raise Refused(f"{name} is empty.")
    head = data[:200_000]
    odd = (head < 9) | ((head > 13) & (head < 32) & (head != 27))
    if odd.mean() > 0.001:
        raise Refused(f"{name} is not plain text: binary files of toolpaths cannot be read. Export plain G-code.")
    moves, events, noted = _grown(np.ascontiguousarray(data), name)
    if len(moves) == 0:
        raise Refused(f"{name} holds no moves; is it G-code?")
    if not ((moves[:, 3] > 0) & (moves[:, 5] > 0)).any():
        raise Refused(f"{name} moves but lays no line: there is no extrusion in it.")
    nozzle, bed, fan = (events[events[:, 0] == k][:, [3, 1]] for k in (0, 1, 2))
    notes = _notes(noted, bool(len(nozzle) and nozzle[-1, 1] > 0))
    fan = np.c_[fan[:, 0], np.clip(fan[:, 1] / 255, 0, 1)]
    line = moves[:, 6].astype(np.int64)
    return Toolpath(moves[:, :3], moves[:, 3], moves[:, 4], moves[:, 5], line, nozzle, bed, fan, notes)


def _grown(data: np.ndarray, name: str) -> tuple[Array, Array, Ints]:
    """Moves (n, 7), events (m, 4: kind, value, waits, moves so far) and what was met; room is made as it is needed."""
    moves, events = np.empty((_FIRST_ROOM, _COLUMNS)), np.empty((_FIRST_ROOM, 4))
    state, noted = np.zeros(_STATE), np.zeros(_NOTED, np.int64)
    state[_FEED], state[_SCALE], state[_ABSOLUTE], state[_ABSOLUTE_E] = 1500.0, 1.0, 1.0, 1.0
    i = line = n = e = 0
    while i < len(data):
        i, line, n, e = _interpret(data, i, line, state, noted, moves, events, n, e)
        if n > MOST_MOVES:
            raise Refused(f"{name} has more than {MOST_MOVES:,} moves; that is more than is read.")
        if n + _MOST_CHORDS >= len(moves):
            moves = np.vstack([moves, np.empty_like(moves)])
        if e + 1 >= len(events):
            events = np.vstack([events, np.empty_like(events)])
    return moves[:n].copy(), events[:e].copy(), noted


def _notes(noted: Ints, hot: bool) -> tuple[str, ...]:
    out = []
    if noted[_INCHES]:
        out.append("Inches (G20) were met and turned into mm.")
    if noted[_ARCS]:
        out.append("Arcs (G2, G3) were read as short chords.")
    if noted[_RELATIVE]:
        out.append("Relative moves or extrusion were met and added up.")
    if noted[_FAULT]:
        out.append(f"Line {noted[_FAULT]} could not be read and was passed over.")
    if noted[_CUT] or hot:
        out.append("It ends with the heaters on or inside a command: the file may be cut short.")
    return tuple(out)
