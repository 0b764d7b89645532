"""The examples in the docstrings of the main functions are true."""

from __future__ import annotations

import doctest
import importlib

import pytest
from conftest import plate_with_hole

WITH_EXAMPLES = (
    *(
        "units",
        "model.base",
        "model.loads",
        "model.mesh",
        "mesh.check",
        "mesh.features",
        "mesh.slicer",
        "mesh.load",
        "mesh.write",
    ),
    *("material.cards", "material.allowables", "material.bond", "material.infill", "strength.rating"),
    *("strength.discretisation", "fit.hardware", "fit.process", "lay.stability", "job.ask", "job.file"),
)


@pytest.mark.parametrize("name", WITH_EXAMPLES)
def test_the_examples_are_true(name: str) -> None:
    module = importlib.import_module(f"knollside.core.{name}")
    found = doctest.testmod(module, extraglobs={"plate": plate_with_hole()}, optionflags=doctest.NORMALIZE_WHITESPACE)
    assert found.attempted > 0 and found.failed == 0
