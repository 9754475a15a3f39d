"""Loops against python-control (margins, step responses) and the symmetrical optimum's textbook figures."""

from __future__ import annotations

import math
import warnings
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest

from crisp_compass.bench import load_bench
from crisp_compass.course.drive import build_drive, running_mode
from crisp_compass.course.speed_design import design_speed, rated_load_step
from crisp_compass.errors import Refusal
from crisp_compass.loops.current import axis_loop, largest_linear_step, placed_gains, tune_current
from crisp_compass.loops.number_format import Scales, from_integers, to_forms
from crisp_compass.loops.sampled import discretise, margins
from crisp_compass.loops.speed import SpeedPlant, speed_gains, tune_speed
from crisp_compass.loops.speed_figures import load_step
from crisp_compass.modulation.vectors import VOLTAGE_PER_BUS
from crisp_compass.plant.simulation import Simulation
from crisp_compass.quantities import parse

with warnings.catch_warnings():
    warnings.simplefilter("ignore")
    import control


@pytest.fixture(autouse=True)
def _quiet() -> Iterator[None]:
    """python-control warns when it changes its method; that is not ours to fail on."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        yield


def _current_loop(
    r: float, inductance: float, kp: float, ki: float, ts: float, whole_delays: int
) -> control.TransferFunction:
    """C(z)·z^−d·ZOH{1/(Ls + R)} built by python-control alone."""
    plant = control.sample_system(control.tf([1], [inductance, r]), ts, "zoh")
    z = control.tf([1, 0], [1], ts)
    return (kp + ki * ts * z / (z - 1)) * plant * control.tf([1], [1] + [0] * whole_delays, ts)


CASES = [(0.463, 1.12e-3, 20e3, 1200.0), (0.02, 15e-6, 40e3, 2500.0), (12.0, 40e-3, 8e3, 300.0)]


@pytest.mark.parametrize(("r", "inductance", "rate", "bandwidth"), CASES)
@pytest.mark.parametrize("delay", [0.5, 1.5, 2.5])
def test_current_margins_and_step_agree_with_python_control(
    r: float, inductance: float, rate: float, bandwidth: float, delay: float
) -> None:
    design = tune_current(
        r=r, ld=inductance, lq=inductance, loop_hz=rate, bandwidth_hz=bandwidth, delay_samples=delay
    )
    axis = design.q
    assert (axis.kp, axis.ki) == (
        pytest.approx(2 * math.pi * bandwidth * inductance),
        pytest.approx(2 * math.pi * bandwidth * r),
    )
    loop = _current_loop(r, inductance, axis.kp, axis.ki, 1 / rate, round(delay - 0.5))
    gain_margin, phase_margin, _, crossover = control.margin(loop)
    assert axis.margins.phase_margin_deg == pytest.approx(phase_margin, abs=0.05)
    assert axis.margins.crossover_hz == pytest.approx(crossover / 2 / math.pi, rel=1e-3)
    if math.isfinite(gain_margin) and delay > 1:
        assert axis.margins.gain_margin_db == pytest.approx(20 * math.log10(gain_margin), abs=0.05)
    closed = control.feedback(loop, 1)
    t = np.arange(60) / rate
    np.testing.assert_allclose(axis.step(60), np.squeeze(control.step_response(closed, t)[1]), atol=1e-6)
    assert axis.overshoot_pct == pytest.approx(
        100 * (np.max(control.step_response(closed, np.arange(400) / rate)[1]) - 1), abs=0.05
    )
    bandwidth_found = axis.margins.bandwidth_hz
    if math.isfinite(bandwidth_found):
        assert abs(closed(np.exp(2j * math.pi * bandwidth_found / rate))) == pytest.approx(1 / math.sqrt(2), rel=1e-4)


def test_fractional_delay_lies_between_whole_ones_and_matches_its_pure_phase() -> None:
    """A delay of 0.4 periods more turns the phase at frequency f by 0.4·f·Ts turns; the hold is exact."""
    margins = [axis_loop(0.5, 1e-3, 2.0, 1000.0, 20e3, d).margins for d in (1.5, 1.9, 2.5)]
    assert margins[0].phase_margin_deg > margins[1].phase_margin_deg > margins[2].phase_margin_deg
    turn = 360 * 0.4 * margins[0].crossover_hz / 20e3
    assert margins[0].phase_margin_deg - margins[1].phase_margin_deg == pytest.approx(turn, abs=0.15)


def test_an_unstable_loop_is_a_stop() -> None:
    design = tune_current(r=0.1, ld=1e-3, lq=1e-3, loop_hz=10e3, bandwidth_hz=4000)
    assert [f.code for f in design.findings] == ["unstable", "unstable"]
    assert (
        np.max(np.abs(control.feedback(_current_loop(0.1, 1e-3, design.q.kp, design.q.ki, 1e-4, 1), 1).poles())) > 1
    )


def test_modulus_optimum_textbook_figures() -> None:
    """Kp = L/(2Tσ), Ti = L/R; the continuous stand-in overshoots by 4.3 % at 65.5° (W. Leonhard, 2001, 7.1.2)."""
    design = tune_current(r=0.5, ld=2e-3, lq=2e-3, loop_hz=10e3)
    assert design.q.kp == pytest.approx(2e-3 / (2 * 1.5e-4))
    assert design.q.ki == pytest.approx(0.5 / (2 * 1.5e-4))
    assert 3.0 < design.q.overshoot_pct < 6.5
    assert 57 < design.q.margins.phase_margin_deg < 66


def test_symmetrical_optimum_textbook_figures() -> None:
    """At a = 2: 43.4 % overshoot, 8.1 % with the set-point filter, 36.9° margin (Leonhard 2001; margin = atan 2 − atan ½)."""
    design = tune_speed(inertia=1e-4, kt=0.2, loop_hz=200e3, current_bandwidth_hz=50)
    assert design.margins.phase_margin_deg == pytest.approx(math.degrees(math.atan(2) - math.atan(0.5)), abs=0.1)
    assert design.overshoot_pct == pytest.approx(43.4, abs=0.2)
    assert design.overshoot_filtered_pct == pytest.approx(8.1, abs=0.2)
    assert design.margins.crossover_hz == pytest.approx(1 / (2 * math.pi * 2 * design.t_sigma), rel=3e-3)


@pytest.mark.parametrize("a", [2.0, 3.0, 4.0])
def test_speed_loop_agrees_with_python_control(a: float) -> None:
    j, b, kt, rate, fc, ff = 1.9e-4, 1.6e-4, 0.177, 2e3, 900.0, 300.0
    design = tune_speed(inertia=j, kt=kt, viscous=b, loop_hz=rate, current_bandwidth_hz=fc, filter_hz=ff, a=a)
    t_sigma = 1 / (2 * math.pi * fc) + 1 / (2 * math.pi * ff) + 1.5 / rate
    assert design.kp == pytest.approx(j / (a * kt * t_sigma))
    assert design.ki == pytest.approx(design.kp / (a * a * t_sigma))
    lag = control.tf([1], [1 / (2 * math.pi * fc), 1])
    plant, filter_ = control.tf([kt], [j, b]), control.tf([1], [1 / (2 * math.pi * ff), 1])
    z = control.tf([1, 0], [1], 1 / rate)
    pi = design.kp + design.ki / rate * z / (z - 1)
    loop = pi * control.sample_system(lag * plant * filter_, 1 / rate, "zoh") / z
    gain_margin, phase_margin, _, crossover = control.margin(loop)
    assert design.margins.phase_margin_deg == pytest.approx(phase_margin, abs=0.05)
    assert design.margins.gain_margin_db == pytest.approx(20 * math.log10(gain_margin), abs=0.05)
    assert design.margins.crossover_hz == pytest.approx(crossover / 2 / math.pi, rel=1e-3)
    true = pi * control.sample_system(lag * plant, 1 / rate, "zoh") / z / (1 + loop)
    response = np.squeeze(control.step_response(control.minreal(true, 1e-6, verbose=False), np.arange(150) / rate)[1])
    np.testing.assert_allclose(design.step(150), response, atol=2e-4)


def test_a_sudden_load_dips_the_speed_as_python_control_has_it() -> None:
    j, kt, b, fc, ff, rate = 2e-4, 0.12, 3e-4, 900.0, 250.0, 2000.0
    plant = SpeedPlant(j, kt, b, rate, fc, ff)
    kp, ki = speed_gains(plant, a=3.0)
    found = load_step(plant, kp, ki, 0.2)
    assert found is not None
    lag, shaft, filter_ = control.tf([1], [1 / (2 * math.pi * fc), 1]), control.tf([1], [j, b]), control.tf([1], [1 / (2 * math.pi * ff), 1])
    z = control.tf([1, 0], [1], 1 / rate)
    pi = kp + ki / rate * z / (z - 1)
    loop = pi * control.sample_system(lag * kt * shaft * filter_, 1 / rate, "zoh") / z
    # a held load, seen filtered where it is fed back, and what the loop does against it, on the true speed
    load = control.sample_system(-shaft, 1 / rate, "zoh") - pi * control.sample_system(lag * kt * shaft, 1 / rate, "zoh") / z * control.sample_system(-shaft * filter_, 1 / rate, "zoh") / (1 + loop)
    t = np.arange(len(found.time)) / rate
    expected = np.squeeze(control.step_response(control.minreal(load, 1e-6, verbose=False), t)[1])
    np.testing.assert_allclose(found.speed[:120], expected[:120], atol=2e-4 * found.dip)  # later on what quotients of polynomials round adds up
    assert found.dip == pytest.approx(float(np.max(np.abs(expected))), rel=1e-3)
    # a load that stays turns the shaft by T/(Kt·Ki): the integral of the error must carry it (final value theorem, with a friction that does nothing at rest)
    whole = load_step(SpeedPlant(j, kt, 0.0, rate, fc, ff), kp, ki, 1.0)
    assert whole is not None
    assert -float(np.sum(whole.speed)) / rate == pytest.approx(1.0 / whole.stiffness, rel=1e-3)
    assert load_step(plant, 50 * kp, 50 * ki, 0.2) is None


def test_the_simulated_drive_dips_as_the_design_says(winch: Path) -> None:
    bench = load_bench(winch)
    design = design_speed(bench)
    loaded = rated_load_step(bench, design)
    assert loaded is not None
    torque, step = loaded
    drive = build_drive(bench)
    control_ = drive.control._replace(kp_speed=design.kp, ki_speed=design.ki, ramp=1e9)
    sim = Simulation(drive._replace(control=control_, sensing=drive.sensing._replace(noise=0.0, counts_per_rev=1e6), load=drive.load._replace(coulomb=0.0)))
    sim.command(running_mode(bench), speed=60.0)
    sim.skip(2.0)
    sim.set_load(0.3 * torque, drives=True)
    trace = sim.advance(0.5)
    assert 60.0 - float(trace["speed"].min()) == pytest.approx(0.3 * torque * step.dip, rel=0.12)
    turned = 60.0 * 0.5 - float(trace["angle"][-1] - trace["angle"][0])
    assert turned == pytest.approx(0.3 * torque / step.stiffness, rel=0.05)


def test_speed_by_bandwidth_crosses_over_where_asked() -> None:
    design = tune_speed(inertia=1e-4, kt=0.1, loop_hz=4e3, current_bandwidth_hz=800, filter_hz=500, bandwidth_hz=40)
    assert design.margins.crossover_hz == pytest.approx(40, rel=1e-3)


def test_space_vector_limit() -> None:
    """Vdc/√3, 15.47 % above sine modulation (D. G. Holmes, T. A. Lipo, 2003)."""
    assert VOLTAGE_PER_BUS["space-vector"] == pytest.approx(1 / math.sqrt(3))
    assert VOLTAGE_PER_BUS["space-vector"] / VOLTAGE_PER_BUS["sine"] - 1 == pytest.approx(0.1547, abs=1e-4)


def test_placement_names_the_end_that_was_missed_with_a_limit_that_is_accepted() -> None:
    """Below the winding's own pole the gain would be negative; above, the delay's own poles are slower. Both limits work."""
    winding = {"r": 0.4, "l_axis": 1e-3, "damping": 0.8, "loop_hz": 20e3, "delay_samples": 1.5}
    for wanted, words in ((10.0, "winding's own pole"), (9000.0, "delay's own poles")):
        with pytest.raises(Refusal, match=words) as caught:
            placed_gains(natural_hz=wanted, **winding)
        text = caught.value.sentence.split("about ")[1]
        limit = parse(" ".join(text.split(" ")[:2]).rstrip(","), "Hz")
        assert min(placed_gains(natural_hz=limit, **winding)) > 0
    for natural in (60.0, 200.0, 900.0):
        assert min(placed_gains(natural_hz=natural, **winding)) > 0


def test_the_phase_margin_of_a_loop_far_beyond_is_followed_not_wrapped() -> None:
    """Integrator behind two and a half periods of delay: 90° − 360°·f·τ exactly, however far below zero."""
    ts = 1 / 10e3
    for gain in (1e3, 4e3, 1.9e4):
        found = margins(discretise(np.array([[0.0]]), np.array([[gain]]), np.array([[1.0]]), ts, 2 * ts))
        exact = 90 - math.degrees(2 * math.pi * found.crossover_hz * 2.5 * ts)
        assert found.phase_margin_deg == pytest.approx(exact, abs=1e-6)
        assert found.stable == (exact > 0 and found.gain_margin_db > 0)
    assert exact < -90


def test_one_threshold_says_ringing_everywhere() -> None:
    axis = tune_current(r=0.4, ld=1e-3, lq=1e-3, loop_hz=20e3, bandwidth_hz=2550.0)
    scales = Scales(40.0, 60.0, 20e3)
    forms = to_forms(axis.q.kp, axis.q.ki, scales)
    read = from_integers(forms.kp_q, forms.ki_q, scales, r=0.4, inductance=1e-3, delay_samples=1.5)
    assert (
        axis.q.margins.rings
        == ("small-margin" in [f.code for f in axis.findings])
        == ("small-margin" in [f.code for f in read.findings])
    )


@pytest.mark.parametrize(("kp", "ki", "r"), [(8.0, 3000.0, 0.4), (0.1, 200.0, 2.0), (8.0, 3e5, 0.4)])
def test_the_largest_linear_step_is_where_the_limit_begins(kp: float, ki: float, r: float) -> None:
    """By running the sampled loop: a hair below it the output never reaches the limit in its first sample or its end, above it does."""
    limit, ts = 12.0, 5e-5
    step = largest_linear_step(limit, kp, ki, r, ts)
    for share, reaches in ((0.999, False), (1.001, True)):
        size = share * step
        first, last = (kp + ki * ts) * size, r * size
        assert (max(first, last) > limit) == reaches
