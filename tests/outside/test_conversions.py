"""Bases and temperature against published rules, first principles and trade facts (common practice)."""

from __future__ import annotations

import math

import numpy as np
import pytest

from crisp_compass.bench.base import Quantity
from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import LedgerEntry
from crisp_compass.conversions import (
    flux_from_ke,
    flux_from_kt,
    flux_from_kv,
    ke_from_flux,
    kt_from_flux,
    kv_from_flux,
    peak_from_rms,
    phase_from_line,
    resistance_at,
    rms_from_peak,
    star_flux,
    star_impedance,
)
from crisp_compass.course.known import meter_phases
from crisp_compass.errors import Refusal
from crisp_compass.modulation.pwm import TimerSettings, plan_pwm, samples_per_turn, turn_verdict
from crisp_compass.modulation.vectors import duties
from crisp_compass.plant.parameters import Machine
from crisp_compass.preparation.checks import record_typed

PSI, P = 0.0179, 7
SCHOOLS = ("phase-peak", "phase-rms", "line-peak", "line-rms", "six-step-dc")


def _line_voltage(omega: float) -> np.ndarray:
    theta = np.linspace(0, 2 * math.pi, 3600, endpoint=False)
    phase = [-P * omega * PSI * np.sin(theta - k * 2 * math.pi / 3) for k in range(3)]
    return phase[0] - phase[1]


def test_voltage_schools_from_the_waveform_itself() -> None:
    """One rad/s mechanical: crest, rms and the mean of the top 60° of v_ab, sampled."""
    v = _line_voltage(1.0)
    top = np.sort(np.abs(v))[-1200:]  # the upper third of |v_ab| is its crest over 2 × 60°
    measured = {"line-peak": v.max(), "line-rms": float(np.sqrt(np.mean(v**2))), "six-step-dc": float(top.mean())}
    for convention, value in measured.items():
        assert ke_from_flux(PSI, convention, P) == pytest.approx(value, rel=1e-3)  # type: ignore[arg-type]
        assert kv_from_flux(PSI, convention, P) == pytest.approx(60 / (2 * math.pi) / value, rel=1e-3)  # type: ignore[arg-type]


def test_torque_schools_from_the_power_balance() -> None:
    """Electrical power e·i equals torque × speed (1 rad/s) for sine currents and for six-step current."""
    theta = np.linspace(0, 2 * math.pi, 3600, endpoint=False)
    power = sum(P * PSI * np.sin(theta - k * 2 * math.pi / 3) ** 2 for k in range(3))
    assert kt_from_flux(PSI, "peak", P) == pytest.approx(float(np.mean(power)), rel=1e-6)
    assert kt_from_flux(PSI, "rms", P) == pytest.approx(math.sqrt(2) * float(np.mean(power)), rel=1e-6)
    assert kt_from_flux(PSI, "six-step-dc", P) == pytest.approx(ke_from_flux(PSI, "six-step-dc", P))


@pytest.mark.parametrize("convention", SCHOOLS)
def test_round_trips(convention: str) -> None:
    assert flux_from_kv(kv_from_flux(PSI, convention, P), convention, P) == pytest.approx(PSI)  # type: ignore[arg-type]
    assert flux_from_ke(ke_from_flux(PSI, convention, P), convention, P) == pytest.approx(PSI)  # type: ignore[arg-type]
    assert flux_from_kt(kt_from_flux(PSI, "rms", P), "rms", P) == pytest.approx(PSI)
    assert rms_from_peak(peak_from_rms(3.0)) == pytest.approx(3.0)
    with pytest.raises(Refusal, match="pole pairs"):
        kv_from_flux(PSI, convention, 2.5)  # type: ignore[arg-type]


def test_star_and_delta() -> None:
    """Three equal impedances in delta look like a third of each in star; two terminals see two star phases."""
    z = 0.9
    assert 1 / (1 / z + 1 / (2 * z)) == pytest.approx(2 * star_impedance(z, "delta"))
    assert phase_from_line(2 * star_impedance(z, "delta")) == pytest.approx(z / 3)
    assert star_flux(1.0, "delta") == pytest.approx(1 / math.sqrt(3))


def test_copper_rules() -> None:
    """IEC 60034-1: (235 + t2)/(235 + t1); IEEE Std 112 / NEMA MG 1: 234.5. Figures computed by hand."""
    assert resistance_at(1.0, 20, 100) == pytest.approx(335 / 255)
    assert resistance_at(1.0, 25, 75, "ieee") == pytest.approx(309.5 / 259.5)
    with pytest.raises(Refusal, match="below what copper"):
        resistance_at(1.0, 20, -300)


def test_trade_facts() -> None:
    """Common practice, no published source."""
    # 30 000 rpm, 1 pole pair = 500 Hz: at an 8 kHz loop 16 samples a turn
    assert samples_per_turn(8e3, 500.0) == 16
    assert turn_verdict(16.0).level == "info"
    assert turn_verdict(9.0).level == "stop"
    # 0.460 Ω and 5.60 mH is plausible for a large slow machine, τ ≈ 12 ms
    machine = Machine(0.460, 5.60e-3, 5.60e-3, 0.5, 10)
    assert machine.ld / machine.r == pytest.approx(12e-3, rel=0.02)
    # touch the probes together first and subtract; three pairs agree
    readings = (("lead", 0.1), ("ruv", 0.8), ("rvw", 0.9), ("rwu", 0.9))
    bench = Bench()
    for kind, ohms in readings:
        bench = record_typed(bench, LedgerEntry(when="", kind=kind, text="", value=Quantity(value=ohms, unit="Ω")))
    meter = meter_phases(bench)
    assert meter is not None
    assert meter.mean.value == pytest.approx((2.6 / 3 - 0.1) / 2)
    # 8 kHz loop with 16 kHz PWM is common
    assert plan_pwm(TimerSettings(160e6, 16e3, 0.5e-6, 24.0, loop_divider=2)).loop_hz == pytest.approx(8e3)


def test_pwm_counts_dead_time_and_refusals() -> None:
    figures = plan_pwm(TimerSettings(170e6, 20e3, 500e-9, 48.0))
    assert figures.period_counts == 4250
    assert figures.dead_time_counts == 85
    assert figures.dead_time_voltage == pytest.approx(500e-9 * 20e3 * 48)
    assert figures.dead_time_vector == pytest.approx(4 / 3 * 0.48)
    assert figures.v_limit == pytest.approx(48 / math.sqrt(3))
    assert figures.loop_delay == pytest.approx(75e-6)
    for settings, wording in (
        (TimerSettings(1e6, 100e3, 0, 48.0), "at least 20"), (TimerSettings(170e6, 20e3, 20e-6, 48.0), "more than half"),
        (TimerSettings(170e6, 0.0, 0, 48.0), "carrier is 0"),
    ):  # fmt: skip
        with pytest.raises(Refusal, match=wording):
            plan_pwm(settings)


@pytest.mark.parametrize("scheme", ["sine", "space-vector", "third-harmonic"])
def test_duties_carry_the_wanted_line_voltage_up_to_the_limit(scheme: str) -> None:
    theta = np.linspace(0, 2 * math.pi, 200)
    peak = 48.0 * {"sine": 0.5}.get(scheme, 1 / math.sqrt(3))
    d = duties(scheme, peak, 48.0, theta)  # type: ignore[arg-type]
    wanted = peak * (np.cos(theta) - np.cos(theta - 2 * math.pi / 3))
    np.testing.assert_allclose(48.0 * (d[:, 0] - d[:, 1]), wanted, atol=1e-9)
    assert d.min() >= -1e-12
    assert d.max() <= 1 + 1e-12
