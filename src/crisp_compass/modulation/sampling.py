"""When may the current be sampled? Shunts see a phase current only while a certain switch conducts.

Low-side shunts see their leg's current while its low switch is on: (1 − d)·T around the carrier's valley. After a
switching the amplifier needs dead time and settling before the converter may hold. Two of three phase currents must be
seen; with three shunts any two, with two shunts those of legs A and B, with one shunt in the link the two active
vectors of one half period. In-line shunts see their current always. (Follows from the bridge; common practice.)
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal

import numpy as np

from crisp_compass.estimates import BoolArray, FloatArray
from crisp_compass.modulation.vectors import VOLTAGE_PER_BUS, Scheme, duties

Shunts = Literal["one", "two", "three", "in-line"]
_ANGLES = 720  # whole ones, so that the sectors' borders, where the middle duty is largest, are among them


@dataclass(frozen=True)
class SamplingWindow:
    """What sampling leaves.

    ``needed`` [s] from a switching to the end of sampling; ``limit`` [V] largest phase peak at which the window is there all
    round; ``open_share`` the part of an electrical turn with a window at the linear limit.
    """

    needed: float
    limit: float
    open_share: float


def window_needed(dead_time: float, settling: float, sample_time: float) -> float:
    """Return the time [s] that must pass between a switching and the end of sampling."""
    return dead_time + settling + sample_time


def window_open(
    duty: FloatArray, shunts: Shunts, needed: float, carrier_hz: float, *, centred: bool = True
) -> BoolArray:
    """Return for duties (n, 3) whether two phase currents can be sampled in that period, (n,)."""
    if shunts == "in-line":
        return np.ones(len(duty), dtype=bool)
    period = 1 / carrier_hz
    ordered = np.sort(duty, axis=1)
    if shunts == "one":
        # active vectors of one half period (centred) or of the whole one (edge aligned)
        share = 0.5 * period if centred else period
        first, second = (ordered[:, 2] - ordered[:, 1]) * share, (ordered[:, 1] - ordered[:, 0]) * share
        return np.asarray((first >= needed) & (second >= needed))
    # the low switch is on around the valley: centred the window opens at its begin and closes half a window later
    decisive = ordered[:, 1] if shunts == "three" else duty[:, :2].max(axis=1)
    return np.asarray((1 - decisive) * period * (0.5 if centred else 1.0) >= needed)


def sampling_window(
    scheme: Scheme, v_bus: float, carrier_hz: float, shunts: Shunts, needed: float, *, centred: bool = True
) -> SamplingWindow:
    """Return what sampling leaves of the scheme's range; ``limit`` is nought where no voltage has a window all round.

    The trigger of low-side shunts lies in the middle of the low time (the valley), so half of it must hold what is needed.
    """
    theta = np.arange(_ANGLES) * 2 * math.pi / _ANGLES
    top = v_bus * VOLTAGE_PER_BUS[scheme]

    def whole(peak: float) -> bool:
        return bool(
            window_open(duties(scheme, peak, v_bus, theta), shunts, needed, carrier_hz, centred=centred).all()
        )

    share = float(
        np.mean(window_open(duties(scheme, top, v_bus, theta), shunts, needed, carrier_hz, centred=centred))
    )
    if whole(top):
        return SamplingWindow(needed, top, share)
    if shunts == "one" or not whole(0.0):
        # one shunt never has a window at every angle: where two duties meet, an active vector vanishes
        return SamplingWindow(needed, 0.0, share)
    low, high = 0.0, top
    for _ in range(40):
        middle = 0.5 * (low + high)
        low, high = (middle, high) if whole(middle) else (low, middle)
    return SamplingWindow(needed, low, share)


def sampling_limit(window: SamplingWindow, shunts: Shunts) -> float:
    """Return what the window leaves of the voltage [V].

    One shunt never has a window at every angle, so such drives shift their pulses: it takes nothing. Any other that is
    open nowhere takes all.
    """
    return math.inf if shunts == "one" and window.limit <= 0 else window.limit


def gate_signals(duty: FloatArray, time: FloatArray, dead: float, *, centred: bool = True) -> FloatArray:
    """Return the six gates (m, 6), high and low by leg, for duties (3,) at ``time`` (m,) in parts of the period.

    ``dead`` is the dead time as a part of the period; each switch turns on that much late.
    """
    gates = np.zeros((len(time), 6))
    for k, d in enumerate(duty):
        begin, end = (0.5 * (1 - d), 0.5 * (1 + d)) if centred else (0.0, float(d))
        if d >= 1:
            gates[:, 2 * k] = 1.0
            continue
        if d <= 0:
            gates[:, 2 * k + 1] = 1.0
            continue
        gates[:, 2 * k] = (time >= begin + dead) & (time < end)
        gates[:, 2 * k + 1] = (time < begin) | (time >= end + dead)
        if not centred:  # the low switch was on before this period began
            gates[:, 2 * k] = (time >= dead) & (time < end)
            gates[:, 2 * k + 1] = time >= end + dead
    return gates


def sampling_spans(
    duty: FloatArray, shunts: Shunts, needed: float, *, centred: bool = True
) -> tuple[tuple[float, float], ...]:
    """Return the spans (begin, end) of one period in which a sample of two currents may end, in parts of the period.

    ``needed`` is the time from a switching to the end of a sample as a part of the period; duties (3,).
    """
    time = (np.arange(4000) + 0.5) / 4000
    if shunts == "in-line":
        return ((0.0, 1.0),)
    if shunts == "one":
        edges = np.sort(np.concatenate([0.5 * (1 - duty), 0.5 * (1 + duty)]) if centred else np.append(duty, 0.0))
        high = np.array([_high(time, float(d), centred) for d in duty]).sum(axis=0)
        since = np.min(np.where(time[None, :] >= edges[:, None], time[None, :] - edges[:, None], 1.0), axis=0)
        allowed = (high > 0) & (high < 3) & (since >= needed)
    else:
        seen = []
        for d in duty:
            end = 0.5 * (1 + d) if centred else float(d)
            begin = 0.5 * (1 - d) if centred else 0.0
            # the low time goes on from the period's end into its beginning
            since = np.where(time >= end, time - end, time + 1 - end if centred else -1.0)
            low = (time >= end) | (time < begin)
            seen.append(low & (since >= needed))
        number = seen[0].astype(int) + seen[1] + seen[2]
        allowed = number >= 2 if shunts == "three" else seen[0] & seen[1]
    padded = np.concatenate([[False], allowed, [False]]).astype(int)
    change = np.flatnonzero(np.diff(padded))
    return tuple((float(a) / 4000, float(b) / 4000) for a, b in zip(change[::2], change[1::2], strict=True))


def _high(time: FloatArray, d: float, centred: bool) -> BoolArray:
    return np.asarray((time >= 0.5 * (1 - d)) & (time < 0.5 * (1 + d)) if centred else time < d)
