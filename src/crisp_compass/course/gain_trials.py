"""Current steps measured and tried: what ran, what it shows, what to try next."""

from __future__ import annotations

import itertools
import math

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import CurrentTrial, LedgerEntry
from crisp_compass.bench.rules import need
from crisp_compass.course.bridge import usable_voltage
from crisp_compass.course.trials import TrialRow, Trials
from crisp_compass.course.waypoints.current_loop import expected_step, gains_that_ran
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding, FloatArray
from crisp_compass.loops.current import axis_loop
from crisp_compass.loops.step_fit import (
    RunningLoop,
    StepFigures,
    StepFit,
    implausible_jump,
    measured_figures,
    next_trial,
    respond,
)
from crisp_compass.motor import winding_of
from crisp_compass.quantities import show

_MOST = 12
_STEPS = 60
#: Points of a measured trial that are kept, about.
_CURVE = 150


def predicted_step(bench: Bench) -> tuple[FloatArray, FloatArray]:
    """Return time [s] and current [A] (n,) of the page's step with the gains that ran; raises Refusal as ``expected_step``."""
    expected = expected_step(bench, {})
    time = np.arange(8 * _STEPS) / expected.loop_hz / 8
    reference = np.full(_STEPS + 2, bench.settings.current_loop.step)
    delay = expected.delay_samples / expected.loop_hz
    return time, respond(expected, expected.r, expected.inductance, delay, reference=reference, at=time)


def trial_rows(bench: Bench) -> list[TrialRow]:
    """Return every trial of the bench, measured ones as they were, others simulated on the settled winding; raises Refusal naming what is missing."""
    r, inductance, loop_hz = winding_of(bench).r, winding_of(bench).lq, need(bench, "pwm.loop_hz")
    delay = bench.settings.current_loop.delay_samples
    rows = []
    for trial in bench.current_trials:
        loop = axis_loop(r, inductance, trial.kp, trial.ki, loop_hz=loop_hz, delay_samples=delay)
        expected = RunningLoop(trial.kp, trial.ki, loop_hz, r, inductance=inductance, delay_samples=delay, v_limit=usable_voltage(bench).command)
        time = np.arange(8 * _STEPS) / loop_hz / 8
        size = trial.current or bench.settings.current_loop.step
        response = respond(expected, r, inductance, delay / loop_hz, reference=np.full(_STEPS + 2, size), at=time) / size
        figures = measured_figures(time, response, 1.0)
        if trial.curve:
            time, response = (np.array(column) for column in zip(*trial.curve, strict=True))
            figures = StepFigures(
                math.nan if trial.rise is None else trial.rise, 100 * (trial.overshoot or 0.0),
                math.nan if trial.settling is None else trial.settling, trial.ringing or 0.0, delay=figures.delay,
            )  # fmt: skip
        kind = "measured" if trial.curve else "automatic" if trial.automatic else "simulated"
        rows.append(TrialRow(kind, trial.current, trial.kp, trial.ki, bandwidth_hz=trial.kp / (2 * math.pi * inductance), margins=loop.margins, figures=figures, time=time, response=response))
    return rows


def advise(bench: Bench, rows: list[TrialRow]) -> tuple[str, list[Finding]]:
    """Return advice for the next trial, and findings: results that jump with the test current, loops that are unstable."""
    findings = []
    automatic = [t for t in bench.current_trials if t.automatic and t.current]
    for first, second in itertools.pairwise(automatic):
        text = implausible_jump(
            (first.current or 0.0, first.kp, first.ki), (second.current or 0.0, second.kp, second.ki)
        )
        if text:
            findings.append(Finding("stop", "automatic-jump", text))
    if not rows:
        return "Add a trial: the gains that the drive holds, or those of its automatic tuning.", findings
    last = rows[-1]
    if not last.margins.stable:
        findings.append(Finding("stop", "unstable", "The last trial is unstable with the settled winding and delay."))
        return f"Come down to {show(0.4 * last.bandwidth_hz, 'Hz')}.", findings
    hertz, why = next_trial(last.figures, last.bandwidth_hz, last.margins.phase_margin_deg)
    r, inductance = winding_of(bench).r, winding_of(bench).lq
    if abs(hertz / last.bandwidth_hz - 1) < 0.01:
        return why, findings
    kp, ki = 2 * math.pi * hertz * inductance, 2 * math.pi * hertz * r
    return f"{why} Next: {show(hertz, 'Hz')}, Kp {show(kp, 'V/A')}, Ki {show(ki, 'V/(A·s)')}.", findings


def _as_measured(fit: StepFit) -> dict[str, object]:
    """Return the fields that a trial keeps of a measured step; its curve thinned to what a plot needs."""
    kept = np.flatnonzero((fit.time >= -1e-12) & (np.arange(len(fit.time)) % max(len(fit.time) // _CURVE, 1) == 0))
    figures = fit.figures
    return {
        "current": abs(fit.size), "overshoot": figures.overshoot / 100, "ringing": figures.ringing,
        "rise": figures.rise if math.isfinite(figures.rise) else None,
        "settling": figures.settling if math.isfinite(figures.settling) else None,
        "curve": tuple((float(f"{fit.time[k]:.6g}"), float(f"{fit.measured[k] / fit.size:.5g}")) for k in kept),
    }  # fmt: skip


def add_trial(
    bench: Bench, when: str, kp: float, ki: float, *, current: float | None = None, automatic: bool = False, measured: StepFit | None = None,
) -> Bench:  # fmt: skip
    """Return the bench with a trial more and a ledger line; raises Refusal for gains that are not above zero or too many."""
    if not (kp > 0 and ki > 0 and math.isfinite(kp) and math.isfinite(ki)):
        raise Refusal("the gains of a trial are not above zero", "type both")
    if len(bench.current_trials) >= _MOST:
        raise Refusal(f"{_MOST} trials are kept", "clear the list first")
    trial = CurrentTrial(kp=kp, ki=ki, current=current, automatic=automatic, when=when)
    if measured is not None:
        trial = trial.model_copy(update=_as_measured(measured))
    line = LedgerEntry(when=when, kind="trial", text=f"current loop Kp {show(kp, 'V/A')}, Ki {show(ki, 'V/(A·s)')}")
    return bench.model_copy(
        update={"current_trials": (*bench.current_trials, trial), "ledger": (*bench.ledger, line)}
    )


def _add(bench: Bench, when: str, automatic: bool) -> Bench:
    return add_trial(bench, when, *gains_that_ran(bench), current=bench.settings.current_loop.trial_current, automatic=automatic)


TRIALS = Trials("current_trials", ("V/A", "V/(A·s)", "A"), trial_rows, advise, add=_add)
