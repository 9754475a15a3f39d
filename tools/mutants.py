"""Do the tests bite? Seeded mutants, each against the tests of its module: make mutants, or python tools/mutants.py [--count 300].

A mutant is one operator, comparison, number or truth value changed at one place. It is killed where a test of its module fails, or
does not end. Survivors are printed with their line; a mutant that changes nothing anybody could see goes to
tools/mutants-equivalent.txt with a reason and is left out. Every mutant has a kernel cache of its own, so that no compiled kernel
of the sound sources runs in its place.
"""

from __future__ import annotations

import argparse
import ast
import os
import random
import shutil
import subprocess
import sys
import tempfile
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from queue import SimpleQueue

ROOT = Path(__file__).resolve().parent.parent
EQUIVALENT = ROOT / "tools" / "mutants-equivalent.txt"
#: Parts that are mutated, and where the tests of their modules are.
PARTS = {
    "identify": ("tests/identify",), "loops": ("tests/outside",), "modulation": ("tests/outside", "tests/course"), "plant": ("tests/plant",),
    "commutation": ("tests/commutation",), "sensorless": ("tests/sensorless",), "course": ("tests/course",), "record": ("tests/record",),
}  # fmt: skip
_SWAPS: dict[type[ast.AST], str] = {
    ast.Add: "-", ast.Sub: "+", ast.Mult: "/", ast.Div: "*", ast.Lt: ">=", ast.LtE: ">", ast.Gt: "<=", ast.GtE: "<", ast.Eq: "!=", ast.NotEq: "==",
    ast.And: "or", ast.Or: "and",
}  # fmt: skip
_SIGNS = {ast.Add: "+", ast.Sub: "-", ast.Mult: "*", ast.Div: "/", ast.Lt: "<", ast.LtE: "<=", ast.Gt: ">", ast.GtE: ">=", ast.Eq: "==", ast.NotEq: "!=", ast.And: "and", ast.Or: "or"}  # fmt: skip


@dataclass(frozen=True)
class Mutant:
    """One change: bytes ``start`` to ``end`` of a file become ``text``."""

    path: Path
    line: int
    start: int
    end: int
    text: str
    was: str

    @property
    def name(self) -> str:
        """Where it is and what it does, on one line."""
        return f"{self.path.relative_to(ROOT)}:{self.line}: {self.was} → {self.text}"


def mutants_of(path: Path) -> list[Mutant]:
    """Return every mutant of a file."""
    source = path.read_bytes()
    starts = [0]
    for line in source.splitlines(keepends=True):
        starts.append(starts[-1] + len(line))
    tree, found = ast.parse(source), []

    def at(line: int, column: int) -> int:
        return starts[line - 1] + column

    def between(left: ast.expr, right: ast.expr, kind: ast.AST) -> None:
        begin, end = at(left.end_lineno or 0, left.end_col_offset or 0), at(right.lineno, right.col_offset)
        sign = _SIGNS.get(type(kind))
        place = source.find(sign.encode(), begin, end) if sign else -1
        if sign and place >= 0:
            found.append(Mutant(path, left.end_lineno or 0, place, place + len(sign), _SWAPS[type(kind)], sign))

    plain = {id(x) for node in ast.walk(tree) for mark in getattr(node, "decorator_list", ()) for x in ast.walk(mark)}
    for node in ast.walk(tree):
        if id(node) in plain:  # whether a record may be changed is nobody's number
            continue
        if isinstance(node, ast.BinOp):
            between(node.left, node.right, node.op)
        elif isinstance(node, ast.Compare):
            between(node.left, node.comparators[0], node.ops[0])
        elif isinstance(node, ast.BoolOp):
            between(node.values[0], node.values[1], node.op)
        elif isinstance(node, ast.Constant) and type(node.value) in (int, float, bool):
            begin, end = at(node.lineno, node.col_offset), at(node.end_lineno or 0, node.end_col_offset or 0)
            value = node.value
            other = str(not value) if isinstance(value, bool) else str(value + 1) if isinstance(value, int) else f"{1.3 * value or 0.1:.6g}"
            found.append(Mutant(path, node.lineno, begin, end, other, source[begin:end].decode()))
    return found


def choose(count: int, seed: int, only: str) -> list[Mutant]:
    """Return ``count`` mutants spread evenly over the parts."""
    rng, chosen = random.Random(seed), []
    known = [line.split(" | ")[0] for line in EQUIVALENT.read_text(encoding="utf-8").splitlines() if line and not line.startswith("#")]
    parts = [p for p in PARTS if not only or p == only]
    for part in parts:
        files = sorted((ROOT / "src" / "crisp_compass" / part).rglob("*.py"))
        pool = [m for path in files for m in mutants_of(path) if m.name not in known]
        chosen += rng.sample(pool, min(-(-count // len(parts)), len(pool)))
    return chosen[:count]


def killed(mutant: Mutant, copy: Path, limit: float) -> bool:
    """Run the tests of the mutant's part in a copy of the project; the copy is as it was afterwards."""
    target = copy / mutant.path.relative_to(ROOT)
    sound = target.read_bytes()
    part = mutant.path.relative_to(ROOT / "src" / "crisp_compass").parts[0]
    target.write_bytes(sound[: mutant.start] + mutant.text.encode() + sound[mutant.end :])
    try:
        with tempfile.TemporaryDirectory() as cache:
            environment = os.environ | {"PYTHONPATH": str(copy / "src"), "NUMBA_CACHE_DIR": cache, "QT_QPA_PLATFORM": "offscreen", "OMP_NUM_THREADS": "1"}
            command = [sys.executable, "-m", "pytest", "-x", "-q", "-p", "no:cacheprovider", *PARTS[part]]
            done = subprocess.run(command, cwd=copy, env=environment, capture_output=True, timeout=limit, check=False)
            return done.returncode != 0
    except subprocess.TimeoutExpired:
        return True
    finally:
        target.write_bytes(sound)


def main() -> None:
    """Print how many of each part are killed, and the survivors."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--count", type=int, default=300)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--only", choices=[*PARTS], default="")
    parser.add_argument("--limit", type=float, default=600.0, help="seconds after which a run counts as killed")
    given = parser.parse_args()
    chosen = choose(given.count, given.seed, given.only)
    with tempfile.TemporaryDirectory() as folder:
        free: SimpleQueue[Path] = SimpleQueue()
        for k in range(os.cpu_count() or 1):
            shutil.copytree(ROOT, Path(folder) / str(k), ignore=shutil.ignore_patterns(".venv", ".git", "*_cache", "__pycache__", ".hypothesis"))
            free.put(Path(folder) / str(k))

        def run(mutant: Mutant) -> bool:
            copy = free.get()
            try:
                found = killed(mutant, copy, given.limit)
            finally:
                free.put(copy)
            print(f"{'killed  ' if found else 'SURVIVED'} {mutant.name}", flush=True)
            return found

        with ThreadPoolExecutor(free.qsize()) as pool:
            results = list(pool.map(run, chosen))
    for part in PARTS:
        mine = [r for m, r in zip(chosen, results, strict=True) if f"/crisp_compass/{part}/" in str(m.path)]
        if mine:
            print(f"{part:12} {sum(mine)} of {len(mine)} killed")
    print(f"{'all':12} {sum(results)} of {len(results)} killed, {100 * sum(results) / max(len(results), 1):.0f} %")


if __name__ == "__main__":
    main()
