"""Reading a sliced file: plain G-code to moves, whatever program wrote it.

Only the commands count; comments are passed over. Millimetres and inches, absolute and relative places and
extrusion, arcs (as short chords), temperatures and fan. Nothing is run or sent.
"""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numba
import numpy as np

from knollside.core.model import Array, Ints, Refused

MOST_BYTES = 200_000_000
_CHORD = 0.1  # mm an arc's chords may leave the arc
_MOST_CHORDS = 64
_COLUMNS = 7  # x, y, z at the end, filament pushed, feed, length, command's line


@numba.njit(cache=True, nogil=True)
def _number(b, i, end):  # type: ignore[no-untyped-def]
    """A number at ``i``: its value, and where it ends; where it starts if there is none."""
    start, sign, value, digits = i, 1.0, 0.0, 0
    if i < end and (b[i] == 45 or b[i] == 43):
        sign = -1.0 if b[i] == 45 else 1.0
        i += 1
    while i < end and 48 <= b[i] <= 57:
        value = 10 * value + (b[i] - 48)
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
    return (sign * value, i) if digits else (0.0, start)


@numba.njit(cache=True, nogil=True)
def _parse(b, moves, events, state):  # type: ignore[no-untyped-def]
    """Fill ``moves`` (n, 7) and ``events`` (m, 4: kind, value, waits, moves so far); return how many of each, and
    the line of the first fault (0: none).

    ``state``: 0 inches met, 1 arcs met, 2 relative extrusion met, 3 ended inside a command.
    """
    n = e = 0
    x = y = z = pushed = 0.0
    feed, scale = 1500.0, 1.0
    absolute, absolute_e = True, True
    i, size, line, fault = 0, b.shape[0], 0, 0
    word = np.zeros(26)
    have = np.zeros(26, np.bool_)
    while i < size:
        line += 1
        end = i
        while end < size and b[end] != 10 and b[end] != 13:
            end += 1
        have[:] = False
        k, odd, first = i, False, True
        while k < end:
            c = b[k]
            if c == 59 or c == 42:  # ; or the * of a checksum
                break
            if c == 40:  # ( ... )
                while k < end and b[k] != 41:
                    k += 1
                k += 1
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
                    odd = c == 71 or c == 77
                    break
            bare = c == 88 or c == 89 or c == 90  # G28 X
            if after == k and not bare:
                odd = c == 69 or c == 70
                break
            if not have[c - 65]:
                have[c - 65] = True
                word[c - 65] = value
            k = after
            if have[12] and (word[12] == 117 or word[12] == 118 or word[12] == 23):
                break  # text follows
        if odd and fault == 0 and end < size:
            fault = line
        if end >= size and odd:
            state[3] = 1
        if have[6]:
            g = int(word[6] + 0.5)
            if g == 20:
                scale = 25.4
                state[0] = 1
            elif g == 21:
                scale = 1.0
            elif g == 90:
                absolute, absolute_e = True, True
            elif g == 91:
                absolute, absolute_e = False, False
                state[2] = 1
            elif g == 28:
                every = not (have[23] or have[24] or have[25])
                x = 0.0 if every or have[23] else x
                y = 0.0 if every or have[24] else y
                z = 0.0 if every or have[25] else z
            elif g == 92:
                if have[4]:
                    pushed = word[4] * scale
                x = word[23] * scale if have[23] else x
                y = word[24] * scale if have[24] else y
                z = word[25] * scale if have[25] else z
            elif g <= 3:
                if have[5]:
                    feed = word[5] * scale
                x1, y1, z1 = x, y, z
                if have[23]:
                    x1 = word[23] * scale if absolute else x + word[23] * scale
                if have[24]:
                    y1 = word[24] * scale if absolute else y + word[24] * scale
                if have[25]:
                    z1 = word[25] * scale if absolute else z + word[25] * scale
                de = 0.0
                if have[4]:
                    de = word[4] * scale - pushed if absolute_e else word[4] * scale
                    pushed += de
                if g >= 2 and (have[8] or have[9] or have[17]):
                    state[1] = 1
                    cx, cy = x + word[8] * scale * have[8], y + word[9] * scale * have[9]
                    if have[17] and not (have[8] or have[9]):
                        r = word[17] * scale
                        dx, dy = x1 - x, y1 - y
                        d = max(np.hypot(dx, dy), 1e-9)
                        up = np.sqrt(max(r * r - d * d / 4, 0.0)) / d
                        side = 1.0 if (g == 3) == (r > 0) else -1.0
                        cx, cy = (x + x1) / 2 - side * up * dy, (y + y1) / 2 + side * up * dx
                    r = max(np.hypot(x - cx, y - cy), 1e-9)
                    a0, a1 = np.arctan2(y - cy, x - cx), np.arctan2(y1 - cy, x1 - cx)
                    turn = a1 - a0
                    if g == 2 and turn >= -1e-9:
                        turn -= 2 * np.pi
                    if g == 3 and turn <= 1e-9:
                        turn += 2 * np.pi
                    step = 2 * np.arccos(max(1 - _CHORD / max(r, _CHORD), 0.0))
                    parts = min(max(int(np.ceil(abs(turn) / max(step, 0.05))), 1), _MOST_CHORDS)
                    length = abs(turn) * r / parts
                    for p in range(1, parts + 1):
                        a = a0 + turn * p / parts
                        moves[n, 0], moves[n, 1] = cx + r * np.cos(a), cy + r * np.sin(a)
                        moves[n, 2] = z + (z1 - z) * p / parts
                        moves[n, 3], moves[n, 4], moves[n, 5], moves[n, 6] = de / parts, feed / 60, length, line
                        n += 1
                    moves[n - 1, 0], moves[n - 1, 1] = x1, y1
                else:
                    length = np.sqrt((x1 - x) ** 2 + (y1 - y) ** 2 + (z1 - z) ** 2)
                    if length > 0 or de != 0:
                        moves[n, 0], moves[n, 1], moves[n, 2] = x1, y1, z1
                        moves[n, 3], moves[n, 4], moves[n, 5], moves[n, 6] = de, feed / 60, length, line
                        n += 1
                x, y, z = x1, y1, z1
        elif have[12]:
            m = int(word[12] + 0.5)
            if m == 82:
                absolute_e = True
            elif m == 83:
                absolute_e = False
                state[2] = 1
            elif m == 104 or m == 109 or m == 140 or m == 190 or m == 106 or m == 107:
                kind = 0 if m == 104 or m == 109 else (1 if m == 140 or m == 190 else 2)
                value = word[18] if have[18] else (255.0 if m == 106 else 0.0)
                if m != 107 and kind < 2 and not have[18]:
                    value = word[17] if have[17] else 0.0
                events[e, 0], events[e, 1], events[e, 2], events[e, 3] = kind, 0.0 if m == 107 else value, m == 109, n
                e += 1
        i = end + 1
    return n, e, fault


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
    """Moves from the bytes (uint8) of a file."""
    if len(data) == 0:
        raise Refused(f"{name} is empty.")
    head = data[:200_000]
    odd = (head < 9) | ((head > 13) & (head < 32) & (head != 27))
    if odd.mean() > 0.001:
        raise Refused(f"{name} is not plain text: binary files of toolpaths cannot be read. Export plain G-code.")
    lines = int((data == 10).sum() + (data == 13).sum()) + 1
    upper = data & 0xDF
    arcs = int(((upper[:-1] == 71) & ((data[1:] == 50) | (data[1:] == 51))).sum() + 1)
    arcs += int(((upper[:-2] == 71) & (data[1:-1] == 48) & ((data[2:] == 50) | (data[2:] == 51))).sum())
    moves = np.empty((lines + _MOST_CHORDS * arcs, _COLUMNS))
    events, state = np.empty((lines, 4)), np.zeros(4, np.int64)
    n, e, fault = _parse(data, moves, events, state)
    m, ev = moves[:n].copy(), events[:e]
    if n == 0:
        raise Refused(f"{name} holds no moves; is it G-code?")
    if not ((m[:, 3] > 0) & (m[:, 5] > 0)).any():
        raise Refused(f"{name} moves but lays no line: there is no extrusion in it.")
    notes = []
    if state[0]:
        notes.append("Inches (G20) were met and turned into mm.")
    if state[1]:
        notes.append("Arcs (G2, G3) were read as short chords.")
    if state[2]:
        notes.append("Relative moves or extrusion were met and added up.")
    if fault:
        notes.append(f"Line {fault} could not be read and was passed over.")
    nozzle, bed, fan = (ev[ev[:, 0] == k][:, [3, 1]] for k in (0, 1, 2))
    if state[3] or (len(nozzle) and nozzle[-1, 1] > 0):
        notes.append("It ends with the heaters on or inside a command: the file may be cut short.")
    fan = np.c_[fan[:, 0], np.clip(fan[:, 1] / 255, 0, 1)]
    return Toolpath(m[:, :3], m[:, 3], m[:, 4], m[:, 5], m[:, 6].astype(np.int64), nozzle, bed, fan, tuple(notes))
