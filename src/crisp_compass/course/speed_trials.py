"""Speed loops measured and tried: what ran, what it shows, the one change to try next."""

from __future__ import annotations

import math

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import LedgerEntry, SpeedTrial
from crisp_compass.course.speed_design import plant_of
from crisp_compass.course.speed_measured import MeasuredSpeed, speed_gains_that_ran
from crisp_compass.course.trials import TrialRow, Trials
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding
from crisp_compass.loops.sampled import Margins
from crisp_compass.loops.speed import analyse_speed
from crisp_compass.loops.step_fit import StepFigures, measured_figures
from crisp_compass.quantities import show

_MOST = 12
#: Points of a measured trial that are kept, about, and crossover periods of a designed step that are shown.
_CURVE, _PERIODS = 150, 3.0
#: What a response may overshoot [%]: the symmetrical optimum itself makes some 43 % without a set-point filter (Leonhard 2001, 7.1).
_MUCH, _LITTLE = 50.0, 15.0


def speed_trial_rows(bench: Bench) -> list[TrialRow]:
    """Return every trial, measured ones as they were, others by the design's theory; raises Refusal naming what is missing."""
    plant, found = plant_of(bench), []
    for trial in bench.speed_trials:
        design = analyse_speed(plant, trial.kp, trial.ki, "tried")
        m = design.margins
        hertz = m.crossover_hz if math.isfinite(m.crossover_hz) else trial.kp * plant.kt / plant.inertia / (2 * math.pi)
        steps = max(math.ceil(_PERIODS / (hertz * design.loop.ts)), 20)
        time = np.arange(float(steps)) * design.loop.ts
        response = design.step(steps) if m.stable else np.full(steps, math.nan)
        figures = measured_figures(time, response, 1.0) if m.stable else StepFigures(math.nan, math.nan, math.nan, 0.0, delay=0.0)
        if trial.curve:
            time, response = (np.array(column) for column in zip(*trial.curve, strict=True))
            figures = StepFigures(trial.rise if trial.rise is not None else math.nan, 100 * (trial.overshoot or 0.0), trial.settling if trial.settling is not None else math.nan, 0.0, delay=0.0)
        found.append(TrialRow("measured" if trial.curve else "automatic" if trial.automatic else "designed", trial.step, trial.kp, trial.ki, bandwidth_hz=hertz, margins=m, figures=figures, time=time, response=response))
    return found


def next_change(overshoot: float, margins: Margins, kp: float, ki: float, crossover: float) -> tuple[float, float, str]:
    """Return gains to try next, one of them changed, and why (common practice: the proportional gain by the margin first, then the integral one by the overshoot that is left)."""
    if not margins.stable:
        return 0.4 * kp, ki, "Not stable: less than half of Kp, Ki as it is."
    if margins.rings:
        return 0.65 * kp, ki, f"{margins.phase_margin_deg:.0f}° of margin ring: a third less Kp, Ki as it is."
    lag = ki / kp / (2 * math.pi * crossover)  # the integral's corner over the crossover
    if overshoot > _MUCH or lag > 0.5:
        return kp, 0.6 * ki, f"{overshoot:.0f} % overshoot: Ki two fifths less, Kp as it is."
    if overshoot < _LITTLE and margins.phase_margin_deg > 55:
        if lag < 0.08:
            return kp, 2.0 * ki, "Calm, but a load is taken back slowly: twice Ki, Kp as it is."
        return 1.3 * kp, ki, "Calm, and margin to spare: a third more Kp, Ki as it is; then look again."
    return kp, ki, "Fast and calm: keep it."


def advise_speed(bench: Bench, rows: list[TrialRow]) -> tuple[str, list[Finding]]:
    """Return advice for the next trial, and findings."""
    if not rows:
        return "Add a trial: the gains that run in the drive, or a response that was measured.", []
    last = rows[-1]
    findings = [] if last.margins.stable else [Finding("stop", "unstable", "The last trial is unstable with the settled mechanics and current loop.")]
    overshoot = last.figures.overshoot if math.isfinite(last.figures.overshoot) else 0.0
    kp, ki, why = next_change(overshoot, last.margins, last.kp, last.ki, crossover=last.bandwidth_hz)
    if kp == last.kp and ki == last.ki:
        return why, findings
    return f"{why} Next: Kp {show(kp, 'A/(rad/s)')}, Ki {show(ki, 'A/rad')}.", findings


def add_speed_trial(bench: Bench, when: str, *, automatic: bool = False, gains: tuple[float, float] | None = None, measured: MeasuredSpeed | None = None) -> Bench:
    """Return the bench with a trial more, of the gains that ran, and a ledger line; raises Refusal for gains that are not above zero or too many."""
    kp, ki = gains or (measured.gains if measured is not None else speed_gains_that_ran(bench))
    if len(bench.speed_trials) >= _MOST:
        raise Refusal(f"{_MOST} trials are kept", "clear the list first")
    try:
        trial = SpeedTrial(kp=kp, ki=ki, automatic=automatic, when=when)
    except ValueError:
        raise Refusal("the gains of a trial are not possible", "type both, above zero") from None
    if measured is not None:
        trial = trial.model_copy(update=_as_measured(measured))
    line = LedgerEntry(when=when, kind="trial", text=f"speed loop Kp {show(kp, 'A/(rad/s)')}, Ki {show(ki, 'A/rad')}")
    return bench.model_copy(update={"speed_trials": (*bench.speed_trials, trial), "ledger": (*bench.ledger, line)})


def _as_measured(found: MeasuredSpeed) -> dict[str, object]:
    """Return the fields that a trial keeps of the first step of a measured response, its curve thinned to what a plot needs."""
    steps = np.flatnonzero(np.abs(np.diff(found.reference)) > 1e-9 * max(float(np.ptp(found.reference)), 1e-9))
    if not len(steps) or not math.isfinite(found.figures.overshoot):
        raise Refusal("this response has no step whose figures can be told", "a capture with a clear step of the reference")
    first = int(steps[0])
    span = 4 * found.figures.settling if math.isfinite(found.figures.settling) else found.time[-1]
    kept = (found.time >= found.time[first]) & (found.time <= found.time[first] + span)
    t = found.time[kept] - found.time[first]
    begin, end = float(np.mean(found.measured[max(first - 20, 0) : first + 1])), float(found.reference[kept][-1])
    y = (found.measured[kept] - begin) / (end - begin) if end != begin else np.zeros(len(t))
    every = max(len(t) // _CURVE, 1)
    return {
        "step": abs(end - begin), "overshoot": found.figures.overshoot / 100, "rise": found.figures.rise if math.isfinite(found.figures.rise) else None,
        "settling": found.figures.settling if math.isfinite(found.figures.settling) else None,
        "curve": tuple((float(f"{a:.6g}"), float(f"{b:.5g}")) for a, b in zip(t[::every], y[::every], strict=True)),
    }  # fmt: skip


TRIALS = Trials("speed_trials", ("A/(rad/s)", "A/rad", "rpm"), speed_trial_rows, advise_speed, add=lambda bench, when, automatic: add_speed_trial(bench, when, automatic=automatic))
