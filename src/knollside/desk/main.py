"""Starting the window."""

from __future__ import annotations

import os
import sys
import time
from pathlib import Path

from knollside.core.model import Refused


def no_display() -> str | None:
    """Why no window can be shown, or None."""
    if os.environ.get("QT_QPA_PLATFORM"):
        return None
    if sys.platform.startswith("linux") and not (os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY")):
        return (
            "There is no display to open a window on (DISPLAY and WAYLAND_DISPLAY are both empty); the commands check, "
            "features, rank, fit and export work without one."
        )
    return None


def workshop_path(given: Path | None, demo: bool) -> Path:
    """The person's workshop in the data folder; the demo has one of its own in the cache folder."""
    import platformdirs

    if given is not None:
        return given
    if demo:
        return Path(platformdirs.user_cache_dir("knollside")) / "demo" / "workshop.sqlite"
    return Path(platformdirs.user_data_dir("knollside")) / "workshop.sqlite"


def run(given: Path | None, demo: bool) -> int:
    """Open the window. Exit code 2 with one sentence when that cannot be."""
    began = time.perf_counter()
    reason = no_display()
    if reason is not None:
        print(reason, file=sys.stderr)
        return 2
    from PyQt6.QtCore import QSettings, QTimer
    from PyQt6.QtWidgets import QApplication

    from knollside.desk.state import State
    from knollside.desk.theme.look import font, load_fonts
    from knollside.desk.window import Window
    from knollside.desk.work import Work
    from knollside.store.workshop import Workshop

    path = workshop_path(given, demo)
    try:
        shop = Workshop(path)
        if demo:
            from knollside.demo.fill import fill_demo

            fill_demo(shop)
    except Refused as refusal:
        print(refusal, file=sys.stderr)
        return 2
    app = QApplication(sys.argv[:1])
    app.setApplicationName("Knollside")
    load_fonts()
    app.setFont(font(14))
    state = State(shop, Work())
    window = Window(state, QSettings(str(path.with_suffix(".ini")), QSettings.Format.IniFormat))
    open_last(window)
    window.show()
    if os.environ.get("KNOLLSIDE_TIME_START"):

        def report() -> None:
            print(f"window usable after {time.perf_counter() - began:.2f} s", flush=True)
            window.close()

        QTimer.singleShot(0, report)
    return app.exec()


def open_last(window) -> None:  # type: ignore[no-untyped-def]
    """Open the part that was open last, or the first."""
    parts = window.state.shop.parts()
    if not parts:
        return
    last = window.settings.value("part", 0)
    wanted = int(last) if str(last).isdigit() else 0
    window.state.open(wanted if any(p.id == wanted for p in parts) else parts[0].id)
