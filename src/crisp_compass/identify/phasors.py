"""Steady three-phase sinusoids: fundamental frequency, phasors of every channel, symmetrical components, power.

Each channel is fitted by its fundamental, harmonics and a constant (least squares), at the frequency common to all that leaves
least (golden section within half a resolution cell of the spectrum's peak). Unbalance is not an error but a negative sequence:
V1 = (V_ab + a·V_bc + a²·V_ca)/(3·√3·e^{j30°}), a = e^{j120°} (C. L. Fortescue, Trans. AIEE 37, 1918, 1027–1140).
"""

from __future__ import annotations

import cmath
import math
from dataclasses import dataclass

import numpy as np
import scipy

from crisp_compass.capture.gaps import continuous
from crisp_compass.capture.model import Capture
from crisp_compass.capture.quality import noise, pile_up, quantum
from crisp_compass.errors import Refusal
from crisp_compass.estimates import FloatArray

_CHANNELS = ("v_ab", "v_bc", "i_a", "i_b")
_HARMONICS = (1, 2, 3, 4, 5, 7, 11, 13, 17, 19)
_TURN = cmath.exp(2j * math.pi / 3)


@dataclass(frozen=True)
class SteadyState:
    """Positive sequence ``v1`` [V, phase peak], ``i1`` [A peak] at ``omega`` [rad/s], and what surrounds it.

    ``v2``, ``i2`` are the negative sequence; ``power`` [W] the mean input, ``square`` [A²] the sum of the three rms currents squared;
    ``covariance`` (4, 4) that of (Re v1, Im v1, Re i1, Im i1); ``wander`` how much amplitude or frequency changes over the capture.
    """

    omega: float
    v1: complex
    i1: complex
    v2: complex
    i2: complex
    power: float
    square: float
    covariance: FloatArray
    wander: float
    time: FloatArray
    measured: FloatArray
    model: FloatArray

    @property
    def impedance(self) -> complex:
        """Impedance of the positive sequence, Ω per phase of the star."""
        return self.v1 / self.i1


def steady_state(capture: Capture) -> SteadyState:
    """Return the phasors of ``v_ab v_bc i_a i_b`` (n,) in steady state.

    Raises
    ------
    Refusal
        Missing, constant or clipped channels, less than three periods, sampling too slow, no common fundamental.
    """
    capture = continuous(capture)
    columns = capture.require(*_CHANNELS, samples=60)
    for name, values in zip(_CHANNELS, columns, strict=True):
        if _cut(values):
            raise Refusal(f"{name} is cut off at the end of its range", "use a larger range", where=capture.source)
    t = capture.time - capture.time[0]
    x = np.column_stack(columns)
    omega = _frequency(t, x[:, 0], capture.source)
    periods = omega * t[-1] / (2 * math.pi)
    if periods < 3:
        raise Refusal(
            f"{periods:.1f} periods of the supply are too few", "capture at least ten", where=capture.source
        )
    interval = float(np.median(np.diff(t)))
    orders = tuple(h for h in _HARMONICS if h * omega * interval < 0.9 * math.pi)
    if omega * interval > 0.5:
        raise Refusal(
            "there are fewer than 12 samples a period",
            "sample faster, best at 40 samples a period or more",
            where=capture.source,
        )
    scale = np.std(x, axis=0)

    def rest(w: float) -> float:
        design = _design(t, w, orders)
        solved, *_ = np.linalg.lstsq(design, x / scale, rcond=None)
        return float(np.sum((x / scale - design @ solved) ** 2))

    cell = 2 * math.pi / t[-1]
    found = scipy.optimize.minimize_scalar(
        rest, bounds=(omega - 0.5 * cell, omega + 0.5 * cell), method="bounded", options={"xatol": 1e-7 * omega}
    )
    omega = float(found.x)
    design = _design(t, omega, orders)
    solved, *_ = np.linalg.lstsq(design, x, rcond=None)
    model = design @ solved
    residual = x - model
    phasors = solved[0] - 1j * solved[1]
    inverse = np.linalg.inv(design.T @ design)[:2, :2]
    correlated = np.array([_correlated(residual[:, k]) for k in range(4)])
    variance = np.sum(residual**2, axis=0) / max(len(t) - design.shape[1], 1) * correlated
    v_ab, v_bc, i_a, i_b = phasors
    v1, v2 = _lines(v_ab, v_bc)
    i1, i2 = _currents(i_a, i_b)
    if abs(v2) > abs(v1):  # the supply turns A → C → B
        v1, v2, i1, i2 = v2, v1, i2, i1
    if abs(i1) < 6 * math.sqrt(variance[2] / len(t)):
        raise Refusal("no current stands out from the noise", "use a finer current range", where=capture.source)
    # |Σ c·phasor|² of independent channels: each line voltage enters with 1/3·|1 − a²| = 1/√3 over √3, each current alike
    part = np.array([variance[0] + variance[1], variance[2] + variance[3]]) / 9 * np.array([1.0, 3.0])
    covariance = np.kron(np.diag(part), inverse)
    # two wattmeters, C their common point: v_ac·i_a + v_bc·i_b; offsets of the channels are no power
    ac = model - solved[-1]
    i_c = -ac[:, 2] - ac[:, 3]
    whole = _whole(t, omega)
    sound = ac[whole]
    power = float(np.mean((sound[:, 0] + sound[:, 1]) * sound[:, 2] + sound[:, 1] * sound[:, 3]))
    square = float(np.mean(sound[:, 2] ** 2 + sound[:, 3] ** 2 + i_c[whole] ** 2))
    return SteadyState(
        omega, complex(v1), complex(i1), complex(v2), i2=complex(i2), power=power, square=square, covariance=covariance, wander=_wander(t, x, omega), time=t, measured=x, model=model,
    )  # fmt: skip


def _cut(values: FloatArray) -> bool:
    """Tell a clipped sinusoid: far more of its samples rest at the top than one of its size and resolution has there."""
    size = 0.5 * float(np.ptp(values))
    step = max(quantum(values), 3 * noise(values), 1e-3 * size)
    expected = math.acos(max(1 - step / size, -1.0)) / math.pi
    shares = [float(np.mean(side * values > size + side * _middle(values) - step)) for side in (1.0, -1.0)]
    return bool(pile_up(values).any()) and max(shares) > 2.5 * expected


def _middle(values: FloatArray) -> float:
    return 0.5 * float(np.max(values) + np.min(values))


def _lines(v_ab: complex, v_bc: complex) -> tuple[complex, complex]:
    v_ca = -v_ab - v_bc
    turned = math.sqrt(3) * cmath.exp(1j * math.pi / 6)
    positive = (v_ab + _TURN * v_bc + _TURN**2 * v_ca) / 3 / turned
    negative = (v_ab + _TURN**2 * v_bc + _TURN * v_ca) / 3 / turned.conjugate()
    return positive, negative


def _currents(i_a: complex, i_b: complex) -> tuple[complex, complex]:
    i_c = -i_a - i_b
    return (i_a + _TURN * i_b + _TURN**2 * i_c) / 3, (i_a + _TURN**2 * i_b + _TURN * i_c) / 3


def _whole(t: FloatArray, omega: float) -> slice:
    """Return the samples of whole periods, over which means are taken."""
    periods = int(omega * t[-1] / (2 * math.pi))
    return slice(0, int(np.searchsorted(t, 2 * math.pi * periods / omega - 1e-12)))


def _design(t: FloatArray, omega: float, orders: tuple[int, ...]) -> FloatArray:
    columns = [f(h * omega * t) for h in orders for f in (np.cos, np.sin)]
    return np.column_stack([*columns, np.ones_like(t)])


def _frequency(t: FloatArray, v: FloatArray, source: str) -> float:
    """Return the angular frequency of the spectrum's peak, rad/s."""
    interval = float(np.median(np.diff(t)))
    even = np.arange(0.0, t[-1], interval)
    values = np.interp(even, t, v)
    values = (values - values.mean()) * np.hanning(len(values))
    spectrum = np.abs(np.fft.rfft(values, 4 * len(values)))
    peak = int(np.argmax(spectrum[1:])) + 1
    if spectrum[peak] < 8 * float(np.median(spectrum[1:])) or peak >= len(spectrum) - 1:
        raise Refusal("v_ab shows no steady sinusoid", "capture the steady state of the supply", where=source)
    a, b, c = np.log(np.maximum(spectrum[peak - 1 : peak + 2], 1e-300))
    shift = 0.5 * (a - c) / (a - 2 * b + c) if a - 2 * b + c else 0.0
    return float(2 * math.pi * (peak + shift) / (4 * len(even) * interval))


def _correlated(residual: FloatArray) -> float:
    """Return by how much neighbours that share a part widen a variance."""
    if not float(np.std(residual)) > 0:
        return 1.0
    rho = float(np.corrcoef(residual[1:], residual[:-1])[0, 1])
    rho = min(max(rho, 0.0), 0.95)
    return (1 + rho) / (1 - rho)


def _wander(t: FloatArray, x: FloatArray, omega: float) -> float:
    """Return by which part the fundamental of voltage or current differs between the capture's halves."""
    halves = []
    middle = len(t) // 2
    for part in (slice(0, middle), slice(middle, None)):
        design = _design(t[part], omega, (1,))
        solved, *_ = np.linalg.lstsq(design, x[part], rcond=None)
        halves.append(solved[0] - 1j * solved[1])
    first, second = halves
    return float(np.max(np.abs(first - second) / np.maximum(np.abs(first + second) / 2, 1e-300)))
