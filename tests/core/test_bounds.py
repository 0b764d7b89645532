"""Every number a file or a field can give: inside its record's bounds nothing raises anything but a refusal."""

from __future__ import annotations

import math
from typing import Any, Literal, get_args, get_origin

import numpy as np
import pytest
from conftest import plate_with_hole
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from knollside.core.job import asked
from knollside.core.job.ask import Answerer, Meshes
from knollside.core.job.questions import fits, gaps, orientation, proof, recipe
from knollside.core.job.questions.part import Part, ReadMesh, names_of_new
from knollside.core.job.stated import Stated
from knollside.core.lay.stability import standing
from knollside.core.material.bond import BondSetting, shares, with_setting
from knollside.core.material.cards import MATERIALS, material
from knollside.core.model import (
    DesignCase,
    FixedFixture,
    ForceLoad,
    GapTrial,
    LoadCase,
    Mate,
    Measurement,
    Orientation,
    PrinterFacts,
    Recipe,
    Record,
    Refused,
    SupportSettings,
    bounds_of,
    load_of,
)
from knollside.core.proof.fromjob import wishes

MESHES = Meshes()
KEY = MESHES.put(plate_with_hole())
PART = Part(KEY, names_of_new(KEY, Answerer(MESHES)(ReadMesh(KEY)).facts))
ASK = Answerer(MESHES)
SETTLED = settings(max_examples=25, deadline=None, suppress_health_check=[HealthCheck.too_slow])


def number(record: type[Record], name: str) -> st.SearchStrategy[float]:
    """Any value of a field, its bounds often."""
    low, high = bounds_of(record, name)
    if record.model_fields[name].annotation is int:
        return st.sampled_from((int(low), int(high))) | st.integers(int(low), int(high))
    return st.sampled_from((low, high)) | st.floats(low, high)


def any_of(record: type[Record]) -> st.SearchStrategy[Any]:
    """Records with every bounded number, choice and switch drawn; what is none of these stays as it is by default."""
    drawn: dict[str, st.SearchStrategy[Any]] = {}
    for name, info in record.model_fields.items():
        kinds = {get_origin(info.annotation), *(get_origin(a) for a in get_args(info.annotation))}
        if get_origin(info.annotation) is Literal:
            drawn[name] = st.sampled_from(get_args(info.annotation))
        elif info.annotation is bool:
            drawn[name] = st.booleans()
        elif get_origin(info.annotation) is not tuple:
            try:
                drawn[name] = number(record, name)
            except (KeyError, TypeError):
                continue
            if type(None) in (*get_args(info.annotation), *kinds):
                drawn[name] = st.none() | drawn[name]
    return st.fixed_dictionaries(drawn).map(record.model_validate)


turned = (
    st.tuples(*3 * [st.integers(-3, 3)])
    .filter(any)
    .map(lambda d: Orientation.model_validate({"direction": d}).direction)
)
bed = st.tuples(*3 * [st.sampled_from((40.0, 220.0, 1000.0))])
printers = st.builds(lambda p, b: p.model_copy(update={"bed_mm": b}), any_of(PrinterFacts), bed)
recipes, supports = any_of(Recipe), any_of(SupportSettings)
cards = st.sampled_from(sorted(MATERIALS))


def test_the_strategies_reach_every_number() -> None:
    found = Recipe.model_json_schema()["properties"]
    low, high = bounds_of(Recipe, "layer_height")
    assert (low, high) == (0.04, 1.2) and bounds_of(PrinterFacts, "nozzle_mm") == (0.1, 2.0)
    assert set(found) == set(Recipe.model_fields) and bounds_of(Recipe, "nozzle_c")[1] == 400
    for record, name in ((PrinterFacts, "nozzle_mm"), (Recipe, "layer_height"), (Recipe, "line_width")):
        with pytest.raises(ValueError, match=name):
            record.model_validate({name: 0.0})
        with pytest.raises(ValueError, match=name):
            record.model_validate({name: math.inf})
    with pytest.raises(ValueError, match="force_N"):
        load_of({"at": (0, 0, 0), "force_N": (0, 0, 2e6)})
    with pytest.raises(ValueError, match="length"):
        Orientation.model_validate({"direction": (0, 0, 0)})


@given(
    card=cards,
    nozzle=st.none() | st.floats(-60, 400),
    fan=st.none() | st.floats(0, 1),
    seconds=st.none() | st.floats(0, 1e6),
    hard=st.booleans(),
    over=st.none() | st.floats(0.02, 12.0),
)
def test_no_setting_leaves_less_than_the_floor_of_a_bond(card, nozzle, fan, seconds, hard, over) -> None:  # type: ignore[no-untyped-def]
    """A layer of 1.2 mm on a small nozzle left nothing, whose logarithm ended the process."""
    at, base = BondSetting(nozzle, fan, seconds, hard, over), material(card)
    for s in shares(base, at):
        assert 0.2 <= s.left.low <= s.left.value <= s.left.high <= 1
    left = with_setting(base, at).bond
    assert 0 < left.low <= left.value <= left.high <= max(1.0, base.bond.high)
    assert left.value <= base.bond.value


@SETTLED
@given(r=recipes, p=printers, card=cards, up=turned, supported=supports)
def test_any_recipe_on_any_printer_is_answered_or_refused(r, p, card, up, supported) -> None:  # type: ignore[no-untyped-def]
    s = Stated(recipe=r, orientation=Orientation(direction=up, support_settings=supported), material=card, printer=p)
    assert s.card.bond.low > 0
    for question in (
        asked.ask_price(PART, s),
        recipe.Roofs(PART, up, r),
        orientation.PlainLog(PART, up, r.layer_height, r.line_width),
        orientation.Supports(PART, (), up, r, supported, s.card, p, (), s.peel),
        gaps.GapsOf(PART, up, r),
    ):
        try:
            ASK(question)
        except Refused as refusal:
            assert str(refusal).endswith(".")


@SETTLED
@given(r=recipes, p=printers, up=turned, sizes=st.lists(st.tuples(st.floats(0.5, 60), st.floats(-1, 1)), max_size=4))
def test_any_reading_corrects_or_refuses(r, p, up, sizes) -> None:  # type: ignore[no-untyped-def]
    taken = tuple(
        Measurement(kind="hole", axis="upright", drawn=d, printed=max(d + off, 0.05), nozzle_mm=p.nozzle_mm)
        for d, off in sizes
    )
    tried = tuple(GapTrial(direction="in the layer", drawn=d / 60 + 0.02, freed=off > 0) for d, off in sizes)
    mates = (Mate(feature="hole-1", hardware="M5"),)
    s = Stated(recipe=r, orientation=Orientation(direction=up), mates=mates, printer=p, readings=taken, trials=tried)
    question = asked.ask_fits(PART, s)
    try:
        rows = ASK(question).corrections
        for c in rows:
            assert math.isfinite(c.to_mm) and c.to_mm > 0 and abs(sum(c.chance_then) - 1) < 1e-6
        ASK(fits.Correct(question, r))
    except Refused as refusal:
        assert str(refusal).endswith(".")


@settings(SETTLED, max_examples=8)
@given(r=recipes, gap=st.floats(0.01, 3), strain=st.floats(0.0005, 0.5))
def test_any_test_piece_is_made_or_refused(r, gap, strain) -> None:  # type: ignore[no-untyped-def]
    features = ASK(PART).features
    for wish in wishes(features, (0.0, 0.0, 1.0), r.layer_height, gap, gap, strain):
        try:
            made = ASK(proof.MakePiece(wish, r, material("PETG"), Stated().factor))
            assert np.isfinite(made.piece.mesh.vertices).all()
        except Refused as refusal:
            assert str(refusal).endswith(".")


force = st.sampled_from((0.0, 1e-6, 1.0, -1e6, 1e6)) | st.floats(-1e6, 1e6)


@SETTLED
@given(
    f=st.tuples(force, force, force),
    kind=st.sampled_from(("flat-1", "flat-2", "hole-1", "flat-6")),
    heat=st.floats(*bounds_of(type(DesignCase().surroundings), "temperature_c")),
    r=recipes,
)
def test_any_duty_is_solved_or_refused(f, kind, heat, r) -> None:  # type: ignore[no-untyped-def]
    surroundings = DesignCase().surroundings.model_copy(update={"temperature_c": heat})
    case = LoadCase(name="a", loads=(ForceLoad(feature=kind, force_N=f),))
    design_case = DesignCase(fixtures=(FixedFixture(feature="hole-1"),), cases=(case,), surroundings=surroundings)
    s = Stated(design_case=design_case, recipe=r, orientation=Orientation(direction=(0, 0, 1)))
    try:
        ranked = ASK(asked.ask_orientations(asked.ask_strength(PART, s, 800), s, 30))
        for w in ranked.ranking.orientations:
            assert 0 <= w.reserve.low <= w.reserve.value <= w.reserve.high and not math.isnan(w.reserve.value)
    except Refused as refusal:
        assert str(refusal).endswith(".")


def test_the_foot_of_a_way_is_found_for_every_line_width() -> None:
    for width in bounds_of(Recipe, "line_width"):
        assert len(standing(ASK.mesh(KEY), np.eye(3), Recipe(line_width=width)).overhang) == 3
