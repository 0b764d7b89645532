"""The demonstration workshop: its parts, its records, its sliced files."""

from pathlib import Path

TOOLPATHS = Path(__file__).parent / "toolpaths"
