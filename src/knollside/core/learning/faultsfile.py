"""A print that went wrong as a JSON file: what was seen, tried and known of it, and the printer's earlier cases."""

from __future__ import annotations

import json
from datetime import datetime
from pathlib import Path
from typing import Literal

from pydantic import Field, ValidationError

from knollside.core.learning.faults import Believed, believed, odds_of
from knollside.core.learning.faultstate import Known, shifted
from knollside.core.learning.faulttests import TESTS
from knollside.core.model import Record, Refused, fault_of
from knollside.core.model.faults import Answered, Cause, Cured, FaultCase, Symptom
from knollside.core.textfile import text_of

_MOST_BYTES = 2**22


class FaultsFile(Record):
    """``helped``: how often a cure of each cause helped on this printer before."""

    format: Literal["knollside-faults-1"] = "knollside-faults-1"
    seen: tuple[Symptom, ...] = Field((), max_length=40)
    lacking: tuple[Symptom, ...] = Field((), max_length=40)
    answers: tuple[Answered, ...] = Field((), max_length=100)
    tried: tuple[Cause, ...] = Field((), max_length=100)
    known: Known = Known()
    helped: dict[Cause, int] = Field(default_factory=dict, max_length=100)


def read_faults(path: Path) -> FaultsFile:
    """As :func:`parse_faults`, from a file."""
    return parse_faults(text_of(path, _MOST_BYTES, "list of what was seen"), path.name)


def parse_faults(text: str, name: str = "the case") -> FaultsFile:
    """A case from its text. Raises :class:`Refused` naming what is wrong in it."""
    try:
        made = FaultsFile.model_validate(json.loads(text))
    except (json.JSONDecodeError, RecursionError) as error:
        raise Refused(f"{name} is not valid JSON: {error}.") from None
    except ValidationError as error:
        raise Refused(f"{name}: {fault_of(error)}.") from None
    if not made.seen:
        raise Refused(f"{name}: 'seen' is empty; say what it looked like.")
    for a in made.answers:
        if a.answer not in TESTS[a.test].words:
            raise Refused(f"{name}: '{a.answer}' is no answer of '{a.test}'. It has: {', '.join(TESTS[a.test].words)}.")
    if any(not 0 <= n <= 10_000 for n in made.helped.values()):
        raise Refused(f"{name}: 'helped' counts from 0 to 10,000.")
    return made


def believed_of(told: FaultsFile) -> Believed:
    """What is believed of it: typical odds, the printer's own cures, what is known, what was seen and tried."""
    now = datetime(2000, 1, 1)
    past = []
    for cause, count in told.helped.items():
        one = FaultCase(printer=0, material="", opened=now, cures=(Cured(cause=cause, at=now, helped=True),))
        past += [one] * count
    cures = tuple(Cured(cause=c, at=now, helped=False) for c in told.tried)
    case = FaultCase(
        printer=0, material="", opened=now, seen=told.seen, lacking=told.lacking, answers=told.answers, cures=cures
    )
    return believed(case, shifted(odds_of(past), told.known))
