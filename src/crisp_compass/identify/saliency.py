"""Ld, Lq and the rotor's zero from inductance readings at many rotor angles.

Model. A winding pair read between two terminals sees, with θe = p·angle + θ0 and the pair's axis at δ (A–B: −30°,
A against B and C joined: 0°)

    L(θe) = k·[ (Ld + Lq)/2 − (Lq − Ld)/2·cos 2(θe − δ) ],   k = 2 or 1.5

(two-axis theory, see docs/theory.md, “Inductance against angle”). Mean and second harmonic are fitted linearly; the
fourth harmonic joins where it is significant (F-test), because teeth and saturation put one there. Ld is the smaller
one, as in every machine whose magnets lie in the d axis. The squared amplitude is freed of the noise's share, so that
noise does not feign saliency.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np
import scipy

from crisp_compass.capture.model import Capture
from crisp_compass.errors import Refusal
from crisp_compass.estimates import BoolArray, Estimate, Finding, FloatArray, Result
from crisp_compass.identify.circuit import circuit_factor
from crisp_compass.quantities import counted, show

_LEAST = 6
_MOST_POLE_PAIRS = 60


@dataclass(frozen=True)
class SaliencyResult(Result):
    """Ld and Lq with what a plot needs.

    ``angle`` (n,) mechanical rad as read, ``inductance`` and ``residual`` (n,) H between the terminals, ``used`` (n,);
    ``line_angle``/``line_inductance`` (m,) trace the model.
    """

    angle: FloatArray
    inductance: FloatArray
    residual: FloatArray
    used: BoolArray
    line_angle: FloatArray
    line_inductance: FloatArray


@dataclass(frozen=True)
class _Fit:
    design: FloatArray
    coefficients: FloatArray
    inverse: FloatArray
    residual: FloatArray
    squares: float
    dof: int

    @property
    def variance(self) -> float:
        return self.squares / self.dof

    @property
    def covariance(self) -> FloatArray:
        """Covariance of the coefficients."""
        return self.inverse * self.variance


def fit_saliency(capture: Capture, *, pole_pairs: int | None = None) -> SaliencyResult:
    """Estimate Ld and Lq from ``angle`` and ``l_ab``.

    Parameters
    ----------
    capture
        Table of ``angle`` (mechanical) and ``l_ab`` (between two terminals), any order, time not needed.
    pole_pairs
        Pole pairs; without it the note ``pole_pairs`` is used.

    Returns
    -------
    SaliencyResult
        ``ld``, ``lq`` [H, phase of the star], ``rotor_zero`` [rad]: the ``angle`` reading at which θe = 0, known up
        to half an electrical turn.

    Raises
    ------
    Refusal
        Missing column, unknown pole pairs, too few readings, angles that do not cover half an electrical turn.
    """
    angle, inductance = capture.require("angle", "l_ab", samples=_LEAST)
    p = pole_pairs if pole_pairs is not None else capture.note_number("pole_pairs")
    if p is None:
        raise Refusal(
            "the pole pairs are missing", "give --pole-pairs or the note “pole_pairs”", where=capture.source
        )
    if p < 1 or p != int(p):
        raise Refusal(
            f"{p:g} pole pairs are not possible", "pole pairs are a whole number from 1 up", where="--pole-pairs"
        )
    if float(np.min(inductance)) <= 0:
        raise Refusal(
            "l_ab holds values that are not above zero",
            "check the meter's readings and the unit",
            where=capture.source,
        )
    findings = list(capture.findings)
    _check_cover(angle, p, capture.source)
    used = np.ones(len(angle), dtype=np.bool_)
    columns = _choose(angle, inductance, p)
    used = _without_outliers(angle, inductance, p, columns, findings=findings)
    plain = _solve(angle[used], inductance[used], p, columns)
    _check_pole_pairs(angle[used], inductance[used], p, plain, findings=findings)
    fit = _with_own_scatter(plain, inductance[used])
    factor = circuit_factor(capture)
    estimates = _estimates(fit, factor, p, findings)
    line = np.linspace(float(np.min(angle)), float(np.max(angle)), 400)
    residual = inductance - _design(angle, p, columns) @ fit.coefficients
    kind = "mean and second harmonic" if columns == 3 else "mean, second and fourth harmonic"
    method = f"{int(used.sum())} inductance readings over the rotor angle, {counted(int(p), 'pole pair')}; {kind} of the electrical angle"
    return SaliencyResult(
        estimates, method, tuple(findings), angle, inductance=inductance, residual=residual, used=used, line_angle=line, line_inductance=_design(line, p, columns) @ fit.coefficients
    )  # fmt: skip


def _design(angle: FloatArray, p: float, columns: int) -> FloatArray:
    x = 2 * p * angle
    parts = [np.ones_like(x), np.cos(x), np.sin(x)]
    if columns == 5:
        parts += [np.cos(2 * x), np.sin(2 * x)]
    return np.column_stack(parts)


def _solve(angle: FloatArray, inductance: FloatArray, p: float, columns: int) -> _Fit:
    design = _design(angle, p, columns)
    coefficients, *_ = np.linalg.lstsq(design, inductance, rcond=None)
    residual = inductance - design @ coefficients
    inverse = np.linalg.pinv(design.T @ design)
    squares = float(residual @ residual) + len(residual) * (1e-7 * float(np.mean(inductance))) ** 2
    return _Fit(
        design,
        np.asarray(coefficients, dtype=np.float64),
        np.asarray(inverse, dtype=np.float64),
        np.asarray(residual, dtype=np.float64),
        squares=squares,
        dof=max(len(residual) - columns, 1),
    )


def _with_own_scatter(fit: _Fit, inductance: FloatArray) -> _Fit:
    """Weigh the readings by their size where scatter that grows with the reading is the likelier one.

    Compares the two Gaussian likelihoods; the weights come from the fitted curve (G. A. F. Seber, C. J. Wild,
    Nonlinear Regression, 1989, 2.8.8).
    """
    curve = fit.design @ fit.coefficients
    if float(np.min(curve)) <= 0:
        return fit
    relative = curve / float(np.mean(curve))
    design = fit.design / relative[:, None]
    coefficients, *_ = np.linalg.lstsq(design, inductance / relative, rcond=None)
    residual = inductance / relative - design @ coefficients
    squares = float(residual @ residual) + len(residual) * (1e-7 * float(np.mean(inductance))) ** 2
    gain = len(residual) * math.log(fit.squares / squares) - 2 * float(np.sum(np.log(relative)))
    if gain <= 0:
        return fit
    inverse = np.linalg.pinv(design.T @ design)
    fresh = (np.asarray(x, dtype=np.float64) for x in (coefficients, inverse))
    return replace(
        fit, coefficients=next(fresh), inverse=next(fresh), squares=squares, dof=max(fit.dof - 1, 1)
    )  # the choice costs one


def _check_cover(angle: FloatArray, p: float, source: str) -> None:
    """Refuse angles that leave more than a third of the half electrical turn without a reading."""
    places = np.sort((2 * p * angle) % (2 * math.pi))
    gaps = np.diff(np.concatenate([places, [places[0] + 2 * math.pi]]))
    if float(np.max(gaps)) > 0.67 * 2 * math.pi or len(np.unique(np.round(places, 6))) < 4:
        span = show(math.radians(180 / p), "rad")
        raise Refusal(
            "the angles do not cover half an electrical turn evenly",
            f"with {p:g} pole pairs take readings all along {span} of the shaft, a twelfth of it apart",
            where=source,
        )


def _choose(angle: FloatArray, inductance: FloatArray, p: float) -> int:
    """Take the fourth harmonic in where an F-test calls for it and readings allow.

    Few readings need strong evidence (1 in 1000); with many, leaving a small one out costs more than carrying it.
    """
    if len(angle) < 8:
        return 3
    if len(angle) >= 16:
        return 5
    level = 1e-3 if len(angle) < 12 else 0.3
    small, large = _solve(angle, inductance, p, 3), _solve(angle, inductance, p, 5)
    ratio = (small.squares - large.squares) / 2 / large.variance
    return 5 if float(scipy.special.fdtrc(2, large.dof, max(ratio, 0.0))) < level else 3


def _without_outliers(
    angle: FloatArray, inductance: FloatArray, p: float, columns: int, findings: list[Finding]
) -> BoolArray:
    """Leave out single readings whose deleted residual is beyond chance; at most one in ten."""
    used = np.ones(len(angle), dtype=np.bool_)
    for _ in range(len(angle) // 10):
        fit = _solve(angle[used], inductance[used], p, columns)
        design = _design(angle[used], p, columns)
        leverage = np.einsum("ij,jk,ik->i", design, fit.inverse, design)
        rest = fit.squares - fit.residual**2 / np.maximum(1 - leverage, 1e-9)
        variance = np.maximum(rest, 1e-30) / max(fit.dof - 1, 1)
        t = np.abs(fit.residual) / np.sqrt(variance * np.maximum(1 - leverage, 1e-9))
        worst = int(np.argmax(t))
        chance = 2 * float(scipy.special.stdtr(max(fit.dof - 1, 1), -float(t[worst]))) * int(used.sum())
        if chance > 1e-3:
            break
        used[np.flatnonzero(used)[worst]] = False
    dropped = np.flatnonzero(~used)
    if len(dropped):
        where = ", ".join(f"{math.degrees(angle[k]):.4g}°" for k in dropped[:4])
        text = f"{len(dropped)} reading(s) far off the others were left out (at {where}); read them again."
        findings.append(Finding("caution", "reading-left-out", text))
    return used


def _check_pole_pairs(
    angle: FloatArray, inductance: FloatArray, p: float, fit: _Fit, findings: list[Finding]
) -> None:
    """Stop where another number of pole pairs explains the readings beyond chance and the given one does not."""
    total = float(np.sum((inductance - inductance.mean()) ** 2))
    if len(angle) < 9 or fit.squares < 0.3 * total:
        return
    best, squares = p, fit.squares
    for other in range(1, _MOST_POLE_PAIRS + 1):
        candidate = _solve(angle, inductance, other, 3).squares
        if candidate < squares:
            best, squares = other, candidate
    ratio = (total - squares) / 2 / (squares / max(len(angle) - 3, 1))
    chance = _MOST_POLE_PAIRS * float(scipy.special.fdtrc(2, max(len(angle) - 3, 1), ratio))
    if best != p and squares < 0.25 * fit.squares and chance < 1e-4:
        text = f"The readings repeat as with {best:g} pole pairs, not the given {p:g}; Ld and Lq cannot be separated with {p:g}."
        findings.append(Finding("stop", "pole-pairs-disagree", text))


def _estimates(fit: _Fit, factor: float, p: float, findings: list[Finding]) -> dict[str, Estimate]:
    mean, a, b = (float(x) for x in fit.coefficients[:3])
    covariance = fit.covariance[:3, :3]
    raw = math.hypot(a, b)
    along = np.array([a, b]) / raw if raw > 0 else np.array([1.0, 0.0])
    var_amplitude = float(along @ covariance[1:, 1:] @ along)
    across = np.array([-along[1], along[0]])
    var_across = float(across @ covariance[1:, 1:] @ across)
    amplitude = math.sqrt(max(raw**2 - var_across, 0.0))
    with_mean = float(covariance[0, 1:] @ along)
    u_amplitude, u_mean = math.sqrt(var_amplitude), math.sqrt(float(covariance[0, 0]))
    if amplitude < 4 * math.sqrt(max(var_amplitude, var_across)):
        amplitude = max(amplitude, 0.0)
        ratio = 100 * amplitude / mean
        text = f"Ld and Lq hardly differ: {ratio:.2g} % of the mean, no more than the readings scatter; a search for the rotor at standstill has nothing to hold on to."
        findings.append(Finding("caution", "no-saliency", text))
    low = math.sqrt(max(u_mean**2 + u_amplitude**2 - 2 * with_mean, 0.0))
    high = math.sqrt(max(u_mean**2 + u_amplitude**2 + 2 * with_mean, 0.0))
    estimates = {
        "ld": Estimate.from_u((mean - amplitude) / factor, "H", low / factor, dof=fit.dof),
        "lq": Estimate.from_u((mean + amplitude) / factor, "H", high / factor, dof=fit.dof),
    }
    if amplitude > 4 * u_amplitude:
        axis = -math.pi / 6 if factor == 2.0 else 0.0
        # the least inductance lies where θe equals the pair's axis: 2p·angle = phase of the second harmonic + π
        least = (math.atan2(b, a) + math.pi) / (2 * p)
        zero = (least - axis / p) % (math.pi / p)
        u = math.sqrt(var_across) / raw / (2 * p)
        estimates["rotor_zero"] = Estimate.from_u(zero, "rad", u, dof=fit.dof)
    scatter = math.sqrt(fit.variance) / mean
    if scatter > 0.03:
        text = f"The readings scatter by {100 * scatter:.2g} % of their mean; hold the rotor still at each angle and let the meter settle."
        findings.append(Finding("caution", "readings-scatter", text))
    return estimates
