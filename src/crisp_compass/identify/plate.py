"""What a plate or data sheet says, and whether it agrees with itself.

Sources: permanent-magnet relations as in :mod:`crisp_compass.conversions`; synchronous speed n = 60·f/p and slip (IEC
60034-1 definitions); P = T·ω; the induction machine's inverse-Γ circuit (G. R. Slemon, IEEE
Trans. Ind. Appl. 25, 1989, from memory); hybrid stepper torque p·ψ·I·sin per phase.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from itertools import product

import numpy as np

from crisp_compass.conversions import (
    RPM_PER_RAD_S,
    flux_from_kt,
    flux_from_kv,
    ke_from_flux,
    kt_from_flux,
    kv_from_flux,
)
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding
from crisp_compass.quantities import grouped, show

#: Factors between two readings of one constant, with the slip of the pen that makes them.
SLIPS: tuple[tuple[float, str], ...] = (
    (2.0, "line-to-line was taken as phase, or poles as pole pairs"),
    (3.0, "a delta winding was taken as star"),
    (math.sqrt(3), "line was taken as phase voltage"),
    (math.sqrt(2), "rms was taken as peak"),
    (1.5, "per A of the space vector was taken as per A of one phase, or one lead as two in parallel"),
    (math.sqrt(6), "line rms was taken as phase peak"),
    (math.sqrt(1.5), "line rms was taken as phase peak, or peak as rms"),
    (2 * math.pi, "rad/s was taken as turns per second"),
    (RPM_PER_RAD_S, "rpm was taken as rad/s"),
    (1000.0, "a prefix (milli, kilo) slipped"),
    (3 * math.sqrt(3) / math.pi, "six-step DC was taken as phase peak"),
    (3 / math.pi, "six-step DC was taken as line peak"),
)
_NO_WAVES = ("Ω", "H", "kg·m²")
_OF_LEADS = (2.0, 3.0, 1.5, 1000.0)
_POWER_SLIPS = ((745.69987158, "kW was taken as hp"), (735.49875, "kW was taken as metric hp"))
_KV_SCHOOLS = {"line-peak": "per V line peak", "line-rms": "per V line rms", "six-step-dc": "per V of six-step DC"}
_KT_SCHOOLS = {"peak": "per A peak", "rms": "per A rms", "six-step-dc": "per A of six-step DC"}


def likeliest_slip(ratio: float, within: float = 0.03, unit: str = "") -> str:
    """Name the slip of base or unit that makes a factor ``ratio``; empty if none fits within a relative band.

    Of resistances, inductances and inertias (``unit`` Ω, H, kg·m²) only those of leads and prefixes are thought of: no
    peak and no rms can slip in there.

    Returns a text such as ``2.00: line-to-line was taken as phase, or poles as pole pairs``.
    """
    if not (ratio > 0 and math.isfinite(ratio)):
        return ""
    size = abs(math.log(ratio))
    thinkable = [s for s in SLIPS if unit not in _NO_WAVES or s[0] in _OF_LEADS]
    best = min(thinkable, key=lambda slip: abs(size - abs(math.log(slip[0]))))
    off = abs(size - abs(math.log(best[0])))
    if off > within or size < 2 * off + 0.02:
        return ""
    return f"{max(ratio, 1 / ratio):.3g}: {best[1]}"


@dataclass(frozen=True)
class MagnetPlate:
    """Permanent-magnet figures: ψ [Wb] by the speed constant and by the torque constant, and what was found."""

    flux_by_kv: float | None
    flux_by_kt: float | None
    consistent: tuple[str, str] | None
    findings: tuple[Finding, ...]

    @property
    def flux(self) -> float | None:
        """The speed constant's ψ where there is one, else the torque constant's."""
        return self.flux_by_kv if self.flux_by_kv is not None else self.flux_by_kt


def magnet_plate(
    *,
    pole_pairs: int,
    kv: float | None,
    kv_convention: str,
    kt: float | None,
    kt_convention: str,
    within: float = 0.04,
) -> MagnetPlate:
    """Compare Kv and Kt and say which conventions make them one constant.

    Parameters
    ----------
    kv, kv_convention
        Speed constant [rpm/V] and its convention (``line-peak``, ``line-rms``, ``six-step-dc``).
    kt, kt_convention
        Torque constant [N·m/A] and its convention (``peak``, ``rms``, ``six-step-dc``).
    within
        Relative agreement that counts, data sheets being rounded.
    """
    by_kv = flux_from_kv(kv, kv_convention, pole_pairs) if kv else None  # type: ignore[arg-type]
    by_kt = flux_from_kt(kt, kt_convention, pole_pairs) if kt else None  # type: ignore[arg-type]
    if kv is None or kt is None or by_kv is None or by_kt is None:
        return MagnetPlate(by_kv, by_kt, None, ())
    ratio = by_kt / by_kv
    if abs(math.log(ratio)) < within:
        text = f"Kv and Kt agree within {100 * abs(ratio - 1):.1f} %, each as stated."
        return MagnetPlate(by_kv, by_kt, (kv_convention, kt_convention), (Finding("info", "plate-agrees", text),))
    fits = []
    for a, b in product(_KV_SCHOOLS, _KT_SCHOOLS):
        other = flux_from_kt(kt, b, pole_pairs) / flux_from_kv(kv, a, pole_pairs)  # type: ignore[arg-type]
        changed = (a != kv_convention) + (b != kt_convention)
        fits.append((abs(math.log(other)) > within, changed, abs(math.log(other)), a, b))
    bad, _, _, a, b = min(fits)
    if bad:
        slip = likeliest_slip(ratio)
        hint = f" That is about {slip}." if slip else " No choice of bases makes them agree: one figure is wrong."
        text = f"Kt gives {show(by_kt, 'Wb')}, Kv gives {show(by_kv, 'Wb')}: a factor of {ratio:.3g}.{hint}"
        return MagnetPlate(by_kv, by_kt, None, (Finding("caution", "plate-disagrees", text),))
    said = []
    if a != kv_convention:
        said.append(f"Kv is {_KV_SCHOOLS[a]}, not {_KV_SCHOOLS[kv_convention]}")
    if b != kt_convention:
        said.append(f"Kt is {_KT_SCHOOLS[b]}, not {_KT_SCHOOLS[kt_convention]}")
    text = f"As stated, Kv and Kt differ by a factor of {ratio:.3g}. They are one constant if {' and '.join(said)}."
    return MagnetPlate(by_kv, by_kt, (a, b), (Finding("caution", "plate-convention", text),))


def idle_current_check(no_load: float | None, rated: float) -> list[Finding]:
    """Say where a motor would draw more current [A] without load than it is rated for."""
    if no_load is None or no_load < rated:
        return []
    text = f"The no-load current of {show(no_load, 'A')} is not below the rated {show(rated, 'A')}: one of both is another motor's, or in another unit."
    return [Finding("caution", "no-load-above-rated", text)]


def power_check(power: float | None, torque: float | None, speed: float | None) -> list[Finding]:
    """Compare P [W] with T [N·m]·ω [rad/s]; silent unless all three are there."""
    if power is None or torque is None or speed is None:
        return []
    ratio = power / (torque * speed)
    if abs(math.log(ratio)) < 0.05:
        return [Finding("info", "power-agrees", f"Power is torque times speed within {100 * abs(ratio - 1):.1f} %.")]
    for factor, name in _POWER_SLIPS:
        for r in (ratio * 1000 / factor, ratio * factor / 1000):
            if abs(math.log(r)) < 0.02:
                text = f"Power over torque times speed is {ratio:.3g}: {name}, or the other way round."
                return [Finding("caution", "power-unit", text)]
    slip = likeliest_slip(ratio)
    hint = f" That is about {slip}." if slip else ""
    text = (
        f"The plate's {show(power, 'W')} is {ratio:.3g} times torque times speed ({show(torque * speed, 'W')}).{hint}"
    )
    return [Finding("caution", "power-disagrees", text)]


def supply_checks(
    *, flux: float | None, pole_pairs: int, r_phase: float | None, volts: float,
    no_load_speed: float | None, stall_current: float | None,
) -> list[Finding]:  # fmt: skip
    """Compare no-load speed [rad/s] and stall current [A] with a DC supply of ``volts`` under six-step drive.

    Six-step: the link sees 3√3/π of the phase peak, and two phases in series carry the current.
    """
    found = []
    if no_load_speed and flux:
        expected = volts / (flux * pole_pairs * 3 * math.sqrt(3) / math.pi)
        ratio = no_load_speed / expected
        if abs(math.log(ratio)) > 0.12:
            slip = likeliest_slip(ratio, 0.06)
            hint = f" That is about {slip}." if slip else ""
            text = f"At {show(volts, 'V')} the constants give {grouped(expected * RPM_PER_RAD_S)} rpm without load, the plate says {no_load_speed * RPM_PER_RAD_S:.0f}: a factor of {ratio:.3g}.{hint}"
            found.append(Finding("caution", "no-load-speed", text))
    if stall_current and r_phase:
        expected = volts / (2 * r_phase)
        ratio = stall_current / expected
        if abs(math.log(ratio)) > 0.15:
            slip = likeliest_slip(ratio, 0.08)
            hint = f" That is about {slip}." if slip else ""
            text = f"Stalled at {show(volts, 'V')} two phases of {show(r_phase, 'Ω')} would draw {show(expected, 'A')}, the plate says {show(stall_current, 'A')}: a factor of {ratio:.3g}.{hint}"
            found.append(Finding("caution", "stall-current", text))
    return found


@dataclass(frozen=True)
class InductionPlate:
    """Induction machine from its plate.

    ``sync_speed``, ``rated_speed`` rad/s; ``slip`` ratio; ``slip_hz`` Hz; ``torque`` N·m; ``pf_times_eff`` ratio;
    ``magnetising`` (2.5 %, middle, 97.5 %) A rms per line, at no load; ``magnetising_inductance``, ``leakage`` H per phase of the
    star, ``rotor_resistance`` and ``stator_resistance`` Ω per phase of the inverse-Γ circuit.
    """

    poles: int
    sync_speed: float
    slip: float
    slip_hz: float
    torque: float | None
    pf_times_eff: float | None
    power_factor: float | None
    magnetising: tuple[float, float, float] | None
    magnetising_inductance: float | None
    leakage: float | None
    rotor_resistance: float | None
    stator_resistance: float | None
    findings: tuple[Finding, ...]


def induction_plate(
    *, frequency: float, speed: float, volts: float | None = None, amps: float | None = None, power: float | None = None,
    power_factor: float | None = None, efficiency: float | None = None,
) -> InductionPlate:  # fmt: skip
    """Derive what an induction motor's plate implies.

    Parameters
    ----------
    frequency
        Hz.
    speed
        Rated speed, rad/s mechanical.
    volts, amps
        Line-to-line rms and line rms.
    power
        Shaft power, W.
    power_factor, efficiency
        As on the plate, if there.

    Raises
    ------
    Refusal
        A speed that fits no number of poles.
    """
    rpm = speed * RPM_PER_RAD_S
    pairs = math.floor(60 * frequency / rpm + 1e-9) if rpm > 0 else 0
    if pairs < 1 or pairs > 60:
        raise Refusal(
            f"{grouped(rpm)} rpm at {frequency:g} Hz fits no number of poles",
            "the rated speed lies just below 60·f divided by the pole pairs",
        )
    sync = 2 * math.pi * frequency / pairs
    slip = 1 - speed / sync
    findings = []
    if slip > 0.13:
        text = f"A slip of {100 * slip:.0f} % is large: check speed and frequency on the plate, or the motor is a high-slip or single-phase one."
        findings.append(Finding("caution", "slip-large", text))
    if slip < 1e-4:
        text = "The rated speed is synchronous: the plate gives the no-load speed, or it is a synchronous machine."
        findings.append(Finding("caution", "slip-zero", text))
    torque = power / speed if power else None
    apparent = math.sqrt(3) * volts * amps if volts and amps else None
    product_ = power / apparent if power and apparent else None
    pf = power_factor
    if product_ is not None and product_ > 0.99:
        text = f"Power factor times efficiency comes out at {product_:.2f}: current, voltage or power is in another base (star or delta, kW or hp)."
        findings.append(Finding("caution", "pf-eff-impossible", text))
    elif product_ is not None:
        if pf is None and efficiency is not None:
            pf = product_ / efficiency
        if (
            power_factor is not None
            and efficiency is not None
            and abs(math.log(product_ / (power_factor * efficiency))) > 0.04
        ):
            text = f"√3·V·I and the power give power factor times efficiency {product_:.3f}, the plate's own figures {power_factor * efficiency:.3f}."
            findings.append(Finding("caution", "pf-eff-disagrees", text))
        if pf is None:  # common practice: machines from 0.5 to 50 kW reach 75 to 93 %
            guess = min(max(0.75 + 0.06 * math.log10(max(power or 1.0, 1.0) / 500), 0.7), 0.95)
            pf = min(product_ / guess, 0.97)
            text = f"The power factor is not on the plate; with a typical efficiency of {100 * guess:.0f} % it would be {pf:.2f}. The magnetizing current uses that guess."
            findings.append(Finding("caution", "power-factor-guessed", text))
    guessed = power_factor is None
    circuit = _circuit(frequency, volts, amps, pf, slip=slip, guessed=guessed) if volts and amps and pf and 0 < pf < 1 else None
    if circuit:
        text = "Magnetizing current (at no load) and equivalent circuit pass through the plate's point; stator resistance and leakage are those of usual machines: a start for the drive, to be auto-tuned at no load."
        findings.append(Finding("info", "circuit-doubtful", text))
    values, magnetising, leakage, rotor, stator = circuit or (None, None, None, None, None)
    return InductionPlate(
        2 * pairs,
        sync,
        slip,
        slip * frequency,
        torque=torque,
        pf_times_eff=product_,
        power_factor=pf,
        magnetising=values,
        magnetising_inductance=magnetising,
        leakage=leakage,
        rotor_resistance=rotor,
        stator_resistance=stator,
        findings=tuple(findings),
    )


#: What a plate does not tell, over many machines (common practice): stator resistance over the rotor's, median and scatter of its
#: logarithm; leakage reactance over the rated impedance; scatter of a guessed power factor.
_RS_OVER_RR, _LEAKAGE, _PF_GUESS = (1.0, 0.45), (0.2, 0.27), 0.03
_DRAWS = 4096


def _circuit(
    frequency: float, volts: float, amps: float, pf: float, slip: float, guessed: bool
) -> tuple[tuple[float, float, float], float, float, float, float] | None:
    """Return no-load current (2.5 %, middle, 97.5 %) [A rms], then LM, Lσ [H], RR and Rs [Ω] of the inverse-Γ circuit.

    The rated point is one impedance, two equations for four elements. Stator resistance and leakage are drawn from what machines
    have, and LM and RR follow exactly, so that every drawn circuit passes through the plate's own point and slip; the elements
    returned are those of the middle draw. None where no drawn circuit is possible.
    """
    draws = np.random.default_rng(14).standard_normal((_DRAWS, 3))
    draws[0] = 0.0
    factor = np.clip(pf + (_PF_GUESS if guessed else 0.0) * draws[:, 2], 0.05, 0.995)
    rated, slip = volts / math.sqrt(3) / amps, max(slip, 1e-4)
    # RR/s is about the rated impedance over the power factor; the stator's resistance is drawn relative to RR
    rs = _RS_OVER_RR[0] * np.exp(_RS_OVER_RR[1] * draws[:, 0]) * slip * rated / factor
    leakage = _LEAKAGE[0] * np.exp(_LEAKAGE[1] * draws[:, 1]) * rated
    inner = rated * (factor + 1j * np.sqrt(1 - factor**2)) - rs - 1j * leakage
    admittance = 1 / inner
    possible = (inner.real > 0) & (admittance.imag < 0) & (-1 / np.minimum(admittance.imag, -1e-12) > 2 * leakage)
    if possible.sum() < 50:
        return None
    k = int(np.argmax(possible)) if not possible[0] else 0
    xm = -1 / admittance.imag
    no_load = volts / math.sqrt(3) / np.hypot(rs, leakage + xm)
    low, high = (float(x) for x in np.percentile(no_load[possible], (2.5, 97.5)))
    omega = 2 * math.pi * frequency
    return (
        (low, float(no_load[k]), high), float(xm[k] / omega), float(leakage[k] / omega), float(slip / admittance[k].real), float(rs[k]),
    )  # fmt: skip


@dataclass(frozen=True)
class StepperPlate:
    """Two-phase stepper: steps, L/R [s], ψ [Wb] from the holding torque, step rate [1/s] at which V limits the current."""

    pole_pairs: int
    step_deg: float
    time_constant: float | None
    flux: float | None
    corner_steps: float | None
    findings: tuple[Finding, ...]


def stepper_plate(
    *, steps: int, volts: float | None, amps: float, r: float | None, inductance: float | None, holding: float | None, supply: float
) -> StepperPlate:  # fmt: skip
    """Derive what a two-phase stepper's plate implies; amps per phase, R and L per phase, both phases on for holding."""
    if steps % 4:
        raise Refusal(f"{steps} steps a turn are not possible with two phases", "full steps are a multiple of four")
    findings = []
    if volts and r:
        ratio = volts / (amps * r)
        if abs(math.log(ratio)) > 0.06:
            slip = likeliest_slip(ratio, 0.05)
            hint = f" That is about {slip}." if slip else ""
            text = f"V, I and R of the plate do not fit: V/(I·R) is {ratio:.3g}.{hint}"
            findings.append(Finding("caution", "stepper-ohm", text))
        else:
            findings.append(Finding("info", "stepper-ohm", f"V is I times R within {100 * abs(ratio - 1):.1f} %."))
    tau = inductance / r if inductance and r else None
    flux = holding / (math.sqrt(2) * (steps // 4) * amps) if holding else None
    corner = None
    if tau and r and supply > amps * r:
        # the current must reach its height within one full step
        corner = 1 / (-tau * math.log(1 - amps * r / supply))
    elif r and supply <= amps * r:
        text = f"{show(supply, 'V')} cannot drive {show(amps, 'A')} through {show(r, 'Ω')}: a chopper drive wants a supply several times I·R."
        findings.append(Finding("caution", "supply-low", text))
    return StepperPlate(steps // 4, 360 / steps, tau, flux, corner_steps=corner, findings=tuple(findings))


def microstep_torque(microsteps: int) -> float:
    """Return the torque of one microstep as a part of the holding torque: sin(90°/n)."""
    if microsteps < 1:
        raise Refusal(f"{microsteps} microsteps are not possible", "one or more are needed")
    return math.sin(math.pi / 2 / microsteps)


@dataclass(frozen=True)
class BrushedPlate:
    """Brushed motor: Ke = Kt [V·s/rad = N·m/A], R [Ω], friction torque [N·m] where the no-load current is known."""

    ke: float
    r: float
    friction: float | None
    findings: tuple[Finding, ...]


def brushed_plate(
    volts: tuple[float, float],
    amps: tuple[float, float],
    speeds: tuple[float, float],
    no_load_current: float | None = None,
) -> BrushedPlate:
    """Solve V = R·I + Ke·ω for two working points (V, A, rad/s); raises Refusal where they do not tell R from Ke."""
    (v1, v2), (i1, i2), (w1, w2) = volts, amps, speeds
    determinant = i1 * w2 - i2 * w1
    scale = max(abs(i1 * w2), abs(i2 * w1), 1e-30)
    if abs(determinant) < 0.03 * scale:
        raise Refusal(
            "the two working points have the same ratio of current to speed",
            "take one without load and one with the shaft braked or held",
        )
    r, ke = (v1 * w2 - v2 * w1) / determinant, (i1 * v2 - i2 * v1) / determinant
    if r <= 0 or ke <= 0:
        raise Refusal(
            f"the working points give R {show(r, 'Ω')} and Ke {show(ke, '')} V·s/rad",
            "check the signs and the units of speed and current",
        )
    findings = []
    if abs(determinant) < 0.2 * scale:
        text = "The two points lie close together; a small error of reading moves R and Ke a lot. Brake harder in one of them."
        findings.append(Finding("caution", "points-close", text))
    return BrushedPlate(ke, r, ke * no_load_current if no_load_current is not None else None, tuple(findings))


def rectified(mains: float) -> float:
    """Return the DC link voltage [V] of rectified mains without load: the peak of ``mains`` [V rms]."""
    return mains * math.sqrt(2)


def drive_match(motor_peak: float, drive_continuous: float | None, drive_peak: float | None) -> list[Finding]:
    """Judge motor current [A peak] against drive rating [A peak] in both directions."""
    found = []
    if drive_continuous is not None and drive_continuous < motor_peak:
        text = f"The drive's continuous {show(drive_continuous, 'A')} peak is {100 * drive_continuous / motor_peak:.0f} % of the motor's {show(motor_peak, 'A')}: continuous torque is limited by the drive."
        found.append(Finding("info", "drive-small", text))
    full = drive_peak or drive_continuous
    if full is not None and motor_peak < 0.2 * full:
        step = 2 * full / 4096 / motor_peak
        text = f"The motor's rated current is {100 * motor_peak / full:.0f} % of the drive's range: a 12-bit converter over that range has steps of {100 * step:.2g} % of rated current, so auto-tuned values will be poor."
        found.append(Finding("caution", "drive-large", text))
    if drive_peak is not None and drive_peak > 3 * motor_peak:
        text = f"The drive can give {drive_peak / motor_peak:.1f} times the motor's rated current: set its limit before enabling."
        found.append(Finding("caution", "limit-first", text))
    return found


def convention_rows(flux: float, pole_pairs: int) -> dict[str, tuple[float, str]]:
    """Return the constant in every convention, SI: name → (value, unit)."""
    return {
        "flux, phase peak": (flux, "Wb"),
        "Kv, line peak": (kv_from_flux(flux, "line-peak", pole_pairs), "rpm/V"),
        "Kv, line rms": (kv_from_flux(flux, "line-rms", pole_pairs), "rpm/V"),
        "Kv, six-step DC": (kv_from_flux(flux, "six-step-dc", pole_pairs), "rpm/V"),
        "Ke, line peak": (ke_from_flux(flux, "line-peak", pole_pairs), "V·s/rad"),
        "Ke, line rms": (ke_from_flux(flux, "line-rms", pole_pairs), "V·s/rad"),
        "Kt per A peak": (kt_from_flux(flux, "peak", pole_pairs), "N·m/A"),
        "Kt per A rms": (kt_from_flux(flux, "rms", pole_pairs), "N·m/A"),
        "Kt per A DC": (kt_from_flux(flux, "six-step-dc", pole_pairs), "N·m/A"),
    }
