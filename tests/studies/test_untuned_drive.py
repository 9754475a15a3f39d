"""Wrong angles and uneven hall edges on the simulated drive, against what the formulas say."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
import pytest

from crisp_compass.bench import load_bench
from crisp_compass.bench.models import Bench
from crisp_compass.course.drive import machine_of, unsettled_inputs
from crisp_compass.errors import Refusal
from crisp_compass.studies.hall_edges import edge_cost
from crisp_compass.studies.untuned_drive import untuned_drive
from crisp_compass.studies.wrong_angle import run_wrong_angle
from crisp_compass.studies.zero_search import align_outlook, align_table, search_outlook

DEMO = Path(__file__).resolve().parents[2] / "demo"


@pytest.fixture(scope="module")
def winch_bench() -> Bench:
    return load_bench(DEMO / "winch" / "winch.bench.json")


@pytest.fixture(scope="module")
def thruster_bench() -> Bench:
    return load_bench(DEMO / "thruster" / "thruster.bench.json")


@pytest.mark.parametrize("degrees", [30, -50, 65])
def test_current_rises_with_one_over_the_cosine(winch_bench: Bench, degrees: float) -> None:
    """The torque is that of the current's share along q, so the same torque takes 1/cos δ of the current."""
    found = run_wrong_angle(winch_bench, math.radians(degrees))
    assert found.outcome == "runs"
    # both accelerate along the same ramp; compare there, where the current is well above its noise
    middle = slice(len(found.right["t"]) // 10, len(found.right["t"]) // 6)
    size = [float(np.mean(np.hypot(t["i_d"][middle], t["i_q"][middle]))) for t in (found.right, found.wrong)]
    torque = [float(np.mean(t["torque"][middle])) for t in (found.right, found.wrong)]
    ratio = (size[1] / torque[1]) / (size[0] / torque[0])
    assert ratio == pytest.approx(1 / math.cos(math.radians(degrees)), rel=0.06)
    assert found.current_factor == pytest.approx(1 / math.cos(math.radians(degrees)))


def test_beyond_a_quarter_turn_it_runs_away_and_a_wrong_sense_locks(
    winch_bench: Bench, thruster_bench: Bench
) -> None:
    for degrees in (115, 180, -150):
        assert run_wrong_angle(winch_bench, math.radians(degrees)).outcome == "runs-away"
    locked = run_wrong_angle(winch_bench, 0.0, reversed_sense=True)
    assert locked.outcome == "stands"
    # torque is nought where it rests: the current lies along the rotor, at the limit
    assert abs(float(np.mean(locked.wrong["torque"][-200:]))) < 0.1
    assert float(np.mean(np.hypot(locked.wrong["i_d"][-200:], locked.wrong["i_q"][-200:]))) > 5
    # with nothing settled but the plate, its figures stand in
    assert run_wrong_angle(thruster_bench, 0.0).outcome == "runs"
    assert "stand-in loops" in unsettled_inputs(thruster_bench)
    assert unsettled_inputs(winch_bench) == ""
    # halls that run against the field are as bad as an encoder that does
    assert run_wrong_angle(thruster_bench, 0.0, reversed_sense=True).outcome != "runs"


def test_edges_cost_what_their_periods_say(winch_bench: Bench) -> None:
    """One period measured over an edge error e is e/60 wrong: jitter is the spread of the six widths, and falls when corrected."""
    edges = np.array([33.0, 85.0, 154.0, 212.0, 264.0, 332.0])
    cost = edge_cost(winch_bench, edges, 60.0)
    widths = np.diff(np.append(edges, edges[0] + 360)) / 60
    # time-weighted spread of 1/width, through the speed filter a little less
    want = float(np.sqrt(np.average((1 / widths - 1) ** 2, weights=widths)))
    assert 0.4 * want < cost.jitter[0] < 1.1 * want
    assert cost.jitter[1] < 0.25 * cost.jitter[0]
    assert cost.ripple[1] < 0.5 * cost.ripple[0]
    assert cost.worst == pytest.approx(float(np.max(np.abs(widths - 1))))
    even = edge_cost(winch_bench, np.arange(6) * 60.0 + 30, 60.0)  # type: ignore[arg-type]
    assert even.ripple[0] == pytest.approx(even.ripple[1])
    with pytest.raises(Refusal, match="cannot be run"):
        edge_cost(winch_bench, edges, 5000.0)


def test_a_turn_too_slow_to_simulate_is_refused_at_once(winch_bench: Bench) -> None:
    """Its length is known before it runs: nothing of it is allocated or simulated."""
    with pytest.raises(Refusal, match="would take"):
        edge_cost(winch_bench, np.arange(6) * 60.0 + 30, 0.001)  # type: ignore[arg-type]


def test_outlooks_of_alignment_and_search(winch_bench: Bench, thruster_bench: Bench) -> None:
    outlook = align_outlook(winch_bench)
    machine, load = machine_of(winch_bench)
    kt = 1.5 * machine.pole_pairs * machine.psi
    assert math.sin(outlook.lag) == pytest.approx(load.coulomb / (kt * outlook.current))
    text = align_table(outlook, 7)
    assert text.count("\n") == 3 + 1 + 33
    assert "field_angle [deg],angle [deg]\n0.000,\n" in text
    salient, round_rotor = search_outlook(winch_bench, 12), search_outlook(thruster_bench, 12)
    assert salient.refused == 0
    assert math.degrees(salient.axis_error) < 3
    # no saliency: with the channels read before each pulse, the odd harmonics tell it
    assert (round_rotor.refused, round_rotor.right) == (0, 1)
    assert untuned_drive(thruster_bench).control.kp_q > 0
    nothing = Bench()
    with pytest.raises(Refusal, match="resistance is missing"):
        machine_of(nothing)
