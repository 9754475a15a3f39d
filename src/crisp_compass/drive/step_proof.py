"""What steps of a closed speed loop, taken through a drive, prove of its overshoot."""

from __future__ import annotations

import math

import numpy as np
import scipy

from crisp_compass.drive.routines import Taken
from crisp_compass.errors import Refusal

#: Coefficients of the local cubics that smooth a step, and the error [%] of an overshoot beyond which it tells nothing.
_CUBIC, VAGUE = 4, 4.0


def step_overshoot(taken: Taken, low: float, high: float, crossover_hz: float) -> tuple[float, float]:
    """Return by how much [%] the mean of the speed's steps passed where it settled, and the standard error of that.

    The mean of the steps is smoothed by local cubics over a fifth of the crossover's period (A. Savitzky, M. J. E. Golay, Anal. Chem. 36, 1964), which keep a peak.
    """
    t, speed, reference = taken.time, taken.columns["speed"], taken.columns["speed_ref"]
    middle = 0.5 * (low + high)
    starts = np.flatnonzero((reference[1:] > middle) & (reference[:-1] <= middle)) + 1
    ends = np.flatnonzero((reference[1:] <= middle) & (reference[:-1] > middle)) + 1
    length = min((int(ends[ends > s][0] - s) for s in starts if np.any(ends > s)), default=0)
    pieces = [speed[s : s + length] for s in starts if s + length <= len(speed)]
    if length < 20 or not pieces:
        raise Refusal("the steps of the speed are not in the capture", "look at what the drive did with its reference")
    mean = np.mean(pieces, axis=0)
    width = max(round(0.2 / crossover_hz / float(t[1] - t[0])), _CUBIC + 1) | 1
    calm = scipy.signal.savgol_filter(mean, min(width, (length - 1) | 1), _CUBIC - 1)
    end = float(np.mean(mean[-length // 4 :]))
    noise = float(np.std(mean[-length // 4 :] - calm[-length // 4 :])) * math.sqrt(_CUBIC * 1.5 / width)
    peak = max(float(np.max(calm)) - end, 0.0)
    return 100.0 * peak / (high - low), 100.0 * noise / (high - low)
