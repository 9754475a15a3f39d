"""What stands around the speed loop, against SciPy, python-control and the simulated drive."""

from __future__ import annotations

import math
from dataclasses import replace
from pathlib import Path

import control
import numpy as np
import pytest
from scipy import signal

from crisp_compass.bench.entered import enter
from crisp_compass.bench.models import Bench
from crisp_compass.bench.store import load_bench
from crisp_compass.compiled import compiled
from crisp_compass.course.drive import build_drive, running_mode
from crisp_compass.course.speed_design import allowed_noise, counts_of, design_speed, filter_of, plant_of
from crisp_compass.errors import Refusal
from crisp_compass.loops.filters import Notch, TorqueFilters
from crisp_compass.loops.speed import SpeedPlant, analyse_speed, speed_gains, tune_speed
from crisp_compass.loops.speed_figures import sensor_noise
from crisp_compass.plant import state
from crisp_compass.plant.control.speed import ramped
from crisp_compass.plant.parameters import Control
from crisp_compass.plant.simulation import Simulation
from crisp_compass.studies.speed_trial import follow, try_speed_loop

J, B, KT, RATE, FC, FF = 1.9e-4, 1.6e-4, 0.177, 2e3, 900.0, 300.0


@pytest.mark.parametrize(("hz", "width", "depth"), [(160.0, 0.5, 0.1), (700.0, 1.2, 0.0), (20.0, 0.05, 0.5)])
def test_the_notch_is_scipys(hz: float, width: float, depth: float) -> None:
    w = 2 * math.pi * hz
    warped = 2 * RATE * math.tan(w / RATE / 2)  # the bilinear rule that keeps the frequency
    b, a = signal.bilinear([1, depth * width * warped, warped**2], [1, width * warped, warped**2], RATE)
    b0, b1, b2, a1, a2 = Notch(hz, width, depth).coefficients(1 / RATE)
    np.testing.assert_allclose([b0, b1, b2, 1, a1, a2], [*b, *a], rtol=1e-9, atol=1e-12)
    f = np.array([1e-3 * hz, hz])
    _, h = signal.freqz(b, a, f, fs=RATE)
    assert abs(h[1]) == pytest.approx(depth, abs=1e-9)
    assert -np.angle(h[0]) / (2 * math.pi * f[0]) == pytest.approx(Notch(hz, width, depth).lag(1 / RATE), rel=1e-4)
    with pytest.raises(Refusal, match="cannot be sampled at 2000 Hz"):
        Notch(0.46 * RATE, 0.5, 0.1).coefficients(1 / RATE)


def test_a_loop_with_filters_is_python_controls() -> None:
    filters = TorqueFilters(400.0, Notch(160.0, 0.6, 0.1))
    design = tune_speed(inertia=J, kt=KT, viscous=B, loop_hz=RATE, current_bandwidth_hz=FC, filter_hz=FF, a=3.0, filters=filters)
    lag = lambda hz: control.tf([1], [1 / (2 * math.pi * hz), 1])  # noqa: E731
    z, ts = control.tf([1, 0], [1], 1 / RATE), 1 / RATE
    share = 1 - math.exp(-2 * math.pi * 400 * ts)
    b0, b1, b2, a1, a2 = Notch(160.0, 0.6, 0.1).coefficients(ts)
    behind = control.tf([share, 0], [1, share - 1], ts) * control.tf([b0, b1, b2], [1, a1, a2], ts)
    loop = (design.kp + design.ki / RATE * z / (z - 1)) * behind * control.sample_system(lag(FC) * control.tf([KT], [J, B]) * lag(FF), ts, "zoh") / z
    gain_margin, phase_margin, _, _, crossover, _ = control.stability_margins(loop, method="frd")
    assert design.margins.phase_margin_deg == pytest.approx(phase_margin, abs=0.05)
    assert design.margins.gain_margin_db == pytest.approx(20 * math.log10(gain_margin), abs=0.05)
    assert design.margins.crossover_hz == pytest.approx(crossover / 2 / math.pi, rel=1e-3)
    assert design.t_sigma == pytest.approx(sum(1 / (2 * math.pi * f) for f in (FC, FF, 400.0)) + 1.5 / RATE + 0.6 * 0.9 / (2 * RATE * math.tan(math.pi * 160.0 / RATE)))


@pytest.mark.parametrize(("hz", "damping"), [(12.0, 0.7), (25.0, 0.9), (25.0, 1.2)])
def test_placed_poles_stand_where_they_were_asked_for(hz: float, damping: float) -> None:
    plant = SpeedPlant(J, KT, B, RATE, FC, FF)
    kp, ki = speed_gains(plant, placed=(hz, damping))
    t, k = plant.t_sigma, KT / J
    roots = np.roots([t, 1 + t * B / J, B / J + kp * k, ki * k])
    w = 2 * math.pi * hz
    pair = np.roots([1, 2 * damping * w, w * w])
    for pole in pair:
        assert np.min(np.abs(roots - pole)) < 1e-6 * w
    sampled = analyse_speed(plant, kp, ki, "")
    assert sampled.margins.stable
    with pytest.raises(Refusal, match="leaves the small lags of .* no room"):
        speed_gains(plant, placed=(1e3, damping))


def test_an_encoders_counts_are_in_the_current_as_foretold(winch: Path) -> None:
    """The simulated drive floors its counts and takes their difference; the formula knows a variance and a frequency response."""
    bench = load_bench(winch)
    drive = build_drive(bench)
    for counts, corner in ((500.0, 40.0), (2048.0, 120.0), (4096.0, 300.0)):
        plant = replace(plant_of(bench), filter_hz=corner)
        kp, ki = speed_gains(plant, a=2.5)
        told, _ = sensor_noise(plant, kp, ki, counts)
        c = drive.control._replace(kp_speed=kp, ki_speed=ki, speed_filter=2 * math.pi * corner, ramp=1e9, i_limit=1e3, i_trip=1e4)
        found = []
        for speed in (7.3, 20.1, 61.7):
            sim = Simulation(drive._replace(control=c, sensing=drive.sensing._replace(noise=0.0, step=0.0, counts_per_rev=counts), load=drive.load._replace(coulomb=0.0)))
            sim.command(running_mode(bench), speed=speed)
            sim.skip(1.5)
            found.append(float(np.std(sim.advance(1.0)["i_q_ref"])))
        assert np.mean(found) == pytest.approx(told, rel=0.1)


def with_counts(bench: Bench, counts: int) -> Bench:
    """The bench as settled with another encoder."""
    key = "sensor.counts_per_rev"
    settled = {k: v.model_copy(update={"settings": {**v.settings, **({key: counts} if key in v.settings else {})}}) for k, v in bench.settled.items()}
    return enter(bench.model_copy(update={"settled": settled}), "sensor", {"counts_per_rev": counts})


def test_as_stiff_as_the_sensor_allows(winch: Path) -> None:
    """Finer counts and more allowed ripple make a stiffer loop, never beyond the textbook's a = 2; a coarse one is limited by its ripple."""
    bench = enter(load_bench(winch), "speed_loop", {"method": "stiffest", "filter_hz": None})
    found = []
    for counts, share in ((800, 0.02), (8192, 0.005), (8192, 0.02), (1 << 20, 0.02)):
        at = enter(with_counts(bench, counts), "speed_loop", {"noise_share": share})
        design = design_speed(at)
        noise = sensor_noise(plant_of(at), design.kp, design.ki, counts_of(at) or 0.0)[0]
        assert noise <= 1.0001 * allowed_noise(at)
        assert design.margins.stable
        found.append((design.ki, noise / allowed_noise(at), filter_of(at)))
    stiff, used, corners = zip(*found, strict=True)
    assert stiff[0] < stiff[1] < stiff[2] < stiff[3]
    assert min(used[:2]) > 0.9  # what binds is used up
    assert used[3] < 0.5  # there the loop itself binds
    assert corners[0] < corners[3]
    with pytest.raises(Refusal, match="allow more noise"):
        design_speed(enter(with_counts(bench, 4), "speed_loop", {"noise_share": 1e-4}))


@compiled
def _walk(x: np.ndarray, c: Control, target: float, period: float, out: np.ndarray) -> None:  # type: ignore[type-arg]
    for k in range(len(out)):
        ramped(x, c, target, period)
        out[k] = x[state.REF]


def test_a_rounded_ramp_keeps_speed_acceleration_and_jerk() -> None:
    """Random moves, each from where the one before had come to: the whole time v/a + t_S, v the change (textbook kinematics of an S-curve that reaches its acceleration)."""
    rng = np.random.default_rng(4)
    for _ in range(60):
        ramp, rounding, period = 10 ** rng.uniform(0, 4), 10 ** rng.uniform(-2, 0), 10 ** rng.uniform(-4, -3)
        c, x, at = Control(ts=period, ramp=ramp, jerk=ramp / rounding), np.zeros(state.STATES), 0.0
        for target in rng.uniform(-3, 3, 3) * ramp * rounding:
            seconds = abs(target - at) / ramp + rounding if abs(target - at) > ramp * rounding else 2 * math.sqrt(abs(target - at) * rounding / ramp)
            out = np.empty(math.ceil(1.02 * seconds / period) + 6)
            _walk(x, c, target, period, out)
            path = np.concatenate([[at], out])
            quantum = ramp / rounding * period**2
            assert abs(out[-1] - target) <= 1e-9 * abs(target) + 2 * quantum
            assert np.max((path - target) * np.sign(target - at)) <= 2 * quantum
            assert np.max(np.abs(np.diff(path))) <= ramp * period * (1 + 1e-9)
            assert np.max(np.abs(np.diff(path, 2))) <= 2 * quantum * (1 + 1e-6)
            early = np.flatnonzero(np.abs(path - target) <= 2 * quantum)[0] * period
            assert early >= 0.85 * seconds - 4 * period
            at = float(out[-1])


def test_torque_ahead_of_the_loop_and_the_trial_of_a_design(winch: Path) -> None:
    bench = enter(load_bench(winch), "run", {"speed": 120.0})
    off = {wish: follow(enter(bench, "speed_loop", {"feed_forward": wish, "rounding": 0.03})) for wish in ("none", "inertia", "both")}
    assert off["none"].error == off["none"].error_plain
    assert max(off["both"].error, off["inertia"].error) < 0.6 * off["none"].error
    assert off["both"].error < 0.65 * off["both"].error_plain
    assert off["both"].peak < 1.1 * off["none"].peak
    trial, design = try_speed_loop(bench), design_speed(bench)
    assert trial is not None
    assert trial.overshoot == pytest.approx(design.overshoot_pct, abs=5)
    weighed = follow(enter(bench, "speed_loop", {"set_point": "filtered", "set_weight": 0.5})).error
    assert follow(enter(bench, "speed_loop", {"set_point": "filtered"})).error == pytest.approx(2 * weighed, rel=0.2)
    with pytest.raises(Refusal, match="no speed is asked for"):
        follow(enter(bench, "run", {"speed": 0.0}))
