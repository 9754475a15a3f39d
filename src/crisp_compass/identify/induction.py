"""The inverse-Γ circuit of an induction motor from a no-load and a locked-rotor test.

Circuit per phase of the star (G. R. Slemon, IEEE Trans. Ind. Appl. 25, 1989, 1126–1131): Rs and the total leakage Lσ in series,
then LM beside RR/slip. The locked test gives Z2 = Rs + jω2·Lσ + (jω2·LM ‖ RR), the no-load test Z1 = Rs + jω1·Lσ + 1/(G + 1/(jω1·LM))
with G what the shaft's slip and the iron take: two complex readings, four real unknowns (Lσ, LM, RR, G). Rs is given, or comes
from DC levels between A and B. The terminals cannot tell slip from iron loss at no load, nor need they; where the iron sits (before
or behind the leakage) they cannot tell either, which widens the bars with the loss.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np
import scipy

from crisp_compass.capture.gaps import continuous
from crisp_compass.capture.model import Capture
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Estimate, Finding, FloatArray, Result
from crisp_compass.identify.circuit import family_of_capture
from crisp_compass.identify.guard import solvable
from crisp_compass.identify.phasors import SteadyState, steady_state

#: No-load loss over no-load apparent power from which a finding says what it does.
_LOSSY = 0.12
#: Standard deviation of where the iron loss sits, over the whole way from the terminals to behind the leakage.
_PLACED = 0.12
#: Standard deviation of LM's error over (iron's share · whole share of the losses · Lσ/LM).
_ACROSS = 0.5
#: Most of the magnetizing current that iron takes (common practice: up to 1.5 % per unit of loss); the rest is slip.
_IRON = 0.04


@dataclass(frozen=True)
class InductionResult(Result):
    """The circuit with what a plot needs: ``no_load`` and ``locked`` steady states."""

    no_load: SteadyState
    locked: SteadyState


def check_pole_pairs(pole_pairs: int | None) -> None:
    """Refuse pole pairs that cannot be; the circuit is electrical and does not need them."""
    if pole_pairs is not None and pole_pairs < 1:
        raise Refusal(
            f"{pole_pairs} pole pairs are not possible",
            "pole pairs are a whole number from 1 up",
            where="--pole-pairs",
        )


@solvable
def fit_induction(no_load: Capture, locked: Capture, *, stator: Estimate) -> InductionResult:
    """Estimate the inverse-Γ circuit.

    Parameters
    ----------
    no_load, locked
        Steady three-phase sinusoids ``v_ab v_bc i_a i_b``: the shaft free, and the shaft locked at about rated current.
    stator
        Resistance of a stator phase, Ω.

    Returns
    -------
    InductionResult
        ``stator_resistance``, ``leakage_inductance``, ``magnetizing_inductance``, ``rotor_resistance``, ``rotor_time_constant``,
        ``no_load_current`` [A, phase peak of the positive sequence], ``no_load_loss`` [W, input less stator copper].

    Raises
    ------
    Refusal
        Channels as for :func:`steady_state`; tests that are exchanged or contradict the resistance.
    """
    no_load, locked = continuous(no_load), continuous(locked)
    for capture in (no_load, locked):
        family_of_capture(capture, "induction")
    found = solve_tests(
        steady_state(no_load), steady_state(locked), stator=stator, sources=(no_load.source, locked.source)
    )
    return replace(found, findings=(*no_load.findings, *locked.findings, *found.findings))


@solvable
def solve_tests(
    free: SteadyState, held: SteadyState, *, stator: Estimate, sources: tuple[str, str] = ("", "")
) -> InductionResult:
    """Return the circuit of two steady states, the shaft ``free`` and ``held``; ``sources`` name them in a Refusal.

    ``stator`` [Ω], estimates and Refusal as for :func:`fit_induction`.
    """
    findings: list[Finding] = []
    if abs(free.impedance) < 1.5 * abs(held.impedance):
        raise Refusal(
            "the no-load test draws more current for its voltage than the locked one",
            "check which file is which, and that the shaft turned freely",
            where=sources[0],
        )
    if held.impedance.real <= stator.value:
        raise Refusal(
            f"the locked rotor shows {held.impedance.real:.4g} Ω in all, no more than the stator's {stator.value:.4g} Ω",
            "check the stator resistance (one phase of the star) and the locked test",
            where=sources[1],
        )
    point = np.array([free.v1.real, free.v1.imag, free.i1.real, free.i1.imag, held.v1.real, held.v1.imag, held.i1.real, held.i1.imag, stator.value])  # fmt: skip
    covariance = scipy.linalg.block_diag(free.covariance, held.covariance, np.array([[stator.u**2]]))

    def values(x: FloatArray) -> FloatArray:
        z1, z2 = complex(x[0], x[1]) / complex(x[2], x[3]), complex(x[4], x[5]) / complex(x[6], x[7])
        leakage, magnetizing, rotor, _ = _circuit(z1, z2, free.omega, held.omega, stator=float(x[8]), source=sources[1])
        current = math.hypot(x[2], x[3])
        return np.array([leakage, magnetizing, rotor, magnetizing / rotor, current])

    best = values(point)
    jacobian = np.empty((5, 9))
    for k in range(9):
        step = np.zeros(9)
        step[k] = 1e-6 * (abs(point[k]) + float(np.max(np.abs(point[k // 4 * 4 : k // 4 * 4 + 4]))))
        jacobian[:, k] = (values(point + step) - values(point - step)) / (2 * step[k])
    spread = np.sqrt(np.maximum(np.diag(jacobian @ covariance @ jacobian.T), 0.0))
    spread = np.hypot(spread, _model_doubt(best, free, held, stator.value, findings=findings))
    names = (("leakage_inductance", "H"), ("magnetizing_inductance", "H"), ("rotor_resistance", "Ω"), ("rotor_time_constant", "s"), ("no_load_current", "A"))  # fmt: skip
    estimates = {"stator_resistance": stator}
    for (name, unit), value, u in zip(names, best, spread, strict=True):
        estimates[name] = Estimate.from_u(float(value), unit, float(u))
    loss = free.power - stator.value * free.square
    # a part of the power's scatter is that of voltage and current, the rest the copper's
    u_power = math.hypot(
        1.5 * abs(free.i1) * math.sqrt(free.covariance[0, 0]), 1.5 * abs(free.v1) * math.sqrt(free.covariance[2, 2])
    )
    estimates["no_load_loss"] = Estimate.from_u(loss, "W", math.hypot(u_power, free.square * stator.u))
    _judge(free, held, findings)
    hertz = [s.omega / (2 * math.pi) for s in (free, held)]
    method = f"no load at {hertz[0]:.4g} Hz and locked rotor at {hertz[1]:.4g} Hz, positive sequence; circuit solved for both together"
    return InductionResult(estimates, method, tuple(findings), free, locked=held)


def _circuit(
    z1: complex, z2: complex, w1: float, w2: float, stator: float, source: str
) -> tuple[float, float, float, float]:
    """Return Lσ [H], LM [H], RR [Ω] and G [S] that both impedances ask for, by fixed-point iteration."""
    leakage = 0.0
    magnetizing, rotor, loss = math.inf, z2.real - stator, 0.0
    for _ in range(200):
        y1 = 1 / (z1 - stator - 1j * w1 * leakage)
        if y1.imag >= 0:
            break
        magnetizing, loss = -1 / (w1 * y1.imag), y1.real
        # what of the locked impedance lies behind the leakage has LM beside RR: x/(1 + x²)·… solved for RR
        reactance = w2 * magnetizing
        real = z2.real - stator
        root = 1 - 4 * (real / reactance) ** 2
        if root < 0:
            break
        rotor = 2 * real / (1 + math.sqrt(root))
        imaginary = rotor**2 * reactance / (rotor**2 + reactance**2)
        fresh = (z2.imag - imaginary) / w2
        if abs(fresh - leakage) < 1e-14 * abs(fresh):
            return fresh, magnetizing, rotor, loss
        leakage = fresh
    if not (leakage > 0 and math.isfinite(magnetizing) and rotor > 0):
        raise Refusal(
            "the two tests contradict each other: no circuit has both impedances",
            "check which file is which, the channels' factors and the stator resistance",
            where=source,
        )
    return leakage, magnetizing, rotor, loss


def _model_doubt(
    best: FloatArray, free: SteadyState, held: SteadyState, stator: float, findings: list[Finding]
) -> FloatArray:
    """Return what the model leaves open (5,): where the iron loss sits, and what wandered while it was captured."""
    leakage, magnetizing, rotor = best[:3]
    w1 = free.omega
    z1 = free.impedance
    y1 = 1 / (z1 - stator - 1j * w1 * leakage)
    whole = max(y1.real, 0.0) * w1 * magnetizing  # current of slip and iron over the magnetizing one
    share = min(whole, _IRON)
    # behind or before the leakage: the voltage differs by Lσ/LM in size, the loss current in phase by the same
    ratio = leakage / magnetizing
    by_iron = _ACROSS * share * whole * ratio  # first order in both, found by putting iron into the T circuit
    by_lock = _PLACED * share * np.array([ratio, rotor / (w1 * magnetizing) + 0.6 * ratio])
    relative = np.array([by_lock[0], by_iron, by_lock[1], by_iron + by_lock[1], 0.0])
    wander = np.array([held.wander, free.wander, held.wander, math.hypot(held.wander, free.wander), free.wander])
    drift = np.where(wander > 0.01, 0.3 * wander, 0.0)
    if whole > _LOSSY:
        text = f"Slip and iron take {100 * whole:.0f} % of the magnetizing current at no load; the terminals do not tell where the iron loss sits, and the bars are widened for it."
        findings.append(Finding("info", "losses-widen", text))
    if float(np.max(wander)) > 0.01:
        text = f"Voltage or current changed by {100 * float(np.max(wander)):.2g} % within a capture: it was no steady state, and the bars are widened."
        findings.append(Finding("caution", "not-steady", text))
    return np.asarray(best * np.hypot(relative, drift))


def _judge(free: SteadyState, held: SteadyState, findings: list[Finding]) -> None:
    """Say what practice says of the two tests."""
    if held.omega > 0.6 * free.omega:
        text = "The rotor was locked near the no-load test's frequency: in deep bars the current is displaced there and RR comes out too large; repeat it at about a quarter of rated frequency."
        findings.append(Finding("caution", "locked-frequency-high", text))
    if abs(free.i1) > abs(held.i1):
        text = "At no load more current flows than with the rotor locked: above rated current the winding is in danger; check star or delta against the supply."
        findings.append(Finding("caution", "no-load-current-high", text))
    for state, name in ((free, "no-load"), (held, "locked")):
        uneven = abs(state.v2) / abs(state.v1)
        if uneven > 0.03:
            text = (
                f"The supply of the {name} test has {100 * uneven:.2g} % negative sequence; the positive one is used."
            )
            findings.append(Finding("info", "unbalance", text))
