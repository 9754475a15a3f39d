"""Sampled loops: exact discretisation with delay, margins and step figures.

A sampled system is held in state space; its frequency response is evaluated on the unit circle, so every margin is
that of the sampled loop, not of a continuous stand-in (G. F. Franklin, J. D. Powell, M. Workman, Digital Control of
Dynamic Systems, 3rd ed. 1998, ch. 4 and 6).
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from crisp_compass.estimates import ComplexArray, FloatArray


@dataclass(frozen=True)
class Sampled:
    """x[k+1] = A·x[k] + B·u[k], y[k] = C·x[k] + D·u[k]; one input, one or more outputs; ``ts`` in s."""

    A: FloatArray
    B: FloatArray
    C: FloatArray
    D: FloatArray
    ts: float

    @cached_property
    def polynomials(self) -> tuple[list[FloatArray], FloatArray]:
        """Return numerators (one per output) and denominator as polynomials in z − 1, highest power first.

        Around z − 1 instead of z nothing cancels at low frequency.
        """
        shifted = self.A - np.eye(len(self.A))
        denominator = np.real(np.poly(shifted))
        numerators = []
        for c, d in zip(self.C, self.D[:, 0], strict=True):
            closed = np.real(np.poly(shifted - self.B @ c[None, :]))
            numerators.append(closed + (d - 1) * denominator)
        return numerators, denominator

    def at(self, z: complex, output: int = 0) -> complex:
        """Return the transfer function at any ``z``."""
        numerators, denominator = self.polynomials
        return complex(np.polyval(numerators[output], z - 1) / np.polyval(denominator, z - 1))

    @cached_property
    def _plain(self) -> tuple[list[list[float]], list[float]]:
        numerators, denominator = self.polynomials
        return [[float(c) for c in n] for n in numerators], [float(c) for c in denominator]

    def response_at(self, omega: float, output: int = 0) -> complex:
        """Return the complex response at one ω [rad/s], in plain numbers: a root is sought with many calls."""
        half = math.sin(0.5 * omega * self.ts)
        delta = complex(-2.0 * half * half, math.sin(omega * self.ts))  # e^jωT − 1
        numerators, denominator = self._plain
        above = below = 0j
        for c in numerators[output]:
            above = above * delta + c
        for c in denominator:
            below = below * delta + c
        return above / below

    def response(self, omega: FloatArray, output: int = 0) -> ComplexArray:
        """Return the complex frequency response (m,) at ω (m,) [rad/s]."""
        delta = np.expm1(1j * np.asarray(omega, dtype=np.float64) * self.ts)
        numerators, denominator = self.polynomials
        return np.asarray(np.polyval(numerators[output], delta) / np.polyval(denominator, delta))


def _exponential(matrix: FloatArray) -> FloatArray:
    """Return e^M of a small matrix by scaling and squaring (C. Moler, C. Van Loan, SIAM Rev. 45, 2003, method 3).

    Here instead of SciPy's because a command that tunes a loop need not load it.
    """
    squarings = max(0, math.ceil(math.log2(max(float(np.abs(matrix).sum(axis=1).max()), 1e-300))) + 4)
    small = matrix / 2.0**squarings
    total = term = np.eye(len(matrix))
    for k in range(1, 14):
        term = term @ small / k
        total = total + term
    for _ in range(squarings):
        total = total @ total
    return np.asarray(total)


def discretise(A: FloatArray, B: FloatArray, C: FloatArray, ts: float, delay: float) -> Sampled:
    """Discretise ẋ = A·x + B·u(t − delay), y = C·x behind a zero-order hold.

    ``delay`` [s] may be any non-negative number: whole periods become shift states, the rest is exact through two
    matrix exponentials (K. J. Åström, B. Wittenmark, Computer-Controlled Systems, 3rd ed. 1997, 2.3).
    """
    whole = math.floor(delay / ts + 1e-9)
    rest = max(delay - whole * ts, 0.0)
    if rest < 1e-9 * ts:
        rest = 0.0
    n = len(A)

    def hold(span: float) -> tuple[FloatArray, FloatArray]:
        block = np.zeros((n + 1, n + 1))
        block[:n, :n], block[:n, n:] = A * span, B * span
        e = _exponential(block)
        return e[:n, :n], e[:n, n:]

    phi, gamma = hold(ts)
    if rest > 0:
        phi_new, gamma_new = hold(ts - rest)
        _, gamma_old = hold(rest)
        gamma_old = phi_new @ gamma_old
    else:
        gamma_new, gamma_old = gamma, np.zeros_like(gamma)
    shifts = whole + (1 if rest > 0 else 0)
    m = n + shifts
    big_a, big_b = np.zeros((m, m)), np.zeros((m, 1))
    big_a[:n, :n] = phi
    # state n + j holds u[k − 1 − j]
    if whole == 0:
        big_b[:n] = gamma_new
    else:
        big_a[:n, n + whole - 1 : n + whole] = gamma_new
    if rest > 0:
        big_a[:n, n + whole : n + whole + 1] = gamma_old
    if shifts:
        big_b[n] = 1.0
        for j in range(1, shifts):
            big_a[n + j, n + j - 1] = 1.0
    return Sampled(big_a, big_b, np.hstack([C, np.zeros((len(C), shifts))]), np.zeros((len(C), 1)), ts=ts)


def pi_controller(kp: float, ki: float, ts: float) -> Sampled:
    """Return I[k] = I[k−1] + Ki·Ts·e[k], u[k] = Kp·e[k] + I[k]."""
    step = ki * ts
    return Sampled(np.array([[1.0]]), np.array([[step]]), np.array([[1.0]]), np.array([[kp + step]]), ts=ts)


def series(first: Sampled, second: Sampled) -> Sampled:
    """Return ``second`` driven by the (single) output of ``first``."""
    n, m = len(first.A), len(second.A)
    A = np.zeros((n + m, n + m))
    A[:n, :n], A[n:, n:] = first.A, second.A
    A[n:, :n] = second.B @ first.C
    B = np.vstack([first.B, second.B @ first.D])
    C = np.hstack([second.D @ first.C, second.C])
    return Sampled(A, B, C, second.D @ first.D, ts=first.ts)


def close(loop: Sampled, output: int = 0) -> Sampled:
    """Close unity negative feedback around output ``output``; all outputs stay visible."""
    c, d = loop.C[output : output + 1], float(loop.D[output, 0])
    gain = 1 / (1 + d)
    A = loop.A - gain * loop.B @ c
    B = gain * loop.B
    C = loop.C - gain * loop.D @ c
    return Sampled(A, B, C, gain * loop.D, ts=loop.ts)


_BLOCK = 64
_LAG = np.arange(_BLOCK)[:, None] - np.arange(_BLOCK)[None, :]


def simulate(system: Sampled, u: FloatArray) -> FloatArray:
    """Return the outputs (n, outputs) for an input sequence (n,), from rest, in blocks of samples."""
    n, outputs = len(u), len(system.C)
    seen, reach, power = system.C[None], system.B, system.A  # C·A^k, A^k·B and A^(number of them), doubled
    while len(seen) < _BLOCK:
        seen, reach = np.concatenate([seen, seen @ power]), np.concatenate([reach, power @ reach], axis=1)
        power = power @ power
    # y of a block = free response of its first state + a triangle of impulse responses of its inputs
    pulse = np.concatenate([system.D.T, seen[:-1] @ system.B[:, 0]])
    triangle = np.where(_LAG[:, :, None] >= 0, pulse[np.maximum(_LAG, 0)], 0.0)
    into = reach[:, ::-1]
    padded = np.concatenate([u, np.zeros(-n % _BLOCK)]).reshape(-1, _BLOCK)
    x, out = np.zeros(len(system.A)), np.empty((len(padded), _BLOCK, outputs))
    forced = np.stack([padded @ triangle[:, :, o].T for o in range(outputs)], axis=2)
    for row, block in enumerate(padded):
        out[row] = seen @ x + forced[row]
        x = power @ x + into @ block
    return np.asarray(out.reshape(-1, outputs)[:n])


def _root(function: Callable[[float], float], low: float, high: float) -> float:
    """Return where a function of one sign at each end passes zero, to the last bits of ω: false position with the Illinois rule (M. Dowell, P. Jarratt, BIT 11, 1971)."""
    below, above = function(low), function(high)
    if below == 0 or above == 0:
        return low if below == 0 else high
    kept = 0  # which end stayed in the last step: one that stays twice counts half
    for _ in range(200):
        width = high - low
        middle = high - above * width / (above - below)
        if not low < middle < high:
            middle = 0.5 * (low + high)
        if middle in (low, high) or width <= 4e-16 * high:
            break
        here = function(middle)
        if here == 0:
            return middle
        if (here < 0) == (below < 0):
            low, below, above = middle, here, 0.5 * above if kept > 0 else above
            kept = 1
        else:
            high, above, below = middle, here, 0.5 * below if kept < 0 else below
            kept = -1
        if abs(here) < 1e-14:
            return middle
    return 0.5 * (low + high)


#: Below either a loop is said to ring: about a third of overshoot, a sensitivity of two and more (common practice).
RINGING_PHASE_DEG, RINGING_GAIN_DB = 30.0, 4.0


@dataclass(frozen=True)
class Margins:
    """Margins of the sampled loop; NaN where a crossover does not exist. ``stable`` is of the closed loop, ``crossover_hz`` the first one; of several the phase margin is the least.

    The phase margin is that of the phase followed from low frequency, so a loop far beyond −180° has one far below zero.
    """

    crossover_hz: float
    phase_margin_deg: float
    gain_margin_db: float
    bandwidth_hz: float
    stable: bool

    @property
    def rings(self) -> bool:
        """Whether the margins of a stable loop are too small for calm."""
        return self.phase_margin_deg < RINGING_PHASE_DEG or self.gain_margin_db < RINGING_GAIN_DB


def margins(loop: Sampled, output: int = 0) -> Margins:
    """Compute margins of an open loop on the unit circle up to the Nyquist frequency."""
    nyquist = math.pi / loop.ts
    grid = np.concatenate(
        [
            np.geomspace(nyquist * 1e-6, nyquist * 0.02, 300),
            np.linspace(nyquist * 0.02, nyquist * (1 - 1e-9), 700)[1:],
        ]
    )
    stable = bool(np.max(np.abs(np.linalg.eigvals(close(loop, output).A)), initial=0.0) < 1 - 1e-12)
    response = loop.response(grid, output)
    gain = np.log(np.maximum(np.abs(response), 1e-300))
    crossover = _first_crossing(grid, gain, lambda w: math.log(abs(loop.response_at(w, output))))
    phase_margin = math.nan
    if math.isfinite(crossover):
        phase = np.unwrap(np.angle(response))
        if phase[0] > 0.5 * math.pi:  # two integrators begin at −180°, which reads +180° as well
            phase -= 2 * math.pi
        at = loop.response_at(crossover, output)
        near = float(np.interp(crossover, grid, phase))
        exact = math.atan2(at.imag, at.real)
        phase_margin = math.degrees(exact + 2 * math.pi * round((near - exact) / (2 * math.pi))) + 180
        if stable:  # a resonance passes 0 dB again: the crossing that lies nearest to −1 counts
            again = np.flatnonzero((gain[:-1] >= 0) != (gain[1:] >= 0))
            for k in again[1:]:
                w = _root(lambda x: math.log(abs(loop.response_at(x, output))), float(grid[k]), float(grid[k + 1]))
                here = loop.response_at(w, output)
                phase_margin = min(phase_margin, abs(math.degrees(math.atan2(-here.imag, -here.real))))
    imaginary = response.imag
    gain_margin = math.nan
    swap = np.flatnonzero((imaginary[:-1] * imaginary[1:] < 0) & (response.real[:-1] < 0))
    candidates = []
    for k in swap:
        w = _root(lambda x: loop.response_at(x, output).imag, float(grid[k]), float(grid[k + 1]))
        candidates.append(-20 * math.log10(abs(loop.response_at(w, output))))
    end = loop.response_at(nyquist, output)
    if end.real < 0:
        candidates.append(-20 * math.log10(abs(end.real)))
    positive = [c for c in candidates if c > 0]
    if candidates:
        gain_margin = (
            min(positive) if positive and stable else max(candidates) if not stable else min(candidates, key=abs)
        )
    # the closed loop is L/(1 + L): no polynomials of its own
    closed_gain = np.log(np.maximum(np.abs(response / (1 + response)), 1e-300)) + 0.5 * math.log(2)

    def closed_at(w: float) -> float:
        here = loop.response_at(w, output)
        return math.log(abs(here / (1 + here))) + 0.5 * math.log(2)

    bandwidth = _first_crossing(grid, closed_gain, closed_at)
    return Margins(crossover / (2 * math.pi), phase_margin, gain_margin, bandwidth / (2 * math.pi), stable=stable)


def sensitivity_peak(loop: Sampled, output: int = 0) -> float:
    """Return the largest amplification of a disturbance at the output, max |1/(1 + L)|; infinite where the loop is unstable.

    Its reciprocal is the loop's distance from −1 (Åström and Wittenmark 1997, ch. 10).
    """
    if not np.max(np.abs(np.linalg.eigvals(close(loop, output).A)), initial=0.0) < 1 - 1e-12:
        return math.inf
    omega = np.geomspace(1e-4, 1, 2000) * math.pi / loop.ts * (1 - 1e-9)
    return float(np.max(1 / np.abs(1 + loop.response(omega, output))))


def _first_crossing(grid: FloatArray, values: FloatArray, function: Callable[[float], float]) -> float:
    """Return where ``values`` first falls through zero, refined; NaN if nowhere."""
    hits = np.flatnonzero((values[:-1] >= 0) & (values[1:] < 0))
    if not len(hits):
        return math.nan
    k = int(hits[0])
    return _root(function, float(grid[k]), float(grid[k + 1]))


@dataclass(frozen=True)
class ResponseFigures:
    """Overshoot in % of the step and 10–90 % rise time [s] (between samples on the straight line)."""

    overshoot_pct: float
    rise_time_s: float


def step_figures(y: FloatArray, ts: float, final: float = 1.0) -> ResponseFigures:
    """Take overshoot and rise time from a sampled step response (n,)."""
    relative = y / final
    overshoot = max(0.0, 100 * (float(np.max(relative)) - 1))
    moments = []
    for part in (0.1, 0.9):
        above = np.flatnonzero(relative >= part)
        if not len(above):
            return ResponseFigures(overshoot, math.nan)
        k = int(above[0])
        before = relative[k - 1] if k else 0.0
        moments.append((k - 1 + (part - before) / (relative[k] - before)) * ts if k else 0.0)
    return ResponseFigures(overshoot, moments[1] - moments[0])
