"""``make fuzz``: damaged captures and benches by the hundred thousand, seeded; what breaks is printed with its seed.

A capture is broken where reading or evaluating it raises anything but a Refusal, takes over 5 s, or needs over 1 GB. A bench is
broken where loading it does, or where anything that can be asked of it does (tools/everything.py).
"""

from __future__ import annotations

import argparse
import contextlib
import faulthandler
import multiprocessing
import os
import resource
import signal
import sys
import tempfile
import time
import traceback
import warnings
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

import numpy as np
from everything import run_all
from random_benches import DEMO, mutated, random_bench

from crisp_compass.bench.models import Bench
from crisp_compass.bench.store import dump_bench, load_bench
from crisp_compass.capture import read_capture
from crisp_compass.course.captures import evaluate, guess_kind
from crisp_compass.course.open_points import open_points
from crisp_compass.errors import Refusal
from crisp_compass.record.formats import export_settings

SLOW_S = 5.0
_TOKENS = (
    "", "nan", "inf", "-", "1e168", "-1e168", "1e-300", "1e308", "9" * 400, "1,5", "1.5.5", '"', '""', "'", "\t", ";", ",", "\r", "\x00",
    "\ufeff", "#", "# pole_pairs: 1e9", "# pole_pairs: x", "[", "]", "[V]", "[kV]", "Ω", "0x10", "1_000", "١٢", "−1", "1e", "e5", " ", "\u2028",
)  # fmt: skip


class _TooSlowError(Exception):
    pass


def _alarm(*_: object) -> None:
    raise _TooSlowError


def seeds() -> list[bytes]:
    """Return small sound captures of every kind and dialect, cut from the demo's."""
    found = []
    for path in sorted(DEMO.glob("*/*.csv")):
        lines = path.read_text(encoding="utf-8").splitlines()
        step = max(1, (len(lines) - 12) // 120)
        text = "\n".join([*lines[:12], *lines[12::step][:120]]) + "\n"
        found.append(text.encode())
        found.append(text.replace(",", ";").replace(".", ",").replace("\n", "\r\n").encode())
    return found


def mutate(data: bytes, rng: np.random.Generator) -> bytes:
    """Return a capture with a few things damaged."""
    for _ in range(int(rng.integers(1, 5))):
        dice, at = rng.random(), int(rng.integers(max(len(data), 1)))
        if dice < 0.25:
            token = _TOKENS[rng.integers(len(_TOKENS))].encode()
            data = data[:at] + token + data[at + int(rng.integers(0, 6)) :]
        elif dice < 0.4:
            data = data[:at] + bytes([rng.integers(256)]) + data[at + 1 :]
        elif dice < 0.55:
            data = data[:at] + data[at + int(rng.integers(1, 200)) :]
        elif dice < 0.65:
            data = data[:at] + data[at : at + int(rng.integers(1, 200))] + data[at:]
        elif dice < 0.85:  # a whole cell of a whole row
            rows = data.split(b"\n")
            k = int(rng.integers(len(rows)))
            cells = rows[k].split(b",")
            cells[int(rng.integers(len(cells)))] = _TOKENS[rng.integers(len(_TOKENS))].encode()
            rows[k] = b",".join(cells)
            data = b"\n".join(rows)
        elif dice < 0.93:  # a column scaled to the edge of the numbers
            data = _scaled(data, rng)
        else:
            data = data[: int(rng.integers(max(len(data), 1)))]
    return data


def _scaled(data: bytes, rng: np.random.Generator) -> bytes:
    rows = data.split(b"\n")
    column, factor = int(rng.integers(1, 4)), 10.0 ** int(rng.choice([-200, -160, -30, -9, 9, 30, 160, 200, 300]))
    for k, row in enumerate(rows):
        cells = row.split(b",")
        if column < len(cells) and not row.startswith(b"#"):
            with contextlib.suppress(ValueError):
                cells[column] = f"{float(cells[column]) * factor:.6g}".encode()
        rows[k] = b",".join(cells)
    return b"\n".join(rows)


def one_capture(path: Path, *, fit: bool) -> None:
    """Read one file, and ``fit`` it as a page would; raises whatever is not a Refusal."""
    bench = Bench()
    bench = bench.model_copy(
        update={
            "settings": bench.settings.model_copy(
                update={"plate": bench.settings.plate.model_copy(update={"kv": 100.0})}
            )
        }
    )
    try:
        capture = read_capture(path, need_time=False)
        if not fit:
            return
        found = evaluate(bench, guess_kind(bench, capture).topic, path, base=path.parent, when="now", capture=capture)
    except Refusal as refusal:
        assert "\n" not in refusal.sentence
        assert len(refusal.sentence) < 2000, "endless sentence"
        return
    for name, quantity in found.evidence.estimates.items():
        low, high = quantity.interval95 or (quantity.value, quantity.value)
        assert low <= quantity.value <= high, f"{name}: {low} {quantity.value} {high}"


def one_bench(path: Path, *, ask: bool, slow: bool) -> None:
    """Load one file and ask everything of it, or at least what every command and the course ask."""
    try:
        bench = load_bench(path)
    except Refusal as refusal:
        assert "\n" not in refusal.sentence
        assert len(refusal.sentence) < 1200, "endless sentence"
        return
    if not ask:
        open_points(bench)
        if bench.settled:
            try:
                export_settings(bench, "c-header")
            except Refusal as refusal:
                assert "\n" not in refusal.sentence
        return
    faults = list(run_all(bench, slow=slow))
    assert not faults, faults


def _attempts(kind: str, seed: int, folder: Path) -> Iterator[tuple[Path, int]]:
    """Yield files of one kind, endlessly."""
    sound = seeds()
    texts = [p.read_text(encoding="utf-8") for p in sorted(DEMO.glob("*/*.bench.json"))]
    path = folder / ("x.csv" if kind == "captures" else "x.bench.json")
    number = 0
    while True:
        rng = np.random.default_rng([seed, number])
        if kind == "captures":
            path.write_bytes(mutate(sound[rng.integers(len(sound))], rng))
        elif kind == "benches":
            text = mutated(texts[rng.integers(len(texts))], rng)
            path.write_bytes(text.encode("utf-8", "surrogatepass"))
        else:
            path.write_text(dump_bench(random_bench(rng)), encoding="utf-8")
        number += 1
        yield path, number


def work(kind: str, seed: int, count: int, minutes: float, keep: str) -> tuple[int, float, list[str]]:
    """Try files until the count or the time is reached; return how many, the slowest in s, and what broke."""
    faulthandler.enable()
    signal.signal(signal.SIGALRM, _alarm)
    warnings.simplefilter("error")
    broken: list[str] = []
    seen: Counter[str] = Counter()
    slowest, done, end = 0.0, 0, time.monotonic() + 60 * minutes
    with tempfile.TemporaryDirectory(dir="/dev/shm" if Path("/dev/shm").is_dir() else None) as name:
        for path, number in _attempts(kind, seed, Path(name)):
            start = time.monotonic()
            signal.setitimer(signal.ITIMER_REAL, 2 * SLOW_S)
            try:
                if kind == "captures":
                    one_capture(path, fit=number % 10 == 1)
                else:
                    one_bench(path, ask=kind == "ranges" or number % 10 == 1, slow=number % 200 == 1)
                problem = ""
            except BaseException as error:
                if isinstance(error, KeyboardInterrupt | SystemExit):
                    raise
                last = traceback.extract_tb(error.__traceback__)[-1]
                problem = f"{type(error).__name__} {Path(last.filename).name}:{last.lineno} {str(error)[:240]}"
            signal.setitimer(signal.ITIMER_REAL, 0)
            took = time.monotonic() - start
            slowest = max(slowest, took)
            if took > SLOW_S and not problem:
                problem = f"slow: {took:.1f} s"
            if problem:
                place = problem.split(" ")[1] if " " in problem else problem
                seen[place] += 1
                if seen[place] <= 3:
                    broken.append(f"seed {seed} number {done}: {problem}")
                    if keep:
                        (Path(keep) / f"{kind}-{seed}-{done}{path.suffix}").write_bytes(path.read_bytes())
            done += 1
            if done >= count or time.monotonic() > end:
                break
    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    if memory > 1024:
        broken.append(f"seed {seed}: {memory:.0f} MB of memory")
    return done, slowest, [*broken, *(f"{k}: {v} times" for k, v in seen.items() if v > 3)]


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--kinds", default="captures,benches,ranges")
    parser.add_argument("--minutes", type=float, default=2.0, help="for each kind")
    parser.add_argument("--count", type=int, default=10**9, help="for each kind, at most")
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--processes", type=int, default=os.cpu_count() or 1)
    parser.add_argument("--keep", default="", help="folder for the files that broke something")
    given = parser.parse_args()
    failed = False
    for kind in given.kinds.split(","):
        share = -(-given.count // given.processes)
        with multiprocessing.Pool(given.processes) as pool:
            tasks = [(kind, given.seed + k, share, given.minutes, given.keep) for k in range(given.processes)]
            results = pool.starmap(work, tasks)
        broken = [b for _, _, found in results for b in found]
        print(
            f"{kind}: {sum(r[0] for r in results)} tried, slowest {max(r[1] for r in results):.2f} s, {len(broken)} broken",
            flush=True,
        )
        for line in broken:
            print("  ", line, flush=True)
        failed = failed or bool(broken)
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())
