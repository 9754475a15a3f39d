"""Six lead orders by trial: the simulated symptoms, and whether the log leads to the right order."""

from __future__ import annotations

import itertools
import math
from pathlib import Path

import numpy as np
import pytest

from crisp_compass.bench import load_bench
from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import Symptom, Trial
from crisp_compass.errors import Refusal
from crisp_compass.plant.control.six_step import six_step
from crisp_compass.plant.parameters import Load, Machine
from crisp_compass.studies.lead_orders import (
    ORDERS,
    ExpectedBehaviour,
    expect_orders,
    rank_orders,
    relative_order,
    set_trial,
)

WHEN = "2026-05-12T15:00:00"


@pytest.fixture(scope="module")
def expected() -> dict[tuple[int, ...], ExpectedBehaviour]:
    return expect_orders(load_bench(Path(__file__).resolve().parents[2] / "demo" / "winch" / "winch.bench.json"))


def test_one_order_runs_and_five_do_not(expected: dict[tuple[int, ...], ExpectedBehaviour]) -> None:
    """Common practice: one of six runs smoothly both ways from rest. An exchange of two turns the field against the sensor."""
    assert expected[0, 1, 2].symptoms == ("smooth", "smooth")
    for relative in itertools.permutations(range(3)):
        swaps = sum(1 for a, b in itertools.combinations(relative, 2) if a > b) % 2
        outlook = expected[relative]
        if swaps:
            assert set(outlook.symptoms) <= {"still", "vibrates"}
            assert outlook.currents[0] > 5 * expected[0, 1, 2].currents[0]
        elif relative != (0, 1, 2):
            assert set(outlook.symptoms) <= {"wrong-way", "hot", "nudge"}
            assert outlook.currents[0] > 2 * expected[0, 1, 2].currents[0]


def test_six_step_speed_is_that_of_the_ideal_machine() -> None:
    """Without friction the mean back-EMF of six-step equals the supply: ω = V·π/(3√3·p·ψ) (docs/theory.md, Bases)."""
    machine, load = Machine(0.2, 1e-4, 1e-4, 5e-3, 4.0), Load(1e-5, 0.0, 0.0)
    edges = np.radians(np.arange(30.0, 390.0, 60.0)) % (2 * math.pi)
    edges.sort()
    centres = edges + math.radians(30)
    pairs = centres + math.pi / 2
    _, speed, current, _ = six_step(machine, load, edges, pairs, 6.0, 50.0, 0.3, 1e-5, 60_000)
    assert speed == pytest.approx(6.0 * math.pi / (3 * math.sqrt(3) * 4 * 5e-3), rel=0.02)
    assert current < 3.0


@pytest.mark.parametrize("right", ORDERS)
def test_a_truthful_log_finds_the_order_in_few_trials(
    right: str, expected: dict[tuple[int, ...], ExpectedBehaviour]
) -> None:
    trials: dict[str, Trial] = {}
    for _ in range(6):
        ranking = rank_orders(trials, expected)
        if not ranking.following:
            break
        seen = expected[relative_order(ranking.following, right)].symptoms
        trials[ranking.following] = Trial(forward=seen[0], backward=seen[1])
    assert rank_orders(trials, expected).best == right
    assert rank_orders(trials, expected).probability[right] > 0.9
    assert len(trials) <= 4


def test_a_log_with_one_wrong_word_still_leads_home(expected: dict[tuple[int, ...], ExpectedBehaviour]) -> None:
    rng = np.random.default_rng(0)
    words: list[Symptom] = ["smooth", "nudge", "vibrates", "still", "wrong-way", "hot"]
    found = 0
    for number in range(60):
        right = ORDERS[number % 6]
        trials = {}
        for order in ORDERS:
            seen = list(expected[relative_order(order, right)].symptoms)
            trials[order] = Trial(forward=seen[0], backward=seen[1])
        spoilt = ORDERS[int(rng.integers(6))]
        trials[spoilt] = trials[spoilt].model_copy(update={"forward": words[int(rng.integers(6))]})
        found += rank_orders(trials, expected).best == right
    assert found >= 58


def test_equal_candidates_are_parted_by_their_currents(expected: dict[tuple[int, ...], ExpectedBehaviour]) -> None:
    trials = {
        "ABC": Trial(current_forward=0.09, current_backward=0.09),
        "BCA": Trial(current_forward=0.45, current_backward=0.4),
    }
    ranking = rank_orders(trials, expected)
    assert ranking.probability["ABC"] > 2 * ranking.probability["BCA"]


def test_the_log_is_kept_and_refuses_nonsense(winch: Path) -> None:
    bench = set_trial(load_bench(winch), "BCA", WHEN, forward="vibrates", current_forward=2.0)
    assert bench.trials["BCA"].forward == "vibrates"
    assert bench.ledger[-1].kind == "trial"
    assert "U→B V→C W→A" in bench.ledger[-1].text
    with pytest.raises(Refusal, match="no order of the leads"):
        set_trial(bench, "AAB", WHEN)
    for wrong in (-1.0, math.inf, math.nan):
        with pytest.raises(Refusal, match="is no reading"):
            set_trial(bench, "ABC", WHEN, current_forward=wrong)
    with pytest.raises(Refusal, match="is missing"):
        expect_orders(Bench())
