"""What steps of a closed speed loop, taken through a drive, prove of its overshoot."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
import scipy

from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.drive.routines import Taken
from crisp_compass.errors import Refusal
from crisp_compass.estimates import FloatArray
from crisp_compass.loops.sampled import Sampled, close, simulate

#: Coefficients of the local cubics that smooth a step, and the error [%] of an overshoot beyond which it tells nothing.
_CUBIC, VAGUE = 4, 4.0


def step_overshoot(captures: Sequence[Taken], low: float, high: float, loop: Sampled, crossover_hz: float) -> tuple[float, float, float]:
    """Return by how much [%] the mean of the speed's steps passed where it settled, the standard error of that, and what the designed ``loop`` gives for the very reference.

    The mean of the steps of all captures is smoothed by local cubics over a fifth of the crossover's period (A. Savitzky, M. J. E. Golay, Anal. Chem. 36, 1964), which keep a peak.
    The loop is run over the reference as it was recorded, which a ramp may have slowed, and its speed is averaged and smoothed in the same way. Raises Refusal with code ``stays``
    where the speed does not come to what is asked for.
    """
    cuts = [_starts(taken, 0.5 * (low + high)) for taken in captures]
    length = min(length for _, length in cuts)
    period = float(captures[0].time[1] - captures[0].time[0])
    width = max(round(0.2 / crossover_hz / period), _CUBIC + 1) | 1

    def pieces(courses: Sequence[FloatArray]) -> FloatArray:
        return np.array([course[s : s + length] for course, (starts, _) in zip(courses, cuts, strict=True) for s in starts if s + length <= len(course)])

    def passed(mean: FloatArray) -> tuple[float, float]:
        calm = scipy.signal.savgol_filter(mean, min(width, (length - 1) | 1), _CUBIC - 1)
        end = float(np.mean(mean[-length // 4 :]))
        noise = float(np.std(mean[-length // 4 :] - calm[-length // 4 :])) * math.sqrt(_CUBIC * 1.5 / width)
        return 100.0 * max(float(np.max(calm)) - end, 0.0) / (high - low), 100.0 * noise / (high - low)

    steps = pieces([taken.columns["speed"] for taken in captures])
    stays = float(np.median(np.mean(steps[:, length - length // 4 :], axis=1)))
    if abs(stays - high) > 0.25 * (high - low):
        rpm = f"{stays * RPM_PER_RAD_S:.0f} rpm where {high * RPM_PER_RAD_S:.0f} rpm is asked for"
        raise Refusal(f"the speed stays at {rpm}", "the drive is at its limit of current or voltage: look at both on Run, and at a current against the magnet", code="stays")
    answers = []
    for taken in captures:
        t, reference = taken.time - taken.time[0], taken.columns["speed_ref"]
        grid = np.arange(0.0, float(t[-1]), loop.ts)
        answer = simulate(close(loop, 0), np.interp(grid, t, reference - reference[0]))[:, 0]
        answers.append(np.interp(t, grid, answer))
    measured, error = passed(steps.mean(axis=0))
    return measured, error, passed(pieces(answers).mean(axis=0))[0]


def _starts(taken: Taken, middle: float) -> tuple[list[int], int]:
    """Return where the steps of a capture begin, and how many rows each is at least long; raises Refusal where there is none."""
    reference = taken.columns["speed_ref"]
    starts = np.flatnonzero((reference[1:] > middle) & (reference[:-1] <= middle)) + 1
    ends = np.flatnonzero((reference[1:] <= middle) & (reference[:-1] > middle)) + 1
    length = min((int(ends[ends > s][0] - s) for s in starts if np.any(ends > s)), default=0)
    if length < 20:
        raise Refusal("the steps of the speed are not in the capture", "look at what the drive did with its reference")
    return [int(s) for s in starts if s + length <= len(reference)], length
