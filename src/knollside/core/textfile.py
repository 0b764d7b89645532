"""A foreign text file read whole: regular files only, up to so many bytes."""

from __future__ import annotations

from pathlib import Path

from knollside.core.model import Refused


def text_of(path: Path, most: int, what: str) -> str:
    """Text of a file that should be ``what`` ("job file"); raises :class:`Refused` where it is none, over ``most``
    bytes or no text."""
    try:
        if not path.is_file():
            raise Refused(f"{path.name} could not be read: it is no file.")
        if path.stat().st_size > most:
            raise Refused(f"{path.name} is over {most // 2**20} MB; that is no {what}.")
        return path.read_text("utf-8")
    except OSError as error:
        raise Refused(f"{path.name} could not be read: {error.strerror or error}.") from None
    except UnicodeDecodeError:
        raise Refused(f"{path.name} is not a text file.") from None
