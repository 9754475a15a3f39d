"""What steps of a closed speed loop, taken through a drive, prove of its overshoot."""

from __future__ import annotations

import math

import numpy as np
import scipy

from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.drive.routines import Taken
from crisp_compass.errors import Refusal
from crisp_compass.estimates import FloatArray
from crisp_compass.loops.sampled import Sampled, close, simulate

#: Coefficients of the local cubics that smooth a step, and the error [%] of an overshoot beyond which it tells nothing.
_CUBIC, VAGUE = 4, 4.0


def step_overshoot(taken: Taken, low: float, high: float, loop: Sampled, crossover_hz: float) -> tuple[float, float, float]:
    """Return by how much [%] the mean of the speed's steps passed where it settled, the standard error of that, and what the designed ``loop`` gives for the very reference.

    The mean of the steps is smoothed by local cubics over a fifth of the crossover's period (A. Savitzky, M. J. E. Golay, Anal. Chem. 36, 1964), which keep a peak. The
    loop is run over the reference as it was recorded, which a ramp may have slowed, and its speed is averaged and smoothed in the same way.
    """
    t, speed, reference = taken.time, taken.columns["speed"], taken.columns["speed_ref"]
    middle = 0.5 * (low + high)
    starts = np.flatnonzero((reference[1:] > middle) & (reference[:-1] <= middle)) + 1
    ends = np.flatnonzero((reference[1:] <= middle) & (reference[:-1] > middle)) + 1
    length = min((int(ends[ends > s][0] - s) for s in starts if np.any(ends > s)), default=0)
    starts = starts[starts + length <= len(speed)]
    if length < 20 or not len(starts):
        raise Refusal("the steps of the speed are not in the capture", "look at what the drive did with its reference")
    width = max(round(0.2 / crossover_hz / float(t[1] - t[0])), _CUBIC + 1) | 1

    stays = float(np.median([np.mean(speed[s + length - length // 4 : s + length]) for s in starts]))
    if abs(stays - high) > 0.25 * (high - low):
        rpm = f"{stays * RPM_PER_RAD_S:.0f} rpm where {high * RPM_PER_RAD_S:.0f} rpm is asked for"
        raise Refusal(f"the speed stays at {rpm}", "the drive is at its limit of current or voltage: look at both on Run, and at a current against the magnet", code="stays")

    def passed(course: FloatArray) -> tuple[float, float]:
        mean = np.mean([course[s : s + length] for s in starts], axis=0)
        calm = scipy.signal.savgol_filter(mean, min(width, (length - 1) | 1), _CUBIC - 1)
        end = float(np.mean(mean[-length // 4 :]))
        noise = float(np.std(mean[-length // 4 :] - calm[-length // 4 :])) * math.sqrt(_CUBIC * 1.5 / width)
        return 100.0 * max(float(np.max(calm)) - end, 0.0) / (high - low), 100.0 * noise / (high - low)

    grid = np.arange(0.0, float(t[-1] - t[0]), loop.ts)
    asked = np.interp(grid, t - t[0], reference - reference[0])
    answer = simulate(close(loop, 0), asked)[:, 0]
    measured, error = passed(speed)
    return measured, error, passed(np.interp(t - t[0], grid, answer))[0]
