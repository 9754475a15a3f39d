"""Bases of ways, gears of whole numbers, pulse inputs: by hand and against the standard library's exact fractions."""

from __future__ import annotations

import itertools
import math
from fractions import Fraction

import numpy as np
import pytest

from crisp_compass.errors import Refusal
from crisp_compass.motion.arithmetic import Bases, PulseInput, gear, reversal


def test_every_base_of_a_turn() -> None:
    b = Bases(steps=200, entries=16, lines=2000, travel=0.004 / (2 * math.pi))
    turn = b.all_of(2 * math.pi)
    assert turn == {"turns": 1, "degrees": 360, "full steps": 200, "table entries": 3200, "counts ×1": 2000, "counts ×2": 4000, "counts ×4": 8000, "metres": pytest.approx(0.004)}
    for base, value in b.all_of(1.234).items():
        assert b.angle_of(value, base) == pytest.approx(1.234, rel=1e-14)
    assert set(Bases().all_of(1.0)) == {"turns", "degrees"}
    with pytest.raises(Refusal, match="no full steps"):
        Bases().angle_of(3.0, "full steps")


def test_a_gear_is_reduced_and_its_drift_told() -> None:
    whole = gear(8000, 3200)
    assert (whole.up, whole.down) == (5, 2)
    assert whole.exact
    assert whole.drift_of_many == 0.0
    odd = gear(8000, 360 * math.pi, most=100)
    assert max(odd.up, odd.down) <= 100
    assert not odd.exact
    exact = 8000 / (360 * math.pi)
    # no fraction within the limit lies nearer
    nearest = min(abs(n / d - exact) for d in range(1, 101) for n in range(1, 101))
    assert abs(odd.up / odd.down - exact) == pytest.approx(nearest, rel=1e-9)
    assert odd.drift == pytest.approx(8000 * (odd.up / odd.down / exact - 1))
    rng = np.random.default_rng(3)
    for _ in range(300):
        counts, pulses, most = int(rng.integers(100, 200_000)), int(rng.integers(100, 200_000)), int(rng.integers(200, 70_000))
        if max(counts / pulses, pulses / counts) > most:
            continue
        found = gear(counts, pulses, most)
        assert max(found.up, found.down) <= most
        assert math.gcd(found.up, found.down) == 1
        if max(Fraction(counts, pulses).numerator, Fraction(counts, pulses).denominator) <= most:
            assert Fraction(found.up, found.down) == Fraction(counts, pulses)
        assert abs(found.up / found.down / (counts / pulses) - 1) < 2 / most
    for bad in ((0.0, 1.0, 10), (1.0, math.nan, 10), (1e6, 1.0, 10)):
        with pytest.raises(Refusal):
            gear(*bad)


def test_what_an_input_takes() -> None:
    assert PulseInput(200e3, 4e-6).reach == (125e3, "the shortest pulse")
    assert PulseInput(200e3, 1e-6, filtered=4e-6).reach == (125e3, "the pulse filter")
    assert PulseInput(50e3, 1e-6).reach == (50e3, "the input's frequency")
    assert PulseInput().reach[0] == math.inf


@pytest.mark.parametrize("form", ["step-direction", "two-trains", "quadrature"])
def test_a_reversal_keeps_its_times(form: str) -> None:
    """The lines, decoded as a drive decodes them, come back to where they began; nothing is shorter than what the input takes."""
    limits, rate = PulseInput(shortest=4e-6, setup=30e-6, form=form), 50e3
    found = reversal(limits, rate)
    time, first, second = np.array(found.time), np.array(found.first), np.array(found.second)
    rises = [(t, b) for t, a0, a1, b in zip(time[1:], first, first[1:], second[1:], strict=False) if a1 > a0]
    if form == "step-direction":
        change = time[np.flatnonzero(np.diff(second))[0]]
        assert [b for _, b in rises] == [0, 0, 0, 1, 1, 1]
        assert rises[3][0] - change >= 30e-6 - 1e-12
        assert change >= rises[2][0] + 0.5 / rate - 1e-12  # not before the last pulse has ended
    elif form == "two-trains":
        others = [t for t, b0, b1 in zip(time[1:], second, second[1:], strict=False) if b1 > b0]
        assert len(rises) == len(others) == 3
        assert min(others) - (max(t for t, _ in rises) + 0.5 / rate) >= 30e-6 - 1e-12
    else:
        code = {(0, 0): 0, (1, 0): 1, (1, 1): 2, (0, 1): 3}
        places = [code[int(a), int(b)] for a, b in zip(first, second, strict=True)]
        steps = [(q - p + 1) % 4 - 1 for p, q in itertools.pairwise(places)]
        assert set(steps) <= {-1, 0, 1}
        assert sum(steps) == 0
        assert max(np.cumsum(steps)) == 4
    edges = time[1:][np.diff(first) != 0] if form == "step-direction" else time[1:][np.diff(first) + np.diff(second) != 0]
    assert np.min(np.diff(edges)) >= 4e-6
    assert PulseInput(most_hz=250e3, form="quadrature").reach[0] == 1e6
    with pytest.raises(Refusal, match="make no train"):
        reversal(limits, 0.0)
