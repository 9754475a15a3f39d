"""Put the angle sensors to the test: simulated hand turns, alignments and pulses over wide ranges; one table.

    .venv/bin/python tools/attack_commutation.py [--write docs/commutation-accuracy.md]

Captures are made in closed form by tests/makers.py, apart from the program's plant.
"""

from __future__ import annotations

import argparse
import math
import sys
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

ROOT = Path(__file__).resolve().parents[1]
sys.path.insert(0, str(ROOT / "tests"))

from crisp_compass.commutation.alignment import read_alignment  # noqa: E402
from crisp_compass.commutation.encoder import COMMON_LINES, read_encoder  # noqa: E402
from crisp_compass.commutation.halls import read_halls  # noqa: E402
from crisp_compass.commutation.pole_search import search_pole  # noqa: E402
from crisp_compass.errors import Refusal  # noqa: E402
from makers import encoder_turn, hall_turn, pulses, rests  # noqa: E402


@dataclass
class Tally:
    """What happened to one method: captures, decisions right and wrong, refused; angle errors in degrees."""

    captures: int = 0
    right: int = 0
    wrong: int = 0
    refused: int = 0
    errors: list[float] = field(default_factory=list)

    def row(self, name: str) -> str:
        """Return a row of the table."""
        p95 = f"{np.quantile(self.errors, 0.95):.2f}°" if self.errors else "–"
        worst = f"{max(self.errors):.2f}°" if self.errors else "–"
        return f"| {name} | {self.captures} | {self.right} | {self.wrong} | {self.refused} | {p95} | {worst} |"


def _off(a: float, b: float) -> float:
    return abs((a - b + 180) % 360 - 180)


def halls(count: int) -> Tally:
    """Orders, polarities, 60° and 120°, both directions, uneven turning, edges 2.5° off (standard deviation)."""
    tally, rng = Tally(), np.random.default_rng(11)
    for k in range(count):
        order = tuple(int(x) for x in rng.permutation(3))
        inverted, spacing, sign = int(rng.integers(8)), int(rng.choice([60, 120])), int(rng.choice([-1, 1]))
        capture, arcs = hall_turn(order, inverted, spacing, sign, seed=k)
        tally.captures += 1
        try:
            table = read_halls(capture)
        except Refusal:
            tally.refused += 1
            continue
        codes = {
            sum(w for w, (a, b) in zip((4, 2, 1), arcs, strict=True) if (s.center_deg - a) % 360 < (b - a) % 360): s
            for s in table.states.values()
        }
        good = {str(c) for c in codes} == set(table.states) and table.direction == sign
        good = good and all(table.states[str(c)] is s for c, s in codes.items())
        good = good and table.spacing_deg == (60 if {"0", "7"} & set(table.states) else 120)
        tally.right += good
        tally.wrong += not good
        truth = sorted(x for arc in arcs for x in arc)
        centres = [(a + ((b - a) % 360) / 2) % 360 for a, b in zip(truth, [*truth[1:], truth[0]], strict=True)]
        tally.errors += [min(_off(s.center_deg, c) for c in centres) for s in table.states.values()]
    return tally


def encoders(count: int) -> Tally:
    """Common line numbers, one to seven pole pairs, both senses, uneven turning."""
    tally, rng = Tally(), np.random.default_rng(12)
    for k in range(count):
        lines = int(rng.choice([c for c in COMMON_LINES if 100 <= c <= 1024]))
        p, sign, sense = int(rng.integers(1, 8)), int(rng.choice([-1, 1])), int(rng.choice([-1, 1]))
        zero, at = float(rng.uniform(0, 6)), float(rng.uniform(0, 6))
        turns = float(rng.integers(2, 5)) + float(rng.uniform(-0.03, 0.03))
        capture = encoder_turn(
            lines, turns=turns, p=p, sign=sign, encoder_sign=sense, zero=zero, index_at=at, seed=k, per_count=5
        )
        tally.captures += 1
        found = read_encoder(capture, revolutions=round(turns), pole_pairs=p)
        good = found.counts_per_rev == 4 * lines and found.direction == sense
        tally.right += good
        tally.wrong += not good
        if found.zero_offset_deg is None:
            tally.refused += 1
        elif (
            found.zero_u_deg is not None and found.zero_u_deg < 0.5
        ):  # else the capture does not allow it, and says so
            tally.errors.append(_off(found.zero_offset_deg, math.degrees(p * at + zero)))
    return tally


def alignments(count: int) -> Tally:
    """One to eleven pole pairs, friction up to 12°, cogging up to 2.3° electrical, reading noise."""
    tally, rng = Tally(), np.random.default_rng(13)
    for k in range(count):
        p, zero, sense = int(rng.integers(1, 12)), float(rng.uniform(0, 6)), int(rng.choice([-1, 1]))
        capture = rests(
            p, sense, zero, float(rng.uniform(0, 0.2)), cogging=float(rng.uniform(0, 0.04)), noise=float(rng.uniform(0.001, 0.02)),
            seed=k,
        )  # fmt: skip
        tally.captures += 1
        found = read_alignment(capture, pole_pairs=p)
        tally.right += found.direction == sense
        tally.wrong += found.direction != sense
        tally.errors.append(_off(math.degrees(found.zero.value), math.degrees(zero)))
    return tally


def searches(count: int, *, saliency: float, pole: float, offset: float = 0.0, rested: bool = False) -> Tally:
    """Pulses at 1 % noise; right and wrong count polarities, errors are those of the axis."""
    tally, rng = Tally(), np.random.default_rng(14)
    for k in range(count):
        theta = float(rng.uniform(0, 2 * math.pi))
        tally.captures += 1
        to = float(rng.uniform(0, 2 * math.pi))
        away = (offset * math.cos(to), offset * math.sin(to))
        found = search_pole(
            pulses(theta, saliency=saliency, pole=pole, noise=0.01, seed=k, offset=away, rested=rested)
        )
        if found.axis is not None:
            degrees = math.degrees(found.axis - theta)
            tally.errors.append(abs((degrees + 90) % 180 - 90))
        if found.theta is None:
            tally.refused += 1
            continue
        good = _off(math.degrees(found.theta), math.degrees(theta)) < 90
        tally.right += good
        tally.wrong += not good
    return tally


ROWS: dict[str, Callable[[], Tally]] = {
    "hall tables: spacing, order, polarity; sector centres": lambda: halls(520),
    "encoders: resolution and sense; zero by back-EMF": lambda: encoders(200),
    "alignment: sense; zero": lambda: alignments(500),
    "pole search, 10 % saliency, 5 % saturation, channels read before each pulse: polarity; axis": lambda: searches(
        1000, saliency=0.10, pole=0.05, offset=0.025, rested=True
    ),
    "the same, no offset, channels not read before": lambda: searches(1000, saliency=0.10, pole=0.05),
    "the same, offset 2.5 % of the pulse, not read before": lambda: searches(
        1000, saliency=0.10, pole=0.05, offset=0.025
    ),
    "pole search, 10 % saliency, no saturation": lambda: searches(1000, saliency=0.10, pole=0.0),
    "pole search, no saliency, offset 2.5 %, not read before": lambda: searches(
        1000, saliency=0.0, pole=0.05, offset=0.025
    ),
    "pole search, no saliency, offset 2.5 %, read before": lambda: searches(
        1000, saliency=0.0, pole=0.05, offset=0.025, rested=True
    ),
}
HEAD = """# How well the angle sensors are read

Made by `make accuracy` (tools/attack_commutation.py): captures in closed form with known truth. *Right* and *wrong* are
decisions (order, spacing, polarity, sense, resolution), *refused* is said and not guessed; angles are electrical.

| what | captures | right | wrong | refused | angle, 95 % within | worst |
|---|---|---|---|---|---|---|
"""


def main() -> None:
    """Run every row; print the table, and write it where asked."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--write", type=Path)
    arguments = parser.parse_args()
    lines = []
    for name, make in ROWS.items():
        lines.append(make().row(name))
        print(lines[-1], flush=True)
    if arguments.write:
        arguments.write.write_text(HEAD + "\n".join(lines) + "\n", encoding="utf-8")


if __name__ == "__main__":
    main()
