"""Keys: what makes an answer old, and what does not."""

import pytest
from conftest import Desk

from knollside.core.model import Danger, Held, Mate, Purpose, Way


@pytest.fixture
def state(desk: Desk):  # type: ignore[no-untyped-def]
    desk.settle(lambda: desk.state.facts is not None)
    return desk.state


def keys(state) -> dict[str, object]:  # type: ignore[no-untyped-def]
    return {k: getattr(state, f"{k}_key") for k in ("lay", "shape", "stair", "build", "prove", "fits")}


def changed(state, kind: str, value: object) -> set[str]:  # type: ignore[no-untyped-def]
    """Which keys an edit changes; the edit is taken back again, and so are the keys."""
    before = keys(state)
    state.edit(kind, value, "try it")
    after = keys(state)
    state.undo.undo()
    assert keys(state) == before
    return {k for k in before if before[k] != after[k]}


def test_each_edit_makes_old_just_what_rests_on_it(state) -> None:  # type: ignore[no-untyped-def]
    duty = state.doc.duty
    case = duty.cases[0]
    louder = case.model_copy(update={"loads": tuple(ld.times(2) for ld in case.loads)})
    rests_on_loads = {"lay", "build", "prove"}
    assert changed(state, "duty", duty.model_copy(update={"cases": (louder, *duty.cases[1:])})) == rests_on_loads | {
        "stair"
    }
    often = case.model_copy(update={"repeated": True, "cycles": 1e6})
    assert changed(state, "duty", duty.model_copy(update={"cases": (often, *duty.cases[1:])})) == rests_on_loads | {
        "stair"
    }
    held = (*duty.held[:3], Held(feature="hole-4", kind="fixed"))
    assert changed(state, "duty", duty.model_copy(update={"held": held})) == rests_on_loads | {"shape"}
    assert changed(state, "duty", duty.model_copy(update={"critical_mm": 0.4})) == rests_on_loads | {"shape"}
    assert changed(state, "duty", duty.model_copy(update={"treads": {"Knocked": 0.9}})) == rests_on_loads | {"stair"}
    assert changed(state, "duty", duty.model_copy(update={"danger": Danger.BELOW})) == rests_on_loads
    assert changed(state, "duty", duty.model_copy(update={"purpose": Purpose.SHOW})) == rests_on_loads
    assert changed(state, "way", Way(direction=(0, 1, 0))) == {"build", "prove", "fits"}
    assert changed(state, "recipe", state.doc.recipe.model_copy(update={"walls": 7})) == {"prove"}
    assert changed(state, "mates", (Mate(feature="hole-1", hardware="M4"),)) == {"fits"}


def test_a_turned_force_keeps_the_shape_a_moved_one_does_not(state) -> None:  # type: ignore[no-untyped-def]
    duty = state.doc.duty
    first = duty.cases[0]
    load = first.loads[0].model_copy(update={"force_N": (10.0, 0.0, 0.0)})
    turned = duty.model_copy(update={"cases": (first.model_copy(update={"loads": (load,)}), *duty.cases[1:])})
    assert "shape" not in changed(state, "duty", turned)
    moved = load.model_copy(update={"feature": "flat-1", "at": None})
    other = duty.model_copy(update={"cases": (first.model_copy(update={"loads": (moved,)}), *duty.cases[1:])})
    assert "shape" in changed(state, "duty", other)


def test_nothing_is_asked_before_the_part_is_read_and_units_only_once(desk: Desk) -> None:
    desk.settle(lambda: desk.state.facts is not None)
    state = desk.state
    state.request_why((0.0, 0.0, 1.0))
    state.request_trust()
    state.request_units()
    assert not any(state.work.waiting(n) for n in ("why", "trust", "units")), "there are no ways to ask about yet"
    assert state.trust is None
    state.answers.put("units", state.shape_key, True)
    assert state.answers.key("units") == state.shape_key
