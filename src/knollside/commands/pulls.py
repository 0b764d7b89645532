"""``pulls``: bars that were pulled, level against level."""

from __future__ import annotations

import argparse

from knollside.commands.told import Said, range_told
from knollside.core.learning.bondcurve import bond_curve
from knollside.core.learning.pulls import advice, studied
from knollside.core.learning.pullstable import read_pulls_file
from knollside.core.model import Refused
from knollside.core.model.trials import UNITS


def pulls(args: argparse.Namespace) -> Said:
    """What a table of bars says: levels, which is as strong, which is not, and the bond where bars lay, too."""
    bars = read_pulls_file(args.path)
    if not 0.01 <= args.margin <= 0.5:
        raise Refused("--margin takes 0.01 to 0.5.")
    s = studied(bars, args.margin, args.against)
    unit = UNITS[args.varies.replace("-", " ")]
    try:
        curve = [{"at": p.at, "low": p.low, "value": p.value, "high": p.high} for p in bond_curve(bars)]
    except Refused:
        curve = []
    return {
        "advice": advice(s, unit),
        "reference": s.reference,
        "lowest_as_strong": s.lowest,
        "margin": s.margin,
        "levels": [
            {"level": v.value, "bars": len(v.strengths), "MPa": range_told(v.mean), "spread": v.spread, "runs": v.runs}
            for v in s.levels
        ],
        "claims": [
            {
                "level": c.level,
                "ratio": range_told(c.ratio),
                "p": c.p,
                "verdict": c.verdict.value,
                "more_bars": c.more,
            }
            for c in s.claims
        ],
        "slipped": list(s.slips),
        "notes": list(s.notes),
        "bond": curve,
    }
