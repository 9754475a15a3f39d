"""Flux linkage of a two-phase stepper from one or both open windings, the shaft coasting or turned by hand.

The motion and the waveform are fitted as for three phases (:mod:`crisp_compass.identify.emf`), on two axes: e_a = −ω·ψ·sin θ,
e_b = ω·ψ·cos θ, Kt = p·ψ.

Harmonics. A stepper's detent torque runs with 4θ, so its speed ripples: ω·(1 + ε·cos(4θ + φ)). To first order the waveform over the
mean motion then shows, beside its own harmonics, a third of −3/8·ε and a fifth of 5/8·ε (both with φ; the product of two
sines, plus the ripple of the angle itself). What tells the two apart is that the ripple of a coasting rotor falls with 1/ω²
(its energy exchanges with the detent), while a harmonic stays. Both are fitted together; where the speed hardly changes the
data do not tell them apart, and the interval says so: it is bounded by what windings have (a standard deviation of 10 %, common
practice).
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from crisp_compass.capture.gaps import without_gaps
from crisp_compass.capture.model import Capture
from crisp_compass.capture.quality import pile_up
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Estimate, Finding, FloatArray
from crisp_compass.identify.circuit import family_of_capture
from crisp_compass.identify.emf import TWO_PHASE, EmfFit, fit_emf
from crisp_compass.identify.flux import FluxResult, doubtful_voltages, flux_of, method_of, misfit_of, pole_pairs_seen
from crisp_compass.identify.guard import solvable

#: Widens the flux's bar: the pieces of the motion were chosen by the same data, and the ripple is in it to first order only.
_CHOSEN = 1.15
#: Standard deviation of a winding's harmonic before anything is known of it.
_PRIOR = 0.1
#: Ripple of the speed beyond which its first order no longer holds.
_MOST_RIPPLE = 0.12


@solvable
@without_gaps
def fit_winding_flux(capture: Capture, *, pole_pairs: int | None = None, turns: float | None = None) -> FluxResult:
    """Estimate the flux linkage of a winding.

    Parameters
    ----------
    capture
        ``v_a``, ``v_b`` or both, windings open; ``speed`` or ``angle`` also give the pole pairs.
    pole_pairs, turns
        As for three phases.

    Returns
    -------
    FluxResult
        ``flux_linkage`` [Wb], ``harmonic_3``, ``harmonic_5`` (voltage ratios); ``pole_pairs`` and ``kt`` [N·m/A] where they can
        be told; ``imbalance`` with two windings.

    Raises
    ------
    Refusal
        Missing, constant, clipped or too short channels; too little turning; voltages 120° apart.
    """
    family_of_capture(capture, "stepper")
    names = [n for n in TWO_PHASE if n in capture]
    if not names:
        capture["v_a"]  # writes the refusal for the missing column
    voltages = dict(zip(names, capture.require(*names, samples=60), strict=True))
    for name, values in voltages.items():
        flags = pile_up(values)
        if flags.any() and int(np.count_nonzero(np.diff(flags.astype(np.int8)) == 1)) >= 2:
            raise Refusal(f"{name} is cut off at the end of its range", "use a larger range", where=capture.source)
    findings = [*capture.findings, *doubtful_voltages(voltages, capture.source)]
    fit = fit_emf(capture.time, voltages, capture.source, rows=TWO_PHASE, ratios=(3, 5), pieces_per_turn=0.5)
    _refuse_three_phases(voltages, capture.source)
    split = _split_harmonics(fit)
    flux = flux_of(fit, _CHOSEN * misfit_of(split.without_ripple, findings), findings, capture.source)
    estimates = {"flux_linkage": flux, **split.harmonics}
    if split.findings:
        findings.extend(split.findings)
    if len(fit.psi) > 1:
        off = fit.psi / float(np.mean(fit.psi)) - 1
        worst = int(np.argmax(np.abs(off)))
        estimates["imbalance"] = Estimate.from_u(abs(float(off[worst])), "", float(fit.psi_u[worst] / fit.psi[worst]))
    measured, p = pole_pairs_seen(capture, fit, pole_pairs, turns, findings=findings)
    if measured is not None:
        estimates["pole_pairs"] = measured
    if p is not None:
        estimates["kt"] = flux.scaled(p, "N·m/A")
    voltage = np.column_stack([voltages[c][fit.index] for c in fit.channels])
    return FluxResult(
        estimates,
        method_of(fit),
        tuple(findings),
        fit.channels,
        time=fit.time,
        voltage=voltage,
        model=fit.model,
        residual=fit.residual,
        omega=fit.omega,
    )


def _refuse_three_phases(voltages: dict[str, FloatArray], source: str) -> None:
    if len(voltages) < 2:
        return
    a, b = (v - np.mean(v) for v in voltages.values())
    together = float(np.mean(a * b)) / max(float(np.std(a) * np.std(b)), 1e-300)
    if abs(abs(together) - 0.5) < 0.12:
        raise Refusal(
            "the two voltages lie 120° apart, as those of a three-phase motor; the windings of a stepper lie 90° apart",
            "read it as a three-phase motor's, or check which leads are a pair",
            where=source,
            code="family",
        )


@dataclass(frozen=True)
class _Split:
    """Harmonics, what to say of them, and the fit where the shaft's ripple is part of the model."""

    harmonics: dict[str, Estimate]
    findings: tuple[Finding, ...]
    without_ripple: EmfFit


def _split_harmonics(fit: EmfFit) -> _Split:
    """Tell the winding's third and fifth from what the shaft's own ripple looks like."""
    if 5 not in fit.harmonics:
        return _Split({}, (), fit)
    fastest = float(np.max(np.abs(fit.omega)))
    usable = np.abs(fit.omega) > 0.15 * fastest
    slow = (fastest / np.where(usable, fit.omega, fastest)) ** 2
    v = fit.model + fit.residual
    blocks, right, weights = [], [], []
    for c, name in enumerate(fit.channels):
        place = math.atan2(TWO_PHASE[name][1], TWO_PHASE[name][0])
        theta = fit.theta - place - fit.phase_error[c]
        if len(fit.channels) == 1 and np.mean(fit.omega * v[:, c] * -np.sin(theta)) < 0:
            theta = theta + math.pi
        scale = -fit.omega * fit.psi[c]
        columns = [scale * f(h * theta) for h in (1, 3, 5) for f in (np.sin, np.cos)]
        ripple = [
            scale * slow * (-0.375 * np.sin(3 * theta) + 0.625 * np.sin(5 * theta)),
            scale * slow * (-0.375 * np.cos(3 * theta) + 0.625 * np.cos(5 * theta)),
        ]
        own = [np.zeros((len(theta), 3)) for _ in fit.channels]
        own[c] = np.column_stack([columns[0], columns[1], np.ones(len(theta))])
        blocks.append(np.column_stack([*columns[2:], *ripple, *own])[usable])
        right.append(v[usable, c])
        weights.append(np.full(int(usable.sum()), 1.0 / max(float(np.std(fit.residual[:, c])), 1e-300)))
    weight = np.concatenate(weights)
    design = np.vstack(blocks) * weight[:, None]
    norm = np.linalg.norm(design, axis=0)
    prior = np.zeros(design.shape[1])
    prior[:4] = 1 / (_PRIOR * norm[:4])
    stacked = np.vstack([design / norm, np.diag(prior)])
    target = np.concatenate([np.concatenate(right) * weight, np.zeros(len(prior))])
    answer, *_ = np.linalg.lstsq(stacked, target, rcond=None)
    rest = target - stacked @ answer
    spread = float(rest @ rest) / max(len(target) - 2 * len(prior), 1)  # the weights had the ripple in them
    covariance = np.linalg.pinv(stacked.T @ stacked) / np.outer(norm, norm) * spread
    values = answer / norm
    ripple_size = math.hypot(values[4], values[5])
    at_slowest = ripple_size * float(np.max(slow[usable]))
    # where the ripple is large its second order, about ε², adds what no column of the fit holds
    beyond = 0.5 * min(at_slowest, 1.0) ** 2
    found, doubtful = {}, False
    for k, order in enumerate((3, 5)):
        part = values[2 * k : 2 * k + 2]
        u = math.hypot(
            math.sqrt(float(np.trace(covariance[2 * k : 2 * k + 2, 2 * k : 2 * k + 2])) / 2), 0.05 * beyond
        )
        size = math.hypot(*part)
        value = math.sqrt(max(size**2 - u**2, 0.0))
        clear = size >= 2.2 * u
        low = max(value - 1.96 * u, 0.0) if clear else 0.0
        found[f"harmonic_{order}"] = Estimate(value, "", u, low, high=value + (1.96 if clear else 2.2) * u)
        doubtful = doubtful or u > 0.01
    findings = []
    if doubtful:
        text = "The shaft's own ripple at four times the electrical frequency (detent torque) looks like a third and a fifth harmonic; this capture hardly tells them apart, and the intervals of the harmonics say so: let it coast over a wider range of speed."
        findings.append(Finding("info", "ripple-like-harmonics", text))
    # what the ripple takes of the residual, each channel's samples where it was fitted
    residual = fit.residual.copy()
    for c in range(len(fit.channels)):
        explained = blocks[c][:, 4:6] @ values[4:6]
        freed = fit.residual[usable, c] - (explained - _project(explained, blocks[c]))
        if float(np.std(freed)) < float(np.std(fit.residual[usable, c])):
            residual[usable, c] = freed
    return _Split(found, tuple(findings), replace(fit, residual=residual))


def _project(ripple: FloatArray, block: FloatArray) -> FloatArray:
    """Return the part of the ripple (n,) that the waveform's own columns already take."""
    own = np.delete(block, (4, 5), axis=1)
    norm = np.linalg.norm(own, axis=0)
    own = own[:, norm > 0] / norm[norm > 0]
    return np.asarray(own @ np.linalg.lstsq(own, ripple, rcond=None)[0])
