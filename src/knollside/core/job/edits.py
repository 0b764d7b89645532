"""Rules of editing what a part must do: pure functions from records to records.

What is held is stored in the duty's holds, what is pushed in its cases, what meets something in the mates; a face's
mark is read from them, never stored twice.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

from knollside.core.fit.hardware import suggestion, sure
from knollside.core.model import (
    SIZED,
    BearingLoad,
    DeflectionLoad,
    DesignCase,
    FaceMark,
    Feature,
    FixedFixture,
    Fixture,
    ForceLoad,
    Load,
    LoadCase,
    LoadKind,
    Mate,
    PressureLoad,
    SurfaceMark,
    TorqueLoad,
    turned_into,
)

Mates = tuple[Mate, ...]
Vec = tuple[float, float, float]
FIRST_LOAD_N = 50.0


@dataclass(frozen=True)
class Said:
    """A duty with its mates: all that can be said of a part's faces."""

    design_case: DesignCase
    mates: Mates


def marks_of(design_case: DesignCase, mates: Mates) -> dict[str, FaceMark]:
    """What is said of each feature, one mark each: held before pushed before mates before what it looks like."""
    out = {name: FaceMark(mark.value) for name, mark in design_case.marks.items()}
    for m in mates:
        for name in (m.feature, m.partner):
            if name:
                out[name] = FaceMark.MATES
    for c in design_case.cases:
        out |= {ld.feature: FaceMark.PUSHED for ld in c.loads if ld.feature}
    out |= {h.feature: FaceMark.HELD for h in design_case.fixtures if h.feature}
    return out


def spoken_of(design_case: DesignCase, mates: Mates) -> set[str]:
    """Ids of all features that something is said of."""
    return set(marks_of(design_case, mates))


def marked(design_case: DesignCase, mates: Mates, feature: Feature, mark: FaceMark | None) -> Said:
    """Say one thing of a feature, in place of what was said before; None takes everything back but its mate."""
    name = feature.id
    design_case = released(unloaded(design_case, name), name)
    marks = {k: v for k, v in design_case.marks.items() if k != name}
    if mark is FaceMark.HELD:
        design_case = design_case.model_copy(update={"fixtures": (*design_case.fixtures, FixedFixture(feature=name))})
    elif mark is FaceMark.PUSHED:
        design_case = pushed(design_case, name)
    elif mark is FaceMark.MATES:
        mates = with_mate(mates, feature)
    elif mark is not None:
        marks[name] = SurfaceMark(mark.value)
    else:
        mates = tuple(m for m in mates if m.feature != name)
    return Said(design_case.model_copy(update={"marks": marks}), mates)


def with_mate(mates: Mates, feature: Feature, offered: Callable[[float, str], tuple[str, str]] = suggestion) -> Mates:
    """Mates with the hardware that suits a hole or pin, unless something goes there already."""
    if any(m.feature == feature.id for m in mates) or feature.kind not in SIZED:
        return mates
    if not feature.diameter:
        return mates
    fits = feature.kind in ("hole", "hexagon") or (feature.kind == "slot" and feature.inside is not False)
    word = "hexagon" if feature.kind == "hexagon" else "hole"
    name, fit = offered(feature.diameter, word) if fits else ("as drawn", "as drawn")
    return (*mates, Mate.model_validate({"feature": feature.id, "hardware": name, "fit": fit}))


def all_mated(mates: Mates, features: tuple[Feature, ...]) -> Mates:
    """Mates for every through hole and hexagon that has none, with hardware where its size leaves no other choice;
    counterbores go with their hole."""
    for f in features:
        wanted = (f.kind == "hole" and f.through) or (f.kind == "hexagon" and f.inside)
        if wanted and f.role not in ("counterbore", "step"):
            mates = with_mate(mates, f, sure)
    return mates


def mate_changed(mates: Mates, feature: str, change: Mapping[str, object]) -> Mates:
    """One mate with some of its fields changed; checked as a whole."""
    return tuple(Mate.model_validate(m.model_dump() | dict(change)) if m.feature == feature else m for m in mates)


def mate_dropped(mates: Mates, feature: str) -> Mates:
    return tuple(m for m in mates if m.feature != feature)


def pushed(design_case: DesignCase, feature: str) -> DesignCase:
    """A first load on a feature, straight down, joined to the first case."""
    load = ForceLoad(feature=feature, force_N=(0.0, 0.0, -FIRST_LOAD_N))
    if not design_case.cases:
        return design_case.model_copy(update={"cases": (LoadCase(name="the load", loads=(load,)),)})
    first = design_case.cases[0]
    joined = first.model_copy(update={"loads": (*first.loads, load)})
    return design_case.model_copy(update={"cases": (joined, *design_case.cases[1:])})


def loaded(design_case: DesignCase, feature: str) -> DesignCase:
    """A load case of its own on a feature."""
    name = _fresh_name({c.name for c in design_case.cases})
    case = LoadCase(name=name, loads=(ForceLoad(feature=feature, force_N=(0.0, 0.0, -FIRST_LOAD_N)),))
    return design_case.model_copy(update={"cases": (*design_case.cases, case)})


def _fresh_name(taken: set[str]) -> str:
    return next(n for n in (f"load {i}" for i in range(1, 1000)) if n not in taken)


def unloaded(design_case: DesignCase, feature: str) -> DesignCase:
    """No load on a feature any more; cases that lose their last load go."""
    cases = tuple(
        c.model_copy(update={"loads": tuple(ld for ld in c.loads if ld.feature != feature)}) for c in design_case.cases
    )
    return design_case.model_copy(update={"cases": tuple(c for c in cases if c.loads)})


def case_changed(design_case: DesignCase, i: int, case: LoadCase) -> DesignCase:
    return design_case.model_copy(update={"cases": (*design_case.cases[:i], case, *design_case.cases[i + 1 :])})


def case_dropped(design_case: DesignCase, i: int) -> DesignCase:
    return design_case.model_copy(update={"cases": (*design_case.cases[:i], *design_case.cases[i + 1 :])})


def aimed(design_case: DesignCase, case: int, load: int, toward: Vec) -> DesignCase:
    """One load turned to a direction, as strong as it was."""
    c = design_case.cases[case]
    loads = [*c.loads[:load], _aimed(c.loads[load], toward), *c.loads[load + 1 :]]
    return case_changed(design_case, case, _with_loads(c, loads))


def with_fixture(design_case: DesignCase, i: int, fixture: Fixture) -> DesignCase:
    """One hold put in place of what it was."""
    held = *design_case.fixtures[:i], fixture, *design_case.fixtures[i + 1 :]
    return design_case.model_copy(update={"fixtures": held})


def let_go(design_case: DesignCase, i: int) -> DesignCase:
    return design_case.model_copy(update={"fixtures": (*design_case.fixtures[:i], *design_case.fixtures[i + 1 :])})


def released(design_case: DesignCase, feature: str) -> DesignCase:
    """A feature held no more."""
    return design_case.model_copy(update={"fixtures": tuple(h for h in design_case.fixtures if h.feature != feature)})


def with_knock_down(design_case: DesignCase, name: str, value: float | None) -> DesignCase:
    """One's own factor on the stair, or the typical one again (None)."""
    own_knock_downs = {k: v for k, v in design_case.own_knock_downs.items() if k != name}
    if value is not None:
        own_knock_downs[name] = value
    return DesignCase.model_validate(design_case.model_dump() | {"own_knock_downs": own_knock_downs})


def without(design_case: DesignCase, names: set[str]) -> DesignCase:
    """Nothing said any more of features that are not there."""
    for name in names:
        design_case = released(unloaded(design_case, name), name)
    return design_case.model_copy(update={"marks": {k: v for k, v in design_case.marks.items() if k not in names}})


def size_of(case: LoadCase) -> float:
    """A case's own number: forces add up; a pressure or a movement is the same for each face."""
    sizes = [ld.size for ld in case.loads]
    return max(sizes) if isinstance(case.loads[0], PressureLoad | DeflectionLoad) else sum(sizes)


def case_sized(case: LoadCase, value: float) -> LoadCase:
    """A case made as strong as ``value`` in all, its loads in proportion."""
    total = size_of(case)
    return _with_loads(case, [ld.sized(ld.size * value / total if total else value) for ld in case.loads])


def case_turned_into(case: LoadCase, kind: LoadKind) -> LoadCase:
    """Every load of a case made another kind, with as much of its size as makes sense."""
    return _with_loads(case, [turned_into(ld, kind, ld.newtons or FIRST_LOAD_N) for ld in case.loads])


def case_aimed(case: LoadCase, way: Vec) -> LoadCase:
    """Every load of a case turned to one direction, as strong as it was."""
    return _with_loads(case, [_aimed(ld, way) for ld in case.loads])


def case_about(case: LoadCase, axis: Vec | None) -> LoadCase:
    """Torques of a case about one axis, or each about its feature's own (None)."""
    turned = [ld.model_copy(update={"axis": axis}) if isinstance(ld, TorqueLoad) else ld for ld in case.loads]
    return _with_loads(case, turned)


def _aimed(load: Load, way: Vec) -> Load:
    """A load turned to a direction; one that has none of its own stays."""
    return load.aimed(way) if isinstance(load, ForceLoad | BearingLoad | DeflectionLoad) else load


def _with_loads(case: LoadCase, loads: list[Load]) -> LoadCase:
    turned = case.model_copy(update={"loads": tuple(loads)})
    return turned if turned.only_weights else turned.model_copy(update={"drop_mm": None})
