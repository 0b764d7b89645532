"""Putting another file in the workshop's place, so that a power cut at any moment leaves the one or the other whole.

The new file is made under a name of its own and, once it is whole, named *ready*. From then on it is the workshop:
whoever opens next finishes what was begun.
"""

from __future__ import annotations

import contextlib
import glob
import os
import shutil
from collections.abc import Callable
from datetime import datetime
from pathlib import Path

from knollside.store.copies import folder_of

_SIDES = ("-wal", "-shm")


def ready_of(path: Path) -> Path:
    return path.with_name(f".ready-{path.name}")


def prepared(path: Path, fill: Callable[[Path], object]) -> Path:
    """A new file filled beside ``path`` and named ready; nothing stays of one that could not be filled."""
    making = path.with_name(f".making-{path.name}")
    _gone(making)
    try:
        fill(making)
        with making.open("rb+") as f:
            os.fsync(f.fileno())
        os.chmod(making, 0o600)
        os.replace(making, ready_of(path))
    finally:
        _gone(making)
    return ready_of(path)


def finish(path: Path) -> Path | None:
    """Put the file that is ready in place of ``path``, which is set aside under another name; returns that, None where
    nothing was there. To be called under the workshop's lock, which is then to be taken on the new file."""
    aside = set_aside(path) if path.exists() and path.stat().st_size else None
    for side in _SIDES:
        Path(f"{path}{side}").unlink(missing_ok=True)
    os.replace(ready_of(path), path)
    return aside


def set_aside(path: Path) -> Path:
    """Give a file, with its side files, a second name to stay under; ``path`` is there until it is replaced."""
    stamp = datetime.now().strftime("%Y-%m-%d %H.%M.%S")
    target = path.with_name(f"{path.name}.damaged {stamp}")
    number = 1
    while target.exists():
        number += 1
        target = path.with_name(f"{path.name}.damaged {stamp} {number}")
    for side in ("", *_SIDES[:1]):
        with contextlib.suppress(FileNotFoundError):
            try:
                os.link(f"{path}{side}", f"{target}{side}")
            except FileNotFoundError:
                raise
            except OSError:  # a file system without links
                shutil.copyfile(f"{path}{side}", f"{target}{side}")
    return target


def sweep(path: Path) -> None:
    """Take away what a program that was ended left half made beside a workshop. To be called under its lock."""
    name = glob.escape(path.name)
    for begun in (".making-", ".renewing-", ".saving-", ".salvaging-*", ".taken-in-"):
        for left in path.parent.glob(f"{begun}{name}*"):
            with contextlib.suppress(OSError):
                left.unlink()
    for left in folder_of(path).glob(".making-*"):
        with contextlib.suppress(OSError):
            left.unlink()


def _gone(made: Path) -> None:
    for side in ("", "-journal", *_SIDES):
        Path(f"{made}{side}").unlink(missing_ok=True)
