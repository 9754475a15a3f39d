"""A run-up and coast made ready for fitting: even samples, where it coasts, where it turns, where the current jumps."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from crisp_compass.capture.model import Capture
from crisp_compass.capture.quality import noise, pile_up, quantum, running_mean
from crisp_compass.capture.reader import sampling_interval
from crisp_compass.errors import Refusal
from crisp_compass.estimates import BoolArray, FloatArray

_MAX_SAMPLES = 100_000
#: Part of the top speed below which friction is not relied on (common practice).
_SLOWEST = 0.04


@dataclass(frozen=True)
class RunUp:
    """Time [s], speed [rad/s], current [A] (n,) with what the fit must know of them; ``stretches`` turn one way each."""

    t: FloatArray
    w: FloatArray
    i: FloatArray
    coasting: BoolArray
    stretches: tuple[slice, ...]
    sign: FloatArray
    dt: float
    driven: bool
    edges: tuple[int, ...] = ()
    edge_width: tuple[float, ...] = ()
    lag: bool = False
    i_step: float = 0.0
    i_noise: float = 0.0

    @property
    def heads(self) -> int:
        """Columns that are neither jumps nor the lag."""
        return (2 if self.driven else 1) + len(self.stretches)


def prepare_run_up(capture: Capture, kt: float | None, inertia: float | None) -> RunUp:
    """Check and cut the capture; raises Refusal for what cannot be evaluated. Arguments as for ``fit_mechanics``."""
    if kt is None and inertia is None:
        raise Refusal("the torque constant is missing", "give --kt in N·m per A peak", where="--kt")
    for name, value in (("--kt", kt), ("--inertia", inertia)):
        if value is not None and not (value > 0 and math.isfinite(value)):
            raise Refusal(f"{value:g} cannot be meant", "a value above zero is needed", where=name)
    driven = inertia is None
    names = ("speed", "i_q") if driven else ("speed",)
    arrays = capture.require(*names, samples=40)
    t, w = capture.time, arrays[0]
    i = arrays[1] if driven else np.zeros(len(t))
    if _cut_off(w):
        raise Refusal("speed is cut off at the end of its range", "use a larger range", where=capture.source)
    t, w, i = _even(t, w, i)
    dt = float(t[1] - t[0])
    smooth = _smooth(w)
    top = float(np.max(np.abs(smooth)))
    scatter = noise(w)
    if top < 8 * scatter / math.sqrt(max(_window(len(w)), 1)):
        raise Refusal(
            "the speed does not stand out from its noise", "turn faster or filter less", where=capture.source
        )
    coasting = _coasting(smooth, i, driven, capture.source)
    i_noise, i_step = (noise(i[~coasting]), _current_step(i)) if driven else (0.0, 0.0)
    if driven:
        i = i - float(np.mean(i[coasting]))
        i = np.where(coasting, 0.0, i)
    else:
        keep = np.flatnonzero(coasting)
        t, w, i, smooth = (x[keep[0] : keep[-1] + 1] for x in (t, w, i, smooth))
        coasting = np.ones(len(t), dtype=np.bool_)
    stretches = _stretches(smooth, max(_SLOWEST * top, 3 * scatter / math.sqrt(_window(len(w)))), len(t))
    if not stretches:
        raise Refusal(
            "the shaft hardly moves", "a run-up and a coast over some seconds are needed", where=capture.source
        )
    edges = _jumps(i, stretches) if driven else ()
    return RunUp(t, w, i, coasting, stretches=stretches, sign=np.sign(smooth), dt=dt, driven=driven, edges=edges, i_step=i_step, i_noise=i_noise)


def _current_step(i: FloatArray) -> float:
    """Return the converter step of the current; where it rests on few codes, that of ten bits over three times the span."""
    seen = quantum(i)
    if seen or len(np.unique(i)) > 40:
        return seen
    return 3 * float(np.ptp(i)) / 2**10


def _jumps(i: FloatArray, stretches: tuple[slice, ...]) -> tuple[int, ...]:
    """Samples inside a moving stretch after which the current jumps; none where there are very many."""
    step = np.abs(np.diff(i))
    found = np.flatnonzero(step > max(8 * noise(i), 0.05 * float(np.ptp(i))))
    inside = [int(k) for k in found if any(s.start <= k < s.stop - 1 for s in stretches)]
    return tuple(inside) if len(inside) <= 60 else ()


def _cut_off(w: FloatArray) -> bool:
    """A clipped speed rests on one number although its noise reaches over several."""
    flags = pile_up(w) & (np.abs(w) > 0.5 * float(np.max(np.abs(w))))  # rest is no rail
    run = _longest(flags)
    if run is None or float(np.mean(run)) < 0.03:
        return False
    return noise(w[~flags]) > 0.8 * quantum(w)


def _even(t: FloatArray, w: FloatArray, i: FloatArray) -> tuple[FloatArray, FloatArray, FloatArray]:
    """Bring uneven samples onto an even grid; average where there are very many."""
    dt = sampling_interval(t)
    if float(np.max(np.abs(np.diff(t) - dt))) > 0.02 * dt:
        even = np.linspace(t[0], t[-1], min(int((t[-1] - t[0]) / dt) + 1, 2 * len(t)))
        t, w, i = even, np.interp(even, t, w), np.interp(even, t, i)
    if len(t) > _MAX_SAMPLES:
        size = -(-len(t) // _MAX_SAMPLES)
        n = len(t) // size * size
        t, w, i = (x[:n].reshape(-1, size).mean(axis=1) for x in (t, w, i))
    return t, w, i


def _window(count: int) -> int:
    return max(1, min(count // 100, 400))


def _smooth(values: FloatArray) -> FloatArray:
    return np.asarray(running_mean(values, _window(len(values))))


def _coasting(smooth: FloatArray, i: FloatArray, driven: bool, source: str) -> BoolArray:
    """Mark where no current drives: the resting level nearest to zero that goes with a falling speed."""
    falling = _falling(smooth)
    if not driven:
        run = _longest(falling)
        if run is None:
            raise Refusal("the speed does not fall", "let the shaft coast down", where=source)
        first = int(np.flatnonzero(run)[0])
        run[: first + int(np.argmax(np.abs(smooth[run]))) + (2 * _window(len(i)) if first else 0)] = False
        return run
    quiet = _smooth(i)
    span = float(np.ptp(quiet))
    scatter = noise(i) / math.sqrt(_window(len(i)))
    band = max(6 * scatter, 0.015 * span)
    best: BoolArray | None = None
    for level in _levels(quiet, band):
        rest = np.abs(quiet - level) < band
        run = _longest(rest & falling)
        if run is None or abs(level) > 0.25 * float(np.max(np.abs(quiet))) + band:
            continue
        if best is None or run.sum() > best.sum():
            best = run
    if best is None:
        raise Refusal(
            "there is no coast: the speed never falls while the current rests near zero",
            "switch the drive off at speed and keep recording until the shaft is slow",
            where=source,
        )
    edge = _window(len(i)) // 2 + 1  # the smoothing window reaches over the switching instants
    index = np.flatnonzero(best)
    best[index[:edge]] = False
    if index[-1] < len(best) - 1:
        best[index[-edge:]] = False
    if not best.any():
        raise Refusal("the coast is too short to tell an offset of the current", "keep recording until the shaft is slow", where=source)
    level = float(np.mean(i[best]))
    if float(np.max(np.abs(quiet - level)[~best], initial=0.0)) < 3 * band:
        raise Refusal(
            "there is no acceleration: the current never drives",
            "capture the run-up before the coast too",
            where=source,
        )
    return best


def _levels(quiet: FloatArray, band: float) -> list[float]:
    """Centres of the histogram's crowded places, the one nearest to zero first."""
    low, high = float(np.min(quiet)), float(np.max(quiet))
    bins = int(min(max((high - low) / band, 4), 400))
    counts, edges = np.histogram(quiet, bins)
    crowded = np.flatnonzero(counts >= max(0.02 * len(quiet), 5))
    centres = [float(np.median(quiet[(quiet >= edges[k]) & (quiet <= edges[k + 1])])) for k in crowded]
    return sorted(centres, key=abs)


def _falling(smooth: FloatArray) -> BoolArray:
    """Mark samples from which the speed's size falls over a tenth of the record."""
    size = np.abs(smooth)
    reach = max(len(size) // 25, 2)
    ahead = np.concatenate([size[reach:], np.full(reach, size[-1])])
    behind = np.concatenate([np.full(reach, size[0]), size[:-reach]])
    floor = 1e-3 * float(np.max(size))
    return np.asarray((ahead < size - floor) | (behind > size + floor))


def _longest(flags: BoolArray) -> BoolArray | None:
    edges = np.flatnonzero(np.diff(np.concatenate(([0], flags.astype(np.int8), [0]))))
    if not len(edges):
        return None
    starts, stops = edges[::2], edges[1::2]
    k = int(np.argmax(stops - starts))
    if stops[k] - starts[k] < 12:
        return None
    out = np.zeros(len(flags), dtype=np.bool_)
    out[starts[k] : stops[k]] = True
    return out


def _stretches(smooth: FloatArray, least: float, count: int) -> tuple[slice, ...]:
    """Stretches in which the shaft turns one way, faster than ``least`` rad/s."""
    found = []
    for sign in (1.0, -1.0):
        flags = sign * smooth > least
        edges = np.flatnonzero(np.diff(np.concatenate(([0], flags.astype(np.int8), [0]))))
        found += [slice(int(a), int(b)) for a, b in zip(edges[::2], edges[1::2], strict=True)]
    return tuple(s for s in sorted(found, key=lambda s: s.start) if s.stop - s.start >= max(12, count // 50))
