"""A photo made small and plain: turned upright, at most 1,600 pixels, nothing in it but the picture.

To be called in the reading process: the decoders are native. What is written anew has no place, camera or day in it.
"""

from __future__ import annotations

from PyQt6.QtCore import QBuffer, QByteArray, QIODevice, QSize, Qt
from PyQt6.QtGui import QImage, QImageReader, QPainter

from knollside.core.model import Refused

MOST_PIXELS = 120_000_000
LONGEST, THUMB = 1600, 176
_KINDS = (b"jpeg", b"png", b"webp", b"bmp", b"gif", b"tiff")


def made_small(data: bytes, name: str) -> tuple[bytes, bytes]:
    """The picture and its thumbnail as JPEG. Raises :class:`Refused` for what is no picture, or too large a one."""
    store = QByteArray(data)
    device = QBuffer(store)
    device.open(QIODevice.OpenModeFlag.ReadOnly)
    reader = QImageReader(device)
    reader.setDecideFormatFromContent(True)
    reader.setAutoTransform(True)
    kind = bytes(reader.format().data())
    if kind not in _KINDS:
        raise Refused(f"{name} is no picture that is read here; JPEG, PNG, WebP, BMP and TIFF are.")
    size = reader.size()
    if size.width() * size.height() > MOST_PIXELS:
        raise Refused(f"{name} has {size.width() * size.height() / 1e6:.0f} million pixels; 120 are the most.")
    image = reader.read()
    if image.isNull():
        raise Refused(f"{name} is damaged: {reader.errorString().rstrip('.').lower()}.")
    return _jpeg(image, LONGEST, 82), _jpeg(image, THUMB, 76)


def _jpeg(image: QImage, longest: int, quality: int) -> bytes:
    if max(image.width(), image.height()) > longest:
        image = image.scaled(
            QSize(longest, longest), Qt.AspectRatioMode.KeepAspectRatio, Qt.TransformationMode.SmoothTransformation
        )
    # A picture of its own, so that no text that came with the file goes along.
    plain = QImage(image.size(), QImage.Format.Format_RGB32)
    plain.fill(Qt.GlobalColor.white)
    painter = QPainter(plain)
    painter.drawImage(0, 0, image)
    painter.end()
    out = QByteArray()
    buffer = QBuffer(out)
    buffer.open(QIODevice.OpenModeFlag.WriteOnly)
    plain.save(buffer, "JPEG", quality)
    return bytes(out.data())
