"""The same core without a window: ``knollside check | features | rank | strength | board | fit | plan | week ...``."""

from __future__ import annotations

import argparse
import json
import math
import os
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import Any, SupportsFloat, SupportsIndex

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

from knollside.core.model import POINTED, Refused
from knollside.core.model.trials import UNITS


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(prog="knollside", description="Without a command, opens the window.")
    parser.add_argument("--workshop", type=Path, help="workshop file to use")
    parser.add_argument("--demo", action="store_true", help="open the demonstration workshop")
    sub = parser.add_subparsers(dest="command")
    for name, what, text in (
        ("check", "file", "is a mesh sound"),
        ("features", "file", "what is on it"),
        ("rank", "job", "ways to lie, best first"),
        ("strength", "job", "one way in full: places, layers, what backs the number"),
        ("board", "job", "every recipe priced for one way to lie, materials ranked"),
        ("fit", "job", "corrections of holes and pins"),
        ("sliced", "job", "hold a sliced file against the plan"),
        ("export", "job", "write the turned, corrected part and its sheet"),
        ("plan", "run", "a run's parts packed on plates"),
        ("week", "run", "a run's plates on printers and hours"),
        ("pulls", "table", "bars that were pulled: which level is as strong as the best"),
        ("faults", "case", "a print that went wrong: what lies behind it, what to try"),
        ("breaks", "table", "breaks held against what was foretold"),
    ):
        p = sub.add_parser(name, help=text)
        p.add_argument("path", metavar=what.upper(), type=Path)
        p.add_argument("--json", action="store_true", help="answer as JSON on standard output")
        if what == "file":
            p.add_argument("--unit", choices=("mm", "cm", "inch", "metre"), default="mm")
        if name == "check":
            p.add_argument(
                "--mend", type=Path, default=None, metavar="OUT", help="write what can be mended to this STL"
            )
            p.add_argument("--unite", action="store_true", help="with --mend: make overlapping bodies one")
        if name == "features":
            p.add_argument(
                "--point",
                type=_pointed,
                action="append",
                default=[],
                metavar="KIND:X,Y,Z[:X,Y,Z]",
                help="fit a hole, pin, slot or flat at these places of the surface besides",
            )
        if name in ("fit", "export"):
            p.add_argument("--mend", action="store_true", help="mend a mesh that is not sound, and go on with that")
        if name in ("rank", "strength", "board", "export"):
            p.add_argument("--cells", type=int, default=None, help="about how many cells to solve with")
        if name in ("rank", "strength"):
            p.add_argument("--directions", type=int, default=None, help="how many directions to rate")
            p.add_argument(
                "--probe", type=_point, action="append", default=[], metavar="X,Y,Z", help="read this place besides"
            )
        if name == "board":
            p.add_argument("--checked", action="store_true", help="put right by full solves of some recipes; slow")
            p.add_argument("--solve", action="store_true", help="solve the job's own recipe whole, besides")
        if name in ("strength", "board"):
            p.add_argument("--way", type=int, default=None, help="number in the list of rank, 1 the best")
        if name == "sliced":
            p.add_argument("file", metavar="FILE", type=Path, help="plain G-code of this part")
            p.add_argument("--cells", type=int, default=None, help="about how many cells to solve with")
        if name == "pulls":
            kinds = [v.replace(" ", "-") for v in UNITS]
            p.add_argument("--varies", choices=kinds, default=kinds[0], help="what the levels are levels of")
            p.add_argument("--margin", type=float, default=0.10, help="how much weaker is as strong, a share")
            p.add_argument("--against", type=float, default=None, help="level all are held against (the strongest)")
        if name == "breaks":
            p.add_argument("--material", default="PETG", help="what the parts were printed of")
        if name == "plan":
            p.add_argument("--out", type=Path, default=None, help="folder to write each plate's 3MF and page to")
        if name == "export":
            p.add_argument("--out", type=Path, default=None, help="folder to write to (default: beside the job)")
            p.add_argument(
                "--partly", action="store_true", help="write it though some corrections cannot be made; they are listed"
            )
    return parser


def _with_signs(argv: Sequence[str]) -> list[str]:
    """Places that begin with a minus, bound to their option: the parser would take them for another one."""
    out: list[str] = []
    for word in argv:
        if out and out[-1] == "--probe":
            out[-1] = f"--probe={word}"
        else:
            out.append(word)
    return out


def _point(text: str) -> tuple[float, float, float]:
    try:
        numbers = [float(t) for t in text.split(",")]
    except ValueError:
        numbers = []
    if len(numbers) != 3 or not all(abs(v) < 1e6 for v in numbers):
        raise argparse.ArgumentTypeError(f"'{text}' is no place: three numbers in mm, as -1.5,2,30")
    return numbers[0], numbers[1], numbers[2]


def _pointed(text: str) -> tuple[str, tuple[tuple[float, float, float], ...]]:
    kind, *places = text.split(":")
    if kind not in POINTED or not places:
        raise argparse.ArgumentTypeError(f"'{text}' is no kind with places: hole, pin, slot or flat, as hole:1,2,3")
    return kind, tuple(_point(p) for p in places)


def main(argv: list[str] | None = None) -> int:
    """Exit code 0 answered, 1 refused, 2 misuse."""
    args = _parser().parse_args(_with_signs(sys.argv[1:] if argv is None else argv))
    if args.command is None:
        from knollside.gui.main import run

        return run(args.workshop, args.demo)
    from knollside.commands import COMMANDS

    try:
        answer = COMMANDS[args.command](args)
    except Refused as refusal:
        if args.json:
            print(json.dumps({"refused": str(refusal)}, ensure_ascii=False))
        else:
            print(refusal, file=sys.stderr)
        return 1
    except KeyboardInterrupt:
        return 1
    if args.json:
        print(json.dumps(_plain_json(answer), ensure_ascii=False, allow_nan=False))
    else:
        _plain(answer)
    return 0


def _plain_json(value: Any) -> Any:
    """An answer in what JSON can say: what is no number is none."""
    if isinstance(value, dict):
        return {str(k): _plain_json(v) for k, v in value.items()}
    if isinstance(value, list | tuple):
        return [_plain_json(v) for v in value]
    if isinstance(value, bool | str | None):
        return value
    if isinstance(value, SupportsIndex):
        return int(value)
    if isinstance(value, SupportsFloat):
        return float(value) if math.isfinite(value) else None
    return str(value)


def _plain(answer: dict[str, Any]) -> None:
    """Readable lines: one per entry, lists indented."""
    for key, value in answer.items():
        if isinstance(value, list) and value and isinstance(value[0], dict):
            print(f"{key}:")
            for row in value:
                print("  " + ", ".join(f"{k} {_short(v)}" for k, v in row.items() if v is not None))
        else:
            print(f"{key}: {_short(value)}")


def _short(value: Any) -> str:
    if isinstance(value, float):
        return f"{value:.4g}"
    if isinstance(value, list):
        return "(" + ", ".join(_short(v) for v in value) + ")"
    if isinstance(value, dict):
        return ", ".join(f"{k} {_short(v)}" for k, v in value.items())
    return str(value)


if __name__ == "__main__":
    sys.exit(main())
