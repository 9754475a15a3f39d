"""The estimators on captures that another model made: prescribed motion and currents, the voltages from differences of the flux linkage."""

from __future__ import annotations

import json
import math
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import scipy

from crisp_compass.capture import Capture
from crisp_compass.capture.writer import write_capture
from crisp_compass.cli.main import run
from crisp_compass.errors import Refusal
from crisp_compass.sensorless.observe import METHODS, observe

Course = Callable[[np.ndarray], np.ndarray]
MOTOR: dict[str, Any] = {"r": 0.42, "ld": 2.1e-4, "lq": 2.7e-4, "psi": 0.0113}
P, TOP, TS, FINE = 3, 1900.0, 6e-5, 16


def turning(
    speed: Course, i_q: Course, *, seed: int = 1, i_d: float = -1.5, span: float = 0.8, offset: float = 0.0, dead: float = 0.0, noise: float = 0.03
) -> Capture:  # fmt: skip
    """Return a capture with the true angle; ``speed`` [rad/s, electrical] and ``i_q`` [A] over time, voltages as means of fine pieces."""
    rng = np.random.default_rng(seed)
    count = int(span / TS)
    fine = np.arange(count * FINE + 1) * TS / FINE
    w = speed(fine)
    theta = rng.uniform(0, 6) + np.concatenate([[0], np.cumsum((w[1:] + w[:-1]) / 2) * TS / FINE])
    frame = np.exp(1j * theta)
    i_dq = i_d * np.minimum(np.abs(w) / TOP, 1) + 1j * i_q(fine)
    flux = (MOTOR["psi"] + MOTOR["ld"] * i_dq.real + 1j * MOTOR["lq"] * i_dq.imag) * frame
    i = i_dq * frame
    mean = np.add.reduceat((i[1:] + i[:-1]) / 2, np.arange(0, count * FINE, FINE)) / FINE
    at = np.arange(1, count + 1) * FINE
    v = (flux[at] - flux[at - FINE]) / TS + MOTOR["r"] * mean + offset
    turns = np.exp(-2j * np.pi / 3 * np.arange(3))[:, None]
    lines, currents = (v * turns).real + dead * np.sign((mean * turns).real), (i[at] * turns).real
    columns = {"v_ab": lines[0] - lines[1], "v_bc": lines[1] - lines[2], "i_a": currents[0], "i_b": currents[1]}
    columns = {n: x + noise * rng.standard_normal(count) for n, x in columns.items()}
    return Capture("turning", np.linspace(TS, count * TS, count), {**columns, "angle": theta[at] / P})


def climb(t: np.ndarray) -> np.ndarray:
    return TOP * np.clip((t - 0.05) / 0.5, 0, 1)


def _times(factor: float, course: Course, t: np.ndarray) -> np.ndarray:
    return factor * course(t)


@pytest.mark.parametrize("method", METHODS)
@pytest.mark.parametrize(("r", "most"), [(1.0, 2.0), (1.2, 5.0)])
def test_angle_from_a_tenth_to_the_whole_of_top_speed(method: str, r: float, most: float) -> None:
    for sign in (1.0, -1.0):
        capture = turning(partial(_times, sign, climb), partial(_times, sign, lambda t: 6 + 2 * np.sin(40 * t)))
        found = observe(capture, **{**MOTOR, "r": r * MOTOR["r"]}, pole_pairs=P, method=method)
        fast = np.abs(climb(capture.time)) > 0.1 * TOP
        assert found.deviation is not None
        assert found.valid[fast].mean() > 0.9
        assert np.degrees(np.sqrt(np.mean(found.deviation[fast & found.valid] ** 2))) < most
        assert not found.valid[capture.time < 0.06].any()
        true = float(np.mean(sign * climb(capture.time)[found.valid])) / P
        assert found.estimates["speed"].low < true < found.estimates["speed"].high


@pytest.mark.parametrize("method", METHODS)
def test_a_motor_at_rest_is_never_valid_whatever_current_it_carries(method: str) -> None:
    for course in (lambda t: 0 * t, lambda t: 6 * np.sin(300 * t), lambda t: 6.0 * (t > 0.2)):
        found = observe(turning(lambda t: 0 * t, course, offset=0.3), **MOTOR, pole_pairs=P, method=method)
        assert not found.valid.any()
        assert found.valid_from is None
        assert [f.code for f in found.findings] == ["never-valid"]


@pytest.mark.parametrize("method", METHODS)
def test_reversal_drops_the_estimate_at_standstill_and_takes_it_up_again(method: str) -> None:
    capture = turning(lambda t: TOP * np.clip((0.4 - t) / 0.3, -1, 1), lambda t: -5.0 + 0 * t)
    found = observe(capture, **MOTOR, pole_pairs=P, method=method)
    assert not found.valid[np.abs(capture.time - 0.4) < 0.004].any()
    assert "estimate-lost" in [f.code for f in found.findings]
    late = found.valid & (capture.time > 0.55)
    assert late.mean() > 0.2
    assert found.speed[late].max() < 0


@pytest.mark.parametrize(
    ("cause", "belief", "made"),
    [
        ("inductance", {"ld": 1.4 * 2.1e-4, "lq": 1.4 * 2.7e-4}, {}),
        ("delay", {}, {}),
        ("half-turn", {}, {}),
        ("sense", {}, {}),
        ("pole-pairs", {}, {}),
    ],
)
def test_the_likeliest_cause_of_an_error_is_named(cause: str, belief: dict[str, float], made: dict[str, Any]) -> None:
    capture = turning(climb, lambda t: 7 * np.sin(25 * t), **made)
    angle = capture["angle"]
    if cause == "delay":  # the true angle is of an instant later than the currents
        angle = angle + climb(capture.time) / P * 1.5 * TS
    if cause == "half-turn":
        angle = angle + math.pi / P
    if cause == "sense":
        angle = -angle
    found = observe(
        Capture("c", capture.time, {**capture.columns, "angle": angle}),
        **{**MOTOR, **belief},
        pole_pairs=P + (cause == "pole-pairs"),
    )
    assert found.error is not None
    assert found.error.cause == cause
    if cause == "delay":
        assert found.error.delay == pytest.approx(1.5 * TS, rel=0.1)


def test_a_flux_linkage_that_does_not_fit_is_said_with_the_one_that_would() -> None:
    found = observe(turning(climb, lambda t: 5 + 0 * t), **{**MOTOR, "psi": 0.6 * MOTOR["psi"]}, pole_pairs=P)
    assert found.valid_from is None
    said = next(f.text for f in found.findings if f.code == "amplitude")
    assert float(said.split("ψ of ")[1].split(" ")[0]) == pytest.approx(0.0113, rel=0.02)


def test_observe_as_scripts_call_it(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    capture = turning(climb, lambda t: 5 + 0 * t)
    file, out = tmp_path / "run.csv", tmp_path / "out.csv"
    write_capture(file, capture.time, capture.columns, {})
    words = [
        "observe",
        str(file),
        "--r",
        "0.42",
        "--ld",
        "2.1e-4",
        "--lq",
        "2.7e-4",
        "--psi",
        "0.0113",
        "--pole-pairs",
        "3",
    ]
    assert run([*words, "-o", str(out), "--json"]) == 0
    said = json.loads(capsys.readouterr().out)
    rows = np.genfromtxt(out, delimiter=",", names=True, deletechars="")
    assert rows.dtype.names == ("t_[s]", "theta_e_est_[deg]", "speed_est_[rpm]", "emf_[V]", "valid")
    assert len(rows) == len(capture)
    valid = rows["valid"] == 1
    assert said["valid_from_s"] == pytest.approx(rows["t_[s]"][valid][0])
    error = (rows["theta_e_est_[deg]"] - np.degrees(P * capture["angle"]) + 180)[valid] % 360 - 180
    assert said["angle_error_deg"]["rms"] == pytest.approx(np.sqrt(np.mean(error**2)), abs=0.02)
    assert said["angle_error_deg"]["max"] == pytest.approx(np.abs(error).max(), abs=0.05)
    assert said["estimates"]["speed"]["unit"] == "rpm"
    assert said["estimates"]["speed"]["value"] == pytest.approx(rows["speed_est_[rpm]"][valid].mean(), rel=2e-3)
    assert rows["emf_[V]"][-1] == pytest.approx(TOP * MOTOR["psi"], rel=0.02)
    for more, part in (
        (["--psi", "0"], "--psi: "),
        (["--method", "guess"], "--method: "),
        (["--correction", "9"], "--correction: "),
        (["--family", "brushed"], "run.csv: "),
        (["--loop-hz", "9000"], "--loop-hz: "),
    ):
        assert run([*words, *more]) == 2
        assert part in capsys.readouterr().err


def test_what_cannot_be_observed_is_refused() -> None:
    good = turning(climb, lambda t: 5 + 0 * t, span=0.1)
    without = {n: x for n, x in good.columns.items() if n != "v_bc"}
    with pytest.raises(Refusal, match="v_bc"):
        observe(Capture("c", good.time, without), **MOTOR, pole_pairs=P)
    with pytest.raises(Refusal, match="magnets"):
        observe(Capture("c", good.time, good.columns, {"family": "induction"}), **MOTOR, pole_pairs=P)


def test_a_machine_integrated_by_scipy_under_held_voltages_is_seen_where_it_is() -> None:
    """The currents follow di/dt = (v − R·i − e)/L with the voltage held over each period; nothing prescribes them."""
    r, inductance, psi, w, ts, count = 0.5, 3e-4, 0.01, 900.0, 1e-4, 500
    held = 9.6 * np.exp(
        1j * (w * ts * (np.arange(count) + 0.5) + math.pi / 2 + 0.1)
    )  # a little ahead of the back-EMF

    def change(t: float, i: np.ndarray) -> list[float]:
        v = held[min(int(t / ts), count - 1)]
        e = 1j * w * psi * np.exp(1j * w * t)
        slope = (v - r * complex(i[0], i[1]) - e) / inductance
        return [slope.real, slope.imag]

    t = np.linspace(ts, count * ts, count)
    solved = scipy.integrate.solve_ivp(
        change, (0, t[-1]), [0.0, 0.0], t_eval=t, rtol=1e-7, atol=1e-7, max_step=ts / 2
    )
    i, v = solved.y[0] + 1j * solved.y[1], held
    turns = np.exp(-2j * np.pi / 3 * np.arange(3))[:, None]
    lines, currents = (v * turns).real, (i * turns).real
    columns = {"v_ab": lines[0] - lines[1], "v_bc": lines[1] - lines[2], "i_a": currents[0], "i_b": currents[1]}
    for method in METHODS:
        found = observe(
            Capture("solved", t, {**columns, "angle": w * t}), r=r, ld=inductance, lq=inductance, psi=psi, pole_pairs=1, method=method
        )  # fmt: skip
        assert found.error is not None
        assert found.valid.mean() > 0.4
        assert math.degrees(found.error.rms) < 0.7
        assert float(np.median(found.emf[found.valid])) == pytest.approx(w * psi, rel=5e-3)
