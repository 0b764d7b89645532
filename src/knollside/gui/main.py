"""Starting the window."""

from __future__ import annotations

import os
import sys
import time
from pathlib import Path
from typing import TYPE_CHECKING

from knollside.core.model import Refused

if TYPE_CHECKING:
    from PyQt6.QtCore import QSettings

    from knollside.gui.window import Window
    from knollside.store.workshop import Workshop


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

    from knollside.gui.mishaps import Mishaps, Running, keep_log, state_folder
    from knollside.gui.theme.look import font, load_fonts

    app = QApplication(sys.argv[:1])
    app.setApplicationName("Knollside")
    load_fonts()
    app.setFont(font(14))
    try:
        shop = _opened(workshop_path(given, demo), demo)
    except Refused as refusal:
        print(refusal, file=sys.stderr)
        return 2
    if shop is None:
        return 0
    folder = state_folder()
    keep_log(folder)
    running = Running(folder, shop.path)
    window = window_on(shop, QSettings(str(settings_of(shop.path)), QSettings.Format.IniFormat))
    mishaps = Mishaps()
    mishaps.happened.connect(window.say)
    mishaps.install()
    begin(window, running.crashed)
    window.show()
    if os.environ.get("KNOLLSIDE_TIME_START"):

        def report() -> None:
            print(f"window usable after {time.perf_counter() - began:.2f} s", flush=True)
            window.close()

        QTimer.singleShot(0, report)
    code = app.exec()
    running.done()
    return code


def _opened(path: Path, demo: bool) -> Workshop | None:
    """The workshop, asked for where it is missing and copies of it are there; None where the person leaves."""
    from knollside.store.opening import NoneThere
    from knollside.store.workshop import Workshop

    try:
        shop: Workshop | None = Workshop(path)
    except NoneThere as missing:
        from PyQt6.QtWidgets import QApplication

        from knollside.gui.choosecopy import chosen_workshop
        from knollside.gui.theme.look import look

        app = QApplication.instance()
        if isinstance(app, QApplication):
            app.setPalette(look.palette())
            app.setStyleSheet(look.sheet())
        shop = chosen_workshop(missing)
    if demo and shop is not None:
        from knollside.demo.fill import fill_demo

        fill_demo(shop)
    return shop


def begin(window: Window, crashed: bool) -> None:
    """Open where the person left off. Where the last window did not end as it should, the part it had open may be why:
    then none is opened by itself."""
    if crashed:
        window.say("It did not close as it should last time, so no part was opened by itself. Choose one above.")
    else:
        open_last(window)
    for words in window.session.workspace.shop.told:
        window.say(words)


def settings_of(path: Path) -> Path:
    """Where the window's own settings are, beside the workshop."""
    return path.with_suffix(".ini")


def window_on(shop: Workshop, settings: QSettings) -> Window:
    """A window on a workshop, with its worker."""
    from knollside.core.job.ask import Meshes
    from knollside.gui.session import Session
    from knollside.gui.window import Window
    from knollside.gui.worker import Worker
    from knollside.gui.workspace import Workspace

    meshes = Meshes()
    return Window(Session(Workspace(shop, meshes), Worker(meshes)), settings)


def open_last(window: Window) -> None:
    """Open the part that was open last, or the first that can be opened."""
    workspace = window.session.workspace
    known = [p.id for p in workspace.shop.parts.names()]
    last = window.settings.value("part", 0)
    wanted = int(last) if str(last).isdigit() else 0
    for number in ([wanted] if wanted in known else []) + known:
        if workspace.open(number):
            return
