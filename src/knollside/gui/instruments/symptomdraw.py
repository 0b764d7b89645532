"""Small drawings of what a print that went wrong looks like; each in a box of 60 by 40."""

from __future__ import annotations

import math
from collections.abc import Callable

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QBrush, QPainter, QPainterPath, QPen, QPolygonF

from knollside.core.model.faults import Symptom as S
from knollside.gui.theme.look import look

WIDE, HIGH = 60.0, 40.0
_BED = 35.0  # where the sheet is


def draw_symptom(p: QPainter, box: QRectF, symptom: S) -> None:
    """Draw it into a box, as large as fits."""
    p.save()
    scale = min(box.width() / WIDE, box.height() / HIGH)
    p.translate(box.left() + (box.width() - WIDE * scale) / 2, box.top() + (box.height() - HIGH * scale) / 2)
    p.scale(scale, scale)
    _DRAWN[symptom](p)
    p.restore()


def _ink(p: QPainter, token: str = "peat", wide: float = 1.1) -> None:
    p.setPen(QPen(look.colour(token), wide, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap))


def _solid(p: QPainter) -> None:
    _ink(p)
    p.setBrush(look.colour("full"))


def _plain(p: QPainter) -> None:
    p.setBrush(Qt.BrushStyle.NoBrush)


def _bed(p: QPainter) -> None:
    p.fillRect(QRectF(4, _BED, 52, 3), look.colour("bedrock"))


def _lines(p: QPainter, *ends: tuple[float, float, float, float], token: str = "peat", wide: float = 1.1) -> None:
    _ink(p, token, wide)
    for a, b, c, d in ends:
        p.drawLine(QPointF(a, b), QPointF(c, d))


def _poly(p: QPainter, *at: tuple[float, float]) -> None:
    p.drawPolygon(QPolygonF([QPointF(x, y) for x, y in at]))


def _block(p: QPainter, x: float = 14, y: float = 10, w: float = 32, h: float = 25) -> None:
    _solid(p)
    p.drawRect(QRectF(x, y, w, h))


def _curve(p: QPainter, start: tuple[float, float], *quads: tuple[float, float, float, float]) -> None:
    path = QPainterPath(QPointF(*start))
    for a, b, c, d in quads:
        path.quadTo(a, b, c, d)
    p.drawPath(path)


def _matte(p: QPainter) -> None:
    _bed(p)
    _block(p)
    _ink(p, "clay", 1.6)
    for i in range(28):
        p.drawPoint(QPointF(17 + (i * 11) % 27, 13 + (i * 7) % 20))


def _strings(p: QPainter) -> None:
    _bed(p)
    _block(p, 8, 8, 12, 27)
    _block(p, 40, 8, 12, 27)
    _plain(p)
    _ink(p, "clay", 0.9)
    for y, sag in ((11, 6), (17, 3), (22, 7), (28, 4)):
        _curve(p, (20, y), (30, y + sag, 40, y - 1))


def _corner(p: QPainter) -> None:
    _bed(p)
    _solid(p)
    path = QPainterPath(QPointF(8, 18))
    path.lineTo(44, 18)
    path.quadTo(50, 17, 53, 10)
    path.lineTo(54, 22)
    path.quadTo(46, 34, 36, _BED)
    path.lineTo(8, _BED)
    path.closeSubpath()
    p.drawPath(path)
    _lines(p, (50, 33, 50, 26), (50, 26, 47.5, 29), (50, 26, 52.5, 29), token="clay", wide=1.4)


def _loose(p: QPainter) -> None:
    _bed(p)
    p.save()
    p.translate(31, 21)
    p.rotate(-24)
    _block(p, -13, -9, 26, 18)
    p.restore()
    _plain(p)
    _ink(p, "clay", 1.3)
    _curve(p, (10, 30), (8, 20, 14, 14))
    _curve(p, (50, 31), (55, 25, 52, 17))


def _melted(p: QPainter) -> None:
    _bed(p)
    _solid(p)
    path = QPainterPath(QPointF(14, _BED))
    path.lineTo(27, 14)
    path.cubicTo(22, 10, 27, 4, 33, 7)
    path.cubicTo(40, 8, 36, 14, 33, 15)
    path.lineTo(46, _BED)
    path.closeSubpath()
    p.drawPath(path)
    p.setBrush(look.colour("clay"))
    p.setPen(Qt.PenStyle.NoPen)
    p.drawEllipse(QPointF(38, 19), 1.8, 2.6)


def _roof(p: QPainter) -> None:
    _solid(p)
    _poly(p, (8, 20), (30, 8), (53, 18), (31, 32))
    _plain(p)
    _ink(p, "clay", 1.2)
    for x, y in ((22, 18), (30, 15), (38, 18), (28, 23), (37, 23), (32, 28)):
        p.drawArc(QRectF(x - 4, y - 3, 8, 6), 0, 180 * 16)


def _roof_gaps(p: QPainter) -> None:
    _solid(p)
    _poly(p, (8, 20), (30, 8), (53, 18), (31, 32))
    _ink(p, "peat", 0.8)
    p.setBrush(look.colour("deep"))
    for x, y in ((20, 17), (29, 14), (37, 17), (25, 22), (34, 23)):
        _poly(p, (x, y), (x + 5, y - 2.4), (x + 7, y + 0.4), (x + 2, y + 3))


def _thin(p: QPainter) -> None:
    _ink(p, "peat", 1.0)
    p.setBrush(look.colour("full"))
    for x in (14, 24, 38):
        p.drawRoundedRect(QRectF(x, 6, 7, 30), 3, 3)
    _lines(p, (22.5, 8, 22.5, 34), (34.5, 8, 34.5, 34), token="clay", wide=1.6)


def _weak(p: QPainter) -> None:
    _bed(p)
    _solid(p)
    p.drawRect(QRectF(16, 22, 28, 13))
    p.save()
    p.translate(1, -3)
    p.rotate(-7)
    p.drawRect(QRectF(16, 8, 28, 12))
    p.restore()
    _ink(p, "clay", 1.4)
    _plain(p)
    p.drawPolyline(QPolygonF([QPointF(15 + 3 * i, 21 - (i % 2) * 1.5) for i in range(11)]))


def _seam_split(p: QPainter) -> None:
    _bed(p)
    _solid(p)
    p.drawRect(QRectF(14, 7, 32, 28))
    p.setBrush(look.colour("deep"))
    _poly(p, (30, 7), (32, 14), (30.5, 20), (33, 27), (30, 35), (28, 27), (29.5, 20), (27.5, 13))
    _lines(p, (30, 3, 30, 6), token="clay", wide=1.5)


def _blobs(p: QPainter) -> None:
    _bed(p)
    _block(p)
    p.setBrush(look.colour("clay"))
    p.setPen(Qt.PenStyle.NoPen)
    for x, y, r in ((46, 15, 3.2), (14, 22, 2.6), (46, 27, 2.2), (14, 31, 1.8), (31, 10, 2.4)):
        p.drawEllipse(QPointF(x, y), r, r)


def _shifted(p: QPainter) -> None:
    _bed(p)
    _block(p, 10, 22, 28, 13)
    _block(p, 20, 8, 28, 14)
    _lines(p, (10, 16, 17, 16), (17, 16, 14.5, 13.8), (17, 16, 14.5, 18.2), token="clay", wide=1.4)


def _bands(p: QPainter) -> None:
    _bed(p)
    _ink(p)
    p.setBrush(look.colour("full"))
    for i, out in enumerate((0, 2.5, 0.5, 3, 0, 2.5)):
        p.drawRect(QRectF(16 - out, 5 + 5 * i, 28 + 2 * out, 5))


def _ringing(p: QPainter) -> None:
    _bed(p)
    _block(p, 10, 6, 40, 29)
    _plain(p)
    for k, fade in enumerate((255, 190, 120, 70)):
        p.setPen(QPen(look.colour("clay", fade), 1.6))
        x = 15 + 7 * k
        _curve(p, (x, 8), (x + 2.5, 20, x, 33))


def _flared(p: QPainter) -> None:
    _bed(p)
    _solid(p)
    path = QPainterPath(QPointF(18, 6))
    path.lineTo(42, 6)
    path.lineTo(42, 27)
    path.quadTo(43, 32, 51, 32.5)
    path.lineTo(51, _BED)
    path.lineTo(9, _BED)
    path.lineTo(9, 32.5)
    path.quadTo(17, 32, 18, 27)
    path.closeSubpath()
    p.drawPath(path)
    _lines(p, (9, 29, 14, 29), (51, 29, 46, 29), token="clay", wide=1.4)


def _first_gaps(p: QPainter) -> None:
    p.fillRect(QRectF(6, 6, 48, 29), look.colour("bedrock", 90))
    _ink(p, "full", 4.2)
    for i in range(5):
        y = 10 + 5.4 * i
        p.drawLine(QPointF(11, y), QPointF(24 + 6 * (i % 2), y))
        p.drawLine(QPointF(33 + 5 * (i % 2), y), QPointF(49, y))
    _plain(p)
    _ink(p, "clay", 1.3)
    p.drawEllipse(QRectF(23, 14, 15, 14))


def _holes(p: QPainter) -> None:
    _solid(p)
    p.drawRect(QRectF(8, 5, 44, 30))
    p.setBrush(look.colour("paper"))
    p.drawEllipse(QPointF(30, 20), 8, 8)
    _plain(p)
    p.setPen(QPen(look.colour("clay"), 1.2, Qt.PenStyle.DashLine))
    p.drawEllipse(QPointF(30, 20), 12, 12)


def _skewed(p: QPainter) -> None:
    _plain(p)
    p.setPen(QPen(look.colour("clay"), 1.1, Qt.PenStyle.DashLine))
    p.drawRect(QRectF(12, 7, 32, 27))
    _solid(p)
    p.setBrush(look.colour("full", 190))
    _poly(p, (18, 7), (50, 7), (44, 34), (12, 34))


def _nozzle(p: QPainter, x: float, y: float) -> None:
    _ink(p)
    p.setBrush(look.colour("half"))
    p.drawRect(QRectF(x - 8, y, 16, 10))
    _poly(p, (x - 6, y + 10), (x + 6, y + 10), (x + 1.6, y + 17), (x - 1.6, y + 17))


def _jam(p: QPainter) -> None:
    _nozzle(p, 30, 10)
    _lines(p, (30, 2, 30, 18), wide=3.0)
    _lines(p, (24, 30, 36, 37), (36, 30, 24, 37), token="clay", wide=1.8)


def _grinding(p: QPainter) -> None:
    _lines(p, (38, 2, 38, 38), wide=4.0)
    _ink(p)
    p.setBrush(look.colour("half"))
    teeth = [
        QPointF(24 + r * math.cos(math.tau * i / 20), 20 + r * math.sin(math.tau * i / 20))
        for i, r in enumerate([12, 9.5] * 10)
    ]
    p.drawPolygon(QPolygonF(teeth))
    p.setBrush(look.colour("clay"))
    p.setPen(Qt.PenStyle.NoPen)
    for x, y in ((40, 27), (44, 31), (41, 35), (46, 36), (36, 22)):
        p.drawEllipse(QPointF(x, y), 1.3, 1.3)


def _bridge(p: QPainter) -> None:
    _bed(p)
    _block(p, 6, 12, 11, 23)
    _block(p, 43, 12, 11, 23)
    _plain(p)
    _ink(p, "clay", 1.6)
    for y, sag in ((13, 10), (15, 20), (14, 30)):
        _curve(p, (17, y), (30, y + sag, 43, y))


def _curled(p: QPainter) -> None:
    _bed(p)
    _solid(p)
    path = QPainterPath(QPointF(10, 6))
    path.lineTo(50, 6)
    path.lineTo(50, 11)
    path.cubicTo(46, 17, 42, 11, 39, 17)
    path.cubicTo(36, 22, 33, 16, 30, 22)
    path.cubicTo(28, 27, 24, 24, 22, _BED)
    path.lineTo(10, _BED)
    path.closeSubpath()
    p.drawPath(path)
    _lines(p, (44, 20, 41, 25), (37, 25, 34, 30), token="clay", wide=1.3)


def _support(p: QPainter, x: float, top: float) -> None:
    _ink(p, "spring", 1.2)
    p.setBrush(QBrush(look.colour("spring", 60), Qt.BrushStyle.SolidPattern))
    p.drawRect(QRectF(x, top, 18, _BED - top))
    for k in range(1, 3):
        p.drawLine(QPointF(x + 6 * k, top), QPointF(x + 6 * k, _BED))


def _welded(p: QPainter) -> None:
    _bed(p)
    _support(p, 34, 17)
    _solid(p)
    _poly(p, (8, 6), (54, 6), (54, 16), (22, 16), (22, _BED), (8, _BED))
    _ink(p, "clay", 2.0)
    for x in (36, 41, 46, 51):
        p.drawLine(QPointF(x, 14.5), QPointF(x, 19))


def _fell(p: QPainter) -> None:
    _bed(p)
    _solid(p)
    _poly(p, (8, 5), (54, 5), (54, 13), (20, 13), (20, _BED), (8, _BED))
    p.save()
    p.translate(33, _BED)
    p.rotate(52)
    p.translate(-33, -_BED)
    _support(p, 27, 13)
    p.restore()


def _starved(p: QPainter) -> None:
    _bed(p)
    _block(p, 10, 22, 40, 13)
    _ink(p, "full", 4.0)
    p.drawLine(QPointF(12, 18), QPointF(22, 18))
    _ink(p, "full", 1.4)
    p.drawLine(QPointF(22, 18), QPointF(34, 18))
    _ink(p, "full", 4.0)
    p.drawLine(QPointF(35, 18), QPointF(48, 18))
    _plain(p)
    _ink(p, "clay", 1.2)
    p.drawEllipse(QPointF(28, 7), 5, 5)
    _lines(p, (28, 7, 28, 4), (28, 7, 30, 8), token="clay")


def _crackle(p: QPainter) -> None:
    _nozzle(p, 24, 3)
    _lines(p, (24, 20, 24, 37), wide=2.4)
    _ink(p, "clay", 1.4)
    for a in (-40, -10, 20, 50):
        c, s = math.cos(math.radians(a)), math.sin(math.radians(a))
        p.drawLine(QPointF(30 + 4 * c, 24 + 4 * s), QPointF(30 + 12 * c, 24 + 12 * s))


def _warped(p: QPainter) -> None:
    _bed(p)
    _solid(p)
    path = QPainterPath(QPointF(4, 16))
    path.quadTo(30, 30, 56, 16)
    path.lineTo(56, 23)
    path.quadTo(30, 37, 4, 23)
    path.closeSubpath()
    p.drawPath(path)
    _lines(p, (8, 32, 8, 27), (52, 32, 52, 27), token="clay", wide=1.4)


def _oversize(p: QPainter) -> None:
    _solid(p)
    p.drawRect(QRectF(11, 5, 38, 30))
    _plain(p)
    p.setPen(QPen(look.colour("clay"), 1.2, Qt.PenStyle.DashLine))
    p.drawRect(QRectF(16, 9, 28, 22))


_DRAWN: dict[S, Callable[[QPainter], None]] = {
    S.MATTE: _matte,
    S.STRINGS: _strings,
    S.CORNER: _corner,
    S.LOOSE: _loose,
    S.MELTED: _melted,
    S.ROOF: _roof,
    S.ROOF_GAPS: _roof_gaps,
    S.THIN: _thin,
    S.WEAK: _weak,
    S.SEAM_SPLIT: _seam_split,
    S.BLOBS: _blobs,
    S.SHIFTED: _shifted,
    S.BANDS: _bands,
    S.RINGING: _ringing,
    S.FLARED: _flared,
    S.FIRST_GAPS: _first_gaps,
    S.HOLES: _holes,
    S.SKEWED: _skewed,
    S.JAM: _jam,
    S.GRINDING: _grinding,
    S.BRIDGE: _bridge,
    S.CURLED: _curled,
    S.WELDED: _welded,
    S.FELL: _fell,
    S.STARVED: _starved,
    S.CRACKLE: _crackle,
    S.WARPED: _warped,
    S.OVERSIZE: _oversize,
}
