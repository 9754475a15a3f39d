"""Hall tables: all 6 orders × 8 polarities, 60° and 120°, either direction, against the angles they were made with."""

from __future__ import annotations

import itertools
import math

import numpy as np
import pytest

from crisp_compass.capture import Capture
from crisp_compass.commutation.halls import PAIR_ANGLES, best_pair, read_halls
from crisp_compass.commutation.lead_fix import lead_fixes
from crisp_compass.errors import Refusal
from makers import hall_turn, turning

Arcs = list[tuple[float, float]]


def _code(angle: float, arcs: Arcs) -> int:
    return sum(w for w, (a, b) in zip((4, 2, 1), arcs, strict=True) if (angle - a) % 360 < (b - a) % 360)


@pytest.mark.thorough(each=3)
@pytest.mark.parametrize("spacing", [120, 60])
@pytest.mark.parametrize("inverted", range(8))
def test_every_assignment(inverted: int, spacing: int) -> None:
    for number, order in enumerate(itertools.permutations(range(3))):
        if (number + inverted) % 2:  # half of the 96; the other orders come with the other inversions
            continue
        sign = 1 if (number // 2 + inverted) % 2 else -1
        capture, arcs = hall_turn(order, inverted, spacing, sign, seed=number + 8 * inverted)
        table = read_halls(capture)
        assert table.direction == sign
        codes = {_code(s.center_deg, arcs) for s in table.states.values()}
        assert {int(c) for c in table.states} == codes
        assert table.spacing_deg == (60 if {0, 7} & codes else 120)
        truth = sorted(x for arc in arcs for x in arc)
        found = sorted(s.from_deg for s in table.states.values())
        assert np.max(np.abs(np.subtract(found, truth))) < 1.0
        grid = np.array(truth) - 60 * np.arange(6)
        np.testing.assert_allclose(table.edge_errors_deg, grid - grid.mean(), atol=1.0)
        for code, state in table.states.items():
            assert _code(state.center_deg, arcs) == int(code)
            ahead = (PAIR_ANGLES[state.drive] - state.center_deg) % 360
            assert abs(ahead - 90) <= 33


def test_pair_gives_the_most_torque_of_all_pairs() -> None:
    for center in range(0, 360, 7):
        torque = {p: math.sin(math.radians(a - center)) for p, a in PAIR_ANGLES.items()}
        assert torque[best_pair(center)] == pytest.approx(max(torque.values()), abs=1e-9)


def test_bounce_does_not_move_edges_and_is_said() -> None:
    capture, arcs = hall_turn((0, 1, 2), 0, 120, 1, seed=3, rate=20e3)
    columns = dict(capture.columns)
    hall = columns["hall_2"].copy()
    edges = np.flatnonzero(np.diff(hall))
    for e in edges:
        hall[e + 3 : e + 5] = 1 - hall[e + 3 : e + 5]
    spikes = np.random.default_rng(0).choice(len(hall) - 2, 12)
    hall[spikes] = 1 - hall[spikes]
    columns["hall_2"] = hall
    table = read_halls(Capture("h", capture.time, columns))
    truth = sorted(x for arc in arcs for x in arc)
    assert np.max(np.abs(np.subtract(sorted(s.from_deg for s in table.states.values()), truth))) < 0.6


def test_refusals_say_which() -> None:
    capture, _ = hall_turn((0, 1, 2), 0, 120, 1)
    stuck = {**capture.columns, "hall_3": np.ones(len(capture))}
    joined = {**capture.columns, "hall_2": capture["hall_1"]}
    single = {k: v for k, v in capture.columns.items() if k != "v_bc"}
    flipped = {**capture.columns, "v_bc": -capture["v_bc"]}
    alien = {**capture.columns, "hall_1": (np.sin(97 * capture.time) > 0).astype(float)}
    for columns, wording in (
        (stuck, "hall_3 stays at 1"), (joined, "hall_1 and hall_2 do not divide"), (single, "alone tell a spacing of 120° and the order [1-6-]+; add v_bc for offset"),
        (flipped, "not 120° apart|do not turn like"), (alien, "hall_1 does not switch at the same"),
    ):  # fmt: skip
        with pytest.raises(Refusal, match=wording):
            read_halls(Capture("h", capture.time, columns))


@pytest.mark.parametrize("spikes", [0, 6])
def test_bouncing_contacts_and_interference_move_no_edge(spikes: int) -> None:
    """One to three wrong samples after four edges of five, perhaps spikes anywhere: within 0.9° in 95 %, pairs as without."""
    rng, errors = np.random.default_rng(11), []
    for seed in range(7):
        order, inverted = tuple(int(x) for x in rng.permutation(3)), int(rng.integers(0, 8))
        spacing, sign, rate = int(rng.choice([60, 120])), int(rng.choice([-1, 1])), float(rng.choice([1.5e3, 8e3]))
        clean = read_halls(hall_turn(order, inverted, spacing, sign, seed=seed, rate=rate)[0])
        capture, arcs = hall_turn(order, inverted, spacing, sign, seed=seed, rate=rate)
        for hall in (1, 2, 3):
            v = capture.columns[f"hall_{hall}"]
            for at in np.flatnonzero(np.diff(v)) + 1:
                if rng.random() < 0.8:
                    wrong = rng.integers(0, 2, int(rng.integers(1, 4)))
                    place = slice(at + 1, at + 1 + len(wrong))
                    v[place] = np.where(wrong[: len(v[place])] == 1, 1 - v[at], v[at])
            for at in rng.integers(5, len(v) - 5, spikes):
                v[at : at + int(rng.integers(1, 4))] = 1 - v[at]
        found = read_halls(capture)
        ends = [x for arc in arcs for x in arc]
        errors += [min(abs((s.from_deg - x + 180) % 360 - 180) for x in ends) for s in found.states.values()]
        assert {c: s.drive for c, s in found.states.items()} == {c: s.drive for c, s in clean.states.items()}
    assert np.quantile(errors, 0.95) < 0.9


@pytest.mark.parametrize("off", [-30.0, -29.0, -16.0, 0.0, 16.0, 29.0, 30.0])
def test_sensors_mounted_off_the_pairs_give_a_table_all_the_same(off: float) -> None:
    """Even 120° halls whose centres lie up to midway between two pairs: six different pairs, both named at the border."""
    rng = np.random.default_rng(3)
    t = np.arange(6000) / 3e3
    theta = 0.3 + 2 * math.pi * (4 * t + 0.4 * np.sin(5 * t))
    omega = np.gradient(theta, t)
    columns = turning(0.01, theta, omega, t, seed=1, noise=1e-3)
    x = np.degrees(theta) % 360
    for k in range(3):
        begin = 30 + off + 120 * k + 0.8 * rng.standard_normal()
        columns[f"hall_{k + 1}"] = ((x - begin) % 360 < 180).astype(float)
    found = read_halls(Capture("h.csv", t, columns))
    assert len({s.drive for s in found.states.values()}) == 6
    for state in found.states.values():
        away = abs((PAIR_ANGLES[state.drive] - state.center_deg - 90 + 180) % 360 - 180)
        assert away < 32
    assert ("pair-on-border" in [f.code for f in found.findings]) == (abs(off) > 28)
    assert lead_fixes({code: s.drive for code, s in found.states.items()})
