"""What one cycle asks of a motor: rms and peak torque, and the energy that braking gives back.

The rms torque over a cycle that is short against the winding's time constant heats as the same steady torque does (common practice;
IEC 60034-1 names duty types by such cycles).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding, FloatArray
from crisp_compass.quantities import show

#: Share of a limit from which a value is said to be near it.
NEAR = 0.9


@dataclass(frozen=True)
class Duty:
    """``rms_torque`` and ``peak_torque`` [N·m], ``rms_speed`` [rad/s], ``braking_energy`` [J] that comes back, over ``span`` [s]."""

    rms_torque: float
    peak_torque: float
    rms_speed: float
    braking_energy: float
    span: float
    findings: tuple[Finding, ...]


def duty(time: FloatArray, torque: FloatArray, speed: FloatArray, *, continuous: float, peak: float) -> Duty:
    """Judge one cycle: ``time`` (n,) s rising, ``torque`` (n,) N·m, ``speed`` (n,) rad/s, against what the motor has [N·m].

    Integrals by the trapezoidal rule over the rows. Raises Refusal for fewer than two rows, limits that are not above zero, or a peak
    below the continuous torque.
    """
    for name, value, where in (("continuous", continuous, "--continuous-torque"), ("peak", peak, "--peak-torque")):
        if not (value > 0 and math.isfinite(value)):
            raise Refusal(f"the {name} torque is {value:g}", "a number above zero is needed", where=where)
    if peak < continuous:
        raise Refusal(
            f"a peak torque of {show(peak, 'N·m')} is below the continuous one of {show(continuous, 'N·m')}",
            "give the larger one as peak",
            where="--peak-torque",
        )
    if len(time) < 2:
        raise Refusal("one row is no cycle", "give a course over time")
    span = float(time[-1] - time[0])
    rms_torque = math.sqrt(float(np.trapezoid(torque**2, time)) / span)
    rms_speed = math.sqrt(float(np.trapezoid(speed**2, time)) / span)
    largest = float(np.max(np.abs(torque)))
    energy = -float(np.trapezoid(np.minimum(torque * speed, 0.0), time))
    findings = [
        *_against("continuous", "rms torque", rms_torque, continuous),
        *_against("peak", "largest torque", largest, peak),
    ]
    return Duty(rms_torque, largest, rms_speed, abs(energy), span=span, findings=tuple(findings))


def _against(which: str, what: str, value: float, limit: float) -> list[Finding]:
    if value > limit:
        text = f"The {what} of {show(value, 'N·m', 4)} is {100 * (value / limit - 1):.2g} % above the {which} torque of {show(limit, 'N·m', 4)}."
        return [Finding("stop", f"{which}-torque-exceeded", text)]
    if value >= NEAR * limit:
        text = f"The {what} of {show(value, 'N·m', 4)} is within {100 * (1 - NEAR):.0f} % of the {which} torque of {show(limit, 'N·m', 4)}."
        return [Finding("caution", f"{which}-torque-near", text)]
    return []
