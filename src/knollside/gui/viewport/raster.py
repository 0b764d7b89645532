"""Drawing the part: a small rasteriser with the look of an inked, layered block.

Measured here on two cores without a graphics card, a full stage of 20,000
triangles takes 6 to 15 ms (a general 3D library under software rendering took
110 to 130 ms and over 2 s for its first frame). It also tells which triangle is
under every pixel, so picking is a look-up.
"""

from __future__ import annotations

import numba
import numpy as np

MARKS = {"": 0, "held": 1, "pushed": 2, "mates": 3, "shown": 4, "hidden": 5, "flexes": 6, "unheld": 7}
CUT = -2  # in place of a triangle's number: the part is open here
CHOSEN = 8  # added to a face's mark while it is under discussion
KIND = 16  # times the number of what kind of thing a face is of, added to its mark
KINDS = ("hole", "pin", "slot or pocket", "cone", "ball", "thread", "lettering", "rounding", "hinge or snap", "unnamed")
_INK = np.array(
    [
        (0, 0, 0, 0.0),
        (130, 84, 138, 0.55),  # heather
        (47, 111, 126, 0.55),  # spring
        (130, 84, 138, 0.75),
        (205, 150, 48, 0.60),  # straw
        (85, 114, 47, 0.55),  # moss
        (127, 90, 10, 0.70),
        (42, 37, 32, 0.80),  # peat
        (85, 96, 106, 0.35),  # slate
        (150, 92, 70, 0.55),  # bark
        (168, 69, 42, 0.60),  # clay
    ],
    np.float64,
)


@numba.njit(cache=True, nogil=True)
def draw(screen, faces, height, limit, depth, face_at, bary):  # type: ignore[no-untyped-def]
    """Depth-test triangles of ``screen`` (n, 3: x, y, nearness) into the (h, w) buffers.

    What lies above ``limit`` (mm, by ``height`` of each corner) is left out; where a face is then seen from
    behind, the eye looks into the solid and the pixel is marked ``CUT``.
    """
    h, w = depth.shape
    whole = limit == np.inf
    for f in range(faces.shape[0]):
        x0, y0, z0 = screen[faces[f, 0], 0], screen[faces[f, 0], 1], screen[faces[f, 0], 2]
        x1, y1, z1 = screen[faces[f, 1], 0], screen[faces[f, 1], 1], screen[faces[f, 1], 2]
        x2, y2, z2 = screen[faces[f, 2], 0], screen[faces[f, 2], 1], screen[faces[f, 2], 2]
        det = (x1 - x0) * (y2 - y0) - (x2 - x0) * (y1 - y0)
        away = det >= 0.0  # y grows downward
        if det == 0.0 or (away and whole):
            continue
        h0, h1, h2 = height[faces[f, 0]], height[faces[f, 1]], height[faces[f, 2]]
        if min(h0, h1, h2) > limit:
            continue
        ya = max(int(np.ceil(min(y0, y1, y2) - 0.5)), 0)
        yb = min(int(np.floor(max(y0, y1, y2) - 0.5)), h - 1)
        inv = 1.0 / det
        for py in range(ya, yb + 1):
            y = py + 0.5
            # u and v are linear in x along the row: find the span where all three shares are positive.
            u0 = ((0.5 - x0) * (y2 - y0) - (x2 - x0) * (y - y0)) * inv
            du = (y2 - y0) * inv
            v0 = ((x1 - x0) * (y - y0) - (0.5 - x0) * (y1 - y0)) * inv
            dv = -(y1 - y0) * inv
            lo = max(min(x0, x1, x2) - 0.5, 0.0)
            hi = min(max(x0, x1, x2) - 0.5, w - 1.0)
            for px in range(int(np.ceil(lo)), int(np.floor(hi)) + 1):
                u = u0 + du * px
                v = v0 + dv * px
                if u < 0 or v < 0 or u + v > 1:
                    continue
                z = z0 + u * (z1 - z0) + v * (z2 - z0)
                if z > depth[py, px] and (whole or h0 + u * (h1 - h0) + v * (h2 - h0) <= limit):
                    depth[py, px] = z
                    face_at[py, px] = CUT if away else f
                    bary[py, px, 0] = u
                    bary[py, px, 1] = v


@numba.njit(cache=True, nogil=True)
def shadow(flat, faces, mask):  # type: ignore[no-untyped-def]
    """Mark the pixels (h, w) that the part's shadow on the bed covers."""
    h, w = mask.shape
    for f in range(faces.shape[0]):
        x0, y0 = flat[faces[f, 0], 0], flat[faces[f, 0], 1]
        x1, y1 = flat[faces[f, 1], 0], flat[faces[f, 1], 1]
        x2, y2 = flat[faces[f, 2], 0], flat[faces[f, 2], 1]
        det = (x1 - x0) * (y2 - y0) - (x2 - x0) * (y1 - y0)
        if det >= 0.0:
            continue
        for py in range(max(int(np.ceil(min(y0, y1, y2) - 0.5)), 0), min(int(max(y0, y1, y2) - 0.5), h - 1) + 1):
            for px in range(max(int(np.ceil(min(x0, x1, x2) - 0.5)), 0), min(int(max(x0, x1, x2) - 0.5), w - 1) + 1):
                u = ((px + 0.5 - x0) * (y2 - y0) - (x2 - x0) * (py + 0.5 - y0)) / det
                v = ((x1 - x0) * (py + 0.5 - y0) - (px + 0.5 - x0) * (y1 - y0)) / det
                if u >= 0 and v >= 0 and u + v <= 1:
                    mask[py, px] = True


@numba.njit(cache=True, nogil=True)
def _ramp(r, target):  # type: ignore[no-untyped-def]
    """The reserve scale: clay, straw, chalk, moss; the target sits between straw and chalk."""
    # Fraction along the ramp, equal steps of the logarithm around the target.
    t = 0.5 + 0.5 * np.log(max(r, 1e-3) / target) / np.log(4.0)
    t = min(max(t, 0.0), 1.0)
    stops = ((168.0, 69.0, 42.0), (205.0, 150.0, 48.0), (240.0, 230.0, 200.0), (118.0, 146.0, 80.0))
    k = min(int(t * 3), 2)
    f = t * 3 - k
    return (
        stops[k][0] + f * (stops[k + 1][0] - stops[k][0]),
        stops[k][1] + f * (stops[k + 1][1] - stops[k][1]),
        stops[k][2] + f * (stops[k + 1][2] - stops[k][2]),
    )


@numba.njit(cache=True, nogil=True)
def _marked(tag, r, g, bl, x, y, ease):  # type: ignore[no-untyped-def]
    """A pixel's colour under the hatching of what is said of its face."""
    step = 7 * ease
    if tag == 1:
        d = (x + y) % int(step) < 2.6 * ease
        k = 0.85 if d else 0.35
        r, g, bl = r + k * (47 - r), g + k * (111 - g), bl + k * (126 - bl)
    elif tag == 2:
        r, g, bl = r + 0.5 * (178 - r), g + 0.5 * (80 - g), bl + 0.5 * (54 - bl)
    elif tag == 3:
        r, g, bl = r + 0.5 * (130 - r), g + 0.5 * (84 - g), bl + 0.5 * (138 - bl)
    elif tag == 4:
        if x % int(step) < 2.2 * ease and y % int(step) < 2.2 * ease:
            r, g, bl = 42.0, 37.0, 32.0
    elif tag == 5:
        if x % int(2 * step) < 8 * ease and y % int(step) < 1.6 * ease:
            r, g, bl = 70.0, 66.0, 60.0
    elif tag == 6:
        wave = np.sin(x / (3.0 * ease)) * 2.0 * ease
        if (y + wave) % step < 1.8 * ease:
            r, g, bl = 42.0, 37.0, 32.0
    elif tag == 7:
        if (x + y) % int(step) < 1.8 * ease or (x - y) % int(step) < 1.8 * ease:
            r, g, bl = r + 0.8 * (122 - r), g + 0.8 * (84 - g), bl + 0.8 * (12 - bl)
        else:
            r, g, bl = r + 0.4 * (205 - r), g + 0.4 * (150 - g), bl + 0.4 * (48 - bl)
    return r, g, bl


@numba.njit(cache=True, nogil=True)
def of_kind(kind, r, g, bl, x, y, ease):  # type: ignore[no-untyped-def]
    """A pixel's colour by what kind of thing its face is of: an ink and, for some, a pattern."""
    step = 6 * ease
    on = True
    if kind == 3:
        on = x % int(step) < 3 * ease
    elif kind == 6:
        on = (x - y) % int(step) < 2.4 * ease
    elif kind == 7:
        on = x % int(step) < 2.4 * ease and y % int(step) < 2.4 * ease
    elif kind == 9:
        on = (x + y) % int(2 * step) < 1.8 * ease or (x - y) % int(2 * step) < 1.8 * ease
    k = _INK[kind, 3] if on else 0.0
    return r + k * (_INK[kind, 0] - r), g + k * (_INK[kind, 1] - g), bl + k * (_INK[kind, 2] - bl)


@numba.njit(cache=True, parallel=True, nogil=True)
def _ink(face_at, group, ease, image):  # type: ignore[no-untyped-def]
    """A line where the smooth surface under a pixel changes, or the depth jumps."""
    h, w = face_at.shape
    reach = max(round(ease), 1)
    for y in numba.prange(h):
        for x in range(w):
            f = face_at[y, x]
            ink = 0.0
            for k in range(2):
                yy, xx = y + (reach if k == 0 else 0), x + (reach if k == 1 else 0)
                if yy >= h or xx >= w:
                    continue
                o = face_at[yy, xx]
                if f == o or (f < 0 and o < 0 and f != CUT and o != CUT):
                    continue
                if f < 0 or o < 0:
                    ink = 0.92
                elif group[f] != group[o]:
                    ink = max(ink, 0.62)
            if ink > 0:
                for q, shade_to in ((0, 32), (1, 37), (2, 42)):
                    old = image[y, x, q] if image[y, x, 3] == 255 else 60
                    image[y, x, q] = np.uint8(old + ink * (shade_to - old))
                image[y, x, 3] = max(image[y, x, 3], np.uint8(235))


@numba.njit(cache=True, parallel=True, nogil=True)
def shade(  # type: ignore[no-untyped-def]
    depth,
    face_at,
    bary,
    faces,
    normals,
    corner_normals,
    smooth,
    group,
    mark,
    height,
    reserve,
    target,
    lines,
    cursor,
    light,
    ease,
    mask,
    image,
):
    """Colour the buffers into ``image`` (h, w, 4) BGRA.

    ``height`` per corner (mm above the bed) draws layer lines every ``lines`` mm and
    the ``cursor`` band; ``reserve`` per corner paints the ramp where ``target`` > 0;
    ``ease`` is pixels per drawn step, so that hatching keeps its size.
    """
    h, w = depth.shape
    for y in numba.prange(h):
        for x in range(w):
            f = face_at[y, x]
            if f == CUT:
                dark = 0.86 if (x - y) % int(8 * ease) < 1.6 * ease else 1.0
                image[y, x, 0], image[y, x, 1], image[y, x, 2] = (
                    np.uint8(186 * dark),
                    np.uint8(207 * dark),
                    np.uint8(219 * dark),
                )
                image[y, x, 3] = 255
                continue
            if f < 0:
                image[y, x, 3] = 0
                if mask[y, x]:
                    image[y, x, 0], image[y, x, 1], image[y, x, 2], image[y, x, 3] = 20, 26, 32, 34
                continue
            u, v = bary[y, x, 0], bary[y, x, 1]
            a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
            s = 1 - u - v
            if smooth[f]:
                nx = s * corner_normals[3 * f, 0] + u * corner_normals[3 * f + 1, 0] + v * corner_normals[3 * f + 2, 0]
                ny = s * corner_normals[3 * f, 1] + u * corner_normals[3 * f + 1, 1] + v * corner_normals[3 * f + 2, 1]
                nz = s * corner_normals[3 * f, 2] + u * corner_normals[3 * f + 1, 2] + v * corner_normals[3 * f + 2, 2]
                size = np.sqrt(nx * nx + ny * ny + nz * nz) + 1e-12
                nx, ny, nz = nx / size, ny / size, nz / size
            else:
                nx, ny, nz = normals[f, 0], normals[f, 1], normals[f, 2]
            lit = 0.5 + 0.5 * (nx * light[0] + ny * light[1] + nz * light[2])
            r, g, bl = 136 + 98 * lit, 127 + 97 * lit, 110 + 90 * lit
            up = s * height[a] + u * height[b] + v * height[c]
            if target > 0:
                q = np.exp(s * np.log(reserve[a]) + u * np.log(reserve[b]) + v * np.log(reserve[c]))
                pr, pg, pb = _ramp(q, target)
                k = 0.72 + 0.38 * lit
                r, g, bl = 0.15 * r + 0.85 * pr * k, 0.15 * g + 0.85 * pg * k, 0.15 * bl + 0.85 * pb * k
                if q < 1 and (x + y) % int(6 * ease) < 1.5 * ease:
                    r, g, bl = r * 0.6, g * 0.6, bl * 0.6
            if lines > 0 and abs(nz) < 0.98:
                phase = up / lines - np.floor(up / lines)
                if phase < 0.4:
                    r, g, bl = r * 0.93, g * 0.93, bl * 0.93
            m = mark[f]
            if m >= 16:
                r, g, bl = of_kind(m // 16, r, g, bl, x, y, ease)
            r, g, bl = _marked(m % 8, r, g, bl, x, y, ease)
            if m % 16 >= 8:
                r, g, bl = r + 0.42 * (152 - r), g + 0.42 * (96 - g), bl + 0.42 * (160 - bl)
            if cursor >= 0 and abs(up - cursor) < 0.35 + 0.5 * ease * 0.3:
                r, g, bl = r + 0.8 * (116 - r), g + 0.8 * (73 - g), bl + 0.8 * (122 - bl)
            image[y, x, 0], image[y, x, 1], image[y, x, 2], image[y, x, 3] = (
                np.uint8(min(max(bl, 0), 255)),
                np.uint8(min(max(g, 0), 255)),
                np.uint8(min(max(r, 0), 255)),
                255,
            )
    _ink(face_at, group, ease, image)
