"""Flux linkage, pole pairs and motor constants from the open-circuit voltage of a turning machine.

The waveform model and its fit are in :mod:`crisp_compass.identify.emf`. ψ is the mean over the channels; a line-to-line
channel sees √3·ψ. Pole pairs are the ratio of electrical to mechanical angle covered. Kt = 1.5·p·ψ and Kv as in
:mod:`crisp_compass.conversions`.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from crisp_compass.capture.gaps import without_gaps
from crisp_compass.capture.model import Capture
from crisp_compass.capture.preview import look_of
from crisp_compass.capture.quality import noise, pile_up
from crisp_compass.conversions import kt_from_flux, kv_from_flux
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Estimate, Finding, FloatArray, Result
from crisp_compass.identify.circuit import family_of_capture
from crisp_compass.identify.emf import GEOMETRY, EmfFit, fit_emf

#: Standard uncertainty of turns counted by hand: it stops within a tenth of a turn nearly always (common practice).
HAND_STOP = 0.05


@dataclass(frozen=True)
class FluxResult(Result):
    """Flux linkage with what a plot needs: ``time`` (m,) s, ``voltage``/``model``/``residual`` (m, c) V, ``omega`` (m,) rad/s."""

    channels: tuple[str, ...]
    time: FloatArray
    voltage: FloatArray
    model: FloatArray
    residual: FloatArray
    omega: FloatArray


def voltages_of(capture: Capture, *, samples: int = 60) -> dict[str, FloatArray]:
    """Return the voltage channels of a capture; refuses none, constant, short or clipped ones."""
    names = [n for n in GEOMETRY if n in capture]
    lines = [n for n in names if len(n) == 4]
    names = lines or names  # mixing line and phase voltages adds nothing but confusion
    if not names:
        capture["v_ab"]  # writes the refusal for the missing column
    arrays = dict(zip(names, capture.require(*names, samples=samples), strict=True))
    for name, values in arrays.items():
        flags = pile_up(values)
        runs = int(np.count_nonzero(np.diff(flags.astype(np.int8)) == 1))
        if flags.any() and runs >= 2:
            raise Refusal(f"{name} is cut off at the end of its range", "use a larger range", where=capture.source)
    return arrays


@without_gaps
def fit_flux(capture: Capture, *, pole_pairs: int | None = None, turns: float | None = None) -> FluxResult:
    """Estimate the flux linkage.

    Parameters
    ----------
    capture
        One to three of ``v_ab v_bc v_ca`` or ``v_a v_b v_c``, windings open, shaft coasting or turned; ``speed``
        or ``angle`` also give the pole pairs.
    pole_pairs
        Pole pairs if known; without it the note ``pole_pairs`` is used.
    turns
        Whole turns of the shaft counted by hand over the capture, for the pole pairs.

    Returns
    -------
    FluxResult
        ``flux_linkage`` [Wb], ``harmonic_5``, ``harmonic_7``, ``trapezoid_factor`` (peak of the waveform over that of
        its fundamental: 1 for a sine, 0.95 for an ideal 120° trapezoid between two terminals), ``imbalance`` (largest
        deviation of a channel from the mean, with two or three channels); ``pole_pairs``, ``kt`` [N·m/A], ``kv_peak`` [rpm/V]
        where they can be told.

    Raises
    ------
    Refusal
        Missing, constant, clipped or too short channels; too little turning.
    """
    family_of_capture(capture)
    voltages = voltages_of(capture)
    findings = [*capture.findings, *doubtful_voltages(voltages, capture.source)]
    fit = fit_emf(capture.time, voltages, capture.source)
    _refuse_two_phases(voltages, capture.source)
    misfit = misfit_of(fit, findings)
    flux = flux_of(fit, misfit, findings, capture.source)
    estimates = {"flux_linkage": flux}
    for order in fit.harmonics:
        estimates[f"harmonic_{order}"] = _harmonic(fit, order)
    crest = float(np.mean(fit.crest))
    doubt = math.sqrt(sum(float(np.mean(u)) ** 2 for u in fit.harmonics_u.values()))
    estimates["trapezoid_factor"] = Estimate.from_u(crest, "", doubt)
    if len(fit.psi) > 1:
        off = fit.psi / float(np.mean(fit.psi)) - 1
        worst = int(np.argmax(np.abs(off)))
        estimates["imbalance"] = Estimate.from_u(
            abs(float(off[worst])), "", float(fit.psi_u[worst] / fit.psi[worst]) * misfit
        )
    measured, p = pole_pairs_seen(capture, fit, pole_pairs, turns, findings=findings)
    if measured is not None:
        estimates["pole_pairs"] = measured
    if p is not None:
        kt = kt_from_flux(1.0, "peak", p)
        estimates["kt"] = flux.scaled(kt, "N·m/A")
        kv = kv_from_flux(flux.value, "line-peak", p)
        relative = flux.u / flux.value
        estimates["kv_peak"] = Estimate(
            kv,
            "rpm/V",
            kv * relative,
            kv * flux.value / flux.high,
            high=kv * flux.value / max(flux.low, 0.05 * flux.value),
        )
    method = method_of(fit)
    if fit.vectorial:
        net = float(fit.theta[-1] - fit.theta[0])
        method += f", turned {'forward (A → B → C)' if net > 0 else 'backward (A → C → B)'}"
    voltage = np.column_stack([voltages[c][fit.index] for c in fit.channels])
    return FluxResult(
        estimates, method, tuple(findings), fit.channels, time=fit.time, voltage=voltage, model=fit.model, residual=fit.residual, omega=fit.omega
    )


def method_of(fit: EmfFit) -> str:
    """Say what the flux was found from."""
    speeds, turns = np.abs(fit.omega) / (2 * math.pi), abs(fit.theta[-1] - fit.theta[0]) / (2 * math.pi)
    lowest = f"{speeds.min():.3g} Hz" if speeds.min() > 0.01 * speeds.max() else "standstill"
    return (
        f"back-EMF of {', '.join(fit.channels)} over {turns:.0f} electrical turns, "
        f"{speeds.max():.3g} Hz down to {lowest}; voltage and frequency fitted together"
    )


def doubtful_voltages(voltages: dict[str, FloatArray], source: str) -> list[Finding]:
    """Refuse channels that rest on two levels, which no back-EMF does, and say where three line voltages do not sum to zero, which they always do (Kirchhoff)."""
    square = [name for name, values in voltages.items() if look_of(values) == "logic"]
    if square:
        raise Refusal(
            f"{square[0]} rests on two levels, as a logic signal does; a back-EMF does not",
            "say anew which channel is which: halls and encoders are read on Commutation",
            where=source,
            code="channels",
        )
    lines = [voltages[k] for k in ("v_ab", "v_bc", "v_ca") if k in voltages]
    if len(lines) < 3:
        return []
    left = float(np.std(sum(lines))) / max(float(np.mean([np.std(v) for v in lines])), 1e-300)
    if left < 0.1:
        return []
    text = f"The three line voltages leave {100 * left:.0f} % when they are summed; they should sum to zero: a channel is flipped, has another scale, or is no line voltage."
    return [Finding("caution", "lines-do-not-sum", text)]


def _refuse_two_phases(voltages: dict[str, FloatArray], source: str) -> None:
    """Refuse two voltages to the star point that lie 90° apart: those of a two-phase machine."""
    if tuple(voltages) != ("v_a", "v_b"):
        return
    a, b = (v - np.mean(v) for v in voltages.values())
    size = float(np.std(a) * np.std(b))
    if size > 0 and abs(float(np.mean(a * b))) / size < 0.2 and 0.8 < float(np.std(a) / np.std(b)) < 1.25:
        raise Refusal(
            "the two voltages lie 90° apart, as those of a two-phase stepper; of three phases they would be 120° apart",
            "read it as a stepper's (--family stepper, or the plate's kind of motor)",
            where=source,
            code="family",
        )


def misfit_of(fit: EmfFit, findings: list[Finding]) -> float:
    """Return the factor by which unexplained residual widens the error bar."""
    block = max(4, len(fit.time) // 200)
    worst = 1.0
    for c in range(len(fit.channels)):
        r = fit.residual[:, c]
        usable = r[: len(r) // block * block].reshape(-1, block)
        # a shaft that came to rest on one code has no noise there: what neighbours differ by elsewhere is the least there is
        least = float(np.sqrt(np.mean(np.diff(r) ** 2) / 2)) if len(r) > 1 else 0.0
        expected = max(noise(r), least, 1e-300) / math.sqrt(block)
        means = usable.mean(axis=1)
        # everywhere a little, or one jerk of the shaft: the largest of 200 means of white noise stays below 4
        worst = max(worst, float(np.std(means)) / expected, float(np.max(np.abs(means), initial=0.0)) / expected / 4)
    if 1.15 < worst <= 1.6:
        return worst
    if worst > 1.6:
        share = 100 * max(
            float(np.std(fit.residual[:, c]) / np.std(fit.model[:, c])) for c in range(len(fit.channels))
        )
        findings.append(
            Finding(
                "caution",
                "model-does-not-fit",
                f"{share:.2g} % of the voltage is not explained by a smoothly turning rotor: current flowed, the speed jerked, or a probe picks up interference; the error bar is widened.",
            )
        )
        return worst
    return 1.0


def flux_of(fit: EmfFit, misfit: float, findings: list[Finding], source: str) -> Estimate:
    """Return the flux linkage as the mean over the channels; refuses one that cannot be told."""
    value = float(np.mean(fit.psi))
    u = math.sqrt(max(float(np.mean(fit.psi_covariance)), 0.0)) * misfit
    if len(fit.psi) > 1:
        spread = float(np.ptp(fit.psi)) / value
        doubt = float(np.max(fit.psi_u)) * misfit / value
        if spread > max(0.02, 6 * doubt):
            shown = ", ".join(f"{c} {1e3 * p:.4g} mWb" for c, p in zip(fit.channels, fit.psi, strict=True))
            findings.append(
                Finding(
                    "caution",
                    "channels-differ",
                    f"The channels see different flux ({shown}): a probe's range or factor is wrong, or a winding is damaged.",
                )
            )
            u = math.hypot(u, float(np.std(fit.psi, ddof=1)) / math.sqrt(len(fit.psi)))
    if fit.vectorial and float(np.max(np.abs(fit.phase_error))) > math.radians(8):
        findings.append(
            Finding(
                "caution",
                "phases-misplaced",
                "The channels are not where they belong to each other: one is reversed or belongs to another pair of leads.",
            )
        )
    flux = Estimate.from_u(value, "Wb", u, dof=max(len(fit.time) - 20, 1))
    if flux.high - flux.low > 2 * flux.value:
        raise Refusal(
            "the flux cannot be determined: its error bar would be wider than itself",
            "capture a faster turn or more turns, with the voltage filling the range",
            where=source,
        )
    return flux


def _harmonic(fit: EmfFit, order: int) -> Estimate:
    """Mean over the channels of the voltage ratio's magnitude, freed of the noise's share."""
    ratios, u = fit.harmonics[order], fit.harmonics_u[order]
    mean = complex(np.mean(ratios))
    size = float(np.sqrt(np.mean(u**2) / len(u)))
    coherent = abs(mean)
    value = math.sqrt(max(coherent**2 - size**2, 0.0))
    low = 0.0 if coherent < 2.45 * size else max(value - 1.96 * size, 0.0)
    return Estimate(value, "", size, low, high=value + (1.96 if coherent >= 2.45 * size else 2.45) * size)


def pole_pairs_seen(
    capture: Capture, fit: EmfFit, given: int | None, turns: float | None, findings: list[Finding]
) -> tuple[Estimate | None, float | None]:
    """Return the pole pairs that the capture shows, and those to use: the given or noted ones come first."""
    measured = _pole_pairs(capture, fit, turns, findings)
    known = given if given is not None else capture.note_number("pole_pairs")
    if known is not None and (known < 1 or known != int(known)):
        raise Refusal(
            f"{known:g} pole pairs are not possible", "pole pairs are a whole number from 1 up", where="--pole-pairs"
        )
    if measured is not None and known is not None and int(known) != int(measured.value):
        text = f"The capture shows {measured.value:.0f} pole pairs, not the given {known:.0f}; check which is right before settling Kt or Kv."
        findings.append(Finding("caution", "pole-pairs-disagree", text))
    return measured, known if known is not None else (measured.value if measured is not None else None)


def _pole_pairs(capture: Capture, fit: EmfFit, turns: float | None, findings: list[Finding]) -> Estimate | None:
    """Ratio of electrical to mechanical motion, if the capture holds a speed or an angle, or turns were counted."""
    if "angle" in capture:
        angle = np.unwrap(capture["angle"])[fit.index]
        if float(np.ptp(angle)) < 0.2:
            return None
        slope, _ = np.polyfit(angle, fit.theta, 1)
        ratio, doubt = abs(float(slope)), 0.0
    elif "speed" in capture:
        speed = capture["speed"][fit.index]
        common = abs(float(np.sum(fit.omega * speed)))
        if common == 0:
            return None
        # the fitted ω carries no noise, so it serves as the instrument: noise of the speed channel drops out
        ratio = float(np.sum(fit.omega**2)) / common
        scatter = float(np.std(np.abs(fit.omega) / ratio - np.abs(speed)))
        doubt = (
            ratio * scatter / math.sqrt(len(speed)) / max(float(np.sqrt(np.mean((fit.omega / ratio) ** 2))), 1e-12)
        )
    elif turns is not None:
        if not turns > 0:
            raise Refusal(f"{turns:g} turns cannot be meant", "count the turns of the shaft", where="--turns")
        ratio = abs(float(fit.theta[-1] - fit.theta[0])) / (2 * math.pi) / turns
        doubt = HAND_STOP * ratio / turns
    else:
        return None
    whole = round(ratio)
    if whole < 1 or doubt > 0.15 or abs(ratio - whole) > min(0.04 * whole + 0.05, 0.3) + doubt:
        findings.append(
            Finding(
                "caution",
                "pole-pairs-unclear",
                f"Electrical over mechanical speed is {ratio:.3g}, not near a whole number: check the factor of speed or angle, or count more turns.",
            )
        )
        return None
    return Estimate(float(whole), "", 0.0, float(whole), high=float(whole))
