"""Signal quality: resolution, noise and clipping of one channel."""

from __future__ import annotations

import math

import numpy as np

from crisp_compass.estimates import BoolArray, FloatArray

_SAMPLE = 200_000


def quantum(values: FloatArray) -> float:
    """Return the converter step that the channel shows (0 if none is visible).

    The step is the smallest spacing between distinct values, accepted if nearly all spacings are whole multiples of it, and it divides the span finely enough for a converter: a
    command that takes a few exact values has none.
    """
    part = values[:_SAMPLE]
    levels = np.unique(part)
    if len(levels) < 4:
        return 0.0
    gaps = np.diff(levels)
    tiny = 1e-9 * float(levels[-1] - levels[0])
    gaps = gaps[gaps > tiny]
    if not len(gaps):
        return 0.0
    step = float(np.min(gaps))
    if step > 0.03 * float(levels[-1] - levels[0]):
        return 0.0
    ratios = gaps / step
    whole = np.abs(ratios - np.round(ratios)) < 0.05 + 2e-4 * np.minimum(ratios, 500)
    return float(np.median(gaps[ratios < 1.5])) if np.mean(whole) > 0.9 else 0.0


def noise(values: FloatArray) -> float:
    """Return the standard deviation of the fast noise of a slowly changing channel.

    Second differences cancel slopes; the median absolute deviation ignores steps. For white noise a second
    difference has √6 times its standard deviation. The result is not below step/√12 of a visible converter
    step.
    """
    if len(values) < 4:
        return 0.0
    second = np.diff(values, 2)
    sigma = float(np.median(np.abs(second))) / 0.674490 / math.sqrt(6)
    if len(values) > 40:  # a wave with few samples a period leaves much in second differences, less in fourth
        sigma = min(sigma, float(np.median(np.abs(np.diff(second, 2)))) / 0.674490 / math.sqrt(70))
    step = quantum(values)
    if step and sigma < step:  # the median of a few discrete values is coarse; use their trimmed power instead
        limit = np.quantile(np.abs(second), 0.98)
        kept = second[np.abs(second) <= max(limit, step)]
        sigma = float(np.sqrt(np.mean(kept**2) / 6))
    return max(sigma, step / math.sqrt(12) if step else 0.0)


def pile_up(values: FloatArray) -> BoolArray:
    """Mark samples that look cut off at a rail, shape (n,).

    A clipped channel holds its extreme value exactly, in runs, and far more often than the values next to
    it. Whether the mark means clipping is for the estimator to decide: a settled level looks alike.
    """
    mask = np.zeros(len(values), dtype=np.bool_)
    span = float(np.ptp(values))
    if span == 0 or len(values) < 8:
        return mask
    step = quantum(values)
    for sign in (1.0, -1.0):
        signed = values * sign
        rail = float(np.max(signed))
        # a digitised rail may be written with rounding in its last digit
        at_rail = signed >= rail - max(span * 1e-7, step * 0.01)
        count = int(np.count_nonzero(at_rail))
        if count < 6 or _longest_run(at_rail) < 3:
            continue
        width = step if step else span * 0.01
        below = int(np.count_nonzero((signed >= rail - 8.5 * width) & ~at_rail)) / 8
        if count > 4 * below + 5:
            mask |= at_rail
    return mask


def _longest_run(flags: BoolArray) -> int:
    edges = np.flatnonzero(np.diff(np.concatenate(([0], flags.astype(np.int8), [0]))))
    return int(np.max(edges[1::2] - edges[::2])) if len(edges) else 0


def settled_mean_u(values: FloatArray, step: float, spread: float) -> float:
    """Return the standard uncertainty of the mean of a settled stretch, shape (n,), with noise ``spread``.

    Scatter of block means covers slow noise; a converter step that the noise does not dither out adds its
    own part: q²/12·exp(−4π²σ²/q²) (first harmonic of the quantiser's error for Gaussian dither; B. Widrow,
    I. Kollár, Quantization Noise, 2008, ch. 11; formula from memory).
    """
    n = len(values)
    if n < 2:
        return math.inf
    u2 = spread**2 / n
    blocks = min(8, n // 8)
    if blocks >= 4:
        means = np.array([float(np.mean(part)) for part in np.array_split(values, blocks)])
        # pooled: block scatter has few degrees of freedom, so it only raises the figure when clearly larger
        scatter2 = float(np.var(means, ddof=1)) / blocks
        if scatter2 > 2.5 * u2:
            u2 = scatter2
    return math.sqrt(u2 + undithered_variance(spread**2, step))


def undithered_variance(variance: float, step: float) -> float:
    """Return the variance of the converter error that averaging does not remove.

    ``variance`` is what the digitised samples of steady stretches show. Noise far below one step shows only
    where a level lies between two codes; on average over such places the variance is step·σ/√π.
    """
    if step <= 1e-100:  # its square is nothing that can be divided by
        return 0.0
    if variance < 0.17 * step**2:
        sigma = variance * math.sqrt(math.pi) / step
    else:
        sigma = math.sqrt(variance - step**2 / 12)
    return step**2 / 12 * math.exp(-4 * math.pi**2 * sigma**2 / step**2)


def running_mean(values: FloatArray, window: int) -> FloatArray:
    """Return the mean over ``window`` samples around each (n,), the ends continued as they are."""
    before = window // 2
    padded = np.concatenate([np.full(before, values[0]), values, np.full(window - 1 - before, values[-1])])
    # about the first value, so that the long sum loses no digits to a large level
    total = np.concatenate([[0.0], np.cumsum(padded - values[0])])
    return np.asarray((total[window:] - total[:-window]) / window + values[0])
