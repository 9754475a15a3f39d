"""Flux linkage from a running drive, and from no-load speed."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from crisp_compass.capture.gaps import without_gaps
from crisp_compass.capture.levels import find_levels
from crisp_compass.capture.model import Capture
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Estimate, Finding, FloatArray, Result
from crisp_compass.quantities import counted


@dataclass(frozen=True)
class RunningResult(Result):
    """Flux linkage with what a plot needs: electrical ``omega`` [rad/s], ``voltage``, ``model``, ``residual`` [V], all (k,), by speed."""

    omega: FloatArray
    voltage: FloatArray
    model: FloatArray
    residual: FloatArray


@without_gaps
def fit_running(
    capture: Capture, *, pole_pairs: int | None = None, r: float | None = None, r_u: float = 0.0
) -> RunningResult:
    """Estimate ψ from ``v_q``, ``i_q`` and ``speed`` (perhaps ``i_d``) at several steady speeds.

    v_q = R·iq + p·ω·(ψ + Ld·id) + s·sign ω + c: the slope over ω is ψ, s takes up the inverter's voltage loss where
    both directions are there. Samples where the speed changes are left out, so that neither L·diq/dt nor a lag biases
    the slope. Where the current follows the speed, the data can't tell R·iq from ψ·ω; R then comes from ``r`` (Ω, with
    ``r_u``) or, without it, lies anywhere from zero to the smallest v_q/iq seen (rectangular, JCGM 100:2008, 4.3.7),
    and the interval of ψ says so. Scatter of whole speeds against the line counts, not only of samples.

    Raises
    ------
    Refusal
        Missing column, unknown pole pairs, fewer than three distinct speeds.
    """
    speed, v_q, i_q = capture.require("speed", "v_q", "i_q", samples=6)
    p = pole_pairs if pole_pairs is not None else capture.note_number("pole_pairs")
    if p is None:
        raise Refusal(
            "the pole pairs are missing", "give --pole-pairs or the note “pole_pairs”", where=capture.source
        )
    if p < 1 or p != int(p):
        raise Refusal(
            f"{p:g} pole pairs are not possible", "pole pairs are a whole number from 1 up", where="--pole-pairs"
        )
    group = _steady(speed)
    count = int(group.max()) + 1
    if count < 3:
        raise Refusal(
            f"{max(count, 0)} steady speed(s) are too few",
            "hold at least three different speeds, widely spread",
            where=capture.source,
        )
    i_d = capture["i_d"] if "i_d" in capture else np.zeros(len(speed))

    def means(x: np.ndarray) -> np.ndarray:
        return np.array([float(np.mean(x[group == k])) for k in range(count)])

    w, v, iq, idd = p * means(speed), means(v_q), means(i_q), means(i_d)
    if float(np.corrcoef(w, v)[0, 1]) <= 0:
        raise Refusal(
            "v_q falls while the speed rises",
            "one channel is reversed; map it with a minus sign",
            where=capture.source,
        )
    columns = _columns(w, iq, idd)
    within = np.array(
        [float(np.std(v_q[group == k])) / math.sqrt(max(int((group == k).sum()), 1)) for k in range(count)]
    )
    fit = _solve(columns, v, _r_prior(v, iq, r, r_u), float(np.mean(within**2)))
    at = list(columns).index("psi")
    psi, u = float(fit.values[at]), math.sqrt(fit.covariance[at, at])
    if psi <= 0:
        raise Refusal(
            "v_q falls while the speed rises",
            "one channel is reversed; map it with a minus sign",
            where=capture.source,
        )
    findings = list(capture.findings)
    estimates = {"flux_linkage": Estimate.from_u(psi, "Wb", u, dof=fit.dof)}
    if fit.r_from_data:
        r_at = list(columns).index("r")
        r_u = math.sqrt(fit.covariance[r_at, r_at])
        estimates["resistance"] = Estimate.from_u(float(fit.values[r_at]), "Ω", r_u, dof=fit.dof)
    elif r is None:
        text = "The current follows the speed, so its voltage drop cannot be separated from the back-EMF: settle the resistance first, or vary the load."
        findings.append(Finding("caution" if u > 5e-3 * psi else "info", "resistance-not-resolved", text))
    estimates["kt"] = estimates["flux_linkage"].scaled(1.5 * p, "N·m/A")
    if float(np.max(np.abs(w))) < 2 * float(np.min(np.abs(w))):
        findings.append(
            Finding("caution", "speeds-close", "The speeds lie within a factor of two; spread them more.")
        )
    order = np.argsort(w)
    model = np.column_stack(list(columns.values())) @ fit.values
    method = f"v_q over speed at {count} steady speeds, {counted(int(p), 'pole pair')}; slope is the flux"
    return RunningResult(estimates, method, tuple(findings), w[order], voltage=v[order], model=model[order], residual=(v - model)[order])


@dataclass(frozen=True)
class _Fit:
    values: np.ndarray
    covariance: np.ndarray
    dof: int
    r_from_data: bool


def _columns(w: np.ndarray, iq: np.ndarray, idd: np.ndarray) -> dict[str, np.ndarray]:
    """Return the regressors the speeds can carry: ψ and R always, the others while a degree of freedom is left."""
    columns = {"psi": w, "r": iq, "constant": np.ones(len(w))}
    if w.min() < 0 < w.max():
        columns["loss"] = np.sign(w)
    if float(np.ptp(idd)) > 0.05 * float(np.max(np.abs(iq)) + 1e-12):
        columns["ld"] = w * idd
    for name in ("ld", "loss", "constant"):
        if len(columns) >= len(w) and name in columns:
            del columns[name]
    return columns


def _r_prior(v: np.ndarray, iq: np.ndarray, r: float | None, r_u: float) -> tuple[float, float]:
    """Return the resistance known beforehand and its standard uncertainty, Ω."""
    if r is not None:
        return r, max(r_u, 1e-3 * r)
    flowing = np.abs(iq) > 0.02 * float(np.max(np.abs(iq)) + 1e-12)
    ratios = (v / np.where(flowing, iq, 1.0))[flowing & (v * iq > 0)]
    most = float(np.min(ratios)) if len(ratios) else float(np.max(np.abs(v)) / (np.max(np.abs(iq)) + 1e-12))
    return most / 2, most / math.sqrt(12)


def _solve(columns: dict[str, np.ndarray], v: np.ndarray, prior: tuple[float, float], within: float) -> _Fit:
    """Solve by least squares with the prior on R as one more reading."""
    design = np.column_stack(list(columns.values()))
    scale = np.maximum(np.linalg.norm(design, axis=0), 1e-30)
    scaled = design / scale
    at = list(columns).index("r")
    free, _, rank, _ = np.linalg.lstsq(scaled, v, rcond=1e-9)
    misfit = v - scaled @ free
    dof = max(len(v) - int(rank), 1)
    sigma = math.sqrt(max(float(misfit @ misfit) / dof, within, 1e-30))
    known = np.zeros(scaled.shape[1])
    known[at] = 1 / (prior[1] * scale[at])
    stacked = np.vstack([scaled / sigma, known])
    target = np.append(v / sigma, prior[0] / prior[1])
    solved, *_ = np.linalg.lstsq(stacked, target, rcond=None)
    covariance = np.linalg.pinv(stacked.T @ stacked, rcond=1e-14) / np.outer(scale, scale)
    from_data = math.sqrt(covariance[at, at]) < 0.3 * prior[1]
    return _Fit(solved / scale, covariance, dof, from_data)


def _steady(speed: np.ndarray) -> np.ndarray:
    """Number the stretches of steady speed, −1 elsewhere; a table of few rows is one stretch a row."""
    n = len(speed)
    if n < 60:
        order = np.argsort(speed)
        gaps = np.diff(speed[order]) > 0.03 * float(np.max(np.abs(speed)))
        group = np.empty(n, dtype=int)
        group[order] = np.concatenate([[0], np.cumsum(gaps)])
        return group
    levels = find_levels([speed])
    group = np.full(n, -1)
    for k, (start, stop) in enumerate(zip(levels.first, levels.last, strict=True)):
        group[start:stop] = k
    return group


def flux_from_no_load(
    volts: float, speed: float, pole_pairs: int, *, amps: float = 0.0, r_phase: float = 0.0
) -> float:
    """Return ψ [Wb] from the no-load speed [rad/s] under six-step drive at a DC supply of ``volts``.

    The link sees 3√3/π of the phase peak; two phases carry the no-load current ``amps``.
    """
    emf = volts - 2 * r_phase * amps
    if not (emf > 0 and speed > 0):
        raise Refusal("no-load speed and supply give no back-EMF", "check voltage, current and speed")
    return emf * math.pi / (3 * math.sqrt(3) * pole_pairs * speed)
