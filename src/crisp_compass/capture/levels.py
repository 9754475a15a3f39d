"""Finding plateaus in channels that move in steps, settling left out."""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np

from crisp_compass.capture.quality import noise, quantum, settled_mean_u
from crisp_compass.errors import Refusal
from crisp_compass.estimates import FloatArray, IntArray

_MAX_BLOCKS = 1600
#: Part of the corrected exponential tail that is taken as its standard uncertainty.
_TAIL_DOUBT = 0.3


@dataclass(frozen=True)
class Levels:
    """Plateaus of several channels.

    ``first``, ``last`` are sample indices (k,) of the settled stretch (``last`` exclusive); ``means`` and
    ``u`` have shape (k, channels): mean and its standard uncertainty in the channel's unit.
    """

    first: IntArray
    last: IntArray
    means: FloatArray
    u: FloatArray


def find_levels(channels: list[FloatArray], exact: tuple[int, ...] = ()) -> Levels:
    """Find the plateaus that all channels share.

    Parameters
    ----------
    channels
        Arrays of shape (n,), any unit.
    exact
        Indices of channels that are commands, known without error.

    Method: the channels are scaled to their noise and cut into the piecewise constant sequence of least
    squared error with a penalty for every cut (optimal partitioning, B. Jackson et al., IEEE Signal
    Processing Letters 12, 2005, 105–108). In each piece the settling at its start is dropped until first
    and second half agree.
    """
    n = len(channels[0])
    if n < 10:
        raise Refusal(f"{n} samples are too few to find levels", "at least 10 are needed")
    scaled = np.column_stack([c / _scale(c) for c in channels])
    block = max(1, -(-n // _MAX_BLOCKS))
    cuts = _true_steps(channels, _partition(scaled, block))
    steps = [0.0 if i in exact else quantum(c) for i, c in enumerate(channels)]
    first, last, means, starts = [], [], [], []
    longest = max(b - a for a, b in itertools.pairwise(cuts))
    spans = np.array([np.ptp(c) for c in channels])
    sigmas = [_quiet(c) for c in channels]
    for start, cut in itertools.pairwise(cuts):
        # a cut is known to one block, so the last block may already belong to the next step
        stop = cut if cut == n else cut - min(block + 1, (cut - start) // 4)
        if cut - start < max(4, 0.12 * longest):
            continue  # a piece of a transient
        begin = _settled_start(channels, start, stop, spans, sigmas=sigmas)
        if begin is None:
            continue
        first.append(begin)
        last.append(stop)
        means.append([float(np.mean(c[begin:stop])) for c in channels])
        starts.append(start)
    spans_found = list(zip(first, last, strict=True))
    u = np.zeros((len(first), len(channels)))
    for i, c in enumerate(channels):
        if i not in exact:
            spread = _pooled_spread(c, spans_found)
            u[:, i] = [settled_mean_u(c[a:b], steps[i], spread) for a, b in spans_found]
            for k, (begin, stop) in enumerate(spans_found):
                rest = _tail(c, starts[k], begin, stop, level=means[k][i], least=10 * spread + steps[i])
                means[k][i] -= rest
                u[k, i] = float(np.hypot(u[k, i], _TAIL_DOUBT * rest))
    return Levels(np.array(first), np.array(last), np.array(means).reshape(-1, len(channels)), u)


def _pooled_spread(values: FloatArray, spans: list[tuple[int, int]]) -> float:
    """Return the noise common to all plateaus: their pooled standard deviation."""
    power = sum(float(np.var(values[a:b])) * (b - a) for a, b in spans)
    return float(np.sqrt(power / max(sum(b - a - 1 for a, b in spans), 1)))


def _quiet(values: FloatArray) -> float:
    """Return the noise; with few samples a level, steps fill the second differences, so the quieter quarter of
    the first ones decides."""
    if len(values) >= 400:
        return noise(values)
    quiet = float(np.quantile(np.abs(np.diff(values)), 0.25)) / 0.3186 / float(np.sqrt(2))
    return min(noise(values), max(quiet, quantum(values)))


def _scale(values: FloatArray) -> float:
    return max(_quiet(values), 2e-3 * float(np.ptp(values)), 1e-300)


def _partition(data: FloatArray, size: int) -> list[int]:
    """Return cut positions in samples, from 0 to n, of the least-cost piecewise constant fit."""
    n = len(data)
    edges = np.arange(0, n, size)
    sums = np.add.reduceat(data, edges, axis=0)
    squares = np.add.reduceat(data**2, edges, axis=0).sum(axis=1)
    counts = np.diff(np.append(edges, n)).astype(np.float64)
    s = np.vstack([np.zeros(data.shape[1]), np.cumsum(sums, axis=0)])
    q = np.concatenate([[0.0], np.cumsum(squares)])
    c = np.concatenate([[0.0], np.cumsum(counts)])
    m = len(edges)
    # a generous penalty: slow drift is not worth a cut, a step between plateaus always is
    penalty = 12.0 * np.log(n) * data.shape[1] * max(1.0, size / 4)
    best = np.zeros(m + 1)
    best[0] = -penalty
    origin = np.zeros(m + 1, dtype=np.int64)
    for j in range(1, m + 1):
        width = c[j] - c[:j]
        cost = q[j] - q[:j] - ((s[j] - s[:j]) ** 2).sum(axis=1) / width
        total = best[:j] + cost + penalty
        k = int(np.argmin(total))
        best[j], origin[j] = total[k], k
    cuts = [m]
    while cuts[-1] > 0:
        cuts.append(int(origin[cuts[-1]]))
    return [int(edges[k]) if k < m else n for k in reversed(cuts)]


def _true_steps(channels: list[FloatArray], cuts: list[int]) -> list[int]:
    """Drop cuts at which not every channel moves: there the piece before is only settling into the one after."""
    pieces = len(cuts) - 1
    while True:
        means = np.array([[float(np.median(c[a:b])) for c in channels] for a, b in itertools.pairwise(cuts)])
        spans = np.ptp(means, axis=0)
        moves = np.abs(np.diff(means, axis=0)) > 0.2 * spans / max(pieces, 1)
        false = np.flatnonzero(~moves.all(axis=1))
        if not len(false):
            return cuts
        cuts = [c for k, c in enumerate(cuts) if k - 1 != int(false[0])]


def _tail(values: FloatArray, start: int, begin: int, stop: int, level: float, least: float) -> float:
    """Return what an exponential approach, read from the transient, still adds to the mean of begin…stop.

    The time constant is where the channel has covered 63 % of its way. Zero if there is no resolved transient.
    """
    way = float(values[start]) - level
    if abs(way) < least:
        return 0.0
    near = np.flatnonzero(np.abs(values[start:begin] - level) <= abs(way) * np.exp(-1.0))
    if not len(near) or near[0] < 2:
        return 0.0
    tau = float(near[0])
    share = tau / (stop - begin) * (np.exp(-(begin - start) / tau) - np.exp(-(stop - start) / tau))
    return float(way * share)


def _settled_start(
    channels: list[FloatArray], start: int, stop: int, spans: FloatArray, sigmas: list[float]
) -> int | None:
    """Return where settling has ended inside a piece, or None if it never does."""
    length = stop - start
    settled = 0
    for fraction in (0.2, 0.3, 0.4, 0.5, 0.6, 0.7):
        begin = start + max(1, int(fraction * length))
        if stop - begin < 3:
            return None
        # steady twice in a row: a tail that has just sunk below the noise still biases the mean
        settled = settled + 1 if all(map(_steady, [c[begin:stop] for c in channels], spans, sigmas)) else 0
        if settled == 2:
            return begin
    begin = start + int(0.7 * length)
    half = (begin + stop) // 2
    drifts = [abs(float(np.mean(c[begin:half]) - np.mean(c[half:stop]))) for c in channels]
    return begin if all(d < 0.01 * s for d, s in zip(drifts, spans, strict=True)) else None


def _steady(values: FloatArray, span: float, noise_level: float) -> bool:
    """Tell whether both halves agree within their noise (or within a negligible part of the channel's span).

    A handful of samples does not show its own noise; there the whole channel's is used.
    """
    half = len(values) // 2
    a, b = values[:half], values[half:]
    difference = abs(float(np.mean(a) - np.mean(b)))
    floor = noise_level**2 if len(values) < 12 else 0.0
    parts = [max(float(np.var(x)), floor) / max(len(x), 1) for x in (a, b)]
    sigma = float(np.sqrt(sum(parts)))
    return difference <= max(2.5 * sigma, 1e-4 * span)
