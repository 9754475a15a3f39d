"""The inverse-Γ circuit of an induction motor from a no-load and a locked-rotor test, and Tr from the decay after cut-off.

Circuit per phase of the star (G. R. Slemon, IEEE Trans. Ind. Appl. 25, 1989, 1126–1131): Rs and the total leakage Lσ in series,
then LM beside RR/slip. The locked test gives Z2 = Rs + jω2·Lσ + (jω2·LM ‖ RR), the no-load test Z1 = Rs + jω1·Lσ + 1/(G + 1/(jω1·LM))
with G what the shaft's slip and the iron take: two complex readings, four real unknowns (Lσ, LM, RR, G). Rs is given, or comes
from DC levels between A and B. The terminals cannot tell slip from iron loss at no load, nor need they; where the iron sits (before
or behind the leakage) they cannot tell either, which widens the bars with the loss.

Decay: the flux of the open stator is Λ0·e^(−t/Tr)·e^(jθ(t)), and the voltage its derivative, so a falling speed biases nothing.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np
import scipy

from crisp_compass.capture.gaps import continuous, without_gaps
from crisp_compass.capture.model import Capture
from crisp_compass.capture.quality import noise
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Estimate, Finding, FloatArray, Result
from crisp_compass.identify.circuit import family_of_capture
from crisp_compass.identify.guard import solvable
from crisp_compass.identify.phasors import SteadyState, steady_state

#: No-load loss over no-load apparent power from which a finding says what it does.
_LOSSY = 0.12
#: Widens a decay's bar for the speed's pieces having been chosen by the same data.
_CHOSEN = 1.1
#: What the samples and a spline leave of the speed's course, relative.
_BETWEEN = 2e-4
#: Samples a period that are enough, once averaged.
_ENOUGH = 60
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
        leakage, magnetizing, rotor, _ = _circuit(z1, z2, free.omega, held.omega, float(x[8]), sources[1])
        current = math.hypot(x[2], x[3])
        return np.array([leakage, magnetizing, rotor, magnetizing / rotor, current])

    best = values(point)
    jacobian = np.empty((5, 9))
    for k in range(9):
        step = np.zeros(9)
        step[k] = 1e-6 * (abs(point[k]) + float(np.max(np.abs(point[k // 4 * 4 : k // 4 * 4 + 4]))))
        jacobian[:, k] = (values(point + step) - values(point - step)) / (2 * step[k])
    spread = np.sqrt(np.maximum(np.diag(jacobian @ covariance @ jacobian.T), 0.0))
    spread = np.hypot(spread, _model_doubt(best, free, held, stator.value, findings))
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
    return InductionResult(estimates, method, tuple(findings), free, held)


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


@dataclass(frozen=True)
class DecayResult(Result):
    """Tr with what a plot needs: ``time`` (m,) s, ``voltage``, ``model``, ``residual`` (m, c) V of the ``channels``."""

    channels: tuple[str, ...]
    time: FloatArray
    voltage: FloatArray
    model: FloatArray
    residual: FloatArray


@solvable
@without_gaps
def fit_decay(capture: Capture) -> DecayResult:
    """Estimate the rotor time constant from the open stator's voltages after cut-off, the rotor turning.

    Parameters
    ----------
    capture
        One to three of ``v_ab v_bc v_ca``; what lies before the cut-off is left out.

    Returns
    -------
    DecayResult
        ``rotor_time_constant`` [s].

    Raises
    ------
    Refusal
        Missing or constant channels, no decay, less than three periods of it.
    """
    family_of_capture(capture, "induction")
    names = tuple(n for n in ("v_ab", "v_bc", "v_ca") if n in capture)
    if not names:
        capture["v_ab"]  # writes the refusal for the missing column
    v = np.column_stack(capture.require(*names, samples=60))
    t = capture.time - capture.time[0]
    start = _cut_off(t, v)
    if len(t) - start < 40:
        raise Refusal(
            "less than three periods stand out after the cut-off",
            "capture it from the cut-off on",
            where=capture.source,
        )
    t, v = t[start:] - t[start], v[start:]
    omega = _start_frequency(t, v, capture.source)
    size = np.sqrt(np.mean(v[: max(int(2 * math.pi / omega / float(np.median(np.diff(t)))), 4)] ** 2))
    floor = _floor(v)
    envelope = _envelope(t, v, omega)
    beyond = np.flatnonzero(envelope < max(3 * floor, 0.02 * size))
    stop = int(beyond[0]) if len(beyond) else len(t)
    t, v = t[: max(stop, 2)], v[: max(stop, 2)]
    if omega * t[-1] / (2 * math.pi) < 3:
        raise Refusal(
            "less than three periods stand out after the cut-off",
            "capture it from the cut-off on",
            where=capture.source,
        )
    t, v = _thinned(t, v, omega)
    fit = _fit_decay(t, v, omega)
    for pieces in (2, 4, 8):
        trial = _fit_decay(t, v, omega, pieces, fit)
        gain = len(t) * v.shape[1] * math.log(max(fit.cost, 1e-300) / max(trial.cost, 1e-300))
        if gain > (len(trial.x) - len(fit.x)) * math.log(len(t)) + 4:
            fit = trial
    findings = list(capture.findings)
    rate, u = float(fit.x[0]), _CHOSEN * math.sqrt(max(float(fit.covariance[0, 0]), 0.0))
    if rate <= 3 * u:
        raise Refusal("the voltage does not decay", "capture the open terminals after cut-off", where=capture.source)
    excess = max(
        float(np.std(fit.residual[:, c])) / max(noise(fit.residual[:, c]), 1e-6 * float(np.ptp(v)))
        for c in range(v.shape[1])
    )
    if excess > 1.4:
        text = "The voltage is not that of a flux that fades in a turning rotor: current still flowed, or the speed jerked; the bar is widened."
        findings.append(Finding("caution", "model-does-not-fit", text))
        u = math.hypot(u * excess, 0.02 * rate)
    u = math.hypot(u, _BETWEEN * rate)
    early, late = _halves(t, v, fit)
    if abs(early - late) > max(0.05 * rate, 4 * u):
        text = f"The early part decays at {early:.3g} 1/s, the late one at {late:.3g} 1/s: the iron saturates at full voltage, or current still flowed; the bar is widened."
        findings.append(Finding("caution", "decay-bends", text))
        u = math.hypot(u, 0.5 * abs(early - late))
    value = 1 / rate
    estimates = {"rotor_time_constant": Estimate.from_u(value, "s", u / rate**2, dof=max(len(t) - 10, 1))}
    method = f"voltage of the open stator over {omega * t[-1] / (2 * math.pi):.0f} periods after cut-off; decay of its flux, speed fitted beside it"
    model = v - fit.residual
    return DecayResult(estimates, method, tuple(findings), names, t, v, model, fit.residual)


def _thinned(t: FloatArray, v: FloatArray, omega: float) -> tuple[FloatArray, FloatArray]:
    """Return means over blocks where there are many samples a period."""
    size = int(2 * math.pi / omega / float(np.median(np.diff(t))) / _ENOUGH)
    if size < 2:
        return t, v
    count = len(t) // size
    return t[: count * size].reshape(count, size).mean(axis=1), v[: count * size].reshape(count, size, -1).mean(
        axis=1
    )


@dataclass(frozen=True)
class _Decay:
    x: FloatArray
    cost: float
    covariance: FloatArray
    residual: FloatArray


def _envelope(t: FloatArray, v: FloatArray, omega: float) -> FloatArray:
    """Return the running size (n,) of the voltages over one period."""
    width = max(int(2 * math.pi / omega / float(np.median(np.diff(t)))), 4)
    power = scipy.ndimage.uniform_filter1d(np.mean(v**2, axis=1), width)
    return np.asarray(np.sqrt(np.maximum(power, 0)))


def _floor(v: FloatArray) -> float:
    return float(np.sqrt(np.mean(np.diff(v, 2, axis=0)[-max(len(v) // 10, 8) :] ** 2) / 6))


def _cut_off(t: FloatArray, v: FloatArray) -> int:
    """Return the sample from which the supply is off: the last at which the envelope still has its plateau, and a moment more."""
    crossings = np.flatnonzero(np.diff(np.sign(v[:, 0] - np.mean(v[:, 0]))))
    if len(crossings) < 6:
        return 0
    period = 2 * float(np.median(np.diff(t[crossings[:8]])))
    envelope = _envelope(t, v, 2 * math.pi / period)
    width = max(int(period / float(np.median(np.diff(t)))), 4)
    if len(envelope) < 6 * width:
        return 0
    first = float(np.mean(envelope[width : 2 * width]))
    second = float(np.mean(envelope[3 * width : 4 * width]))
    if abs(second / first - 1) > 0.01:  # it decays from the start
        return 0
    fallen = np.flatnonzero(envelope[width:] < 0.97 * first)
    return int(fallen[0]) + width + width if len(fallen) else 0


def _start_frequency(t: FloatArray, v: FloatArray, source: str) -> float:
    head = slice(0, max(len(t) // 3, 20))
    x = v[head, 0] - np.mean(v[head, 0])
    spectrum = np.abs(np.fft.rfft(x * np.hanning(len(x)), 8 * len(x)))
    peak = int(np.argmax(spectrum[4:])) + 4
    interval = float(np.median(np.diff(t)))
    omega = 2 * math.pi * peak / (8 * len(x) * interval)
    if omega * interval > 0.6:
        raise Refusal("there are fewer than 10 samples a period", "sample faster", where=source)
    return float(omega)


def _fit_decay(t: FloatArray, v: FloatArray, omega: float, pieces: int = 1, before: _Decay | None = None) -> _Decay:
    """Fit decay rate, speed (a spline of few pieces) and per channel amplitude, phase and offset."""
    knots = np.concatenate([[0.0] * 3, np.linspace(0, 1, pieces + 1), [1.0] * 3])
    u = np.clip(t / t[-1], 0, 1 - 1e-12)
    basis = scipy.interpolate.BSpline.design_matrix(u, knots, 3).toarray()
    turned = np.array(
        [scipy.interpolate.BSpline(knots, row, 3).antiderivative()(u) for row in np.eye(basis.shape[1])]
    )
    angle_of = turned.T * t[-1]

    def parts(x: FloatArray) -> tuple[FloatArray, FloatArray, FloatArray, FloatArray, FloatArray]:
        """Return decay, cosine, sine, speed and the orthonormal columns of what is linear."""
        speed = omega * (1 + x[1:])
        theta, w, decay = angle_of @ speed, basis @ speed, np.exp(-x[0] * t)
        c, s = decay * np.cos(theta), decay * np.sin(theta)
        # v = d/dt [Λ·e^(−rate·t)·cos(θ + φ)], for cosine and sine, and an offset
        q, _ = np.linalg.qr(np.column_stack([-x[0] * c - w * s, -x[0] * s + w * c, np.ones_like(t)]))
        return decay, c, s, w, q

    def residual(x: FloatArray) -> FloatArray:
        q = parts(x)[-1]
        return np.asarray((v - q @ (q.T @ v)).ravel())

    def slope(x: FloatArray) -> FloatArray:
        """Return the residual's slopes with what is linear solved anew (L. Kaufman, BIT 15, 1975, 49–57)."""
        _, c, s, w, q = parts(x)
        big_c, big_s, rate = -x[0] * c - w * s, -x[0] * s + w * c, x[0]
        design = np.column_stack([big_c, big_s, np.ones_like(t)])
        norm = np.linalg.norm(design, axis=0)
        solved = np.linalg.lstsq(design / norm, v, rcond=None)[0] / norm[:, None]
        by_rate = (-t * big_c - c, -t * big_s - s)
        columns = []
        for k in range(len(x)):
            if k == 0:
                dc, ds = by_rate
            else:
                turn, fast = omega * angle_of[:, k - 1], omega * basis[:, k - 1]
                dc = (rate * s - w * c) * turn - fast * s
                ds = (-rate * c - w * s) * turn + fast * c
            moved = dc[:, None] * solved[0] + ds[:, None] * solved[1]
            columns.append(-(moved - q @ (q.T @ moved)).ravel())
        return np.column_stack(columns)

    if before is None:
        envelope = np.log(np.maximum(_envelope(t, v, omega), 1e-300))
        rate = max(-float(np.polyfit(t, envelope, 1)[0]), 0.1 / t[-1])
        starts = [np.concatenate([[rate], np.full(basis.shape[1], s)]) for s in (0.0, -0.02, 0.02)]
        starts += [np.concatenate([[rate], np.linspace(0.0, -s, basis.shape[1])]) for s in (0.05, 0.15)]
        costs = [float(np.sum(residual(s) ** 2)) for s in starts]
        start = starts[int(np.argmin(costs))]
    else:
        old_knots = np.linspace(0, 1, len(before.x) - 1)
        start = np.concatenate([before.x[:1], np.interp(np.linspace(0, 1, basis.shape[1]), old_knots, before.x[1:])])
    scale = np.concatenate([[max(start[0], 1e-3)], np.full(basis.shape[1], 0.02)])
    low = np.concatenate([[-2.0 / t[-1]], np.full(basis.shape[1], -0.95)])
    high = np.concatenate([[500.0 / t[-1]], np.full(basis.shape[1], 1.0)])
    start = np.clip(start, low + 1e-9 * (high - low), high - 1e-9 * (high - low))
    found = scipy.optimize.least_squares(
        residual, start, jac=slope, bounds=(low, high), x_scale=scale, method="trf", max_nfev=60
    )
    rest: FloatArray = np.reshape(residual(found.x), v.shape)
    jacobian: FloatArray = slope(found.x)
    dof = max(rest.size - len(found.x) - 3 * v.shape[1], 1)
    variance = float(np.sum(rest**2)) / dof
    gram = jacobian.T @ jacobian
    norm = np.sqrt(np.diag(gram))
    norm[norm == 0] = 1.0
    covariance = np.linalg.pinv(gram / np.outer(norm, norm)) / np.outer(norm, norm) * variance
    correlated = max(_lag_one(rest[:, k]) for k in range(rest.shape[1]))
    return _Decay(found.x, float(np.sum(rest**2)), covariance * correlated, rest)


def _lag_one(rest: FloatArray) -> float:
    rho = float(np.corrcoef(rest[1:], rest[:-1])[0, 1]) if float(np.std(rest)) > 0 else 0.0
    rho = min(max(rho, 0.0), 0.9)
    return (1 + rho) / (1 - rho)


def _halves(t: FloatArray, v: FloatArray, fit: _Decay) -> tuple[float, float]:
    """Return the decay rates of the early and the late half, by the size of the flux in each."""
    model = v - fit.residual
    rates = []
    for part in (slice(0, len(t) // 2), slice(len(t) // 2, None)):
        # what is left of the flux is the projection of the voltage on its model, in pieces of the half
        count = 6
        blocks = np.array_split(np.arange(len(t))[part], count)
        gains = [float(np.sum(v[b] * model[b]) / np.sum(model[b] ** 2)) for b in blocks]
        middles = [float(np.mean(t[b])) for b in blocks]
        slope = float(np.polyfit(middles, np.log(np.maximum(gains, 1e-9)), 1)[0])
        rates.append(float(fit.x[0]) - slope)
    return rates[0], rates[1]
