"""``./run mutate [HOW_MANY [SEED]]``: small changes made in the core, one at a time; some test must notice each.

First every test is run once to learn which lines it passes; then, for each change, only the tests that pass its line,
the quickest first. A change that none notices is printed: a number that could be wrong without anyone seeing it.
"""

from __future__ import annotations

import ast
import os
import random
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

import coverage

ROOT = Path(__file__).parent.parent
CORE = ROOT / "src/knollside/core"
KEPT = ROOT / ".mutate"
SECONDS = 240  # of tests for one change
# What a person reads or waits for, not what is computed.
_TOLD = {"tick", "ask", "say", "tell", "Refused", "Field", "ValueError", "TypeError", "KeyError", "AssertionError"}
_SWAPS: dict[type[ast.AST], tuple[str, str]] = {
    ast.Add: ("+", "-"),
    ast.Sub: ("-", "+"),
    ast.Mult: ("*", "/"),
    ast.Div: ("/", "*"),
    ast.Lt: ("<", ">="),
    ast.Gt: (">", "<="),
    ast.LtE: ("<=", ">"),
    ast.GtE: (">=", "<"),
}


@dataclass(frozen=True)
class Change:
    """One piece of a file's text in place of another."""

    path: Path
    line: int
    start: int
    end: int
    new: str

    def text(self) -> str:
        old = self.path.read_text()
        return old[: self.start] + self.new + old[self.end :]

    def words(self) -> str:
        line = self.path.read_text().splitlines()[self.line - 1].strip()
        old = self.path.read_text()[self.start : self.end]
        return f"{self.path.relative_to(ROOT)}:{self.line}: {old.strip()} -> {self.new.strip()}   in   {line}"


def changes_of(path: Path) -> Iterator[Change]:
    """Every change that can be made in a file."""
    source = path.read_text()
    starts = [0]
    for line in source.splitlines(keepends=True):
        starts.append(starts[-1] + len(line.encode()))

    def at(line: int, column: int) -> int:
        return len(source.encode()[: starts[line - 1] + column].decode())

    def visit(node: ast.AST, compared: bool = False) -> Iterator[Change]:
        # A bound that something is compared with is a tolerance: half as much again is seldom another answer.
        compared = compared or isinstance(node, ast.Compare)
        if isinstance(node, ast.Raise | ast.JoinedStr | ast.Assert | ast.AnnAssign) or _is_told(node):
            return
        if isinstance(node, ast.BinOp) and type(node.op) in _SWAPS and not _by_a_sign(node):
            yield from between(node.left, node.right, *_SWAPS[type(node.op)])
        if isinstance(node, ast.Compare) and len(node.ops) == 1 and type(node.ops[0]) in _SWAPS:
            yield from between(node.left, node.comparators[0], *_SWAPS[type(node.ops[0])])
        if not compared and isinstance(node, ast.Constant) and type(node.value) is float and node.value not in (0, 1):
            a, b = at(node.lineno, node.col_offset), at(node.end_lineno or 0, node.end_col_offset or 0)
            if not 0 < abs(node.value) < 1e-5:
                yield Change(path, node.lineno, a, b, repr(node.value * 2))
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id in ("min", "max"):
            a = at(node.func.lineno, node.func.col_offset)
            yield Change(path, node.lineno, a, a + 3, "max" if node.func.id == "min" else "min")
        for child in ast.iter_child_nodes(node):
            yield from visit(child, compared)

    def between(left: ast.expr, right: ast.expr, old: str, new: str) -> Iterator[Change]:
        a, b = at(left.end_lineno or 0, left.end_col_offset or 0), at(right.lineno, right.col_offset)
        found = source.find(old, a, b)
        if found >= 0:
            yield Change(path, left.end_lineno or 0, found, found + len(old), new)

    yield from visit(ast.parse(source))


def _by_a_sign(node: ast.BinOp) -> bool:
    """A product with one or minus one: divided by it, it is the same."""

    def is_sign(e: ast.expr) -> bool:
        if isinstance(e, ast.IfExp):
            return is_sign(e.body) and is_sign(e.orelse)
        e = e.operand if isinstance(e, ast.UnaryOp) else e
        return isinstance(e, ast.Constant) and e.value in (1, 1.0)

    return isinstance(node.op, ast.Mult) and (is_sign(node.left) or is_sign(node.right))


def _is_told(node: ast.AST) -> bool:
    if not isinstance(node, ast.Call):
        return False
    name = node.func.attr if isinstance(node.func, ast.Attribute) else getattr(node.func, "id", "")
    return name in _TOLD


def learn() -> coverage.CoverageData:
    """Which test passes which line of the core; kept until a source or a test changes."""
    newest = max(p.stat().st_mtime for folder in ("src", "tests") for p in (ROOT / folder).rglob("*.py"))
    data = KEPT / "coverage"
    if not data.exists() or data.stat().st_mtime < newest:
        KEPT.mkdir(exist_ok=True)
        print("learning which test passes which line ...", flush=True)
        cover = ["--cov=knollside.core", "--cov-context=test", "--cov-report="]
        command = [sys.executable, "-m", "pytest", "-q", "-n", os.environ.get("KNOLLSIDE_TESTS", "2"), *cover]
        command += ["tests/core", "-p", "no:cacheprovider"]
        subprocess.run(command, cwd=ROOT, env=os.environ | {"COVERAGE_FILE": str(data)}, check=True)
    found = coverage.CoverageData(str(data))
    found.read()
    return found


def noticed(change: Change, tests: list[str]) -> tuple[bool, float]:
    """Whether one of the tests fails with the change made, in a copy of the tree; and the seconds it took."""
    began = time.monotonic()
    with tempfile.TemporaryDirectory() as folder:
        copy = Path(folder)
        for part in ("src", "tests", "pyproject.toml"):
            source = ROOT / part
            (shutil.copytree if source.is_dir() else shutil.copy2)(source, copy / part)
        (copy / change.path.relative_to(ROOT)).write_text(change.text())
        command = [sys.executable, "-m", "pytest", "-x", "-q", "-p", "no:cacheprovider", "-p", "no:randomly", *tests]
        try:
            done = subprocess.run(
                command,
                cwd=copy,
                env=os.environ | {"PYTHONPATH": str(copy / "src")},
                timeout=SECONDS,
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
            )
            failed = done.returncode not in (0, 5)  # a change that no test can even be gathered with is noticed, too
        except subprocess.TimeoutExpired:
            failed = False
    return failed, time.monotonic() - began


def closest(tests: list[str], passes: dict[str, int], rng: random.Random) -> list[str]:
    """Forty of a line's tests: first those that pass little else, which are about it; some of the rest by chance."""
    ordered = sorted(tests, key=lambda t: passes[t])
    return ordered[:30] + rng.sample(ordered[30:], min(len(ordered[30:]), 10))


def main(count: int, seed: int) -> int:
    data = learn()
    possible: list[tuple[Change, list[str]]] = []
    passes: dict[str, int] = {}
    for path in sorted(CORE.rglob("*.py")):
        by_line = data.contexts_by_lineno(str(path))
        for told in by_line.values():
            for test in {c.split("|")[0] for c in told if c}:
                passes[test] = passes.get(test, 0) + 1
        for change in changes_of(path):
            tests = sorted({c.split("|")[0] for c in by_line.get(change.line, []) if c})
            if tests:
                possible.append((change, tests))
    rng = random.Random(seed)
    picked = rng.sample(possible, min(count, len(possible)))
    unnoticed = []
    asked = [(change, closest(tests, passes, rng)) for change, tests in picked]
    with ThreadPoolExecutor(os.cpu_count()) as pool:
        for k, (change, (failed, seconds)) in enumerate(zip(picked, pool.map(lambda a: noticed(*a), asked)), 1):
            print(f"{k:3d} {'noticed' if failed else 'UNNOTICED':9s} {seconds:5.0f} s  {change[0].words()}", flush=True)
            if not failed:
                unnoticed.append(change)
    share = 1 - len(unnoticed) / max(len(picked), 1)
    print(f"{len(picked)} of {len(possible)} changes tried from seed {seed}; {share:.0%} noticed")
    return 0 if share >= 0.9 else 1


if __name__ == "__main__":
    sys.exit(main(*(int(a) for a in (*sys.argv[1:], *("60", "1")[len(sys.argv) - 1 :]))))
