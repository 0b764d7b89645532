"""The week: every plan keeps its rules, small ones are as good as trying everything, bounds hold, reasons are told."""

from __future__ import annotations

from datetime import date, datetime, time, timedelta
from itertools import pairwise, permutations, product
from zoneinfo import ZoneInfo

import numpy as np
import pytest

from knollside.core.job.running import act_of, loaded_as
from knollside.core.model import Range, Refused
from knollside.core.run.hours import USUAL, Span, Week, span_of
from knollside.core.run.spools import OnShelf
from knollside.core.run.week import Plan, planned
from knollside.core.run.week_bound import bound_of
from knollside.core.run.weeklists import FIRST_LAYER
from knollside.core.run.weeknumbers import Drying, Goal, Machine, PlateTask, School, eightieth, units

ZONE = ZoneInfo("Europe/Berlin")
BEGIN = datetime(2026, 11, 30, 17, 10, tzinfo=ZONE)
SPAN = span_of(USUAL, BEGIN, 9)


def case(seed: int, n: int, machines: int) -> tuple[list[PlateTask], list[Machine], list[Drying]]:
    rng = np.random.default_rng(seed)
    names = [f"P{k}" for k in range(machines)]
    tasks = []
    for k in range(n):
        h, spool = float(rng.uniform(0.6, 7)), int(rng.integers(3))
        can = tuple(names) if rng.random() < 0.7 else (names[int(rng.integers(machines))],)
        due = BEGIN + timedelta(hours=float(rng.uniform(5, 90))) if rng.random() < 0.5 else None
        ready = BEGIN + timedelta(hours=float(rng.uniform(0, 20))) if rng.random() < 0.2 else None
        tasks.append(
            PlateTask(
                f"p{k}", f"Plate {k}", Range(h, 0.9 * h, 1.15 * h), f"f{spool // 2}", f"s{spool}", can, due, ready
            )
        )
    free = BEGIN + timedelta(hours=float(rng.uniform(0, 4)))
    held = [f"s{s}" if s < 3 else "" for s in rng.permutation(4)]
    made = [Machine(n, held[k], free if k == 0 else None, 15.0, 25.0) for k, n in enumerate(names)]
    drying = [Drying("s1", 4.0)] if rng.random() < 0.5 else []
    if rng.random() < 0.3:
        drying.append(Drying("s0", 5.0, BEGIN + timedelta(hours=float(rng.uniform(0.5, 9)))))
    return tasks, made, drying


def may_start(span: Span, t: int, task: PlateTask, school: School, whole: bool) -> bool:
    """Somebody is in at the first layer, and over all ends it may have (the planned one alone where not ``whole``)."""
    long = units(eightieth(task.hours))
    low, high = (units(task.hours.low), units(task.hours.high)) if whole else (long, long)
    if t + (long if school is School.OVERNIGHT else max(high, long)) > span.units:
        return False
    need = set(range(t, t + min(FIRST_LAYER, long)))
    if school is School.NEVER_ALONE:
        need |= set(range(t, t + high))
    if school is School.ENDS_WATCHED:
        need |= set(range(t + low - 1, t + high))
    return all(span.present[u] for u in need)


def surely(span: Span, task: PlateTask, machines: list[Machine], school: School, drying=()) -> bool:  # type: ignore[no-untyped-def]
    """Whether any start has somebody in over all ends it may have."""
    free = min(span.unit(m.free) if m.free else 0 for m in machines if m.name in task.printers)
    out = [span.unit(d.until) for d in drying if d.until is not None and d.spool == task.spool]
    first = max(free, span.unit(task.ready) if task.ready else 0, *out, 0)
    return any(may_start(span, t, task, school, True) for t in range(first, span.units))


def tried(order, where, tasks, machines, drying, span: Span, may):  # type: ignore[no-untyped-def]
    """One list turned into hours, unit by unit, in plain steps; (done, changes, late) or None."""
    free = {m.name: 0 if m.free is None else span.unit(m.free) for m in machines}
    loaded = {m.name: m.loaded for m in machines}
    facts = {m.name: m for m in machines}
    wet = {d.spool: units(d.hours) for d in drying if d.until is None}
    spool_free = {d.spool: span.unit(d.until) for d in drying if d.until is not None}
    drier = max(spool_free.values(), default=0)
    for m in machines:
        # What a printer prints now comes off the spool it holds.
        spool_free[m.loaded] = max(spool_free.get(m.loaded, 0), free[m.name])
    done, changes, late, used = 0, 0, 0, set()
    for k in order:
        t, name = tasks[k], where[k]
        if t.spool in wet:
            start = max(drier, spool_free.get(t.spool, 0))
            while start < span.units and not span.present[start]:
                start += 1
            drier = spool_free[t.spool] = start + wet.pop(t.spool)
            loaded = {n: "" if s == t.spool else s for n, s in loaded.items()}
        swap = loaded[name] != t.spool
        loaded = {n: "" if s == t.spool else s for n, s in loaded.items()}
        setup = (units(facts[name].clear_minutes / 60) if name in used else 0) + (
            units(facts[name].change_minutes / 60) if swap else 0
        )
        at = max(free[name], spool_free.get(t.spool, 0))
        while setup and at < span.units and not all(span.present[at : at + setup]):
            at += 1
        at += setup
        if t.ready is not None:
            at = max(at, span.unit(t.ready))
        long = units(eightieth(t.hours))
        while at < span.units and not may[k][at]:
            at += 1
        if at + long > span.units:
            return None
        free[name] = spool_free[t.spool] = at + long
        loaded[name] = t.spool
        used.add(name)
        changes += swap
        done = max(done, at + long)
        late += 0 if t.due is None else max(at + long - span.unit(t.due, up=False), 0)
    return done, changes, late


def brute(tasks, machines, drying, span: Span, school: School, goal: Goal):  # type: ignore[no-untyped-def]
    best = None
    sure = [surely(span, t, machines, school, drying) for t in tasks]
    may = [[may_start(span, u, t, school, s) for u in range(span.units)] for t, s in zip(tasks, sure, strict=True)]
    for where in product(*(t.printers for t in tasks)):
        for order in permutations(range(len(tasks))):
            got = tried(order, where, tasks, machines, drying, span, may)
            if got is not None and (best is None or got[goal] < best):
                best = got[goal]
    return best


@pytest.mark.parametrize("school", School)
@pytest.mark.parametrize("goal", Goal)
def test_small_weeks_are_as_good_as_trying_everything(school: School, goal: Goal) -> None:
    span = span_of(USUAL, BEGIN, 5)
    for seed in range(22):
        tasks, machines, drying = case(100 * int(school) + seed, 4, 2)
        want = brute(tasks, machines, drying, span, school, goal)
        try:
            plan = planned(tasks, machines, span, school, goal, drying, bound_of)
        except Refused:
            assert want is None
            continue
        assert plan.value == want and plan.bound <= want
        assert not plan.proved or plan.bound == want


def keeps_its_rules(plan: Plan, tasks, machines, drying, school: School) -> None:  # type: ignore[no-untyped-def]
    span = plan.span
    assert sorted(s.task.key for s in plan.slots) == sorted(t.key for t in tasks)
    wet = {d.spool: units(d.hours) for d in drying if d.until is None}
    there = {d.spool: span.unit(d.until) for d in drying if d.until is not None}
    dried = {d.spool: d for d in plan.drying}
    for d in plan.drying:
        if d.there:
            assert (d.start, d.end) == (0, there[d.spool])
        else:
            assert d.end - d.start == wet[d.spool] and span.present[d.start]
            assert all(d.start >= end for end in there.values())
    for s in plan.slots:
        assert s.printer in s.task.printers and s.end - s.start == units(eightieth(s.task.hours))
        assert s.alone == (school is not School.OVERNIGHT and not surely(span, s.task, machines, school, drying))
        assert may_start(span, s.start, s.task, school, not s.alone)
        assert s.task.ready is None or span.when(s.start) >= s.task.ready
        assert s.soonest <= s.end <= s.latest and s.setup <= s.start
        if s.task.spool in dried:
            assert s.start >= dried[s.task.spool].end
    for m in machines:
        row, end = [s for s in plan.slots if s.printer == m.name], 0 if m.free is None else span.unit(m.free)
        for k, s in enumerate(row):
            work = (units(m.clear_minutes / 60) if k else 0) + (units(m.change_minutes / 60) if s.changes else 0)
            assert s.setup >= end and s.start >= s.setup + work and all(span.present[s.setup : s.setup + work])
            end = s.end
    # Spools followed through the hours: where each is, and that it is there before anything prints from it.
    where = {m.loaded: m.name for m in machines if m.loaded}
    for d in plan.drying:
        if not d.there:
            assert all(s.end <= d.start for s in plan.slots if s.task.spool == d.spool and s.start < d.start)
    for s in sorted(plan.slots, key=lambda s: (s.setup, s.start)):
        spool = s.task.spool
        if any(d.spool == spool and not d.there and d.end <= s.start for d in plan.drying) and spool in wet:
            del wet[spool]
            where.pop(spool, None)
        assert s.changes == (where.get(spool) != s.printer)
        assert s.taken_from == ((where.get(spool) or "") if s.changes else "")
        where = {k: n for k, n in where.items() if n != s.printer} | {spool: s.printer}
    assert plan.changes == sum(s.changes for s in plan.slots)
    for spool in {t.spool for t in tasks}:
        row = sorted((s.setup, s.end, s.changes) for s in plan.slots if s.task.spool == spool)
        for (_, end, _), (setup, _, change) in pairwise(row):
            assert setup >= end, "nobody has it in hand while it prints"
            assert not change or setup >= end


@pytest.mark.parametrize("school", School)
def test_twenty_plates_on_three_printers_keep_every_rule(school: School) -> None:
    span = span_of(USUAL, BEGIN, 21)
    for seed in range(4):
        tasks, machines, drying = case(seed, 20, 3)
        for goal in Goal:
            plan = planned(tasks, machines, span, school, goal, drying, bound_of)
            keeps_its_rules(plan, tasks, machines, drying, school)
            assert plan.bound <= plan.value


def test_somebody_is_in_over_all_hours_at_which_it_may_end() -> None:
    """In from 17 to 23 o'clock: 6 to 9 h begun in the evening could end at four in the morning; three hours of doubt go
    into the next evening only if it is begun so that both ends do. Seven hours of doubt go into none."""
    week = Week((((time(8), time(9)), (time(17), time(23))),) * 7)
    span = span_of(week, BEGIN.replace(hour=8, minute=0), 4)
    for low, high, alone in ((9.0, 12.0, False), (9.0, 16.0, True)):
        task = PlateTask("a", "Hose arm", Range(11.0, low, high), "f", "s", ("P",))
        plan = planned([task], [Machine("P", "s")], span, School.ENDS_WATCHED, Goal.SOONEST, (), bound_of)
        (s,) = plan.slots
        first, last = span.when(s.soonest), span.when(s.latest)
        assert s.alone == alone and ("nobody is surely in" in act_of(plan, s, {})) == alone
        if not alone:
            assert first.date() == last.date() and first.hour >= 17 and last.hour < 23
            # 8:00 is the soonest at which somebody is in: 17:00 to 20:00.
            assert (first.hour, last.hour) == (17, 20) and s.start == 1


def test_fewest_changes_are_no_more_than_soonest_has_and_the_other_way_round() -> None:
    span = span_of(USUAL, BEGIN, 21)
    tasks, machines, drying = case(3, 14, 2)
    a, b, c = (planned(tasks, machines, span, School.ENDS_WATCHED, g, drying) for g in Goal)
    assert a.done <= min(b.done, c.done) and b.changes <= min(a.changes, c.changes) and c.late <= min(a.late, b.late)


def test_nights_in_which_clocks_change_have_their_true_hours() -> None:
    week = Week(tuple(((time(0), time(0)),) for _ in range(7)))
    for day, hours in ((date(2026, 10, 25), 25), (date(2026, 3, 29), 23), (date(2026, 6, 1), 24)):
        begin = datetime(day.year, day.month, day.day, tzinfo=ZONE)
        span = span_of(week, begin, 2)
        tomorrow = datetime(day.year, day.month, day.day, tzinfo=ZONE) + timedelta(days=1)
        assert span.unit(tomorrow) == hours * 12 and span.when(hours * 12).hour == 0
    # In by the clock on the wall: 17:00 stays 17:00.
    span = span_of(USUAL, datetime(2026, 10, 24, 12, tzinfo=ZONE), 3)
    monday = span.unit(datetime(2026, 10, 26, 17, 0, tzinfo=ZONE))
    assert span.present[monday] and not span.present[monday - 1]


def test_the_eightieth_percentile_is_planned_and_the_doubt_told() -> None:
    task = PlateTask("a", "A", Range(5.0, 4.5, 5.6), "f", "s", ("P",))
    plan = planned([task], [Machine("P", "s")], SPAN, School.OVERNIGHT, Goal.SOONEST)
    (s,) = plan.slots
    # A normal whose 95th percentile lies 0.6 above: the 80th 0.6 x 0.8416 / 1.6449 above.
    assert s.end - s.start == int(np.ceil((5 + 0.6 * 0.8416 / 1.6449) * 12)) == 64
    assert (s.soonest - s.start, s.latest - s.start) == (54, 68) and plan.proved


@pytest.mark.parametrize(
    ("hours", "school", "week", "words"),
    [
        (8.0, School.NEVER_ALONE, Week((((time(17), time(23)),),) * 7), "nobody is in for longer than 6.0 h"),
        (12.0, School.ENDS_WATCHED, Week((((time(17), time(19)),),) * 7), "always ends when nobody is"),
        (400.0, School.OVERNIGHT, USUAL, "does not end in these days"),
        (2.0, School.OVERNIGHT, Week(((),) * 7), "Nobody is in during these days"),
    ],
)
def test_what_cannot_be_planned_is_said_with_its_reason(hours: float, school: School, week: Week, words: str) -> None:
    task = PlateTask("a", "Hose arm", Range(hours, hours, hours), "f", "s", ("P",))
    with pytest.raises(Refused, match=words):
        planned([task], [Machine("P", "s")], span_of(week, BEGIN, 7), school, Goal.SOONEST, (), bound_of)


def test_wrong_weeks_and_printers_are_said() -> None:
    with pytest.raises(Refused, match="no stretch"):
        Week((((time(9), time(8)),), *((),) * 6))
    with pytest.raises(Refused, match="time zone"):
        span_of(USUAL, datetime(2026, 1, 1), 2)
    task = PlateTask("a", "Hose arm", Range(1, 1, 1), "f", "s", ("Gone",))
    with pytest.raises(Refused, match="none of the printers"):
        planned([task], [Machine("P")], SPAN, School.OVERNIGHT, Goal.SOONEST)
    for tasks, machines, words in (([], [Machine("P")], "no plate"), ([task], [], "no printer")):
        with pytest.raises(Refused, match=words):
            planned(tasks, machines, SPAN, School.OVERNIGHT, Goal.SOONEST)


def spools_of(*given: tuple[str, str, float]) -> list[PlateTask]:
    """Plates by name, spool and hours, on either printer."""
    return [PlateTask(n, n, Range(h, h, h), "PETG green", spool, ("Old Tom", "The Brick")) for n, spool, h in given]


def test_a_spool_is_on_one_printer_at_a_time_and_moving_it_is_an_act_that_counts() -> None:
    """One plate tied to each printer, one spool: an hour by hand, somebody in all day. Old Tom prints until 10:00, then
    ten minutes to take the spool off it and put it on The Brick."""
    week = Week(tuple(((time(0), time(0)),) for _ in range(7)))
    span = span_of(week, BEGIN.replace(hour=8, minute=0), 3)
    tasks = [PlateTask(n, n, Range(2, 2, 2), "PETG green", "green", (n,)) for n in ("Old Tom", "The Brick")]
    machines = [Machine("Old Tom", "green"), Machine("The Brick")]
    plan = planned(tasks, machines, span, School.ENDS_WATCHED, Goal.SOONEST, (), bound_of)
    a, b = plan.slots
    assert (a.printer, a.changes, a.taken_from, a.end) == ("Old Tom", False, "", 24)
    assert (b.printer, b.changes, b.taken_from) == ("The Brick", True, "Old Tom")
    assert (b.setup, b.start, b.end) == (24, 26, 50) and plan.changes == 1
    said = act_of(plan, b, {"green": "the green"})
    assert said.startswith("Mon 10:00: take the green off Old Tom and put it on, start The Brick on The Brick")


def test_one_spool_never_prints_on_two_printers_for_nothing() -> None:
    """Six plates of one spool: with fewest changes all on the printer that holds it, and whenever they go to and fro
    each time is a change; with two spools alike both print without one."""
    week = Week(tuple(((time(0), time(0)),) for _ in range(7)))
    span = span_of(week, BEGIN.replace(hour=8, minute=0), 5)
    machines = [Machine("Old Tom", "s0"), Machine("The Brick", "s1")]
    six = spools_of(*((f"p{k}", "s0", 2.0) for k in range(6)))
    few = planned(six, machines, span, School.OVERNIGHT, Goal.FEWEST_CHANGES)
    assert {s.printer for s in few.slots} == {"Old Tom"} and few.changes == 0
    one = planned(six, machines, span, School.OVERNIGHT, Goal.SOONEST)
    row = ["Old Tom", *(s.printer for s in one.slots)]
    assert one.changes == sum(a != b for a, b in pairwise(row)) and one.done <= few.done
    two = planned(
        spools_of(*((f"p{k}", f"s{k % 2}", 2.0) for k in range(6))), machines, span, School.OVERNIGHT, Goal.SOONEST
    )
    assert {s.printer for s in two.slots} == {"Old Tom", "The Brick"} and two.changes == 0
    assert two.done < 0.6 * one.done


def test_what_is_said_to_be_loaded_is_a_spool() -> None:
    shelf = [OnShelf(k, n, f, Range(500, 450, 550)) for k, n, f in (("1", "Old end", "PETG"), ("2", "New", "PETG"))]
    assert [loaded_as(t, shelf) for t in ("2", "New", "PETG", "", "ASA")] == ["2", "2", "1", "", "missing ASA"]
    assert loaded_as("PETG", shelf, ["1"]) == "2" and loaded_as("PETG", shelf, ["1", "2"]) == "missing PETG"
