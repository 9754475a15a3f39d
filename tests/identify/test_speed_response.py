"""Captures of foreign speed loops: another discrete controller, current and friction than any model here, noise that the loop answers."""

from __future__ import annotations

import math

import numpy as np
import pytest

from crisp_compass.capture.model import Capture
from crisp_compass.errors import Refusal
from crisp_compass.identify.speed_response import fit_speed_response

KT, J, B, TC = 0.083, 2.7e-4, 2.1e-4, 0.013
RATE, TOP = 2000.0, 160.0


def loop(kind: str, seed: int, *, filter_hz: float = 150.0, dead: int = 1, noise: float = 2e-3, ideal: bool = False, rows: int = 1, rub: float = TC, shift: int = 0) -> Capture:
    """A PI at ``RATE`` on a filtered, noisy speed ``dead`` samples late; the current follows as an exponential, or at once (``ideal``). Recorded ``rows`` times a period, the reference ``shift`` rows before the loop sees it."""
    rng, ts, n = np.random.default_rng(seed), 1 / RATE, 3200
    share = 1 - math.exp(-2 * math.pi * filter_hz * ts)
    k = np.arange(n)
    reference = {
        "steps": np.where(k < 500, 0.3, np.where(k < 2000, 0.9, 0.4)),
        "reversal": np.where(k < 1500, 0.7, -0.8),
        "loaded step": np.where(k < 600, 0.2, 0.8),
        "ramp": np.clip((k - 500) / 1200, 0, 1),
        "loaded ramp": np.clip((k - 500) / 1200, 0, 1),
        "loads": np.full(n, 0.6),
    }[kind] * TOP  # fmt: skip
    load = np.zeros(n)
    if kind in ("loaded step", "loaded ramp", "loads"):
        load[{"loaded step": 2400, "loaded ramp": 1000, "loads": 900}[kind] :] = 0.11
    lag = dead * ts + ts * (1 - share) / share + 8e-4
    kp = 0.3 / lag * J / KT
    ki, limit = kp * 0.3 / lag / 6, 3.2
    w = seen = float(reference[0])
    fine = np.empty((n, rows))
    total = wanted = current = (B * w + rub * np.sign(w)) / KT
    waiting, speed, flow = [w] * (dead + 1), np.empty(n), np.empty(n)
    decay = math.exp(-ts / 10 / (1e-9 if ideal else 3e-4))
    for m in range(n):
        waiting.append(w + noise * TOP * rng.standard_normal())
        seen += share * (waiting[-1 - dead] - seen)
        speed[m], flow[m] = seen, current
        error = reference[m] - seen
        ask = kp * error + total + ki * ts * error
        wanted = min(max(ask, -limit), limit)
        if ask == wanted or error * ask < 0:
            total += ki * ts * error
        if ideal:
            flow[m] = wanted
        for step in range(10):
            if step * rows % 10 == 0:
                fine[m, step * rows // 10] = current
            before = current
            current = wanted + (current - wanted) * decay
            torque = KT * 0.5 * (before + current) - load[m] - B * w - rub * math.tanh(w / (0.003 * TOP))
            w += ts / 10 * torque / J
    flow = (flow if rows == 1 else fine.ravel()) + 2e-3 * limit * rng.standard_normal(n * rows)
    late = dead * ts + ts * (1 - share) / share + 0.5 * (rows - 1) / rows * ts
    return Capture("c", np.linspace(0, n * ts, n * rows, endpoint=False), {"speed_ref": np.roll(np.repeat(reference, rows), -shift), "speed": np.repeat(speed, rows), "i_q": flow}, {"delay": str(late)})


@pytest.mark.thorough(but=["steps-False", "steps-True"])
@pytest.mark.parametrize("ideal", [False, True])
@pytest.mark.parametrize("kind", ["steps", "reversal", "loaded step"])
def test_inertia_and_delay_of_a_loop_that_answers_its_own_noise(kind: str, ideal: bool) -> None:
    for seed, (filter_hz, dead) in enumerate([(60.0, 0), (250.0, 2)]):
        capture = loop(kind, seed, filter_hz=filter_hz, dead=dead, ideal=ideal)
        found = fit_speed_response(capture, kt=KT).estimates
        truth = {"inertia": J, "delay": float(capture.notes["delay"])}
        assert found["inertia"].value == pytest.approx(J, rel=0.01)
        for name, value in truth.items():
            if name in found:
                assert abs(found[name].value - value) < 3.2 * found[name].u, (name, seed)
        if "delay" in found:
            assert found["delay"].value == pytest.approx(truth["delay"], rel=0.12)
        assert filter_hz > 100 or "delay" in found
        assert all(e.value > 0 for e in found.values())


@pytest.mark.parametrize(("kind", "rows"), [("reversal", 1), ("reversal", 5), ("steps", 2)])
def test_a_shaft_that_turns_round_and_rows_that_repeat_a_slower_loop(kind: str, rows: int) -> None:
    """Friction turns round before the filtered speed does, anywhere between two rows; what repeats is told once, and is late by half of its repeats in the mean."""
    for seed in (1, 2):
        capture = loop(kind, seed, filter_hz=90.0, dead=1, rows=rows, rub=0.06, shift=rows // 2)
        found = fit_speed_response(capture, kt=KT).estimates
        assert found["inertia"].value == pytest.approx(J, rel=4e-3)
        assert found["delay"].value == pytest.approx(float(capture.notes["delay"]), rel=0.04)
        for name, truth in (("inertia", J), ("viscous_friction", B), ("coulomb_friction", 0.06), ("delay", float(capture.notes["delay"]))):
            assert abs(found[name].value - truth) < 3.2 * found[name].u, name


@pytest.mark.thorough
def test_what_the_capture_does_not_determine_is_left_out_and_said() -> None:
    told = fit_speed_response(loop("ramp", 1), kt=KT)
    assert told.estimates["inertia"].value == pytest.approx(J, rel=0.04)
    for kind in ("loads", "loaded ramp"):
        found = fit_speed_response(loop(kind, 2), kt=KT)
        if "inertia" in found.estimates:
            assert abs(found.estimates["inertia"].value - J) < 3 * found.estimates["inertia"].u < 0.1 * J
        else:
            assert found.estimates == {}
            assert [f.code for f in found.findings if f.level == "caution"] == ["not-determined"]
    assert math.isnan(fit_speed_response(loop("loads", 3), kt=KT).overshoot_pct)


def test_a_reversed_channel_is_refused() -> None:
    capture = loop("steps", 4)
    turned = Capture("c", capture.time, {**capture.columns, "i_q": -capture["i_q"]})
    with pytest.raises(Refusal, match="reversed"):
        fit_speed_response(turned, kt=KT)
