"""What dead time takes under each scheme, against the bridge itself: switch by switch over an electrical turn."""

from __future__ import annotations

import math

import numpy as np
import pytest

from crisp_compass.modulation.losses import dead_time_effect, fundamental_share
from crisp_compass.modulation.pwm import TimerSettings, plan_pwm
from crisp_compass.modulation.vectors import SCHEMES, VOLTAGE_PER_BUS, Scheme, duties


def by_switching(scheme: Scheme, dead: float, periods: int = 1800) -> complex:
    """Mean voltage vector lost in the current's frame for a bus of 1 V: each leg that switches keeps its node at the current's rail
    for ``dead`` of a period once, current in phase with the voltage."""
    theta = (np.arange(periods) + 0.5) * 2 * math.pi / periods
    lost = np.zeros(periods, dtype=complex)
    duty = duties(scheme, 0.6 * VOLTAGE_PER_BUS[scheme], 1.0, theta)
    for leg in range(3):
        angle = 2 * math.pi * leg / 3
        for k in range(periods):
            if 1e-9 < duty[k, leg] < 1 - 1e-9:  # both switches take turns in this period
                lost[k] += (
                    2 / 3 * dead * math.copysign(1.0, math.cos(theta[k] - angle)) * np.exp(1j * (angle - theta[k]))
                )
    return complex(np.mean(lost))


@pytest.mark.parametrize("scheme", [s for s in SCHEMES if s != "six-step"])
def test_the_fundamental_lost_is_what_the_switching_legs_lose(scheme: Scheme) -> None:
    exact = by_switching(scheme, 0.01)
    assert fundamental_share(scheme) * 0.01 == pytest.approx(exact.real, rel=5e-3)
    assert abs(exact.imag) < 0.05 * exact.real


def test_closed_forms() -> None:
    """All legs: 4/π of a leg's loss. Clamped around the current's peak for 60°: the sine's middle third is missing, half is left."""
    assert fundamental_share("space-vector") == pytest.approx(4 / math.pi, rel=1e-3)
    assert fundamental_share("clamped-60") == pytest.approx(4 / math.pi * 0.5, rel=1e-3)
    # clamped for 120° around one peak only: (1 + (1 − sin 60°))/2 of it
    assert fundamental_share("clamped-low") == pytest.approx(4 / math.pi * (2 - math.sin(math.pi / 3)) / 2, rel=1e-3)
    assert fundamental_share("six-step") == 0.0
    sixth = dead_time_effect(1.0, 1.0, 1.0)
    assert (sixth.sixth_q, sixth.sixth_d) == (
        pytest.approx(4 / math.pi * (1 / 5 - 1 / 7), rel=1e-3),
        pytest.approx(4 / math.pi * (1 / 5 + 1 / 7), rel=1e-3),
    )


def test_the_usable_voltage_takes_the_schemes_own_share() -> None:
    for scheme in SCHEMES:
        figures = plan_pwm(TimerSettings(160e6, 20e3, 1e-6, 48.0, scheme))
        assert figures.budget.command - figures.budget.motor == pytest.approx(
            fundamental_share(scheme) * figures.dead_time_voltage
        )
