"""The stage: the part on its bed, turned by hand, picked by feature."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QColor, QImage, QKeyEvent, QMouseEvent, QPainter, QPen, QPolygonF, QWheelEvent
from PyQt6.QtWidgets import QWidget

from knollside.core.model import Array, rotation_to_up
from knollside.gui.theme.look import PART_INK, font, look
from knollside.gui.viewport.camera import Camera
from knollside.gui.viewport.paint import paint_part
from knollside.gui.viewport.scene import Arrow, Scene
from knollside.gui.viewport.swatch import swatch


class StageView(QWidget):
    """Shows a :class:`Scene`. ``picked`` carries the original triangle number and the pointer's place."""

    picked = pyqtSignal(int, QPointF)
    aimed = pyqtSignal(tuple, tuple)  # handle of an arrow, and the unit direction it was turned to
    hovered = pyqtSignal(int)
    settled = pyqtSignal(float)

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Stage: the part in three dimensions")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setMinimumSize(QSize(260, 200))
        self.scene = Scene()
        self.camera = Camera()
        self._image = QImage()
        self._face_at = np.zeros((0, 0), np.int64)
        self._scale = 1.0
        self._dirty = True
        self._press: QPointF | None = None
        self._aiming: int | None = None
        self._moved = False
        self._last = QPointF()
        self._hover = -1
        self._fit_wanted = True
        self._fitted_for: tuple[object, ...] = ()
        self.frames: list[float] = []
        self._rest = QTimer(self)
        self._rest.setSingleShot(True)
        self._rest.setInterval(160)
        self._rest.timeout.connect(self._sharpen)
        self._moving = False
        self.overlay: Callable[[QPainter], None] | None = None
        look.changed.connect(self._redraw)

    # What to show

    def show_scene(self, scene: Scene) -> None:
        """Take a new scene; the camera refits only when the part or its way changes."""
        if scene.below != self.scene.below:
            self.camera = replace(self.camera, pitch=-30.0 if scene.below else abs(self.camera.pitch))
        self.scene = scene
        key = (id(scene.look), scene.direction)
        if key != self._fitted_for:
            self._fitted_for = key
            self._fit_wanted = True
        self._redraw()

    def _redraw(self) -> None:
        self._dirty = True
        self.update()

    def _sharpen(self) -> None:
        self._moving = False
        self._redraw()

    def fit(self) -> None:
        self._fit_wanted = True
        self._redraw()

    # Geometry

    def _turn(self) -> Array:
        return np.eye(3) if self.scene.direction is None else rotation_to_up(self.scene.direction)

    def _laid(self) -> Array:
        assert self.scene.look is not None
        v = self.scene.look.mesh.vertices
        if self.scene.bend is not None:
            v = v + self._enlarged() * self.scene.bend
        return v @ self._turn().T

    def _enlarged(self) -> float:
        """How many times the bending is enlarged: a plain number that makes it a tenth of the part."""
        assert self.scene.look is not None and self.scene.bend is not None
        most = float(np.linalg.norm(self.scene.bend, axis=1).max())
        want = 0.1 * float(np.ptp(self.scene.look.mesh.vertices, axis=0).max()) / max(most, 1e-9)
        power = 10.0 ** np.floor(np.log10(max(want, 1.0)))
        return float(max(s * power for s in (1, 2, 5) if s * power <= max(want, 1.0)))

    def to_screen(self, point: tuple[float, float, float] | Array) -> QPointF:
        """A point in the part's frame on the widget."""
        p = self.camera.project((np.asarray(point) @ self._turn().T)[None], self._middle, self.width(), self.height())
        return QPointF(float(p[0, 0]), float(p[0, 1]))

    @property
    def _middle(self) -> Array:
        laid = self._laid()
        return np.asarray((laid.max(axis=0) + laid.min(axis=0)) / 2)

    # Painting

    def _render(self) -> None:
        look_ = self.scene.look
        if look_ is None or self.width() < 8 or self.height() < 8:
            self._image = QImage()
            return
        laid = self._laid()
        middle = (laid.max(axis=0) + laid.min(axis=0)) / 2
        if self._fit_wanted:
            self._fit_wanted = False
            self.camera = self.camera.fitted(laid, middle, self.width(), self.height() - 60)
        ease = (1.0 if self._moving else 2.0) * self.devicePixelRatioF()
        self._image, self._face_at = paint_part(self.scene, laid, self._turn(), self.camera, self.size(), ease)
        self._scale = ease

    def paintEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        if self._dirty:
            from time import perf_counter

            began = perf_counter()
            self._render()
            self.frames.append(perf_counter() - began)
            self._dirty = False
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        p.fillRect(self.rect(), look.colour("chalk"))
        if self.scene.look is None:
            self._empty(p)
            return
        if self.scene.show_bed:
            self._bed(p)
        if not self._image.isNull():
            p.drawImage(QRectF(self.rect()), self._image)
        for arrow in self.scene.arrows:
            self._arrow(p, arrow)
        if self.scene.place is not None:
            self._place(p, self.scene.place, self.scene.place_words)
        for at, words in self.scene.places:
            self._place(p, at, words)
        self._frame(p)
        if self.overlay is not None:
            self.overlay(p)

    def _empty(self, p: QPainter) -> None:
        p.setPen(look.colour("peat"))
        p.setFont(font(18, 600))
        p.drawText(self.rect().adjusted(0, -20, 0, -20), Qt.AlignmentFlag.AlignCenter, "Drop a part here")
        p.setPen(look.colour("slate"))
        p.setFont(font(14))
        p.drawText(
            self.rect().adjusted(0, 24, 0, 24), Qt.AlignmentFlag.AlignCenter, "STL, OBJ, PLY, 3MF or STEP; or Ctrl+O"
        )

    def _bed(self, p: QPainter) -> None:
        laid = self._laid()
        middle, bottom = self._middle, float(laid[:, 2].min())
        bx, by = self.scene.bed[0] / 2, self.scene.bed[1] / 2
        corner = np.array([(-bx, -by), (bx, -by), (bx, by), (-bx, by)])
        floor = np.c_[corner + middle[:2], np.full(4, bottom)]
        at = self.camera.project(floor, middle, self.width(), self.height())
        if self.camera.pitch <= 0:
            return
        p.setBrush(look.colour("bed"))
        p.setPen(QPen(look.colour("rule 2"), 1))
        p.drawPolygon(QPolygonF([QPointF(x, y) for x, y, _ in at]))
        p.setPen(QPen(look.colour("bed lines"), 1))
        steps = np.arange(-200, 201, 20)
        for axis, limit, other in ((0, bx, by), (1, by, bx)):
            for v in steps[np.abs(steps) < limit]:
                ends = np.zeros((2, 3))
                ends[:, axis] = v + middle[axis]
                ends[:, 1 - axis] = np.array([-other, other]) + middle[1 - axis]
                ends[:, 2] = bottom
                q = self.camera.project(ends, middle, self.width(), self.height())
                p.drawLine(QPointF(q[0, 0], q[0, 1]), QPointF(q[1, 0], q[1, 1]))

    def _ends(self, a: Arrow) -> tuple[QPointF, QPointF, QPointF]:
        """Tail, tip and direction of an arrow on the widget."""
        tip = self.to_screen(a.at)
        along = np.asarray(a.along) @ self._turn().T
        flat = self.camera.basis()[:2] @ (along / max(float(np.linalg.norm(along)), 1e-9))
        length = max(float(np.hypot(*flat)), 0.25)
        d = QPointF(float(flat[0]), float(-flat[1])) / max(float(np.hypot(*flat)), 1e-6)
        return tip - d * (70 * length), tip, d

    def _arrow(self, p: QPainter, a: Arrow) -> None:
        start, tip, d = self._ends(a)
        ink = PART_INK[a.colour] if not look.lamp else look.colour(a.colour)
        p.setPen(QPen(ink, 3, cap=Qt.PenCapStyle.RoundCap))
        p.drawLine(start, tip - d * 8)
        n = QPointF(-d.y(), d.x())
        p.setBrush(ink)
        p.setPen(Qt.PenStyle.NoPen)
        p.drawPolygon(QPolygonF([tip, tip - d * 13 + n * 6, tip - d * 13 - n * 6]))
        if a.handle is not None:
            p.setBrush(look.colour("paper"))
            p.setPen(QPen(ink, 2))
            p.drawEllipse(start, 5, 5)
        self._words(p, start + QPointF(8, -6 if d.y() > 0 else 14), a.words, ink)

    def _aim(self, at: QPointF) -> None:
        """Turn the taken arrow so that its tail is under the pointer; it snaps to an axis of the drawing."""
        assert self._aiming is not None
        a = self.scene.arrows[self._aiming]
        d = self.to_screen(a.at) - at
        if np.hypot(d.x(), d.y()) < 12:
            return
        right, up = self.camera.basis()[:2]
        v = (d.x() * right - d.y() * up) @ self._turn()
        v = v / np.linalg.norm(v)
        k = int(np.argmax(np.abs(v)))
        if abs(v[k]) > np.cos(np.radians(9)):
            v = np.eye(3)[k] * np.sign(v[k])
        x, y, z = (float(c) for c in v)
        arrows = list(self.scene.arrows)
        arrows[self._aiming] = replace(a, along=(x, y, z))
        self.scene = replace(self.scene, arrows=tuple(arrows))
        self.update()

    def _place(self, p: QPainter, place: tuple[float, float, float], words: str) -> None:
        at = self.to_screen(place)
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.setPen(QPen(QColor("#FFFFFF"), 4))
        p.drawEllipse(at, 9, 9)
        p.setPen(QPen(PART_INK["peat"], 2))
        p.drawEllipse(at, 9, 9)
        self._words(p, at + QPointF(16, 5), words, look.colour("peat"))

    def _words(self, p: QPainter, at: QPointF, words: str, ink: QColor) -> None:
        p.setFont(font(13, 600))
        m = p.fontMetrics()
        box = QRectF(at.x() - 4, at.y() - m.ascent() - 1, m.horizontalAdvance(words) + 8, m.height() + 2)
        box.moveLeft(min(max(box.left(), 4.0), max(self.width() - box.width() - 4, 4.0)))
        box.moveTop(min(max(box.top(), 58.0), self.height() - box.height() - 30.0))
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(look.colour("chalk", 215))
        p.drawRoundedRect(box, 4, 4)
        p.setPen(ink)
        p.drawText(box, Qt.AlignmentFlag.AlignCenter, words)

    def _frame(self, p: QPainter) -> None:
        p.setPen(look.colour("peat"))
        p.setFont(font(16, 700))
        p.drawText(QPointF(18, 28), self.scene.title)
        p.setPen(look.colour("slate"))
        p.setFont(font(13))
        bent = ""
        if self.scene.bend is not None:
            bent = "; " + (self.scene.bend_words or f"bent, {self._enlarged():,.0f} times enlarged")
        p.drawText(QPointF(18, 47), self.scene.subtitle + bent)
        step = next((s for s in (1, 2, 5, 10, 20, 50, 100, 200) if s * self.camera.zoom > 46), 500)
        y = self.height() - 16
        p.setPen(QPen(look.colour("peat"), 1.5))
        end = 18 + step * self.camera.zoom
        p.drawLine(QPointF(18, y), QPointF(end, y))
        for x in (18, end):
            p.drawLine(QPointF(x, y - 4), QPointF(x, y + 4))
        p.setPen(look.colour("slate"))
        p.drawText(QPointF(end + 8, y + 5), f"{step} mm")
        x = self.width() - 16
        for name in reversed(self.scene.legend):
            width = p.fontMetrics().horizontalAdvance(name)
            p.setPen(look.colour("slate"))
            p.drawText(QPointF(x - width, y + 5), name)
            swatch(p, QRectF(x - width - 22, y - 6, 16, 12), name)
            x -= width + 40

    # Hands

    def mousePressEvent(self, e: QMouseEvent | None) -> None:
        assert e is not None
        self._press, self._last, self._moved = e.position(), e.position(), False
        self.setFocus()
        self._aiming = next(
            (
                i
                for i, a in enumerate(self.scene.arrows)
                if a.handle is not None and (self._ends(a)[0] - e.position()).manhattanLength() < 14
            ),
            None,
        )

    def mouseMoveEvent(self, e: QMouseEvent | None) -> None:
        assert e is not None
        if self._press is None or not e.buttons():
            face = self.face_at(e.position())
            if face != self._hover:
                self._hover = face
                self.hovered.emit(face)
            return
        d = e.position() - self._last
        if not self._moved and (e.position() - self._press).manhattanLength() < 5:
            return
        self._moved, self._last = True, e.position()
        if self._aiming is not None:
            self._aim(e.position())
        elif e.buttons() & Qt.MouseButton.LeftButton:
            self.camera = self.camera.turned(d.x() * 0.45, d.y() * 0.45)
        else:
            self.camera = replace(self.camera, pan=(self.camera.pan[0] + d.x(), self.camera.pan[1] + d.y()))
        self._move()

    def mouseReleaseEvent(self, e: QMouseEvent | None) -> None:
        assert e is not None
        if self._aiming is not None and self._moved:
            a = self.scene.arrows[self._aiming]
            self.aimed.emit(a.handle, a.along)
        elif self._press is not None and not self._moved and e.button() == Qt.MouseButton.LeftButton:
            self.picked.emit(self.face_at(e.position()), e.position())
        self._press = self._aiming = None

    def wheelEvent(self, e: QWheelEvent | None) -> None:
        assert e is not None
        self._zoom(1.0015 ** e.angleDelta().y())

    def keyPressEvent(self, e: QKeyEvent | None) -> None:
        assert e is not None
        turns = {Qt.Key.Key_Left: (-12, 0), Qt.Key.Key_Right: (12, 0), Qt.Key.Key_Up: (0, -8), Qt.Key.Key_Down: (0, 8)}
        if e.key() in turns:
            self.camera = self.camera.turned(*turns[Qt.Key(e.key())])
            self._move()
        elif e.key() in (Qt.Key.Key_Plus, Qt.Key.Key_Equal):
            self._zoom(1.15)
        elif e.key() == Qt.Key.Key_Minus:
            self._zoom(1 / 1.15)
        elif e.key() == Qt.Key.Key_0:
            self.fit()
        else:
            super().keyPressEvent(e)

    def _zoom(self, factor: float) -> None:
        self.camera = replace(
            self.camera,
            zoom=min(max(self.camera.zoom * factor, 0.2), 400.0),
            pan=(self.camera.pan[0] * factor, self.camera.pan[1] * factor),
        )
        self._move()

    def _move(self) -> None:
        self._moving = True
        self._rest.start()
        self._redraw()

    def resizeEvent(self, e) -> None:  # type: ignore[no-untyped-def]
        self._fit_wanted = True
        self._redraw()

    def point_on(self, corners: Array, at: QPointF) -> tuple[float, float, float]:
        """The place on a triangle (3, 3) of the part that lies under a widget position, in the part's frame."""
        a, b, c = (np.array([q.x(), q.y()]) for q in map(self.to_screen, corners))
        sides = np.stack([b - a, c - a], axis=1)
        u, v = np.clip(np.linalg.lstsq(sides, np.array([at.x(), at.y()]) - a)[0], 0, 1)
        x, y, z = (float(w) for w in corners[0] + u * (corners[1] - corners[0]) + v * (corners[2] - corners[0]))
        return x, y, z

    def face_at(self, at: QPointF) -> int:
        """Original triangle number under a widget position, -1 for none."""
        if self.scene.look is None or self._face_at.size == 0:
            return -1
        x, y = int(at.x() * self._scale), int(at.y() * self._scale)
        if not (0 <= y < self._face_at.shape[0] and 0 <= x < self._face_at.shape[1]):
            return -1
        f = int(self._face_at[y, x])
        return -1 if f < 0 else int(self.scene.look.original[f])
