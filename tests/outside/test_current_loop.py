"""The current loop against python-control and closed forms: placed poles, sensitivity, measured steps, limits over speed."""

from __future__ import annotations

import cmath
import math
import warnings
from pathlib import Path

import numpy as np
import pytest

from crisp_compass.bench import load_bench
from crisp_compass.capture import Capture
from crisp_compass.course.torque_speed import time_to_current
from crisp_compass.course.waypoints.current_loop import design_current
from crisp_compass.errors import Refusal
from crisp_compass.loops.current import axis_loop, placed_gains, tune_current
from crisp_compass.loops.sampled import close
from crisp_compass.loops.step_fit import (
    RunningLoop,
    fit_step,
    implausible_jump,
    likely_cause,
    measured_figures,
    next_trial,
    respond,
)
from crisp_compass.loops.weakening import Limits, best_point, torque_at, torque_per_ampere, torque_speed, voltage_at
from crisp_compass.studies.step_band import Spread, current_band
from crisp_compass.studies.step_prediction import predict_current_step

with warnings.catch_warnings():
    warnings.simplefilter("ignore")
    import control


# ---- design


@pytest.mark.parametrize(
    ("delay", "damping", "share"),
    [(1.5, 0.8, 0.04), (1.5, 1.0, 0.03), (0.5, 0.7, 0.08), (2.5, 0.9, 0.02), (1.9, 0.8, 0.03)],
)
def test_poles_lie_where_they_were_placed(delay: float, damping: float, share: float) -> None:
    r, inductance, rate = 0.413, 1.12e-3, 20e3
    kp, ki = placed_gains(r, inductance, natural_hz=share * rate, damping=damping, loop_hz=rate, delay_samples=delay)
    loop = axis_loop(r, inductance, kp, ki, rate, delay)
    wanted = cmath.exp(complex(-damping, math.sqrt(max(1 - damping**2, 0))) * 2 * math.pi * share)
    poles = np.linalg.eigvals(close(loop.loop).A)
    assert min(abs(poles - wanted)) < (0.02 if damping == 1 else 1e-6)
    if delay == round(delay - 0.5) + 0.5:
        # the same by python-control's own closed loop
        plant = control.sample_system(control.tf([1], [inductance, r]), 1 / rate, "zoh")
        z = control.tf([1, 0], [1], 1 / rate)
        whole = (kp + ki / rate * z / (z - 1)) * plant * control.tf([1], [1] + [0] * round(delay - 0.5), 1 / rate)
        theirs = control.poles(control.feedback(control.minreal(whole, verbose=False), 1))
        assert min(abs(theirs - wanted)) < (0.02 if damping == 1 else 1e-4)


def test_placement_says_what_the_delay_forbids() -> None:
    with pytest.raises(Refusal, match="cannot be placed with 2.5 periods"):
        placed_gains(0.4, 1e-3, natural_hz=3500, damping=0.8, loop_hz=20e3, delay_samples=2.5)
    with pytest.raises(Refusal, match="damping of 0.1"):
        tune_current(r=0.4, ld=1e-3, lq=1e-3, loop_hz=20e3, bandwidth_hz=800, damping=0.1)


def test_sensitivity_peak_is_that_of_python_control() -> None:
    for bandwidth in (400.0, 1200.0, 2400.0):
        axis = tune_current(r=0.413, ld=1.12e-3, lq=1.12e-3, loop_hz=20e3, bandwidth_hz=bandwidth).q
        plant = control.sample_system(control.tf([1], [1.12e-3, 0.413]), 5e-5, "zoh")
        z = control.tf([1, 0], [1], 5e-5)
        loop = (axis.kp + axis.ki * 5e-5 * z / (z - 1)) * plant * control.tf([1], [1, 0], 5e-5)
        omega = np.geomspace(10, math.pi * 20e3 * 0.999, 4000)
        response = np.array([complex(loop(cmath.exp(1j * w * 5e-5))) for w in omega])
        assert axis.sensitivity == pytest.approx(float(np.max(1 / np.abs(1 + response))), rel=2e-3)
    assert math.isinf(axis_loop(0.1, 1e-3, 40.0, 100.0, 10e3, 1.5).sensitivity)


# ---- measured steps


def expected(**change: float) -> RunningLoop:
    values = {
        "kp": 8.4,
        "ki": 3100.0,
        "loop_hz": 20e3,
        "r": 0.413,
        "inductance": 1.12e-3,
        "delay_samples": 1.5,
        **change,
    }
    return RunningLoop(**values)


@pytest.mark.parametrize("delay", [0.5, 1.5, 1.9, 2.5])
def test_the_model_is_the_sampled_loop(delay: float) -> None:
    e = expected()
    ours = respond(e, e.r, e.inductance, delay / e.loop_hz, np.ones(80), np.arange(80) / e.loop_hz + 1e-12)
    theirs = axis_loop(e.r, e.inductance, e.kp, e.ki, e.loop_hz, delay).step(80)
    np.testing.assert_allclose(ours, theirs, atol=1e-6)


def measured(
    e: RunningLoop, *, r: float = 1.0, inductance: float = 1.0, delay: float = 1.5, noise: float = 0.01, seed: int = 0, size: float = 2.0,
    per: int = 1, n: int = 160, lost: float = 0.0, with_voltage: bool = False,
) -> Capture:  # fmt: skip
    """A step of a loop whose winding and delay are other ones; the current read with noise."""
    rng = np.random.default_rng(seed)
    t = np.arange(-40 * per, n * per) / e.loop_hz / per
    voltage = None
    columns = {"i_q_ref": np.where(t >= -1e-12, size, 0.0)}
    if with_voltage:
        voltage = np.concatenate([np.linspace(1.4, 1.0, 30) * size * e.r * 4, np.full(n, size * e.r * 1.2)])[: n + 3]
        held = np.clip((t * e.loop_hz + 1e-9).astype(int), 0, len(voltage) - 1)
        columns["v_q"] = np.where(t >= -1e-12, voltage[held], 0.0)
    # with the voltage given, a period of rest comes first: what stood before a run stands there
    lead = 1 / e.loop_hz if with_voltage else 0.0
    given = None if voltage is None else np.concatenate([[0.0], voltage])
    y = respond(
        e,
        r * e.r,
        inductance * e.inductance,
        delay / e.loop_hz,
        np.full(n + 4, size),
        t + lead,
        voltage=given,
        lost=lost,
    )
    columns["i_q"] = y + noise * rng.standard_normal(len(t))
    return Capture("step.csv", t - t[0], columns)


@pytest.mark.thorough
def test_effective_figures_and_their_error_bars() -> None:
    """24 steps over windings, delays, sampling: 95 % intervals hold the truth in nine of ten and more."""
    rng = np.random.default_rng(8)
    held = np.zeros(3)
    for k in range(24):
        e = expected(kp=float(rng.uniform(4, 10)), ki=float(rng.uniform(1500, 4000)))
        truth = (float(rng.uniform(0.8, 1.4)), float(rng.uniform(0.6, 1.2)), float(rng.choice([1.2, 1.5, 2.0, 2.5])))
        found = fit_step(
            measured(e, r=truth[0], inductance=truth[1], delay=truth[2], seed=k, per=int(rng.choice([1, 4]))), e
        )
        pairs = (
            (found.r, truth[0] * e.r),
            (found.inductance, truth[1] * e.inductance),
            (found.delay, truth[2] / e.loop_hz),
        )
        for j, (estimate, true) in enumerate(pairs):
            held[j] += estimate.low <= true <= estimate.high
        assert found.inductance.value == pytest.approx(pairs[1][1], rel=0.03)
        assert found.delay.value == pytest.approx(pairs[2][1], abs=0.1 / e.loop_hz)
    assert (held >= 21).all(), held


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({}, ""), ({"delay": 2.5}, "delay is 1.0 periods longer"), ({"inductance": 0.7}, "L is 30 % lower at this current"),
        ({"r": 2 / 3, "inductance": 2 / 3}, "which is 3/2"), ({"r": 1.35, "noise": 0.002}, "% higher: a winding"),
    ],
)  # fmt: skip
def test_the_likeliest_cause_is_said(change: dict[str, float], words: str) -> None:
    e = expected()
    found = fit_step(measured(e, **change), e)  # type: ignore[arg-type]
    assert words in found.cause if words else found.cause == "", found.cause
    assert float(np.std(found.measured - found.fitted)) < 0.015


def test_with_the_commanded_voltage_too() -> None:
    e = expected()
    found = fit_step(measured(e, inductance=0.8, delay=1.5, with_voltage=True, noise=0.004), e)
    assert abs(found.inductance.value - 0.8 * e.inductance) < min(3 * found.inductance.u, 0.05 * e.inductance)
    assert found.lost is not None
    assert abs(found.lost.value) < 3 * found.lost.u + 0.02
    assert "dead time" in likely_cause(e, (0.0, 0.01), (0.0, 0.01), (1.5, 0.1), (0.2, 0.01))


def test_steps_that_cannot_be_judged_are_refused() -> None:
    e = expected()
    good = measured(e)
    still = {**good.columns, "i_q_ref": 0 * good.time}
    dead = {**good.columns, "i_q": 0.001 * np.sin(good.time * 1e4)}
    for columns, time, wording in (
        (still, good.time, "makes no step"), (dead, good.time, "does not follow"),
        ({k: v[:48] for k, v in good.columns.items()}, good.time[:48], "only 8 samples"),
        ({k: v[::4] for k, v in good.columns.items()}, good.time[::4], "capture at the loop rate"),
    ):  # fmt: skip
        with pytest.raises(Refusal, match=wording):
            fit_step(Capture("s", time, columns), e)


def test_figures_of_a_textbook_step() -> None:
    """Second order, ζ = 0.3, ωn = 1000: overshoot e^(−πζ/√(1−ζ²)) = 37.2 %, ringing ωn·√(1−ζ²)/2π = 151.8 Hz (textbook)."""
    t = np.linspace(0, 0.03, 6000)
    wd = 1000 * math.sqrt(1 - 0.09)
    y = 1 - np.exp(-300 * t) * (np.cos(wd * t) + 0.3 / math.sqrt(1 - 0.09) * np.sin(wd * t))
    figures = measured_figures(t, 5 * y, 5.0)
    assert figures.overshoot == pytest.approx(37.2, abs=0.1)
    assert figures.ringing == pytest.approx(151.8, rel=0.03)
    assert figures.settling == pytest.approx(0.0101, rel=0.1)
    lower, why = next_trial(figures, 1000.0, 30.0)
    assert lower < 700
    assert "rings" in why
    assert "threefold" not in implausible_jump((1.0, 7.0, 51.0), (2.0, 7.2, 50.0))
    # common practice: 7/51 that becomes hundreds with another test current is wrong
    assert "no winding does that" in implausible_jump((1.0, 7.0, 51.0), (2.0, 310.0, 900.0))


@pytest.mark.parametrize("seed", range(12))
def test_noise_makes_no_overshoot_and_takes_none(seed: int) -> None:
    """The largest of many noisy samples is no peak: a first-order step has none, and ζ = 0.5 has e^(−π·0.5/√0.75) = 16.3 % (textbook)."""
    rng, t = np.random.default_rng(seed), np.linspace(0, 0.02, 400, endpoint=False)
    noisy = 0.02 * rng.standard_normal(len(t))
    calm = np.asarray(1 - np.exp(-t / 1e-3) + noisy, dtype=np.float64)
    assert measured_figures(t, calm, 1.0).overshoot < 1.0
    zeta, wn = 0.5, 1500.0
    wd = wn * math.sqrt(1 - zeta**2)
    ringing = 1 - np.exp(-zeta * wn * t) * (np.cos(wd * t) + zeta * wn / wd * np.sin(wd * t))
    assert measured_figures(t, np.asarray(ringing + noisy, dtype=np.float64), 1.0).overshoot == pytest.approx(16.3, abs=3.0)



# ---- sound against reality


def test_the_thousand_runs_hold_the_nominal_one_and_widen(winch: Path) -> None:
    bench = load_bench(winch)
    design = design_current(bench)
    exact = current_band(bench, design, runs=40, spread=Spread(20.0, 20.0, 0.0, 0.0))
    nominal = predict_current_step(bench, design)
    at = np.interp(exact.time, nominal.time, nominal.response)
    assert float(np.max(np.abs(exact.middle - at))) < 0.05 * bench.settings.current_loop.step
    wide = current_band(bench, design, runs=300, spread=Spread(10.0, 120.0, 0.4, 0.1))
    assert (wide.high - wide.low > exact.high - exact.low - 1e-9).all()
    assert wide.worst_overshoot >= wide.overshoot > exact.overshoot
    assert "L −" in wide.worst_text  # less inductance is what makes it overshoot


# ---- limits over speed

SALIENT = Limits(1e-6, 0.98e-3, 1.6e-3, 0.0168, 7.0, 27.5, 12.0)
ROUND = Limits(1e-6, 1e-3, 1e-3, 0.0168, 7.0, 27.5, 6.0)


def test_torque_per_ampere_is_the_best_angle() -> None:
    i_d, i_q = torque_per_ampere(SALIENT, 12.0)
    angle = np.radians(np.linspace(90, 180, 9001))
    torque = torque_at(SALIENT, 12 * np.cos(angle), 12 * np.sin(angle))
    best = angle[int(np.argmax(torque))]
    assert (i_d, i_q) == (pytest.approx(12 * math.cos(best), abs=2e-3), pytest.approx(12 * math.sin(best), abs=2e-3))
    assert torque_per_ampere(ROUND, 6.0) == (0.0, 6.0)


def test_base_speed_and_ends_by_closed_form() -> None:
    """R = 0: ω_b = V/(p·√(ψ² + (L·I)²)), end without weakening V/(p·ψ), with it V/(p·(ψ − L·I)) (Morimoto 1990)."""
    curve = torque_speed(ROUND)
    assert curve.base == pytest.approx(27.5 / 7 / math.hypot(0.0168, 6e-3), rel=1e-4)
    assert curve.no_weakening == pytest.approx(27.5 / 7 / 0.0168, rel=1e-4)
    assert curve.top == pytest.approx(27.5 / 7 / (0.0168 - 6e-3), rel=2e-3)
    assert curve.characteristic == pytest.approx(16.8)
    endless = torque_speed(Limits(1e-6, 1e-3, 1e-3, 0.0168, 7.0, 27.5, 20.0))
    assert math.isinf(endless.top)  # characteristic current within the limit


@pytest.mark.parametrize("limits", [SALIENT, ROUND, Limits(0.4, 0.9e-3, 1.3e-3, 0.0168, 7.0, 27.5, 8.0)])
def test_best_points_against_a_search_over_both_currents(limits: Limits) -> None:
    d, q = np.meshgrid(np.linspace(-limits.i_limit, 0, 700), np.linspace(0, limits.i_limit, 700))
    for speed in (50.0, 180.0, 260.0, 330.0):
        we = limits.pole_pairs * speed
        volts = np.hypot(limits.r * d - we * limits.lq * q, limits.r * q + we * (limits.ld * d + limits.psi))
        torque = np.where(
            (np.hypot(d, q) <= limits.i_limit) & (volts <= limits.v_limit), torque_at(limits, d, q), -1.0
        )
        found = best_point(limits, speed)
        assert found[0] == pytest.approx(float(torque.max()), rel=1e-2)
        assert found[0] >= float(torque.max()) * (1 - 1e-6)
        assert math.hypot(found[1], found[2]) <= limits.i_limit * (1 + 1e-9)
        assert voltage_at(limits, speed, found[1], found[2]) <= limits.v_limit * (1 + 1e-6)


def test_time_to_full_current() -> None:
    """At rest i(t) = V/R·(1 − e^(−Rt/L)); at speed the back-EMF is taken off, and beyond it there is none."""
    limits = Limits(0.4, 1e-3, 1.2e-3, 0.0168, 7.0, 27.5, 6.0)
    assert time_to_current(limits, 6.0, 0.0) == pytest.approx(-1.2e-3 / 0.4 * math.log(1 - 6 * 0.4 / 27.5), rel=1e-3)
    assert time_to_current(limits, 6.0, 100.0) > 1.5 * time_to_current(limits, 6.0, 0.0)
    assert math.isinf(time_to_current(limits, 6.0, 300.0))
    with pytest.raises(Refusal, match="voltage limit is 0"):
        torque_speed(Limits(0.4, 1e-3, 1e-3, 0.0168, 7.0, 0.0, 6.0))
