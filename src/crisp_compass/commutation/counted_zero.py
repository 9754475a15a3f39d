"""The electrical zero of an encoder whose counts are known: they tell the course of the angle, the voltages only its beginning.

Between two counts the flux that a terminal sees changes by the integral of its voltage, however unevenly a hand turns the shaft:

    ∫v_ab dt = −√3·ψ·[sin(θe − 60°)] from one count to the other,   θe = ±p·θ_counted + φ,

linear in ψ·cos φ and ψ·sin φ, with an offset of each channel. Pieces of a few electrical degrees have independent noise, so that weighted least
squares says what it knows of φ (contract's conventions; the flux of an open winding, Faraday).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from crisp_compass.capture.model import Capture
from crisp_compass.estimates import FloatArray, IntArray

#: Smallest piece, electrical; fewest pieces; electrical turns that are needed.
_PIECE, _FEWEST, _LEAST_TURNS = math.radians(18.0), 12, 0.7
#: λ of each channel: factor of ψ, and by how much θe is shifted before the sine.
_SEES = {
    "v_ab": (-math.sqrt(3), -math.radians(60)), "v_bc": (-math.sqrt(3), math.radians(180)), "v_ca": (-math.sqrt(3), math.radians(60)),
    "v_a": (1.0, math.radians(90)), "v_b": (1.0, math.radians(-30)), "v_c": (1.0, math.radians(-150)),
}  # fmt: skip


@dataclass(frozen=True)
class CountedZero:
    """``phase`` φ [rad] at count 0 with its standard uncertainty ``u`` [rad]; ``sense`` of the counts against θe; ``turn`` [rad] of θe a count."""

    phase: float
    u: float
    sense: int
    turn: float

    def angle_at(self, count: float) -> float:
        """Return θe [rad] at a count."""
        return self.sense * self.turn * count + self.phase


def counted_zero(capture: Capture, counts: IntArray, counts_per_rev: int, pole_pairs: int) -> CountedZero | None:
    """Return where the electrical zero lies among the counts (n,); None where too little was turned or no voltage is there."""
    channels = [c for c in _SEES if c in capture and float(np.ptp(capture[c])) > 0]
    turn = 2 * math.pi * pole_pairs / counts_per_rev
    steps = np.flatnonzero(np.diff(counts)) + 1
    if not channels or not len(steps) or float(np.ptp(counts)) * turn < 2 * math.pi * _LEAST_TURNS:
        return None
    # an edge lies between the counts before and after, half a sample before it is seen
    where: FloatArray = np.asarray(0.5 * (counts[steps] + counts[steps - 1]), dtype=np.float64)
    kept = [0]
    for k in range(1, len(steps)):
        if abs(where[k] - where[kept[-1]]) * turn >= _PIECE:
            kept.append(k)
    if len(kept) < _FEWEST:
        return None
    at = where[kept]
    when = np.asarray(0.5 * (capture.time[steps[kept]] + capture.time[steps[kept] - 1]))
    tried = [_solve(capture, channels, at, when, turn=turn, sense=sense) for sense in (1, -1)]
    cost, phase, u, sense = min(tried)
    # the sense that is wrong fits far worse; where neither fits better, the voltages say nothing
    return CountedZero(phase, u, sense, turn) if cost < 0.5 * max(t[0] for t in tried) else None


def _solve(
    capture: Capture, channels: list[str], at: FloatArray, when: FloatArray, turn: float, sense: int
) -> tuple[float, float, float, int]:
    """Return cost, φ, its uncertainty and the sense, for counts that run with (1) or against (−1) θe."""
    spans = np.diff(when)
    rows, seen, weights = [], [], []
    for place, name in enumerate(channels):
        factor, shift = _SEES[name]
        angle = sense * turn * at + shift
        offset = np.zeros((len(spans), len(channels)))
        offset[:, place] = spans
        rows.append(np.column_stack([factor * np.diff(np.sin(angle)), factor * np.diff(np.cos(angle)), offset]))
        charge = np.concatenate([[0.0], np.cumsum(0.5 * (capture[name][1:] + capture[name][:-1]) * np.diff(capture.time))])
        seen.append(np.diff(np.interp(when, capture.time, charge)))
        weights.append(1 / np.sqrt(spans))
    design, flux, weight = np.vstack(rows), np.concatenate(seen), np.concatenate(weights)
    scaled, target = design * weight[:, None], flux * weight
    norm = np.linalg.norm(scaled, axis=0)
    norm[norm == 0] = 1.0
    inverse = np.linalg.pinv((scaled / norm).T @ (scaled / norm)) / np.outer(norm, norm)
    answer = inverse @ (scaled.T @ target)
    rest = target - scaled @ answer
    cost = float(rest @ rest)
    along, across = float(answer[0]), float(answer[1])
    size = math.hypot(along, across)
    slope = np.zeros(len(answer))
    slope[:2] = (-across / size**2, along / size**2) if size > 0 else (0.0, 0.0)
    variance = cost / max(len(rest) - len(answer), 1) * float(slope @ inverse @ slope)
    return cost, math.atan2(across, along), math.sqrt(max(variance, 0.0)), sense
