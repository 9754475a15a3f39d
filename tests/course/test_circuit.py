"""The induction motor's waypoint: what tests, decay and plate say together, and what both firmwares make of it."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
import pytest

from crisp_compass.bench import Bench, load_bench
from crisp_compass.bench.entered import enter, with_family
from crisp_compass.capture import read_capture
from crisp_compass.course.bridge import usable_voltage
from crisp_compass.course.captures import evaluate, guess_kind
from crisp_compass.course.circuit import (
    circuit_findings,
    hertz_law,
    loss_split,
    solved_circuit,
    wrong_rotor,
)
from crisp_compass.course.course import waypoints_of
from crisp_compass.course.drive import build_drive
from crisp_compass.course.open_points import open_points
from crisp_compass.course.waypoints.plate import plate_outlook
from crisp_compass.errors import Refusal
from crisp_compass.plant.parameters import SPEED
from crisp_compass.preparation.supply import supply_outlook
from crisp_compass.sensing.sensor import OBSERVER
from crisp_compass.studies.hertz import hertz_outlook
from crisp_compass.studies.scenarios import open_simulation, run_scenario

HOIST = Path("demo/hoist/hoist.bench.json")
#: What the demo's motor was simulated with (demo/make_hoist.py).
LEAKAGE, MAGNETIZING, ROTOR = 26.4e-3, 0.2046, 2.11


@pytest.fixture(scope="module")
def hoist() -> Bench:
    return load_bench(HOIST)


def codes(bench: Bench) -> set[str]:
    found = solved_circuit(bench)
    assert found is not None
    return {f.code for f in circuit_findings(bench, found)}


def test_the_captures_kept_on_the_bench_tell_the_circuit_within_their_bars(hoist: Bench) -> None:
    found = solved_circuit(hoist)
    assert found is not None
    for name, truth in (
        ("leakage_inductance", LEAKAGE), ("magnetizing_inductance", MAGNETIZING), ("rotor_resistance", ROTOR),
        ("rotor_time_constant", MAGNETIZING / ROTOR),
    ):  # fmt: skip
        estimate = found.estimates[name]
        assert estimate.low <= truth <= estimate.high
        assert estimate.value == pytest.approx(truth, rel=0.004)
    split = loss_split(hoist, found.estimates["stator_resistance"].value)
    assert split is not None
    assert split.iron < 0.03 * split.friction  # the plant has no iron loss
    w = 2 * math.pi * 50 / 2
    assert split.friction == pytest.approx(9e-4 * w**2 + 0.11 * w, rel=0.02)
    assert not codes(hoist)


def test_tests_are_told_apart_and_judged_against_the_plate(hoist: Bench, tmp_path: Path) -> None:
    for name, kind in (("locked", "locked_rotor"), ("no-load", "no_load"), ("decay", "rotor_decay")):
        file = HOIST.parent / f"hoist-{name}.csv"
        capture = read_capture(file)
        assert guess_kind(hoist, capture, "").topic == "circuit"
        assert evaluate(hoist, "circuit", file, base=HOIST.parent, when="").kind.key == kind
    small = enter(hoist, "plate", {"rated_current": 1.2})
    assert "no-load-above-rated" in codes(small)
    assert {"no-load-unusual"} <= codes(enter(hoist, "plate", {"rated_current": 9.0}))
    assert "torque-differs" in codes(enter(hoist, "plate", {"rated_power": 2000.0}))
    magnet = with_family(hoist, "sinusoidal")
    with pytest.raises(Refusal, match="induction motor"):
        guess_kind(magnet, read_capture(HOIST.parent / "hoist-locked.csv"), "")


def test_star_and_delta_are_named_for_what_they_are(hoist: Bench) -> None:
    said = {f.code: f.text for f in plate_outlook(enter(hoist, "plate", {"v_bus": 565.0})).findings}
    assert "star (398 V)" in said["delta-on-the-higher"]
    star = enter(hoist, "plate", {"connection": "star", "rated_voltage": 400.0})
    said = {f.code: f.text for f in plate_outlook(star).findings}
    assert "29 Hz" in said["star-on-the-lower"]  # 325 V / √2 of 400 V
    assert "In delta it is wound for 231 V" in said["star-on-the-lower"]
    reach = supply_outlook(star).reach
    assert reach is not None
    assert reach[1] == pytest.approx(1.1 * 325.3 / math.sqrt(3) / (math.sqrt(2 / 3) * 400) * math.pi * 50, rel=0.01)


def test_base_speed_is_where_the_plant_runs_out_of_voltage(hoist: Bench) -> None:
    drive = build_drive(hoist)
    c = drive.control
    base = c.flux_share * usable_voltage(hoist).command / ((c.lm + c.lq) * c.i_flux)
    ended = []
    for share in (0.97, 1.5):
        sim = open_simulation(hoist)
        sim.command(SPEED, speed=share * base / 2)
        sim.advance(3.0, 10)
        trace = sim.advance(0.2)
        assert not sim.fault
        assert float(np.mean(trace["speed"])) == pytest.approx(share * base / 2, rel=0.01)
        assert float(np.max(np.hypot(trace["v_d"], trace["v_q"]))) <= usable_voltage(hoist).command * 1.02
        ended.append(float(np.mean(trace["i_d"])))
    assert ended[1] == pytest.approx(ended[0] / 1.5, rel=0.03)


def test_too_long_a_rotor_time_constant_strengthens_the_flux(hoist: Bench) -> None:
    right, long, short = (wrong_rotor(hoist, e) for e in (0.0, 0.3, -0.3))
    assert right.torque == pytest.approx(right.asked)
    assert right.flux == pytest.approx(1.0)
    assert long.flux[-1] > 1.1
    assert short.flux[-1] < 0.9
    assert long.lag[-1] < 0 < short.lag[-1]


def test_volts_per_hertz_closes_no_loop_and_needs_no_sensor(hoist: Bench) -> None:
    bench = enter(enter(hoist, "circuit", {"firmware": "volts-per-hertz"}), "sensor", {"kind": "none"})
    assert not {"current_loop", "speed_loop"} & {w.key for w in waypoints_of(bench)}
    law = hertz_law(bench)
    rated = math.sqrt(2 / 3) * 230
    assert law.boost + law.volts_per_rad * 2 * math.pi * 50 == pytest.approx(rated)
    found = hertz_outlook(bench)
    assert found.fall[1] < 0.6 * found.fall[0]  # by the compensation of 70 %
    trace, fault = run_scenario(enter(bench, "run", {"speed": 60.0}), "speed-step")
    assert not fault
    assert float(np.mean(trace["speed"][-300:])) == pytest.approx(60.0, rel=0.06)
    with pytest.raises(Refusal, match="boost"):
        hertz_law(enter(enter(bench, "circuit", {"boost_share": 2.0}), "plate", {"rated_voltage": 15.0}))
    assert build_drive(enter(hoist, "sensor", {"kind": "none"})).sensing.angle_sensor == OBSERVER  # field orientation without one: by its flux
    assert any(f.code == "checks-open" for f in open_points(bench))
