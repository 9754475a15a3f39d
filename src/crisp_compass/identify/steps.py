"""What every fit of a current to its voltage shares: samples on an even grid, jumps of the voltage, converter steps."""

from __future__ import annotations

import itertools
import math
from dataclasses import dataclass, field, replace

import numpy as np
import scipy

from crisp_compass.capture.model import Capture
from crisp_compass.capture.quality import noise
from crisp_compass.capture.reader import sampling_interval
from crisp_compass.estimates import FloatArray, IntArray
from crisp_compass.identify.relaxation import relax

_MAX_SAMPLES = 400_000
_MAX_EDGES = 200


@dataclass(frozen=True)
class Steps:
    """Samples on a uniform grid. ``upsample`` refines the voltage where it is smooth.

    ``edge_doubt`` widens the half sample by which the instant of a jump is unknown; ``sign`` is the share of a drop that
    follows the current (brushes), between samples too; ``rests`` (k, 2) are first and last sample of each rest of the current;
    with ``means`` each voltage is a mean over the interval that ends at its sample, so that no instant of a jump is unknown;
    the first ``own_edges`` edges are the voltage's, the others turns of the current, ``jumps`` [V] what jumps there.
    """

    t: FloatArray
    v: FloatArray
    i: FloatArray
    weight: FloatArray
    edges: IntArray
    dt: float
    smooth: FloatArray
    upsample: int
    edge_doubt: float = 1.0
    sign: FloatArray | None = None
    jumps: FloatArray | None = None
    own_edges: int | None = None
    means: bool = False
    rests: IntArray = field(default_factory=lambda: np.empty((0, 2), dtype=np.int64))

    @property
    def heads(self) -> int:
        """Columns of a fit before those of the edges: driven part, start, offset; with brushes the drop, with rests a start of its own."""
        return 3 if self.sign is None else 4 + int(len(self.rests) > 0)

    def edge_widths(self, g: float) -> FloatArray:
        """Standard deviation [A] that each edge's free term may have, for an inductance of 1/g."""
        jumps = np.abs(self.v[self.edges + 1] - self.v[self.edges]) if self.jumps is None else self.jumps
        widths: FloatArray = self.edge_doubt * jumps * abs(g) * self.dt / math.sqrt(12)
        return widths


def of_means(capture: Capture) -> bool:
    """Tell whether a capture's voltages are means over the sampling period that ends at the row, as a drive commands them: its note ``voltages`` says so."""
    return capture.notes.get("voltages", "").strip().lower().startswith("means over")


def prepare_steps(t: FloatArray, v: FloatArray, i: FloatArray, *, means: bool = False) -> Steps:
    """Bring time [s], voltage and current (n,) onto an even grid, find the jumps, and straighten the voltage; one that is told as ``means`` over the
    sampling period has no jumps whose instant would be unknown."""
    dt = sampling_interval(t)
    weight = np.ones(len(t))
    if np.max(np.abs(np.diff(t) - dt)) > 0.02 * dt:  # uneven sampling: evaluate on an even grid
        dt = float(np.quantile(np.diff(t), 0.2))
        count = min(int((t[-1] - t[0]) / dt) + 1, 4 * len(t))
        even = np.linspace(t[0], t[-1], count)
        v, i = np.interp(even, t, v), np.interp(even, t, i)
        weight = np.full(count, min(1.0, len(t) / count))
        t, dt, means = even, float(even[1] - even[0]), False
    if len(t) > _MAX_SAMPLES:
        size = -(-len(t) // _MAX_SAMPLES)
        n = len(t) // size * size
        t, v, i = (x[:n].reshape(-1, size).mean(axis=1) for x in (t, v, i))
        weight, dt = np.ones(len(t)), dt * size
    if means:
        return Steps(t - t[0], v, i, weight, edges=np.empty(0, dtype=np.int64), dt=dt, smooth=v, upsample=1, means=True)
    edges = _edges(v)
    smooth, upsample = _straightened(v, edges), 1
    if not len(edges):
        upsample = 8 if len(t) < 100_000 else 2
        fine = np.linspace(t[0], t[-1], (len(t) - 1) * upsample + 1)
        smooth = scipy.interpolate.CubicSpline(t, v)(fine)
    return Steps(t - t[0], v, i, weight, edges=edges, dt=dt, smooth=smooth, upsample=upsample)


def _straightened(v: FloatArray, edges: IntArray) -> FloatArray:
    """Return samples whose straight joins enclose the area of the curve itself, to third order: v − δ²v/12.

    A sagging supply bends between samples; δ² is taken within one level only (Euler–Maclaurin, M. Abramowitz,
    I. Stegun, Handbook of Mathematical Functions, 25.4.7).
    """
    second = np.zeros(len(v))
    for start, stop in itertools.pairwise([0, *(int(e) + 1 for e in edges), len(v)]):
        if stop - start < 8:
            continue
        inside = np.diff(v[start:stop], 2)
        second[start + 1 : stop - 1] = inside
        second[start], second[stop - 1] = 2 * inside[0] - inside[1], 2 * inside[-1] - inside[-2]
    return v - second / 12


def _edges(v: FloatArray) -> IntArray:
    """Return the samples after which the voltage jumps; none for a voltage that moves smoothly."""
    span = float(np.ptp(v))
    jump = np.abs(np.diff(v))
    threshold = max(8 * noise(v), 0.08 * span)
    around = np.maximum(np.concatenate([[0.0, 0.0], jump[:-2]]), np.concatenate([jump[2:], [0.0, 0.0]]))
    found = np.flatnonzero((jump > threshold) & (jump > 3 * around)).astype(np.int64)
    crowded = len(found) > min(_MAX_EDGES, max(len(v) // 12, 1))
    return found[:0] if crowded else found


#: Points between two samples at which the direction of the current is asked: it turns between them.
_BETWEEN = 8
#: By how much of a sample the instant of a turn is unknown, and by how much of the largest current its zero.
_TURN_DOUBT, _OFFSET_DOUBT = 0.15, 0.003
#: Most times that a current may come to rest, and samples in the shortest rest that counts.
_MAX_RESTS, _SHORTEST_REST = 60, 3
#: So many samples that noise takes out of a rest do not end it.
_BRIDGED = 5


def restarted(data: Steps, a: float, columns: FloatArray) -> FloatArray:
    """Return columns (n, k) that decay with ``a`` as they are where every rest of the current brings them to zero."""
    out = columns.copy()
    for n, (first, last) in enumerate(data.rests):
        stop = data.rests[n + 1, 0] if n + 1 < len(data.rests) else len(out)
        out[first : last + 1] = 0.0
        after = slice(last + 1, stop)
        out[after] -= np.exp(-a * (data.t[after] - data.t[last]))[:, None] * columns[last]
    return out


def with_drop(data: Steps, weight: FloatArray, drop: float) -> Steps:
    """Return the samples with the share of ``drop`` [V] that brushes take at each instant, −1 to 1, and where the current rests.

    The drop follows the direction of the current; a voltage below it cannot move a current that has come to rest. What follows
    starts anew from zero. Samples on the way into a rest get no ``weight`` (n,).
    """
    least, top = 4 * noise(data.i), float(np.max(np.abs(data.i)))
    below = np.abs(data.v) <= max(drop, 5 * noise(data.v))  # noise of the voltage does not wake a current that rests
    near = below & (np.abs(data.i) < 0.03 * top)
    zero = (
        float(np.median(data.i[near])) if near.sum() > 10 else 0.0
    )  # where the channel's offset puts a current at rest
    smooth = scipy.ndimage.uniform_filter1d(data.i, 3) - zero
    fine = np.linspace(data.t[0], data.t[-1], (len(data.t) - 1) * _BETWEEN + 1)
    i, v = np.interp(fine, data.t, smooth), np.interp(fine, data.t, data.v)
    sign = np.where((np.abs(i) < least) & (np.abs(v) > drop), np.sign(v), np.sign(i))
    quiet = np.abs(data.i - zero) < max(least, 0.012 * top)
    resting = scipy.ndimage.binary_closing(quiet & below, np.ones(_BRIDGED, dtype=np.bool_), border_value=1) & below
    flags = np.diff(np.concatenate([[0], resting.astype(np.int64), [0]]))
    spans = np.column_stack([np.flatnonzero(flags == 1), np.flatnonzero(flags == -1) - 1]).astype(np.int64)
    spans = spans[spans[:, 1] - spans[:, 0] >= _SHORTEST_REST]
    if len(spans) > _MAX_RESTS:
        spans = spans[:0]
    resting = np.zeros(len(resting), dtype=np.bool_)
    settled = np.zeros(len(resting), dtype=np.bool_)  # at rest for sure
    for first, last in spans:
        resting[first : last + 1] = True
        settled[(first + last) // 2 if first else 0 : last + 1] = True
    turns = np.flatnonzero((np.sign(smooth[:-1]) != np.sign(smooth[1:])) & (np.abs(data.v[:-1]) > drop))
    turns = turns[~np.isin(turns, data.edges) & ~resting[turns]]
    if drop <= 0 or len(turns) > _MAX_RESTS:
        turns = turns[:0]
    # the instant of a turn is known to a part of a sample, and to what an offset of the current moves it
    moved = np.maximum(np.abs(np.diff(smooth))[turns], 1e-300)
    doubt = np.minimum(_TURN_DOUBT + _OFFSET_DOUBT * float(np.max(np.abs(data.i))) / moved, 3.0)
    jumps = np.abs(data.v[data.edges + 1] - data.v[data.edges]) if data.jumps is None else data.jumps
    own = len(data.edges) if data.own_edges is None else data.own_edges
    return replace(
        data,
        sign=sign,
        rests=spans,
        weight=weight * (~resting | settled),
        edges=np.concatenate([data.edges[:own], turns]).astype(np.int64),
        jumps=np.concatenate([jumps[:own], 2 * drop * math.sqrt(12) * doubt]),
        own_edges=own,
    )


def dropped(data: Steps, a: float) -> FloatArray:
    """Return ∫ e^(−a(t−s)) sign(s) ds, shape (n,)."""
    assert data.sign is not None
    return relax(data.sign, a, data.dt / _BETWEEN)[::_BETWEEN]


def driven(data: Steps, a: float) -> FloatArray:
    """Return B(t) = ∫ e^(−a(t−s)) v(s) ds, shape (n,), exact for a voltage that is linear between samples, or told as means."""
    return relax(data.smooth, a, data.dt / data.upsample, means=data.means)[:: data.upsample]


def ties(prior: FloatArray, sigma: float) -> FloatArray:
    """Return how strongly each edge term is held to zero; a width of 0 means not known yet, so not held."""
    safe = np.where(prior > 0, prior, 1.0)
    return np.where(prior > 0, sigma / safe, 0.0)


def run_covariance(values: FloatArray, sensitivity: FloatArray, step: float, sigma: float) -> FloatArray:
    """Covariance from a converter step beyond what counts as white noise: its error is common to a run at one code."""
    if step <= 0:
        return np.zeros((len(sensitivity), len(sensitivity)))
    true_sigma2 = max(sigma**2 - step**2 / 12, 0.0)
    share = step**2 / 12 * math.exp(-4 * math.pi**2 * true_sigma2 / step**2)
    starts = np.concatenate([[0], np.flatnonzero(np.abs(np.diff(values)) > step / 2) + 1])
    sums = np.add.reduceat(sensitivity, starts, axis=1)
    return np.asarray(share * (sums @ sums.T - sensitivity @ sensitivity.T), dtype=np.float64)
