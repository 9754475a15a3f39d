"""What a plate implies: handbook identities, and the trade's worked figures (marked common practice)."""

from __future__ import annotations

import math

import numpy as np
import pytest

from crisp_compass.conversions import RPM_PER_RAD_S, kt_from_flux, kv_from_flux
from crisp_compass.errors import Refusal
from crisp_compass.identify.plate import (
    brushed_plate,
    convention_rows,
    drive_match,
    induction_plate,
    likeliest_slip,
    magnet_plate,
    microstep_torque,
    power_check,
    rectified,
    stepper_plate,
    supply_checks,
)

RPM = 1 / RPM_PER_RAD_S


def test_synchronous_speed_and_slip_of_the_15_kw_plate() -> None:
    """Common practice: 380 V, 32 A, 50 Hz, 15 kW, 1460 rpm: 0.712, 2.67 %, 98.1 N·m. Synchronous speed: IEC 60034-1."""
    plate = induction_plate(frequency=50, speed=1460 * RPM, volts=380, amps=32, power=15e3)
    assert plate.poles == 4
    assert plate.sync_speed * RPM_PER_RAD_S == pytest.approx(1500)
    assert plate.pf_times_eff == pytest.approx(0.712, abs=5e-4)
    assert 100 * plate.slip == pytest.approx(2.67, abs=5e-3)
    assert plate.torque == pytest.approx(98.1, abs=0.05)
    assert {"power-factor-guessed", "circuit-doubtful"} <= {f.code for f in plate.findings}
    assert plate.magnetising is not None
    low, middle, high = plate.magnetising
    assert 0.15 * 32 < low < middle < high < 0.7 * 32


@pytest.mark.parametrize("hz_rpm", [(60, 1725), (60, 1735), (50, 1395), (50, 1460)])
def test_common_four_pole_plates(hz_rpm: tuple[float, float]) -> None:
    """Common practice: these plates are 4-pole."""
    assert induction_plate(frequency=hz_rpm[0], speed=hz_rpm[1] * RPM).poles == 4


@pytest.mark.parametrize(
    ("hz", "rpm", "poles"), [(50, 2900, 2), (50, 960, 6), (60, 1175, 6), (60, 870, 8), (1, 29, 4), (0.6, 17.5, 4)]
)
def test_poles_by_60f_over_n(hz: float, rpm: float, poles: int) -> None:
    assert induction_plate(frequency=hz, speed=rpm * RPM).poles == poles


def test_the_equivalent_circuit_gives_the_plate_back() -> None:
    """Solve the circuit for its stator current at rated slip with complex arithmetic: current and power factor return."""
    plate = induction_plate(
        frequency=50, speed=1460 * RPM, volts=380, amps=32, power=15e3, power_factor=0.82, efficiency=0.868
    )
    omega, phase = 2 * math.pi * 50, 380 / math.sqrt(3)
    assert plate.leakage
    assert plate.magnetising_inductance
    assert plate.rotor_resistance
    assert plate.stator_resistance
    inner = 1 / (plate.slip / plate.rotor_resistance + 1 / (1j * omega * plate.magnetising_inductance))
    current = phase / (plate.stator_resistance + 1j * omega * plate.leakage + inner)
    assert abs(current) == pytest.approx(32, rel=1e-6)
    assert math.cos(math.atan2(-current.imag, current.real)) == pytest.approx(0.82, abs=1e-6)


def test_the_no_load_current_of_whole_machines_lies_in_its_interval() -> None:
    """Random T circuits with stator resistance, their plates worked out at rated slip: the interval holds the truth in 93 to 98 %."""
    rng, held, count = np.random.default_rng(2), 0, 0
    while count < 400:
        slip = rng.uniform(0.015, 0.06)
        rr, xs, xr, xm = (
            slip * rng.uniform(0.8, 1.2),
            rng.uniform(0.05, 0.16),
            rng.uniform(0.05, 0.16),
            rng.uniform(1.4, 3.5),
        )
        rs = rr * float(np.exp(0.4 * rng.standard_normal()))
        z = rs + 1j * xs + 1 / (1 / (1j * xm) + 1 / (rr / slip + 1j * xr))
        amps, pf, phase = 1 / abs(z), z.real / abs(z), 230.0
        if pf < 0.55:
            continue
        count += 1
        truth = phase * (1 / abs(rs + 1j * (xs + xm))) * 0.1
        shaft = 3 * (phase * 0.1) * phase * (amps * pf - amps**2 * rs) * (1 - slip)
        found = induction_plate(
            frequency=50, speed=1500 * RPM * (1 - slip), volts=phase * math.sqrt(3), amps=amps * phase * 0.1, power=shaft, power_factor=pf,
        ).magnetising  # fmt: skip
        assert found is not None
        held += found[0] <= truth <= found[2]
    assert 0.92 <= held / count <= 0.99


def test_induction_plates_that_cannot_be() -> None:
    with pytest.raises(Refusal, match="fits no number of poles"):
        induction_plate(frequency=50, speed=3100 * RPM)
    codes = lambda **k: {f.code for f in induction_plate(**k).findings}  # noqa: E731
    assert "pf-eff-impossible" in codes(frequency=50, speed=1460 * RPM, volts=220, amps=32, power=15e3)
    assert "pf-eff-disagrees" in codes(
        frequency=50, speed=1460 * RPM, volts=380, amps=32, power=15e3, power_factor=0.9, efficiency=0.92
    )
    assert "slip-large" in codes(frequency=50, speed=1250 * RPM)
    assert "slip-zero" in codes(frequency=50, speed=1500 * RPM)


@pytest.mark.parametrize("kv_convention", ["line-peak", "line-rms", "six-step-dc"])
@pytest.mark.parametrize("kt_convention", ["peak", "rms", "six-step-dc"])
def test_every_pair_of_schools_is_one_constant(kv_convention: str, kt_convention: str) -> None:
    psi, p = 7.3e-3, 5
    kv, kt = kv_from_flux(psi, kv_convention, p), kt_from_flux(psi, kt_convention, p)  # type: ignore[arg-type]
    found = magnet_plate(kv=kv, kv_convention=kv_convention, kt=kt, kt_convention=kt_convention, pole_pairs=p)
    assert found.flux_by_kv == pytest.approx(psi)
    assert found.flux_by_kt == pytest.approx(psi)
    assert [f.code for f in found.findings] == ["plate-agrees"]


def test_the_school_that_makes_a_plate_consistent_is_named() -> None:
    psi, p = 7.3e-3, 5
    kv, kt = kv_from_flux(psi, "line-peak", p), kt_from_flux(psi, "rms", p)
    found = magnet_plate(kv=kv, kv_convention="line-peak", kt=kt, kt_convention="peak", pole_pairs=p)
    assert found.consistent == ("line-peak", "rms")
    assert "Kt is per A rms" in found.findings[0].text
    wrong = magnet_plate(kv=kv, kv_convention="line-peak", kt=7.7 * kt, kt_convention="rms", pole_pairs=p)
    assert wrong.consistent is None
    assert wrong.findings[0].code == "plate-disagrees"


def test_six_step_school_agrees_with_ideal_machine_theory() -> None:
    """Kv·Kt = 60/2π holds for six-step DC volts and amperes (P_el = V·I = T·ω without loss)."""
    rows = convention_rows(7.3e-3, 5)
    assert rows["Kv, six-step DC"][0] * rows["Kt per A DC"][0] == pytest.approx(60 / (2 * math.pi), rel=1e-9)
    assert rows["Kt per A rms"][0] / rows["Kt per A peak"][0] == pytest.approx(math.sqrt(2))
    assert rows["Kv, line rms"][0] / rows["Kv, line peak"][0] == pytest.approx(math.sqrt(2))


@pytest.mark.parametrize(
    ("ratio", "words"),
    [(2.0, "line-to-line was taken as phase"), (0.5, "line-to-line"), (math.sqrt(3), "phase voltage"), (math.sqrt(2), "rms was taken as peak"), (3.0, "delta"), (1000.0, "milli"), (1.12, ""), (-1.0, "")],
)  # fmt: skip
def test_slips_by_factor(ratio: float, words: str) -> None:
    slip = likeliest_slip(ratio)
    assert (words in slip) if words else slip == ""


def test_no_peak_slips_into_a_resistance() -> None:
    assert likeliest_slip(1.2247) != ""
    assert likeliest_slip(1.2247, unit="Ω") == ""
    assert "line-to-line" in likeliest_slip(2.0, unit="Ω")


def test_power_units() -> None:
    """1 hp = 745.70 W, 1 PS = 735.50 W (NIST SP 811, appendix B)."""
    speed, torque = 1460 * RPM, 98.1
    assert power_check(15e3, torque, speed)[0].code == "power-agrees"
    assert power_check(15e3 * 1000 / 745.6999, torque, speed)[0].code == "power-unit"
    assert "hp" in power_check(15e3 * 1000 / 745.6999, torque, speed)[0].text
    assert power_check(15e3, torque, 2.6 * speed)[0].code == "power-disagrees"
    assert power_check(None, torque, speed) == []


def test_no_load_and_stall_against_the_supply() -> None:
    psi, p, r, volts = 7.3e-3, 5, 0.2, 24.0
    free = volts * math.pi / (3 * math.sqrt(3) * psi * p)
    right = {"flux": psi, "pole_pairs": p, "r_phase": r, "volts": volts}
    assert supply_checks(**right, no_load_speed=0.95 * free, stall_current=volts / 2 / r) == []  # type: ignore[arg-type]
    codes = [f.code for f in supply_checks(**right, no_load_speed=0.5 * free, stall_current=volts / r)]  # type: ignore[arg-type]
    assert codes == ["no-load-speed", "stall-current"]


def test_stepper_plate() -> None:
    """V = I·R, 1.8° is 200 steps and 50 pole pairs (common practice); microstep torque sin(90°/n)."""
    plate = stepper_plate(steps=200, volts=3.0, amps=2.0, r=1.5, inductance=3e-3, holding=1.2, supply=24.0)
    assert (plate.pole_pairs, plate.step_deg) == (50, 1.8)
    assert plate.time_constant == pytest.approx(2e-3)
    assert plate.corner_steps == pytest.approx(1 / (2e-3 * math.log(24 / 21)))
    assert plate.flux == pytest.approx(1.2 / (math.sqrt(2) * 50 * 2))
    assert microstep_torque(1) == pytest.approx(1.0)
    assert microstep_torque(16) == pytest.approx(0.098, abs=1e-3)
    wrong = stepper_plate(steps=200, volts=3.0, amps=2.0, r=0.75, inductance=3e-3, holding=None, supply=1.0)
    assert {f.code for f in wrong.findings} == {"stepper-ohm", "supply-low"}
    with pytest.raises(Refusal, match="multiple of four"):
        stepper_plate(steps=201, volts=None, amps=1, r=None, inductance=None, holding=None, supply=24)


def test_brushed_motor_from_two_points() -> None:
    ke, r = 0.052, 0.83
    points = [(ke * w + r * i, i, w) for i, w in ((0.6, 410.0), (9.0, 290.0))]
    (v1, i1, w1), (v2, i2, w2) = points
    found = brushed_plate((v1, v2), (i1, i2), (w1, w2), no_load_current=0.6)
    assert (found.ke, found.r) == (pytest.approx(ke), pytest.approx(r))
    assert found.friction == pytest.approx(0.6 * ke)
    with pytest.raises(Refusal, match="same ratio"):
        brushed_plate((v1, 2 * v1), (i1, 2 * i1), (w1, 2 * w1))
    with pytest.raises(Refusal, match="check the signs"):
        brushed_plate((12.0, 12.0), (1.0, 5.0), (300.0, 400.0))


def test_rectified_mains_and_drive_size() -> None:
    """240 V rms rectified gives about 330–340 V (common practice)."""
    assert 330 <= rectified(240) <= 340
    assert [f.code for f in drive_match(6.0, 4.0, None)] == ["drive-small"]
    assert {f.code for f in drive_match(1.0, 20.0, 60.0)} == {"drive-large", "limit-first"}
    assert drive_match(6.0, 8.0, 15.0) == []
