"""Flux linkage from a running drive, and from no-load speed."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from crisp_compass.capture.levels import find_levels
from crisp_compass.capture.model import Capture
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Estimate, Finding, FloatArray, Result


@dataclass(frozen=True)
class RunningResult(Result):
    """Flux linkage with what a plot needs: electrical ``omega`` [rad/s], ``voltage``, ``model``, ``residual`` [V], all (k,), by speed."""

    omega: FloatArray
    voltage: FloatArray
    model: FloatArray
    residual: FloatArray


def fit_running(capture: Capture, *, pole_pairs: int | None = None) -> RunningResult:
    """Estimate ψ from ``v_q``, ``i_q`` and ``speed`` (perhaps ``i_d``) at several steady speeds.

    v_q = R·iq + p·ω·(ψ + Ld·id) + s·sign ω + c: the slope over ω is ψ, R comes from iq where it varies, s takes up the
    inverter's voltage loss where both directions are there. Samples where the speed changes are left out, so that
    neither L·diq/dt nor a lag biases the slope. Scatter of whole speeds against the line counts, not only of samples.

    Raises
    ------
    Refusal
        Missing column, unknown pole pairs, fewer than three distinct speeds.
    """
    speed, v_q, i_q = capture.require("speed", "v_q", "i_q", samples=6)
    p = pole_pairs if pole_pairs is not None else capture.note_number("pole_pairs")
    if p is None:
        raise Refusal("the pole pairs are not known", "give --pole-pairs or the note “pole_pairs”", where=capture.source)
    if p < 1 or p != int(p):
        raise Refusal(f"{p:g} pole pairs are not possible", "pole pairs are a whole number from 1 up", where="--pole-pairs")
    group = _steady(speed)
    count = int(group.max()) + 1
    if count < 3:
        raise Refusal(
            f"{max(count, 0)} steady speed(s) are too few", "hold at least three different speeds, widely spread", where=capture.source
        )
    i_d = capture["i_d"] if "i_d" in capture else np.zeros(len(speed))

    def means(x: np.ndarray) -> np.ndarray:
        return np.array([float(np.mean(x[group == k])) for k in range(count)])

    w, v, iq, idd = p * means(speed), means(v_q), means(i_q), means(i_d)
    columns = {"psi": w, "constant": np.ones(count)}
    if w.min() < 0 < w.max():
        columns["loss"] = np.sign(w)
    columns |= {"r": iq} if float(np.ptp(np.abs(iq))) > 0.05 * float(np.max(np.abs(iq))) else {}
    if float(np.ptp(idd)) > 0.05 * float(np.max(np.abs(iq)) + 1e-12):
        columns["ld"] = w * idd
    for name in ("ld", "loss", "r", "constant"):  # as many unknowns as the speeds can carry
        if len(columns) >= count and name in columns:
            del columns[name]
    design = np.column_stack(list(columns.values()))
    scale = np.linalg.norm(design, axis=0)
    solved, *_ = np.linalg.lstsq(design / scale, v, rcond=None)
    residual = v - design / scale @ solved
    dof = max(count - design.shape[1], 1)
    inverse = np.linalg.pinv((design / scale).T @ (design / scale))
    within = np.array([float(np.std(v_q[group == k])) / math.sqrt(max(int((group == k).sum()), 1)) for k in range(count)])
    variance = max(float(residual @ residual) / dof, float(np.mean(within**2)))
    names = list(columns)
    at = names.index("psi")
    psi, u = float(solved[at] / scale[at]), math.sqrt(variance * float(inverse[at, at])) / float(scale[at])
    if psi <= 0:
        raise Refusal("v_q falls while the speed rises", "one channel is reversed; map it with a minus sign", where=capture.source)
    findings = list(capture.findings)
    estimates = {"flux_linkage": Estimate.from_u(psi, "Wb", u, dof=dof)}
    if "r" in names:
        r_at = names.index("r")
        r_u = math.sqrt(variance * float(inverse[r_at, r_at])) / float(scale[r_at])
        estimates["resistance"] = Estimate.from_u(float(solved[r_at] / scale[r_at]), "Ω", r_u, dof=dof)
    else:
        text = "The current hardly varies with speed, so the voltage drop R·iq went into the offset."
        findings.append(Finding("info", "resistance-not-resolved", text))
    estimates["kt"] = estimates["flux_linkage"].scaled(1.5 * p, "N·m/A")
    if float(np.max(np.abs(w))) < 2 * float(np.min(np.abs(w))):
        findings.append(Finding("caution", "speeds-close", "The speeds lie within a factor of two; spread them more."))
    order = np.argsort(w)
    method = f"v_q over speed at {count} steady speeds, {int(p)} pole pairs; slope is the flux"
    return RunningResult(estimates, method, tuple(findings), w[order], v[order], (v - residual)[order], residual[order])


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


def flux_from_no_load(volts: float, speed: float, pole_pairs: int, *, amps: float = 0.0, r_phase: float = 0.0) -> float:
    """Return ψ [Wb] from the no-load speed [rad/s] under six-step drive at a DC supply of ``volts``.

    The link sees 3√3/π of the phase peak; two phases carry the no-load current ``amps``.
    """
    emf = volts - 2 * r_phase * amps
    if not (emf > 0 and speed > 0):
        raise Refusal("no-load speed and supply give no back-EMF", "check voltage, current and speed")
    return emf * math.pi / (3 * math.sqrt(3) * pole_pairs * speed)
