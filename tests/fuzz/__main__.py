"""``./run fuzz MINUTES``: broken files and a user without a plan, until the time is up; findings go to ``found``."""

from __future__ import annotations

import hashlib
import multiprocessing as mp
import os
import signal
import sys
import time
from pathlib import Path

from fuzz.rounds import throw_some, use_window
from fuzz.targets import TARGETS

FOUND = Path(__file__).parent / "found"
SECONDS = 60  # for one file or one act; longer is a finding


def round_of(name: str, seed: int) -> str:
    """One round; what was found, in words."""
    context = mp.get_context("spawn")
    ours, theirs = context.Pipe()
    act = use_window if name == "window" else throw_some
    process = context.Process(target=act, args=(name, seed, theirs))
    process.start()
    theirs.close()
    last: tuple[str, bytes] = ("nothing", b"")
    fault = ""
    while not fault:
        if not ours.poll(SECONDS):
            fault = f"longer than {SECONDS} s"
            os.kill(process.pid or 0, signal.SIGABRT)
            break
        try:
            told = ours.recv()
        except EOFError:
            process.join(10)
            fault = f"the process ended with {process.exitcode}"
            break
        if told is None:
            break
        last, fault = told[:2], told[2]
    process.join(10)
    if process.is_alive():
        process.kill()
    if fault and not last[1]:
        raise SystemExit(f"the round of {name} could not begin: {fault}")
    if fault:
        kept = FOUND / name / f"{hashlib.sha256(last[1]).hexdigest()[:8]}-{last[0]}"
        kept.parent.mkdir(parents=True, exist_ok=True)
        kept.write_bytes(last[1])
        return f"{name}, seed {seed}: {fault}\n  kept as {kept}"
    return ""


def main(minutes: float) -> int:
    end, seed, rounds, found = time.monotonic() + 60 * minutes, int(time.time()), 0, []
    print(f"fuzz for {minutes:g} minutes from seed {seed}", flush=True)
    while time.monotonic() < end:
        for name in (*TARGETS, "window"):
            if time.monotonic() > end:
                break
            words = round_of(name, seed)
            rounds += 1
            if words:
                found.append(words)
                print(words, flush=True)
        seed += 1
    print(f"{rounds} rounds, {len(found)} findings")
    return 1 if found else 0


if __name__ == "__main__":
    sys.exit(main(float(sys.argv[1]) if len(sys.argv) > 1 else 5))
