"""``faults`` and ``breaks``: what lies behind a print that went wrong, and breaks against what was foretold."""

from __future__ import annotations

import argparse

from knollside.commands.told import Said, range_told
from knollside.core.learning.breaks import MODES, bases_of, counted, disagreement, held, with_model
from knollside.core.learning.breakstable import read_breaks_file
from knollside.core.learning.faultnet import CAUSES
from knollside.core.learning.faults import Ask
from knollside.core.learning.faultsfile import believed_of, read_faults
from knollside.core.learning.faultstate import shifts
from knollside.core.learning.faulttests import TESTS
from knollside.core.material.cards import material
from knollside.core.model import Refused
from knollside.core.model.faults import FaultTest

_TOLD = 10


def faults(args: argparse.Namespace) -> Said:
    """Causes with their odds and cures, and what to try next."""
    told = read_faults(args.path)
    found = believed_of(told)
    causes = []
    for c, share in found.causes[:_TOLD]:
        facts = CAUSES[c]
        causes.append({"cause": c.value, "share": share, "words": facts.words, "cure": facts.cure})
    asks = [_asked(ask) | {"worth": worth} for ask, worth in found.asks[:3]]
    pair = None
    if found.pair is not None:
        pair = {"causes": [c.value for c in found.pair[:2]], "share": found.pair[2]}
    return {
        "causes": causes,
        "something_else": found.other,
        "two_at_once": pair,
        "settled": found.settled,
        "next": asks,
        "moved_by": [{"cause": s.cause.value, "times": s.factor, "why": s.why} for s in shifts(told.known)],
    }


def _asked(ask: Ask) -> Said:
    """A test, or a closer look, with its answers."""
    if not isinstance(ask, FaultTest):
        look = [s.value for s in ask]
        return {"test": "look again", "do": "Look at the print again.", "ask": "Is this there?", "answers": look}
    t = TESTS[ask]
    return {"test": ask.value, "do": t.do, "ask": t.ask, "answers": list(t.words), "minutes": t.minutes}


def breaks(args: argparse.Namespace) -> Said:
    """How far parts break off what was foretold, by mode, and where they disagree."""
    tests = read_breaks_file(args.path)
    card = material(args.material)
    used = [t for t in tests if t.load_N and t.predicted_N and (t.mode != "did not break" or t.foretold_mode)]
    if not used:
        raise Refused(f"{args.path.name} has no break with both a load and what was foretold.")
    made = with_model(card, used, [0] * len(used))
    rows = []
    for mode, model, basis in zip(MODES, (made.model_along, made.model_across), bases_of(card), strict=True):
        count = len(counted(used, mode, basis))
        more = len(held(used, mode, basis))
        rows.append(
            {"mode": mode, "breaks": count, "held": more, "factor": None if model is None else range_told(model)}
        )
    return {"models": rows, "disagrees": list(disagreement(used, card)), "left_out": len(tests) - len(used)}
