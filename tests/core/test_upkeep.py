"""Hours since things were done, what is due, and readings from before a change."""

from __future__ import annotations

from datetime import date, datetime, timedelta

from knollside.core.model.running import PrinterEvent
from knollside.core.run.beforeprint import Print, changed_since
from knollside.core.run.upkeep import Ran, changed_bond, changed_sizes, doubt_words, due, hours_since

START = datetime(2026, 9, 1, 8)


def ran(day: float, hours: float, fibres: bool = False) -> Ran:
    return Ran(START + timedelta(days=day), hours, fibres)


def event(kind: str, day: float) -> PrinterEvent:
    return PrinterEvent.model_validate({"kind": kind, "at": START + timedelta(days=day)})


def test_hours_count_from_the_last_time_and_fibres_wear_brass_faster() -> None:
    prints = [ran(1, 10), ran(2, 20, True), ran(4, 30)]
    assert hours_since([], prints, "nozzle") == 10 + 8 * 20 + 30 and hours_since([], prints, "belt") == 60
    events = [event("nozzle", 3), event("belt", 1.5)]
    assert hours_since(events, prints, "nozzle") == 30 and hours_since(events, prints, "belt") == 50
    assert hours_since([], prints, "nozzle", brass=False) == 60


def test_what_is_due_is_told_with_its_reason_the_most_overdue_first() -> None:
    prints = [ran(k, 12) for k in range(20)]  # 240 h
    told = due([], prints, START + timedelta(days=21))
    assert [d.words.split(":")[0] for d in told] == ["Clean the rails and the fans", "Check the first-layer height"]
    assert told[0].over == 2.4 and "every 100 h" in told[0].why
    assert due([event("cleaned", 19.5), event("levelled", 19.5)], prints, START + timedelta(days=21)) == ()
    (rest,) = due([event("cleaned", 30), event("levelled", 30)], prints, START + timedelta(days=60))
    assert rest.words == "It rested for 41 days"
    worn = [ran(k, 10, True) for k in range(6)]
    assert "nozzle" in due([], worn, START + timedelta(days=7))[0].words
    assert not any("nozzle" in d.words for d in due([], worn, START + timedelta(days=7), hard_nozzle=True))


def test_only_what_can_change_sizes_or_bond_makes_readings_doubtful() -> None:
    events = [event("sheet", 1), event("nozzle", 2), event("cleaned", 3), event("moved", 4), event("nozzle", 2.2)]
    assert changed_sizes(events) == (date(2026, 9, 3), date(2026, 9, 5))
    assert changed_bond(events) == tuple(START + timedelta(days=d) for d in (2, 2.2))
    days = [date(2026, 9, 1), date(2026, 9, 4), date(2026, 9, 6), None]
    assert doubt_words(events, days) == ("2 readings are from before it was moved on 05 Sep, 2 since: measure a bar.")
    assert doubt_words([event("cleaned", 3)], days) == "" and doubt_words(events, [date(2026, 9, 8)]) == ""


def test_the_list_before_a_print_is_made_of_what_was_changed_since_the_last_good_one() -> None:
    now = START + timedelta(days=10)

    def lines(events: list[PrinterEvent], prints: list[Print], material: str = "PETG") -> list[str]:
        return [c.text.split(" ")[0] + "|" + c.detail for c in changed_since(events, prints, material, now)]

    def made(day: float, material: str = "PETG", good: bool = True) -> Print:
        return Print(START + timedelta(days=day), material, good)

    assert lines([], []) == ["Selector|no good print is on record here", "Frame|first use"]
    assert lines([event("nozzle", 1)], [made(2)]) == []
    both = [event("sheet", 3), event("nozzle", 4), event("cleaned", 5), event("nozzle", 6)]
    assert lines(both, [made(2)]) == [
        "Set|nozzle changed 07 Sep, after the last good print",
        "Set|sheet changed 04 Sep, after the last good print",
    ]
    assert lines([], [made(2, "ASA")]) == ["Purge|ASA was printed last"]
    assert lines([event("nozzle", 3)], [made(2), made(4, good=False)]) == [
        "Set|nozzle changed 04 Sep, after the last good print",
        "Find|failed 05 Sep",
    ]
    assert lines([], [made(-40)]) == ["Home|it rested for 50 days"]
