"""The plate page's picture and figures against closed formulas, and constants side by side with their slips named."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
import pytest

from crisp_compass.bench import load_bench
from crisp_compass.bench.base import Quantity
from crisp_compass.bench.entered import enter, with_family
from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import Evidence
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.captures import add_evidence, drop_evidence, evaluate, guess_kind
from crisp_compass.course.course import State, headline, state_of, waypoints_of
from crisp_compass.course.drive import build_drive
from crisp_compass.course.known import meter_phases, side_by_side
from crisp_compass.course.open_points import next_bearing
from crisp_compass.course.repeats import repeats_mean
from crisp_compass.course.waypoints import WAYPOINTS
from crisp_compass.course.waypoints.inductance import inductance_values
from crisp_compass.course.waypoints.mechanics import torque_constant_of
from crisp_compass.course.waypoints.plate import plate_outlook
from crisp_compass.motor import pole_pairs_of

WHEN = "2026-05-12T15:00:00"


@pytest.fixture
def bench(winch: Path) -> Bench:
    return load_bench(winch)


def _fields(bench: Bench, topic: str = "plate", **fields: object) -> Bench:
    if "family" in fields:
        return with_family(bench, str(fields.pop("family")), **fields)
    page = getattr(bench.settings, topic).model_copy(update=fields)
    return bench.model_copy(update={"settings": bench.settings.model_copy(update={topic: page})})


# ---- plate


def test_reach_of_the_bus_is_where_back_emf_meets_the_modulator(bench: Bench) -> None:
    """ω = V/(√3·p·ψ): linear limit of space-vector modulation over the phase peak (Holmes and Lipo 2003, ch. 6)."""
    outlook = plate_outlook(bench)
    psi = bench.settled["flux"].values["flux_linkage"].value
    reach = 48 / math.sqrt(3) / (7 * psi) * RPM_PER_RAD_S
    assert outlook.answer == f"{reach:.0f} rpm"
    crossing = np.interp(48 / math.sqrt(3), outlook.predicted, outlook.x)
    assert crossing == pytest.approx(reach, rel=1e-3)
    assert outlook.mark == pytest.approx(2000)
    fast = plate_outlook(_fields(bench, top_speed=400.0))
    assert any("below the top speed" in f.text for f in fast.findings)


def test_a_plate_without_constants_says_what_is_missing() -> None:
    outlook = plate_outlook(Bench())
    assert "Enter the data sheet's Kv or Kt" in outlook.doubt
    assert len(outlook.predicted) == 0


@pytest.mark.parametrize(
    ("factor", "words"), [(math.sqrt(3), "phase voltage"), (2.0, "line-to-line"), (1 / math.sqrt(2), "peak")]
)
def test_a_kv_in_the_wrong_base_is_named_against_the_measured_flux(bench: Bench, factor: float, words: str) -> None:
    psi = bench.settled["flux"].values["flux_linkage"].value
    true = 60 / (2 * math.pi) / (math.sqrt(3) * 7 * psi)
    found = [f.text for f in plate_outlook(_fields(bench, kv=true / factor)).findings]
    assert any(words in text for text in found), found
    assert not [f for f in plate_outlook(_fields(bench, kv=true * 1.03)).findings if f.level != "info"]


def test_induction_picture_passes_through_the_rated_point() -> None:
    bench = _fields(
        Bench(), family="induction", rated_voltage=380.0, rated_current=32.0, current_base="rms", rated_power=15e3,
        rated_speed=1460 / RPM_PER_RAD_S, mains_hz=50.0,
    )  # fmt: skip
    outlook = plate_outlook(bench)
    assert outlook.answer == "98.1 N·m"
    assert pole_pairs_of(bench.settings.plate) == 2
    assert np.interp(1460.0, outlook.x, outlook.predicted) == pytest.approx(98.1, rel=0.01)
    assert outlook.predicted.max() == pytest.approx(2.5 * 98.1, rel=0.02)
    assert outlook.x[-1] == pytest.approx(1500, abs=5)
    rows = dict(outlook.rows)
    assert rows["synchronous speed"] == "1500 rpm"
    assert rows["power factor × efficiency"] == "0.712"


def test_stepper_picture_bends_where_the_current_no_longer_gets_through() -> None:
    bench = _fields(
        Bench(), family="stepper", steps_per_turn=200, rated_voltage=3.0, rated_current=2.0, current_base="rms", r=1.5, inductance=3e-3, holding_torque=1.2,
        v_bus=24.0,
    )  # fmt: skip
    outlook = plate_outlook(bench)
    corner = 1 / (2e-3 * math.log(24 / 21))
    assert outlook.mark == pytest.approx(corner, rel=1e-3)
    # at twice the rate: V/R·(1 − e^(−t/τ)) after one step
    assert np.interp(2 * corner, outlook.x, outlook.predicted) == pytest.approx(
        16 * (1 - math.exp(-1 / (2 * corner) / 2e-3)), rel=0.02
    )
    assert pole_pairs_of(bench.settings.plate) == 50


def test_brushed_picture_is_the_speed_torque_line() -> None:
    ke, r = 0.05, 0.8
    points = {"v1": 24.0, "i1": 0.6, "n1": (24 - 0.6 * r) / ke, "v2": 24.0, "i2": 9.0, "n2": (24 - 9 * r) / ke}
    outlook = plate_outlook(_fields(Bench(), family="brushed", v_bus=24.0, **points))  # type: ignore[arg-type]
    rows = dict(outlook.rows)
    assert rows["R with brushes"].startswith("800 mΩ")
    assert rows["free at the supply"] == f"{24 / ke * RPM_PER_RAD_S:.0f} rpm"
    speed = np.interp(ke * 24 / r / 2, outlook.x, outlook.predicted)
    assert speed == pytest.approx(12 / ke * RPM_PER_RAD_S, rel=0.01)


# ---- sources


def test_all_sources_of_the_winch_agree(bench: Bench) -> None:
    for constant in ("resistance", "ld", "lq", "flux_linkage"):
        found = side_by_side(bench, constant)  # type: ignore[arg-type]
        assert found.agreement is None or found.agreement.agrees, constant
        assert found.sources[-1].kind == "settled"
    names = {s.name for s in side_by_side(bench, "ld").sources}
    assert {"winch-lcr", "winch-step-d"} <= names
    assert "winch-step-q" not in names


def test_a_plate_resistance_line_to_line_taken_as_phase(bench: Bench) -> None:
    wrong = _fields(bench, r=0.826, winding_base="phase")
    text = " ".join(f.text for f in side_by_side(wrong, "resistance").findings)
    assert "plate stands apart" in text
    assert "line-to-line was taken as phase" in text
    right = side_by_side(_fields(bench, r=0.826, winding_base="line"), "resistance")
    assert right.agreement is not None
    assert right.agreement.agrees


def test_flux_from_the_no_load_speed(bench: Bench) -> None:
    psi = bench.settled["flux"].values["flux_linkage"].value
    free = 48 * math.pi / (3 * math.sqrt(3) * 7 * psi)
    found = side_by_side(_fields(bench, no_load_speed=free), "flux_linkage")
    source = next(s for s in found.sources if s.name == "no-load speed")
    assert source.value == pytest.approx(psi, rel=1e-6)


def test_hot_and_cold_are_told_apart_by_the_time_constant(bench: Bench) -> None:
    """A step capture whose R is 20 % higher: 71 °C against 20 °C by IEC 60034-1, 8.6.2."""
    step = next(e for e in bench.evidence["inductance"] if e.kind == "steps_d")
    r = bench.settled["resistance"].values["resistance"].value
    hot = {
        **step.estimates,
        "resistance": Quantity(value=1.2 * r, unit="Ω", u=1e-4 * r, interval95=(1.199 * r, 1.201 * r)),
    }
    warm = _fields(
        bench.model_copy(
            update={"evidence": {**bench.evidence, "inductance": (step.model_copy(update={"estimates": hot}),)}}
        ),
        "resistance",
        temperature=20.0,
    )
    found = [f for f in side_by_side(warm, "resistance").findings if f.code == "time-constant-differs"]
    assert found
    assert "71 °C" in found[0].text


def test_a_learn_equal_to_the_factory_value_stops(bench: Bench) -> None:
    """Common practice: the value after it equals the factory value before it: the learn did not run."""
    found = side_by_side(_fields(bench, "auto_tune", resistance_before=1.0, resistance_after=1.0), "resistance")
    assert [f.level for f in found.findings if f.code == "auto-tune-did-not-run"] == ["stop"]
    assert not any(s.kind == "drive" for s in found.sources)
    good = side_by_side(_fields(bench, "auto_tune", resistance_before=1.0, resistance_after=0.413), "resistance")
    assert any(s.kind == "drive" for s in good.sources)


def test_repeats_and_taking_one_off(bench: Bench) -> None:
    first = bench.evidence["resistance"][0]
    r = first.estimates["resistance"]
    assert r.u is not None
    second = first.model_copy(
        update={"file": "again.csv", "estimates": {"resistance": r.model_copy(update={"value": r.value + 0.5 * r.u})}}
    )
    both = add_evidence(bench, second)
    mean = repeats_mean(both, "resistance")
    assert mean is not None
    assert mean.value == pytest.approx(r.value + 0.25 * r.u, rel=1e-9)
    # what repeats show averages out, the instruments' gain does not
    assert r.u_repeat is not None
    shared = math.sqrt(r.u**2 - r.u_repeat**2)
    scatter = max(r.u_repeat / math.sqrt(2), 0.25 * r.u)
    assert mean.u == pytest.approx(math.hypot(shared, scatter), rel=1e-6)
    one = drop_evidence(both, second, WHEN)
    assert repeats_mean(one, "resistance") is None
    assert "again.csv removed" in one.ledger[-1].text


def test_meter_pairs_of_the_ledger_solve_three_phases(bench: Bench) -> None:
    solved = meter_phases(bench)
    assert solved is not None
    assert solved.mean.value == pytest.approx((0.88 + 0.87 + 0.88) / 6 - 0.025)
    assert meter_phases(Bench()) is None


# ---- course and plant


def test_mechanics_and_saturation_reach_the_plant(bench: Bench) -> None:
    drive = build_drive(bench)
    assert drive.load.inertia == pytest.approx(1.9e-4, rel=2e-3)
    assert drive.machine.saturated == 1.0
    curve = {
        "inductance": Quantity(value=1.2e-3, unit="H"), "resistance": Quantity(value=0.41, unit="Ω"),
        "saturated_inductance": Quantity(value=0.4e-3, unit="H"), "saturation_current": Quantity(value=9.0, unit="A"),
    }  # fmt: skip
    evidence = Evidence(file="s.csv", sha256="0" * 64, kind="saturation", when=WHEN, method="steps", estimates=curve)
    values = inductance_values(add_evidence(bench, evidence))
    settled = bench.settled["inductance"].model_copy(update={"values": values})
    bent = build_drive(bench.model_copy(update={"settled": {**bench.settled, "inductance": settled}}))
    assert bent.machine.saturated == pytest.approx(1 / 3)
    assert bent.machine.i_sat == 9.0


def test_torque_constant_by_the_best_source(bench: Bench) -> None:
    known = torque_constant_of(bench)
    assert known is not None
    assert known[2] == "settled flux"
    bare = _fields(Bench(), kv=46.8, pole_pairs=7)
    guessed = torque_constant_of(bare)
    assert guessed is not None
    assert guessed[0] == pytest.approx(1.5 * 7 * 60 / (2 * math.pi * math.sqrt(3) * 7 * 46.8), rel=1e-6)
    assert guessed[1] > 0.05
    assert torque_constant_of(_fields(Bench(), kv=None, kt=None)) is None


def test_optional_legs_are_never_the_next_bearing_without_a_capture(bench: Bench) -> None:
    without = bench.model_copy(
        update={
            "evidence": {k: v for k, v in bench.evidence.items() if k not in ("mechanics", "commutation")},
            "settled": {k: v for k, v in bench.settled.items() if k not in ("mechanics", "commutation")},
        }
    )
    assert next_bearing(without).waypoint not in ("mechanics", "commutation")
    states = {waypoint.key: state_of(without, waypoint) for waypoint in waypoints_of(without)}
    assert states["mechanics"] is State.NOT_BEGUN
    assert headline(bench, next(waypoint for waypoint in WAYPOINTS if waypoint.key == "commutation")) == "8192 counts"
    halls = _fields(without, "sensor", kind="halls")
    assert next_bearing(halls).waypoint == "commutation"


@pytest.mark.parametrize(
    ("name", "waypoint"),
    [
        ("winch-run-up", "mechanics"),
        ("winch-lcr", "inductance"),
        ("winch-encoder", "commutation"),
        ("winch-staircase", "resistance"),
    ],
)
def test_new_captures_find_their_leg_and_give_the_motor(winch: Path, bench: Bench, name: str, waypoint: str) -> None:
    path = winch.parent / f"{name}.csv"
    found = evaluate(bench, waypoint, path, base=winch.parent, when=WHEN)  # type: ignore[arg-type]
    assert guess_kind(bench, found.capture).topic == waypoint
    truth = {"inertia": 1.9e-4, "ld": 0.981e-3, "counts_per_rev": 8192.0, "resistance": 0.4127}
    key = next(k for k in truth if k in found.evidence.estimates)
    assert found.evidence.estimates[key].value == pytest.approx(truth[key], rel=2e-3)
    with pytest.raises(Exception, match=r"missing|time column|stays|no coast"):
        evaluate(
            bench,
            "flux" if waypoint != "flux" else "resistance",
            winch.parent / "winch-lcr.csv",
            base=winch.parent,
            when=WHEN,
        )


def test_a_magnet_motor_has_whole_pole_pairs() -> None:
    """p = 60·f/n: 200 Hz at 3000 rpm are 4; at 2870 rpm it slips, so it is no magnet motor."""

    def codes(rpm: float, pairs: int) -> list[str]:
        fields = {"pole_pairs": pairs, "rated_hz": 200.0, "rated_speed": rpm * 2 * math.pi / 60}
        return [f.code for f in plate_outlook(enter(Bench(), "plate", fields)).findings if f.code.startswith("pole-")]

    assert codes(3000, 4) == []
    assert codes(3000, 8) == ["pole-pairs-differ"]
    assert codes(2870, 4) == ["pole-pairs-not-whole"]
