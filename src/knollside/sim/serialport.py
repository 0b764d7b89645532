"""A simulated calliper or scale behind a real serial port: a pseudo-terminal, opened as a device would be."""

from __future__ import annotations

import contextlib
import os
import tty


class SimulatedPort:
    """``path`` is what to open; :meth:`send` is a press of the data button, :meth:`unplug` pulls the cable."""

    def __init__(self) -> None:
        self._own, self._other = os.openpty()
        tty.setraw(self._other)
        self.path = os.ttyname(self._other)

    def send(self, value: float, unit: str = "mm") -> None:
        os.write(self._own, f"{value:.2f} {unit}\r\n".encode())

    def unplug(self) -> None:
        for handle in (self._own, self._other):
            with contextlib.suppress(OSError):
                os.close(handle)
