"""From an empty bench to gains with what plates and data sheets say, as people type it, for every family."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pytest

from crisp_compass.bench import Bench, load_bench
from crisp_compass.bench.base import Quantity
from crisp_compass.bench.entered import enter, with_family
from crisp_compass.bench.plate import rated_peak
from crisp_compass.bench.rules import settle
from crisp_compass.capture import Capture
from crisp_compass.course.course import headline
from crisp_compass.course.data_sheet import data_sheet_proposal
from crisp_compass.course.open_points import check_bench, next_bearing
from crisp_compass.course.waypoints import BY_KEY
from crisp_compass.errors import Refusal
from crisp_compass.identify.meter import of_three_pairs
from crisp_compass.identify.nameplate import nameplate_circuit
from crisp_compass.identify.saliency import fit_saliency
from crisp_compass.record.formats import export_settings
from crisp_compass.typed import Motor, read

WHEN = "2026-01-01T10:00:00"


def _settled(bench: Bench, *topics: str) -> Bench:
    for topic in topics:
        proposal = data_sheet_proposal(bench, topic)
        if proposal is None:
            design = BY_KEY[topic].propose
            assert design is not None
            proposal = design(bench)
        bench = settle(
            bench, topic, proposal.values, reason=proposal.reason or "as designed", when=WHEN, method=proposal.method,
            rests_on=proposal.rests_on, origin=proposal.origin,
        )  # fmt: skip
    return bench


CASES: dict[str, dict[str, Any]] = {
    "sinusoidal": {"r": 0.9, "inductance": 2.4e-3, "kt": 0.11, "kt_convention": "peak", "pole_pairs": 4, "inertia": 2e-5},
    "stepper": {"r": 1.1, "inductance": 2.7e-3, "holding_torque": 0.6, "rated_current": 2.1, "inertia": 3e-5},
    "brushed": {"r": 1.7, "inductance": 8e-4, "no_load_speed": 310.0, "no_load_current": 0.1, "rated_current": 2.0, "inertia": 2e-5},
}  # fmt: skip


@pytest.mark.parametrize("family", CASES)
def test_a_data_sheet_is_enough_for_gains_and_says_what_it_is(family: str) -> None:
    bench = enter(with_family(Bench(), family), "plate", CASES[family])
    bench = _settled(bench, "plate", "resistance", "inductance", "flux", "pwm", "current_loop")
    r = bench.settled["resistance"]
    assert r.origin == "data-sheet"
    expected = CASES[family]["r"] / (2 if family == "sinusoidal" else 1)
    assert r.values["resistance"].value == pytest.approx(expected)
    assert r.values["resistance"].u == pytest.approx(0.1 / math.sqrt(3) * expected)
    assert bench.settled["current_loop"].origin == "measured"
    assert headline(bench, BY_KEY["resistance"]).startswith("≈ ")
    assert "data-sheet-values" in {f.code for f in check_bench(bench)}
    header = export_settings(bench, "c-header")
    assert "/* resistance: DATA SHEET, not measured: " in header
    assert '"origin": "data-sheet"' in export_settings(bench, "json")
    assert "data sheet, not measured: " in export_settings(bench, "csv")
    assert "stated-anew" not in {f.code for f in check_bench(bench)}
    other = enter(bench, "plate", {"r": 2 * CASES[family]["r"]})  # the plate was read again
    assert "stated-anew" in {f.code for f in check_bench(other)}


def test_a_nameplate_is_a_circuit_with_a_wide_bar() -> None:
    bench = with_family(Bench(), "induction")
    bench = enter(
        bench, "plate", {"rated_voltage": 230.0, "rated_current": 1.9, "current_base": "rms", "rated_speed": 1395 * math.pi / 30, "power_factor": 0.74, "mains_hz": 50.0, "rated_power": 370.0}
    )  # fmt: skip
    assert data_sheet_proposal(bench, "circuit") is None  # the stator is measured first
    bench = settle(_settled(bench, "plate"), "resistance", {"resistance": _ohms(8.0)}, reason="meter", when=WHEN)
    found = data_sheet_proposal(bench, "circuit")
    assert found is not None
    assert found.origin == "data-sheet"
    assert found.values["leakage_inductance"].u > 0.3 * found.values["leakage_inductance"].value  # type: ignore[operator]
    # another model: circuits drawn at random, their own terminals as the plate prints them
    rng, held = np.random.default_rng(3), 0
    for _ in range(40):
        volts, omega = math.sqrt(2 / 3) * 400, 2 * math.pi * 50
        base = 10 ** rng.uniform(0, 2)
        x, stator, slip = base * rng.uniform(1.3, 3), base * rng.uniform(0.02, 0.1), rng.uniform(0.02, 0.08)
        leak, g = x * rng.uniform(0.07, 0.2), base * rng.uniform(0.75, 1.1)
        z = stator + 1j * leak + 1j * x * g / (g + 1j * x)
        made = nameplate_circuit(
            volts=volts,
            current=volts / abs(z),
            hertz=50,
            power_factor=round(z.real / abs(z), 2),
            slip=slip,
            stator=stator,
        )
        true = {
            "magnetizing_inductance": x / omega,
            "rotor_resistance": g * slip,
            "rotor_time_constant": x / omega / (g * slip),
        }
        held += sum(made[k].low <= v <= made[k].high for k, v in true.items())
    assert held >= 0.93 * 120
    with pytest.raises(Refusal, match="slip"):
        nameplate_circuit(volts=300, current=3, hertz=50, power_factor=0.8, slip=-0.01, stator=1)


def _ohms(value: float) -> Quantity:
    return Quantity(value=value, unit="Ω", u=0.01 * value)


def test_three_pairs_on_an_lcr_meter_are_both_axes() -> None:
    ld, lq = 0.8e-3, 1.3e-3
    for rotor in np.radians([0.0, 17.0, 71.0, 143.0]):
        pairs = [(ld + lq) - (lq - ld) * math.cos(2 * (rotor - math.radians(d))) for d in (-30.0, 90.0, 210.0)]
        assert of_three_pairs(*pairs) == pytest.approx((ld, lq))
    # the same law as readings over the rotor angle
    turn = np.radians(np.arange(0, 360, 15.0))
    table = Capture(
        "lcr.csv",
        np.arange(24.0),
        {"angle": turn, "l_ab": (ld + lq) - (lq - ld) * np.cos(2 * (turn + math.radians(30)))},
    )
    found = fit_saliency(table, pole_pairs=1)
    assert found.estimates["lq"].value == pytest.approx(lq, rel=1e-6)
    bench = enter(Bench(), "inductance", {"uv": 2e-3, "vw": 2.4e-3, "wu": 2.1e-3})
    proposal = data_sheet_proposal(bench, "inductance")
    assert proposal is not None
    assert proposal.origin == "measured"
    assert proposal.values["ld"].value < proposal.values["lq"].value


def test_fields_read_what_plates_and_meters_print() -> None:
    motor = Motor(pole_pairs=4, top_speed=300.0)
    assert read("1.8°", "", kind="steps") == 200
    assert read("0.9 deg/step", "", kind="steps") == 400
    assert read("2500 ppr", "", kind="counts") == 10000
    assert read("1024 lines", "", kind="counts") == 4096
    assert read("4096 counts/rev", "", kind="counts") == 4096
    assert read("3000 min⁻¹", "rpm") == pytest.approx(100 * math.pi)
    assert read("50 Hz", "rpm", motor=motor) == pytest.approx(2 * math.pi * 50 / 4)
    assert read("600 rpm/s", "rad/s²") == pytest.approx(20 * math.pi)
    assert read("2 s", "rad/s²", motor=motor) == pytest.approx(150)
    assert read("OL", "Ω") == read("open", "Ω") == 1e12
    ke = read("0.05", "V·s/rad")
    assert read("50 mNm/A", "V·s/rad") == pytest.approx(ke)
    assert read("5.24 V/1000 rpm", "V·s/rad") == pytest.approx(ke, rel=1e-3)
    assert read("190.99 rpm/V", "V·s/rad") == pytest.approx(ke, rel=1e-3)
    for text, unit, part in (("50 Hz", "rpm", "pole pairs"), ("2 s", "rad/s²", "top speed"), ("200°", "", "no step")):
        with pytest.raises(Refusal, match=part):
            read(text, unit, kind="steps" if unit == "" else "")


def test_the_next_bearing_speaks_of_this_motor_and_ends_after_a_run() -> None:
    said = {}
    for family, typed in CASES.items():
        bench = _settled(
            enter(with_family(Bench(), family), "plate", {k: v for k, v in typed.items() if k != "r"}), "plate"
        )
        said[family] = next_bearing(bench).text
    assert "between A and B" in said["sinusoidal"]
    assert "armature" in said["brushed"]
    assert "one winding" in said["stepper"]
    stated = _settled(enter(with_family(Bench(), "brushed"), "plate", CASES["brushed"]), "plate")
    assert "Or settle what is stated, 1.70 Ω" in next_bearing(stated).text
    assert "pp" not in headline(stated, BY_KEY["plate"])
    carousel = load_bench("demo/carousel/carousel.bench.json")

    assert next_bearing(carousel).waypoint == "run"
    assert next_bearing(carousel, ran=True).waypoint == "hand_over"


def test_passing_other_kinds_of_motor_changes_no_current() -> None:
    bench = enter(Bench(), "plate", {"rated_current": 3.0, "current_base": "rms"})
    for family in ("trapezoidal", "stepper", "induction", "brushed"):
        bench = with_family(bench, family)
    assert rated_peak(bench.settings.plate) == 3.0  # a DC current; no field shows another base
    assert rated_peak(with_family(bench, "sinusoidal").settings.plate) == pytest.approx(3 * math.sqrt(2))
