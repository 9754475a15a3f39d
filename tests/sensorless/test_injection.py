"""Injection at standstill: its law against SciPy's integrator, random motors played from rest through a reversal, what refuses it, and the C source."""

from __future__ import annotations

import math
import shutil
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from scipy.integrate import solve_ivp

from crisp_compass.bench import Bench, load_bench
from crisp_compass.bench.entered import enter, presumed_for
from crisp_compass.bench.rules import settle
from crisp_compass.course.drive import build_drive
from crisp_compass.course.sensorless import firmware_of
from crisp_compass.course.waypoints.start_up import design_start, propose
from crisp_compass.errors import Refusal
from crisp_compass.loops.current import current_gains
from crisp_compass.plant import state
from crisp_compass.plant.parameters import SPEED, Control, Drive, Inverter, Load, Machine, Sensing, Start
from crisp_compass.plant.simulation import Simulation
from crisp_compass.record.content import content_of
from crisp_compass.sensing.sensor import OBSERVER
from crisp_compass.sensorless.design import Doubts, Plant, estimator_for, loop_frequency
from crisp_compass.sensorless.estimator import ANGLE, OUT_ANGLE, Estimator, estimate
from crisp_compass.sensorless.injection import AXIS_VALID, SEEN_INJECTED, Injected, seek_axis, track
from crisp_compass.sensorless.injection_design import Conditions, Injection, Iron, judge, saliency_current
from crisp_compass.studies.failed_start import Seen, cause_likelihoods, rank
from crisp_compass.studies.injection import injection_outlook
from crisp_compass.studies.low_speed import low_speed_outlook
from crisp_compass.studies.start import STARTED, attempt, drive_for_start
from crisp_compass.studies.start_map import check_levers, margin_text, quick_attempt, start_map, study_of
from firmware.sources import run_rows, write_sources

TS = 5e-5
MOTOR = Plant(0.4, 0.7e-3, 1.2e-3, 0.02, 4)
HERE = Conditions(TS, 1.0, 20.0, 0.005, 8.0, 5000.0, 40.0)
IRON = Iron(bend=0.05 / 8)


def _judged(motor: Plant = MOTOR, where: Conditions = HERE, iron: Iron = IRON, **asked: float | None) -> Injection:
    given: dict[str, float | None] = {"volts": None, "natural": None, "pole_current": 4.0, **asked}
    return judge(motor, where, iron, fades=120.0, gone=240.0, **given)  # type: ignore[arg-type]


def _answers(
    theta: float, speed: float, seconds: float, volts: float, slow: complex
) -> tuple[np.ndarray, np.ndarray]:
    """Integrate the winding's equations in the rotor's frame; return voltage over each period (n,) and current after it (n + 1,), in α and β."""
    m, count, axis = MOTOR, round(seconds / TS), 0.6
    v, i, x = [], [0j], np.zeros(2)
    for k in range(count):
        u = volts * (1 if k % 2 else -1) * np.exp(1j * axis) + slow * np.exp(1j * speed * TS * k)

        def rate(t: float, y: np.ndarray, u: complex = u, k: int = k) -> list[float]:
            turned = u * np.exp(-1j * (theta + speed * (k * TS + t)))
            d, q = y
            return [
                (turned.real - m.r * d + speed * m.lq * q) / m.ld,
                (turned.imag - m.r * q - speed * (m.ld * d + m.psi)) / m.lq,
            ]

        x = solve_ivp(rate, (0, TS), x, rtol=1e-9, atol=1e-12).y[:, -1]
        v.append(u)
        i.append(complex(*x) * np.exp(1j * (theta + speed * (k + 1) * TS)))
    return np.array(v), np.array(i)


@pytest.mark.parametrize(("theta", "speed", "slow"), [(0.3, 0.0, 0.0), (1.1, 60.0, 1.5), (-0.4, -80.0, 1j)])
def test_the_axis_comes_out_of_the_windings_own_equations(theta: float, speed: float, slow: complex) -> None:
    """Against SciPy's integrator: a voltage that alternates along a fixed axis, any slow one on top, the rotor at rest or turning."""
    v, i = _answers(theta, speed, 0.08, 3.0, slow)
    s = np.zeros(SEEN_INJECTED)
    j = Injected(3.0, (1 / MOTOR.ld + 1 / MOTOR.lq) / 2, (1 / MOTOR.ld - 1 / MOTOR.lq) / 2, 250.0, 1e3, 2e3)
    seek_axis(s)
    for u, before, after in zip(v, i, i[1:], strict=False):
        s[ANGLE] += s[1 + ANGLE] * TS  # the estimator's own prediction: angle and speed lie side by side
        step = after - before
        track(s, j, TS, u.real, u.imag, step.real, step.imag, 1.0, MOTOR.psi)
    assert s[AXIS_VALID] == 1
    off = math.remainder(s[ANGLE] - theta - speed * TS * len(v), math.pi)  # the pole stays open
    assert abs(math.degrees(off)) < 0.3


def _random(seed: int) -> tuple[Drive, Injection, float] | None:
    """Return a drive whose true machine differs from what its firmware believes, with dead time, saturation, offsets; None where injection is not proposed without a caution."""
    rng = np.random.default_rng(seed)

    def between(low: float, high: float) -> float:
        return float(math.exp(rng.uniform(math.log(low), math.log(high))))

    ts, p, bus, rated = between(2.5e-5, 1.2e-4), int(rng.integers(1, 12)), between(12, 400), between(0.5, 40)
    ratio = float(rng.choice([-1, 1, 1])) * rng.uniform(0.06, 0.45)
    we, limit = between(2 * math.pi * 20, min(2 * math.pi * 600, 0.5 / ts)), bus / math.sqrt(3)
    psi, mean, r = (
        0.7 * limit / we,
        rng.uniform(0.05, 0.4) * limit / we / rated,
        rng.uniform(0.02, 0.15) * limit / rated,
    )
    believed = Plant(r, mean * (1 - ratio), mean * (1 + ratio), psi, p)
    torque, bandwidth = 1.5 * p * psi * rated, 1 / (50 * ts)
    inertia, crossover = between(0.1, 2) * torque / (we / p), 2 * math.pi * between(3, 20)
    scale = 2.5 * rated
    noise, step = between(1e-4, 8e-4) * scale, 2 * scale / 4096
    dead = float(rng.choice([0, 1])) * rng.uniform(0.005, 0.02) * bus
    error = 0.2 * r * 0.75 * rated + 4 / math.pi * 0.3 * dead
    hand_over = max(0.1 * we, 4 * error / psi) / p
    iron = Iron(
        float(rng.choice([1.0, rng.uniform(0.4, 0.9)])), rated * rng.uniform(0.8, 3), rng.uniform(0.02, 0.12) / rated
    )
    here = Conditions(
        ts, 1.0, limit, math.hypot(noise, step / math.sqrt(12)), rated, 2 * math.pi * bandwidth, crossover,
        gain=crossover * inertia / (1.5 * p * psi) / p, dead=dead,
    )  # fmt: skip
    judged = judge(
        believed, here, iron, volts=None, natural=None, pole_current=0.5 * rated, fades=0.5 * p * hand_over, gone=p * hand_over
    )  # fmt: skip
    kind = int(rng.integers(0, 2))
    natural = loop_frequency(believed, Doubts(noise=here.noise), ts, p * hand_over, crossover)
    if not judged.works or judged.findings or natural < 2.5 * crossover or p * hand_over > 0.35 * we:
        return None
    ramp = min(0.4 * torque / inertia, 0.12 * min(natural, judged.firmware.natural) ** 2 / p)
    (kp_d, ki_d), (kp_q, ki_q) = (
        current_gains(r, x, bandwidth_hz=bandwidth, delay=1.5 * ts) for x in (believed.ld, believed.lq)
    )
    kt = 1.5 * p * psi
    control = Control(
        ts, kp_d, ki_d, kp_q, ki_q, kp_speed=crossover * inertia / kt, ki_speed=crossover**2 * inertia / kt / 4, speed_filter=10 * crossover,
        i_limit=1.2 * rated, i_trip=3.5 * rated, ramp=ramp, decouple=1.0, ld=believed.ld, lq=believed.lq, psi=psi,
    )  # fmt: skip
    r_true, l_true, psi_true = 1 + np.array([0.1, 0.05, 0.025]) * rng.standard_normal(3)
    true = Machine(
        r * r_true,
        believed.ld * l_true,
        believed.lq * l_true,
        psi * psi_true,
        p,
        iron.rest,
        iron.knee,
        bend=iron.bend,
    )
    off_a, off_b = 1e-3 * scale * rng.standard_normal(2)
    drive = Drive(
        true, Load(inertia, 0.02 * torque * p / we, 0.02 * torque), Inverter(bus, 0.0, dead, 0.02 * rated),
        Sensing(scale, step, noise, float(off_a), float(off_b), float(OBSERVER)), control, Start(dead_voltage=dead * rng.uniform(0.7, 1.1)),
        estimator_for(believed, ts, kind=kind, natural=natural, floor=max(error, 1e-3 * psi * p * hand_over), hand_over=p * hand_over, hold=20 * math.pi),
        judged.firmware,
    )  # fmt: skip
    return drive, judged, hand_over


def _off(trace: object) -> np.ndarray:
    return np.remainder(trace["theta_seen"] - trace["theta_e"] + math.pi, 2 * math.pi) - math.pi  # type: ignore[index]


@pytest.mark.thorough
def test_random_motors_are_found_creep_climb_and_reverse_as_predicted() -> None:
    """Some thirty motors: no pole taken wrongly, the angle's noise as predicted, nine in ten through climb and reversal."""
    done, passed, ratios = 0, 0, []
    for seed in range(1000, 1120):
        made = _random(seed)
        if (
            made is None or made[2] / made[0].control.ramp + 50 / made[0].control.speed_filter > 0.9
        ):  # long runs tell no more
            continue
        drive, judged, hand_over = made
        done += 1
        sim = Simulation(drive, seed=seed)
        sim.state[state.THETA] = 0.7 * seed
        sim.command(SPEED, speed=0.4 * hand_over)
        found = sim.advance(2 * drive.injected.settle + 2 * drive.injected.pole_time + 0.2)
        closed = found["phase"] == state.CLOSED
        if closed.any():
            assert abs(_off(found)[closed][0]) < math.pi / 3, f"pole taken wrongly by motor {seed}"
        else:
            continue
        creep = sim.advance(300 / drive.control.speed_filter, every=3)
        ratios.append(float(np.std(_off(creep)[len(creep["t"]) // 2 :]) / judged.angle))
        way = 2.5 * hand_over / drive.control.ramp + 150 / drive.control.speed_filter
        for goal, span in ((2.5, way), (-2.5, 2 * way)):
            sim.command(SPEED, speed=goal * hand_over)
            sim.skip(span)
        passed += not sim.fault and abs(sim.speed + 2.5 * hand_over) < 0.15 * hand_over
    assert done >= 25
    assert passed >= 0.88 * done
    assert 0.7 < np.median(ratios) < 1.3


def test_what_speaks_against_it_is_said_with_the_figure_that_would_do() -> None:
    assert _judged().works
    assert _judged().angle <= math.radians(2.001)
    round_ = MOTOR._replace(lq=0.72e-3)
    assert "not with this motor" in _judged(round_).reason
    assert "0.1" not in _judged(round_).reason
    noisy = _judged(where=replace(HERE, noise=0.4))
    assert not noisy.works
    assert " V would do" in noisy.reason
    unmagnetic = _judged(iron=Iron())
    assert "pole cannot be told" in unmagnetic.reason
    weak = _judged(iron=Iron(bend=2e-5))
    assert " A would do" in weak.reason
    swallowed = _judged(where=replace(HERE, dead=2.0), volts=3.0)
    assert "dead time" in swallowed.reason
    assert _judged(where=replace(HERE, dead=0.5)).works  # proposes enough
    assert "delay" in _judged(where=replace(HERE, alike=0.0)).reason
    eager = _judged(where=replace(HERE, speed_loop=400.0, noise=0.02))
    assert [f.code for f in eager.findings] == ["injection-follows-slowly"]
    assert [f.code for f in _judged(where=replace(HERE, ramp=1e6)).findings] == ["injection-lags"]
    soft = Iron(rest=0.3, knee=4.0, bend=0.05 / 8)
    most = saliency_current(MOTOR, soft)
    assert most is not None
    assert 0 < most < 8
    assert [f.code for f in _judged(iron=soft).findings] == ["saliency-saturates"]
    x = 1 / (1 + (most / 4.0) ** 2)
    lq = 1.2e-3 * (0.3 + 0.7 * x)
    assert (lq - 0.7e-3) / (lq + 0.7e-3) == pytest.approx(0.05)
    with pytest.raises(Refusal, match="at most 10 V"):
        _judged(volts=11.0)
    with pytest.raises(Refusal, match="can be followed"):
        _judged(natural=2e3)


@pytest.fixture(scope="module")
def salient() -> Bench:
    """The pump as it would be with magnets inside its rotor, started by injection."""
    bench = load_bench(Path(__file__).parents[2] / "demo" / "pump" / "pump.bench.json")
    told = bench.settled["inductance"]
    lq = told.values["lq"].model_copy(update={"value": 1.8 * told.values["ld"].value})
    changed = told.model_copy(update={"values": {**told.values, "lq": lq}})
    bench = bench.model_copy(update={"settled": {**bench.settled, "inductance": changed}})
    return _settled(enter(bench, "start_up", {"standstill": "injection"}))


def _settled(bench: Bench) -> Bench:
    found = propose(bench)
    return settle(bench, "start_up", found.values, reason="test", when="t", rests_on=found.rests_on)


def test_settings_reach_the_firmware_and_the_iron(salient: Bench) -> None:
    assert "commutation.magnet" in presumed_for(salient, "start_up")
    other = _settled(
        enter(
            salient, "start_up",
            {"inject_volts": 1.7, "track_hz": 70.0, "pole_current": 2.2, "commutation.magnet": 0.1, "commutation.pulse_current": 4.0},
        )
    )  # fmt: skip
    _, _, j = firmware_of(other)
    assert (j.volts, j.pole_current) == (1.7, 2.2)
    assert j.natural == pytest.approx(2 * math.pi * 70)
    drive = build_drive(other)
    assert drive.injected == j
    assert drive.machine.bend == pytest.approx(0.1 / 4.0)
    assert drive.start.low_down == 0
    assert attempt(drive, angle=2.0, seed=1) == STARTED
    forced = _settled(enter(salient, "start_up", {"standstill": "forced"}))
    assert build_drive(forced).injected.volts == 0
    assert build_drive(forced).machine.bend == 0
    assert "commutation.magnet" not in presumed_for(forced, "start_up")
    left = {"standstill": "forced", "inject_volts": 500.0, "track_hz": 1e5}  # hold up no start by forced angle
    assert design_start(enter(salient, "start_up", left)).injection.works
    with pytest.raises(Refusal, match="inject at most"):
        design_start(enter(salient, "start_up", {"inject_volts": 500.0}))
    with pytest.raises(Refusal, match="follows no rotor"):
        design_start(enter(salient, "start_up", {"track_hz": 0.5}))
    heavy = enter(salient, "run", {"load": 1.0, "load_kind": "brakes"})  # no rows, so no load is too heavy for them
    assert design_start(heavy).plan.findings == ()
    loop = salient.settled["current_loop"]
    later = loop.model_copy(update={"settings": {**(loop.settings or {}), "delay_samples": 2.0}})
    delayed = salient.model_copy(update={"settled": {**salient.settled, "current_loop": later}})
    assert any(f.code == "injection-impossible" for f in design_start(delayed).findings)
    with pytest.raises(Refusal, match="delay"):
        propose(delayed)
    titles = {s.title for s in content_of(salient, Path("."), "t")}
    assert "Start by injection" in titles
    assert "Start sequence" not in titles


def test_truth_against_belief_ends_as_it_would(salient: Bench) -> None:
    drive, _ = drive_for_start(salient)
    m = drive.machine

    def ends(**machine: float) -> Simulation:
        sim = Simulation(drive._replace(machine=m._replace(**machine)), seed=2)
        sim.state[state.THETA] = 1.0
        sim.command(SPEED, speed=200.0)
        sim.skip(0.4)
        return sim

    assert ends().speed == pytest.approx(200, rel=0.05)
    assert ends(bend=0.0).fault == "pole not told"
    assert ends(lq=m.ld).fault  # without saliency something is taken for an axis, or nothing is
    other = Simulation(drive._replace(machine=m._replace(bend=-m.bend)), seed=2)
    other.command(SPEED, speed=200.0)
    assert other.advance(0.3)["speed"].min() < -1  # the other pole turns it backwards
    weak = drive._replace(inverter=drive.inverter._replace(v_supply=2.0))  # half of the voltage there is, and no more
    sim = Simulation(weak, seed=2)
    sim.command(SPEED, speed=20.0)
    rows = sim.advance(0.03)
    assert np.hypot(rows["i_d"], rows["i_q"]).max() < 0.5 * 2.0 / math.sqrt(3) * drive.control.ts / m.ld * 1.2


def test_pages_that_play_it(salient: Bench) -> None:
    found = injection_outlook(salient)
    assert found.right == found.tried == 12
    assert not found.fault
    assert 0.6 * found.judged.angle < found.creep < 2 * found.judged.angle
    assert found.speed[-1] == pytest.approx(-1.4 * found.design.hand_over, rel=0.05)
    low = low_speed_outlook(enter(salient, "start_up", {"lowest": 5.0}))
    assert low.mode == "injection"
    assert not low.fault
    study = study_of(salient)
    ends = [
        quick_attempt(study.drawn({"saliency": k}, np.random.default_rng(1)), angle=1.0, seed=1)
        for k in (1.0, 0.01)
    ]
    assert ends[0] == STARTED
    assert ends[1] != STARTED
    extreme = study.drawn({"saliency": 50.0}, np.random.default_rng(1)).machine
    assert 0 < extreme.ld < extreme.lq
    assert design_start(enter(salient, "start_up", {"ramp_current": 1e-3, "hand_over": 256.0})).plan.rows
    assert "current limit" in margin_text("current", 0.5, math.nan, study.drive)
    with pytest.raises(Refusal, match="does not align"):
        check_levers("align", "ramp", study.drive)
    round_ = load_bench(Path(__file__).parents[2] / "demo" / "pump" / "pump.bench.json")
    with pytest.raises(Refusal, match="no saliency"):
        start_map(study_of(round_), "saliency", "ramp", columns=2, rows=2, draws=1, workers=1)
    assert not injection_outlook(round_).judged.works
    ranked = rank(Seen("wrong-way"), (), cause_likelihoods(salient, draws=2))
    assert ranked[0].cause.key == "leads"
    assert ranked[1].cause.key == "pole"
    assert "align" not in {r.cause.key for r in ranked}


MAIN = """#include "cc_injection.h"
#include <stdio.h>
int main(void) {
    cc_estimator_state s = {0}; cc_injection_state j = {0}; float va, vb, ia, ib; int closed;
    s.spread = 1.0f;
    cc_injection_seek(&j);
    while (scanf("%f %f %f %f %d", &va, &vb, &ia, &ib, &closed) == 5) {
        const float share = closed ? cc_injection_share(&s) : 1.0f, da = ia - s.i_alpha, db = ib - s.i_beta;
        cc_estimator_step_trusting(&s, va, vb, ia, ib, 1.0f - share);
        cc_injection_track(&j, &s, va, vb, da, db, share);
        printf("%.9g %.9g %d %d\\n", (double)s.out_angle, (double)s.speed, s.valid, j.valid);
    }
    return cc_injection_voltage(&j, 99.0f) > 0.0f && cc_injection_voltage(&j, 99.0f) > 0.0f;
}
"""


@pytest.mark.skipif(shutil.which("gcc") is None, reason="no C compiler")
def test_injection_in_c_is_the_kernel(salient: Bench, tmp_path: Path) -> None:
    """The voltages and currents of a played start, given to the C source: it says what the plant's firmware saw."""
    write_sources(salient, tmp_path)
    assert "CC_START_ROW_LIST" not in (tmp_path / "cc_config.h").read_text()
    start, o, _ = firmware_of(salient)
    drive = build_drive(salient)
    drive = drive._replace(
        sensing=drive.sensing._replace(step=0.0, noise=0.0, offset_a=0.0, offset_b=0.0),
        inverter=drive.inverter._replace(dead_voltage=0.0),
    )
    drive = drive._replace(
        start=start._replace(dead_voltage=0.0), injected=drive.injected._replace(pole_current=0.0, pole_time=1.0)
    )
    sim = Simulation(drive, seed=1)
    sim.state[state.THETA] = 0.4  # near enough to be found as it is
    sim.command(SPEED, speed=500.0)
    rows: list[tuple[float, ...]] = []
    ours: list[tuple[float, ...]] = []
    whole = int(drive.control.delay_samples - 0.5 + 1e-9)
    for k in range(3600):
        if k == 1200:
            sim.state[state.PHASE] = state.CLOSED
        trace = sim.advance(o.ts)
        x = sim.state
        i = complex(x[state.ID], x[state.IQ]) * np.exp(1j * sim.drive.machine.pole_pairs * x[state.THETA])
        rows.append((x[state.V_ALPHA + whole], x[state.V_BETA + whole], i.real, i.imag, float(k >= 1199)))
        own = state.OBSERVER_STATE
        ours.append((x[own + OUT_ANGLE], x[own + 1 + ANGLE], trace["valid"][0], x[own + AXIS_VALID]))
    assert sim.speed == pytest.approx(500, rel=0.1)
    seen, told = np.array(ours), np.array(rows)
    theirs = run_rows(tmp_path, "cc_injection.c cc_estimator.c", MAIN, told)
    # the plant's firmware reads a period's end when the next one begins
    off = np.remainder(theirs[:-1, 0] - seen[1:, 0] + math.pi, 2 * math.pi) - math.pi
    found = (theirs[:-1, 3] > 0.5) & (seen[1:, 3] > 0.5)
    assert found.mean() > 0.4
    assert np.degrees(np.abs(off[found])).max() < 0.5
    assert np.degrees(np.abs(off[-1000:])).max() < 0.5  # by back-EMF alone
    assert theirs[-2, 2] == seen[-1, 2] == 1
    assert (theirs[:-1, 3] != seen[1:, 3]).mean() < 0.02
    assert isinstance(o, Estimator)
    assert callable(estimate)
