"""A calliper or a scale at a serial port: each line it sends is one reading. Real and simulated ones come alike."""

from __future__ import annotations

import threading

import serial
from PyQt6.QtCore import QObject, pyqtSignal

from knollside.core.model import Refused

_LONGEST = 64  # characters in one line


class SerialDevice(QObject):
    """``sent`` carries the text of one reading; ``lost`` says in a sentence that the port is gone."""

    sent = pyqtSignal(str)
    lost = pyqtSignal(str)

    def __init__(self, what: str) -> None:
        super().__init__()
        self.what, self.path = what, ""
        self._stop = threading.Event()
        self._thread: threading.Thread | None = None

    @property
    def listening(self) -> bool:
        return self._thread is not None and self._thread.is_alive() and not self._stop.is_set()

    def open(self, path: str, baud: int = 9600) -> None:
        """Listen at a port; raises :class:`Refused` where there is none."""
        self.close()
        try:
            port = serial.Serial(path, baud, timeout=0.2)
        except (serial.SerialException, OSError, ValueError) as error:
            reason = getattr(error, "strerror", None) or str(error)
            raise Refused(f"There is no {self.what} at {path or 'an empty name'} ({reason}).") from None
        self.path, self._stop = path, threading.Event()
        self._thread = threading.Thread(target=self._read, args=(port, self._stop), daemon=True)
        self._thread.start()

    def close(self) -> None:
        self._stop.set()
        if self._thread is not None and self._thread is not threading.current_thread():
            self._thread.join(2.0)
        self._thread = None

    def _read(self, port: serial.Serial, stop: threading.Event) -> None:
        kept = b""
        try:
            while not stop.is_set():
                kept += port.read(32)
                while b"\n" in kept or b"\r" in kept:
                    line, _, kept = kept.replace(b"\r", b"\n").partition(b"\n")
                    text = line[:_LONGEST].decode("ascii", "replace").strip()
                    if text:
                        self.sent.emit(text)
                kept = kept[-_LONGEST:]
        except (serial.SerialException, OSError):
            if not stop.is_set():
                self.lost.emit(
                    f"The {self.what} at {self.path} is gone. What was taken is kept; plug it in and listen again."
                )
        finally:
            stop.set()
            port.close()
