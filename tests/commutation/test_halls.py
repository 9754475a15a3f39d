"""Hall tables: all 6 orders × 8 polarities, 60° and 120°, either direction, against the angles they were made with."""

from __future__ import annotations

import itertools
import math

import numpy as np
import pytest

from crisp_compass.capture import Capture
from crisp_compass.commutation.halls import PAIR_ANGLES, best_pair, read_halls
from crisp_compass.errors import Refusal
from makers import hall_turn

Arcs = list[tuple[float, float]]


def _code(angle: float, arcs: Arcs) -> int:
    return sum(w for w, (a, b) in zip((4, 2, 1), arcs, strict=True) if (angle - a) % 360 < (b - a) % 360)


@pytest.mark.parametrize("spacing", [120, 60])
@pytest.mark.parametrize("inverted", range(8))
def test_every_assignment(inverted: int, spacing: int) -> None:
    for number, order in enumerate(itertools.permutations(range(3))):
        sign = 1 if number % 2 else -1
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
            assert abs(ahead - 90) <= 31


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
        (stuck, "hall_3 stays at 1"), (joined, "hall_1 and hall_2 do not divide"), (single, "two line voltages are needed"),
        (flipped, "not 120° apart|do not turn like"), (alien, "hall_1 does not switch at the same"),
    ):  # fmt: skip
        with pytest.raises(Refusal, match=wording):
            read_halls(Capture("h", capture.time, columns))
