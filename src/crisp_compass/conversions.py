"""Bases and conventions of motor constants, all reduced to the star-equivalent phase and the flux linkage ψ.

ψ is the peak of the fundamental flux linkage per phase in Wb, ω the mechanical speed in rad/s, p the pole
pairs. Phase back-EMF peak = p·ω·ψ; line-to-line peak = √3 of it; a six-step commutated DC link sees the mean
of the line-to-line crest over 60°, which is 3/π of its peak. Torque per ampere of phase peak is 1.5·p·ψ
(amplitude-invariant vectors). Derivations: docs/theory.md, “Bases”.
"""

from __future__ import annotations

import math
from typing import Literal

from crisp_compass.errors import Refusal

VoltageSchool = Literal["phase-peak", "phase-rms", "line-peak", "line-rms", "six-step-dc"]
CurrentSchool = Literal["peak", "rms", "six-step-dc"]
Connection = Literal["star", "delta"]
#: Families of motors as captures and commands call them.
FAMILIES = ("pm", "stepper", "brushed", "induction")

#: Volts in the named convention per volt of phase peak, sinusoidal back-EMF.
VOLTAGE_PER_PHASE_PEAK: dict[str, float] = {
    "phase-peak": 1.0,
    "phase-rms": 1 / math.sqrt(2),
    "line-peak": math.sqrt(3),
    "line-rms": math.sqrt(3 / 2),
    "six-step-dc": 3 * math.sqrt(3) / math.pi,
}
RPM_PER_RAD_S = 60 / (2 * math.pi)


def _check(pole_pairs: float, **positive: float) -> None:
    if pole_pairs < 1 or pole_pairs != int(pole_pairs):
        raise Refusal(f"{pole_pairs:g} pole pairs are not possible", "pole pairs are a whole number from 1 up")
    for name, value in positive.items():
        if not value > 0:
            raise Refusal(f"{name} is {value:g}", "a value above zero is needed")


def flux_from_kv(kv: float, convention: VoltageSchool, pole_pairs: float) -> float:
    """Return ψ [Wb] from a speed constant ``kv`` [rpm per V in ``convention``]."""
    _check(pole_pairs, kv=kv)
    return RPM_PER_RAD_S / (kv * pole_pairs * VOLTAGE_PER_PHASE_PEAK[convention])


def kv_from_flux(flux: float, convention: VoltageSchool, pole_pairs: float) -> float:
    """Return the speed constant [rpm per V in ``convention``] of a flux linkage ψ [Wb]."""
    return flux_from_kv(flux, convention, pole_pairs)  # the relation is its own inverse


def flux_from_ke(ke: float, convention: VoltageSchool, pole_pairs: float) -> float:
    """Return ψ [Wb] from a voltage constant ``ke`` [V in ``convention`` per mechanical rad/s]."""
    _check(pole_pairs, ke=ke)
    return ke / (pole_pairs * VOLTAGE_PER_PHASE_PEAK[convention])


def ke_from_flux(flux: float, convention: VoltageSchool, pole_pairs: float) -> float:
    """Return the voltage constant [V in ``convention`` per mechanical rad/s] of ψ [Wb]."""
    _check(pole_pairs, flux=flux)
    return flux * pole_pairs * VOLTAGE_PER_PHASE_PEAK[convention]


_TORQUE_PER_PSI_P = {"peak": 1.5, "rms": 1.5 * math.sqrt(2), "six-step-dc": 3 * math.sqrt(3) / math.pi}


def kt_from_flux(flux: float, convention: CurrentSchool, pole_pairs: float) -> float:
    """Return the torque constant [N·m per A in ``convention``] of ψ [Wb]."""
    _check(pole_pairs, flux=flux)
    return _TORQUE_PER_PSI_P[convention] * pole_pairs * flux


def flux_from_kt(kt: float, convention: CurrentSchool, pole_pairs: float) -> float:
    """Return ψ [Wb] from a torque constant ``kt`` [N·m per A in ``convention``]."""
    _check(pole_pairs, kt=kt)
    return kt / (_TORQUE_PER_PSI_P[convention] * pole_pairs)


def star_impedance(value: float, connection: Connection) -> float:
    """Convert a winding's R [Ω] or L [H] to the star-equivalent phase: a delta winding divides by 3."""
    return value / 3 if connection == "delta" else value


def star_flux(value: float, connection: Connection) -> float:
    """Convert a winding's flux linkage [Wb] to the star-equivalent phase: a delta winding divides by √3."""
    return value / math.sqrt(3) if connection == "delta" else value


def phase_from_line(value: float) -> float:
    """Convert R [Ω] or L [H] between two terminals (third open) to one phase of the star equivalent."""
    return value / 2


def peak_from_rms(value: float) -> float:
    """Return the peak of a sine of the given rms value."""
    return value * math.sqrt(2)


def rms_from_peak(value: float) -> float:
    """Return the rms value of a sine of the given peak."""
    return value / math.sqrt(2)


#: Temperature in °C below zero at which copper's extrapolated resistance vanishes.
COPPER_RULES = {"iec": 235.0, "ieee": 234.5}


def resistance_at(resistance: float, temperature_c: float, reference_c: float, rule: str = "iec") -> float:
    """Bring a copper resistance [Ω] from one temperature to another [°C].

    R2 = R1·(k + T2)/(k + T1) with k = 235 (IEC 60034-1) or 234.5 (IEEE/NEMA, ``rule="ieee"``).
    """
    k = COPPER_RULES[rule]
    if temperature_c <= -k or reference_c <= -k:
        raise Refusal(
            f"{min(temperature_c, reference_c):g} °C is below what copper's rule allows", "check the temperature"
        )
    return resistance * (k + reference_c) / (k + temperature_c)
