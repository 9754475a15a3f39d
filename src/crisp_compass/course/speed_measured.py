"""A measured response of the speed loop beside the simulated drive's and the design's over the very reference, and what differs.

The gains that act are found by least squares of i_q on the error of the speed and its integral; the simulated drive, whose gains are known, is read in the same way, and
the quotient of both cancels what lags and filters take from either (R. Pintelon, J. Schoukens, System Identification, 2nd ed. 2012, 7: bias by a common path).
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.bench.rules import need, settled_value
from crisp_compass.capture import Capture
from crisp_compass.capture.quality import noise
from crisp_compass.course.drive import build_drive, running_mode
from crisp_compass.course.observed import estimates
from crisp_compass.course.speed_design import design_speed, filter_of, plant_of, sensor_delay, torque_constant
from crisp_compass.course.waypoints.commutation import hall_edges
from crisp_compass.errors import Refusal
from crisp_compass.estimates import BoolArray, Estimate, Finding, FloatArray, Result
from crisp_compass.identify.speed_response import SpeedResponse, first_step, fit_speed_response
from crisp_compass.loops.sampled import close, simulate
from crisp_compass.loops.speed import edge_delay, is_stable, speed_loop
from crisp_compass.motor import pole_pairs_of
from crisp_compass.plant.simulation import Simulation, join
from crisp_compass.quantities import show, show_with_error
from crisp_compass.sensing import SENSORS

#: Never faster than this is a ramp that the recorded reference has behind it already, rad/s².
_NO_RAMP = 1e9
#: Time for which the simulation runs at the first speed before the capture begins, s, and most rows that are simulated.
_BEFORE_S, _MOST_ROWS = 2.0, 20_000
#: Share of the current limit that counts as being at it, and share of a capture that makes it a cause.
_AT_LIMIT, _LIMITED = 0.96, 0.02
#: Relative uncertainty up to which a gain counts as told.
_SURE = 0.25
#: Integral times for which a loop answers a step of its reference.
_ANSWER = 4.0
#: Times the noise of the speed that a step must be to tell figures and gains.
_CLEAR = 6.0
#: Overshoot [points] and rise, over what was expected, from which a response differs though no cause stands out.
_OVER, _RISE = 10.0, 1.6
#: Relative differences that count: of both gains, of the inertia, of the delay; of friction in shares of the torque at hand.
_KP, _KI, _INERTIA, _DELAY, _FRICTION = 0.2, 0.5, 0.08, 0.5, 0.08


@dataclass(frozen=True)
class StepFigures:
    """Of the first step: ``overshoot`` [%], ``rise`` 10 to 90 % and ``settling`` to ±2 % [s]; NaN where there is none."""

    overshoot: float
    rise: float
    settling: float


@dataclass(frozen=True)
class MeasuredSpeed(Result):
    """``fit`` of the plant; ``reference``, ``measured``, ``designed``, ``simulated`` speeds [rad/s] and currents [A] over ``time`` [s], (n,); simulated empty where the drive has no
    sensor, designed missing where the loop would be unstable. ``kp`` [A/(rad/s)] and ``ki`` [A/rad] as they act, over those that were to run (None: not told). ``cause`` and ``advice`` in words, empty where all agrees."""

    fit: SpeedResponse
    time: FloatArray
    reference: FloatArray
    measured: FloatArray
    designed: FloatArray
    simulated: FloatArray
    current: FloatArray
    simulated_current: FloatArray
    figures: StepFigures
    expected: StepFigures
    gains: tuple[float, float]
    kp: float | None
    ki: float | None
    limited: float
    cause: str
    advice: str


def differs(figures: StepFigures, expected: StepFigures) -> bool:
    """Tell whether the first step's figures differ from what was to be expected."""
    over = abs(figures.overshoot - expected.overshoot) > _OVER
    rise = figures.rise / expected.rise if expected.rise > 0 else math.nan
    return over or rise > _RISE or rise < 1 / _RISE


def speed_gains_that_ran(bench: Bench, notes: Mapping[str, str] | None = None) -> tuple[float, float]:
    """Return Kp [A/(rad/s)] and Ki [A/rad]: from the capture's notes ``kp`` and ``ki``, the page, settled, else designed; raises Refusal for what cannot be."""
    settings, found = bench.settings.speed_loop, []
    for name, typed in (("kp", settings.trial_kp), ("ki", settings.trial_ki)):
        note, settled = (notes or {}).get(name, ""), settled_value(bench, f"speed_loop.{name}")
        try:
            found.append(float(note) if note else typed or (settled.value if settled else math.nan))
        except ValueError:
            raise Refusal(f"the note {name} is “{note}”", "write a number in SI units") from None
    if any(math.isnan(x) for x in found):
        design = design_speed(bench)
        found = [design.kp, design.ki]
    if not all(x > 0 and math.isfinite(x) for x in found):
        raise Refusal("the gains that ran are not above zero", "check the notes kp and ki")
    return found[0], found[1]


def read_speed_response(bench: Bench, capture: Capture) -> MeasuredSpeed:
    """Read a capture of ``speed_ref``, ``speed`` and ``i_q`` (``i_m`` with brushes) and compare it; raises Refusal as :func:`fit_speed_response` does, and where something is not settled."""
    if "i_m" in capture and "i_q" not in capture:
        capture = replace(capture, columns={**capture.columns, "i_q": capture["i_m"]})
    fit = fit_speed_response(capture, kt=torque_constant(bench))
    kp, ki = gains = speed_gains_that_ran(bench, capture.notes)
    t, reference, measured, current = _thinned(capture)
    stable = is_stable(plant_of(bench), kp, ki)
    designed = np.full(len(t), math.nan)
    simulated = seen = pulled = np.empty(0)
    if stable:
        loop = speed_loop(plant_of(bench), kp, ki)
        grid = np.arange(0.0, float(t[-1]) + loop.ts, loop.ts)
        answer = simulate(close(loop, 0), np.interp(grid, t, reference - reference[0]))[:, 0]
        designed = np.interp(t, grid, answer) + reference[0]
        if not estimates(bench):
            simulated, seen, pulled = _simulated(bench, gains, t, reference)
    clear = float(np.ptp(reference)) > _CLEAR * noise(measured)  # a step that is buried says nothing of gains
    limit = bench.settings.run.i_limit
    limited = float(np.mean(np.abs(current) > _AT_LIMIT * limit))
    figures = StepFigures(fit.overshoot_pct, fit.rise_time, fit.settling_time) if clear else StepFigures(math.nan, math.nan, math.nan)
    expected = StepFigures(*first_step(t, reference, simulated if len(simulated) else designed)) if stable else StepFigures(math.nan, math.nan, math.nan)
    acting = _acting(t, reference, measured, current, seen=seen, pulled=pulled, gains=gains) if clear and limited < _LIMITED and len(seen) else (None, None)
    cause, advice = _cause(bench, fit, gains, acting, limited=limited, speed=float(np.mean(np.abs(measured)))) if stable else _unstable(gains)
    return MeasuredSpeed(
        fit.estimates, fit.method, fit.findings, fit, t, reference, measured, designed, simulated, current, pulled, figures, expected, gains, *acting, limited, cause, advice
    )


def _thinned(capture: Capture) -> tuple[FloatArray, FloatArray, FloatArray, FloatArray]:
    every = max(1, -(-len(capture.time) // _MOST_ROWS))
    t = capture.time[::every] - capture.time[0]
    return t, *(np.asarray(capture[k][::every], dtype=np.float64) for k in ("speed_ref", "speed", "i_q"))


def _simulated(bench: Bench, gains: tuple[float, float], t: FloatArray, reference: FloatArray) -> tuple[FloatArray, FloatArray, FloatArray]:
    """Return true speed, speed as the firmware sees it and i_q of the simulated drive over a recorded reference, which is behind the ramp already."""
    drive, edges = build_drive(bench), hall_edges(bench)
    control = drive.control._replace(ramp=_NO_RAMP, kp_speed=gains[0], ki_speed=gains[1])
    drive = drive._replace(control=control)
    sim = Simulation(drive) if edges is None else Simulation(drive, edges=edges)
    mode, ts = running_mode(bench), control.ts * control.speed_divider
    sim.command(mode, speed=float(reference[0]))
    sim.skip(_BEFORE_S)
    # a reference that changes between two rows was told at a beat of the loop between them: the simulation keeps that beat
    told = np.flatnonzero(np.diff(reference) != 0.0)
    beat = (0.5 * float(t[told[0]] + t[told[0] + 1]) % ts) - ts if len(told) else 0.0
    steps = max(math.ceil((float(t[-1]) - beat) / ts), 1)
    asked = reference[np.clip(np.searchsorted(t, beat + np.arange(steps + 1) * ts), 0, len(t) - 1)]
    # every period counts: what is compared must have been sampled at the same instants of the loop
    parts = []
    changes = [0, *(np.flatnonzero(np.diff(asked) != 0.0) + 1).tolist(), steps + 1]
    for begin, end in itertools.pairwise(changes):
        sim.command(mode, speed=float(asked[begin]))
        parts.append(sim.advance((end - begin) * ts))
        if sim.fault:
            break
    whole = join(parts)
    at = whole["t"] - whole["t"][0] + beat
    speed, seen, pulled = (np.interp(t, at, whole[name]) for name in ("speed", "speed_seen", "i_q"))
    return speed, seen, pulled


def _answering(t: FloatArray, reference: FloatArray, gains: tuple[float, float]) -> BoolArray:
    """Return the rows (n,) in which the loop answers a step: elsewhere the error is what the sensor's steps make of it, and says nothing of gains."""
    changes = np.flatnonzero(np.abs(np.diff(reference)) > 0.2 * float(np.ptp(reference)))
    after = _ANSWER * gains[0] / gains[1]
    found = np.zeros(len(t), dtype=bool)
    for k in changes:
        found |= (t >= t[k]) & (t <= t[k] + after)
    return found if int(found.sum()) >= 20 else np.ones(len(t), dtype=bool)


def _regressed(t: FloatArray, error: FloatArray, current: FloatArray, rows: BoolArray) -> tuple[FloatArray, FloatArray]:
    """Return coefficients of error and its integral in a current, over some ``rows``, and their uncertainties; beside them stands a constant, for load and friction."""
    dt = np.diff(t, prepend=t[0])
    design = np.column_stack([error, np.cumsum(error * dt), np.ones(len(t))])[rows]
    t, current = t[rows], current[rows]
    solved, *_ = np.linalg.lstsq(design, current, rcond=None)
    rest = current - design @ solved
    # neighbouring residuals hang together: their sum of correlations stands in for the number of rows
    lag = np.correlate(rest[:4000], rest[:4000], "full")[len(rest[:4000]) - 1 :]
    wide = 1.0 + 2.0 * float(np.sum(np.clip(lag[1:200] / max(lag[0], 1e-30), 0.0, 1.0)))
    covariance = np.linalg.pinv(design.T @ design) * float(rest @ rest) / max(len(t) - 3, 1) * wide
    return np.asarray(solved[:2], dtype=np.float64), np.asarray(np.sqrt(np.diag(covariance)[:2]), dtype=np.float64)


def _acting(
    t: FloatArray, reference: FloatArray, measured: FloatArray, current: FloatArray, seen: FloatArray, pulled: FloatArray, gains: tuple[float, float],
) -> tuple[float | None, float | None]:  # fmt: skip
    """Return the gains that act in the measured drive, None for one whose relative uncertainty is above ``_SURE``."""
    rows = _answering(t, reference, gains)
    ours, u = _regressed(t, reference - measured, current, rows)
    theirs, v = _regressed(t, reference - seen, pulled, rows)
    found: list[float | None] = []
    for k, gain in enumerate(gains):
        sure = abs(u[k]) < _SURE * abs(ours[k]) and abs(v[k]) < _SURE * abs(theirs[k]) and ours[k] * theirs[k] > 0
        found.append(gain * float(ours[k] / theirs[k]) if sure else None)
    return found[0], found[1]


def _expected_delay(bench: Bench, speed: float) -> float:
    """Return how late the measured speed is by design at a speed [rad/s], s: the filter, the sensor, half a period of the loop for the difference of two angles and half for its hold."""
    edges = SENSORS[bench.settings.sensor.kind].edges
    sensor = edge_delay(edges * pole_pairs_of(bench.settings.plate), speed) if edges and speed > 0 else sensor_delay(bench)
    return 1.0 / (2 * math.pi * filter_of(bench)) + sensor + 1.0 / plant_of(bench).loop_hz


def _cause(bench: Bench, fit: SpeedResponse, gains: tuple[float, float], acting: tuple[float | None, float | None], limited: float, speed: float) -> tuple[str, str]:
    """Return the likeliest cause of a difference and the one change to make for it, in words; empty where all agrees."""
    limit = bench.settings.run.i_limit
    if limited > _LIMITED:
        return (
            f"The current stands at its limit of {show(limit, 'A')} for {100 * limited:.0f} % of the capture: the step is slower than the loop, and what the integrator gathers overshoots.",
            "take a smaller step, or a ramp that the current can follow",
        )
    delay, meant_delay = fit.estimates.get("delay"), _expected_delay(bench, speed)
    late = delay is not None and abs(delay.value - meant_delay) > max(_DELAY * meant_delay, 3 * delay.u)
    lags = late and delay is not None and delay.value > meant_delay and acting[0] is not None and acting[0] > gains[0]  # a speed that comes late looks like gain
    for name, found, meant, unit, most in (("Kp", acting[0], gains[0], "A/(rad/s)", _KP), ("Ki", acting[1], gains[1], "A/rad", _KI)):
        if found is not None and abs(found / meant - 1) > most and not lags:
            return (
                f"{name} acts as {show(found, unit)}, {found / meant:.2g} times the {show(meant, unit)} that was to run: its unit, its base (peak or rms), or the sampling period within it.",
                f"read {name} back from the drive, and write it anew in the drive's own unit",
            )
    inertia = need(bench, "mechanics.inertia")
    found_j = fit.estimates.get("inertia")
    if found_j is not None and abs(found_j.value / inertia - 1) > max(_INERTIA, 2 * found_j.u / found_j.value):
        more = "more" if found_j.value > inertia else "less"
        text = f"The inertia is {_with_doubt(found_j)}, {abs(100 * (found_j.value / inertia - 1)):.0f} % {more} than is settled: another load hangs on the shaft than when it was measured."
        return text, "settle the inertia as it is now on Mechanics: the gains follow"
    if late and delay is not None:
        side = "later" if delay.value > meant_delay else "sooner"
        text = f"The measured speed comes {_with_doubt(delay)} after the shaft, {show(abs(delay.value - meant_delay), 's')} {side} than the design takes it to."
        return text, "look at the speed filter that really runs, and enter its corner"
    friction = fit.estimates.get("coulomb_friction")
    settled = settled_value(bench, "mechanics.coulomb_friction")
    if friction is not None and settled is not None:
        torque = torque_constant(bench) * limit
        if abs(friction.value - settled.value) > max(_FRICTION * torque, 3 * friction.u):
            text = f"Friction takes {_with_doubt(friction)}, settled are {show(settled.value, 'N·m')}."
            return text, "look whether the shaft binds; the integrator takes it up, so that small steps are slower"
    return "", ""


def _with_doubt(found: Estimate) -> str:
    """Return an estimate with the half width of its 95 % interval."""
    return " ".join(show_with_error(found.value, 0.5 * (found.high - found.low), found.unit)).rstrip()


def _unstable(gains: tuple[float, float]) -> tuple[str, str]:
    text = f"With Kp {show(gains[0], 'A/(rad/s)')} and Ki {show(gains[1], 'A/rad')} the loop would be unstable by design: other gains than these ran, or the design rests on another motor."
    return text, "look at the gains' unit in the file's notes, on this page and in the drive"


def findings_of_response(found: MeasuredSpeed) -> tuple[Finding, ...]:
    """Return what is said beside the figures: what differs, with the one change to make."""
    if not found.cause and differs(found.figures, found.expected):
        text = "The first step differs from what was to be expected, and no single cause stands out: take a larger step, sampled faster, and look at the current beside the simulated one."
        return (Finding("caution", "speed-differs", text),)
    if not found.cause:
        return ()
    return (Finding("caution", "speed-not-as-designed", f"{found.cause} {found.advice[:1].upper()}{found.advice[1:]}."),)
