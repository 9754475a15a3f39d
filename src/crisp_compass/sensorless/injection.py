"""The rotor's angle at and near standstill, from a voltage that alternates each period along the d axis that the firmware believes in; compiled.

Square-wave injection at half the sampling rate (Y.-D. Yoon, S.-K. Sul, S. Morimoto, K. Ide, IEEE Trans. Ind. Appl. 47, 2011). With Y± = (1/Ld ± 1/Lq)/2 the winding
answers a voltage v, as complex numbers in the stator's frame, with i' = Y₊·v + Y₋·e^(2jθ)·v*. What alternates of both, (x₀ − 2x₁ + x₂)/4 over three periods, is free of the
slow part; so (i' − Y₊·v)·v/(Y₋·|v|²) = e^(2jθ) tells the axis, whatever the voltage really was. The pole stays open by half a turn: a current along it takes
inductance off, one against it adds some (J. Holtz, IEEE Trans. Ind. Appl. 44, 2008).
"""

from __future__ import annotations

import math
from typing import NamedTuple

from crisp_compass.compiled import compiled, inlined
from crisp_compass.estimates import FloatArray
from crisp_compass.sensorless.estimator import (
    ANGLE,
    FLUX_ALPHA,
    FLUX_BETA,
    LAG,
    OUT_ANGLE,
    SEEN,
    SPEED,
    Estimator,
    wrapped,
)

# fmt: off
(SIGN, V1_ALPHA, V1_BETA, V2_ALPHA, V2_BETA, D1_ALPHA, D1_BETA, D2_ALPHA, D2_BETA, AXIS_ACROSS, AXIS_SPREAD, AXIS_HELD, AXIS_VALID,
 POLE_COUNT, POLE_SUM, POLE_SQUARES, POLE_MEAN, POLE_DOUBT) = range(SEEN, SEEN + 18)
# fmt: on
SEEN_INJECTED = SEEN + 18
#: Standard errors that the two poles must differ by.
POLE_SURE = 5.0
#: What was found stays so up to this many times the spread.
SLACK = 1.5
#: Part of the turns that the back-EMF must hold where injection has the angle.
KNOWN_ALREADY = 0.05


class Injected(NamedTuple):
    """How the firmware finds the angle at and near standstill from a voltage ``volts`` [V] that alternates each period along the d axis it believes in; 0: not at all.

    ``mean`` and ``half`` are (1/Ld ± 1/Lq)/2 as believed [1/H], ``half`` signed. ``natural`` ω [rad/s] of the loop that follows. Up to the electrical speed ``fades`` [rad/s]
    the injection alone tells the angle, from ``gone`` on the back-EMF. The axis counts as found after ``settle`` [s] within ``spread`` [rad, rms]; then a current
    ``pole_current`` [A] along it, one way and the other for ``pole_time`` [s] each, tells the pole by what it takes off Ld.
    """

    volts: float = 0.0
    mean: float = 0.0
    half: float = 0.0
    natural: float = 0.0
    fades: float = 0.0
    gone: float = 0.0
    spread: float = math.radians(12.0)
    settle: float = 0.05
    pole_current: float = 0.0
    pole_time: float = 0.02


@inlined
def share_of_injection(s: FloatArray, j: Injected, emf_valid: bool) -> float:
    """Return how much of the angle injection tells at the estimated speed, 1 … 0; a little of it stays until the back-EMF is valid."""
    w = abs(float(s[SPEED]))
    share = min(1.0, max(0.0, (j.gone - w) / (j.gone - j.fades)))
    if not emf_valid and w < 4.0 * j.gone:
        share = max(share, 0.2)
    return share


@compiled
def track(
    s: FloatArray,
    j: Injected,
    ts: float,
    v_alpha: float,
    v_beta: float,
    step_alpha: float,
    step_beta: float,
    share: float,
    psi: float,
) -> None:
    """Take in one period: the voltage's mean over it [V] and what the currents changed by [A]; ``s`` (SEEN_INJECTED,) is changed, its angle by ``share``, what is summed of the flux ``psi`` [Wb] set to it."""
    va, vb = 0.25 * (v_alpha - 2.0 * s[V1_ALPHA] + s[V2_ALPHA]), 0.25 * (v_beta - 2.0 * s[V1_BETA] + s[V2_BETA])
    da = 0.25 * (step_alpha - 2.0 * s[D1_ALPHA] + s[D2_ALPHA])
    db = 0.25 * (step_beta - 2.0 * s[D1_BETA] + s[D2_BETA])
    s[V2_ALPHA], s[V2_BETA], s[V1_ALPHA], s[V1_BETA] = s[V1_ALPHA], s[V1_BETA], v_alpha, v_beta
    s[D2_ALPHA], s[D2_BETA], s[D1_ALPHA], s[D1_BETA] = s[D1_ALPHA], s[D1_BETA], step_alpha, step_beta
    power = va * va + vb * vb
    if power < 0.0625 * j.volts * j.volts:  # hardly any injection was there
        s[AXIS_SPREAD] += min(0.5 * j.natural * ts, 1.0) * (0.5 - s[AXIS_SPREAD])
        if s[AXIS_SPREAD] > math.sin(2.0 * SLACK * j.spread) ** 2:
            s[AXIS_HELD] = s[AXIS_VALID] = 0.0
        return
    scale = 1.0 / (ts * j.half * power)
    ra, rb = da - ts * j.mean * va, db - ts * j.mean * vb
    re, im = scale * (ra * va - rb * vb), scale * (ra * vb + rb * va)
    # the three periods lie one and a half back in the middle
    twice = 2.0 * (s[ANGLE] - 1.5 * ts * s[SPEED])
    c, n = math.cos(twice), math.sin(twice)
    across = im * c - re * n
    error = 0.5 * min(1.0, max(-1.0, across))
    s[SPEED] += share * j.natural * j.natural * ts * error
    s[ANGLE] = wrapped(s[ANGLE] + share * 2.0 * j.natural * ts * error)
    s[OUT_ANGLE] = wrapped(s[ANGLE] + s[LAG])
    # found, if what stands across stays small: its own noise is averaged away first, a beat is not. What lies along would say it too, were Y₊ known well enough
    slow = min(0.5 * j.natural * ts, 1.0)
    s[AXIS_ACROSS] += min(8.0 * slow, 1.0) * (across - s[AXIS_ACROSS])
    s[AXIS_SPREAD] += slow * (s[AXIS_ACROSS] * s[AXIS_ACROSS] - s[AXIS_SPREAD])
    good = s[AXIS_SPREAD] <= math.sin(2.0 * (SLACK if s[AXIS_VALID] != 0.0 else 1.0) * j.spread) ** 2
    s[AXIS_HELD] = s[AXIS_HELD] + ts if good else 0.0
    if share == 1.0 and s[AXIS_VALID] != 0.0:  # a flux that is summed up while nothing turns would drift away
        s[FLUX_ALPHA], s[FLUX_BETA] = psi * math.cos(s[ANGLE]), psi * math.sin(s[ANGLE])
    s[AXIS_VALID] = 1.0 if good and (s[AXIS_VALID] != 0.0 or s[AXIS_HELD] >= j.settle) else 0.0
    # what the winding takes along the voltage, for the pole: 1/L [1/H]
    taken = (da * va + db * vb) / (ts * power)
    s[POLE_COUNT] += 1.0
    s[POLE_SUM] += taken
    s[POLE_SQUARES] += taken * taken


@compiled
def seek_axis(s: FloatArray) -> None:
    """Begin to look for an axis of which nothing is known."""
    s[AXIS_ACROSS], s[AXIS_SPREAD], s[AXIS_HELD], s[AXIS_VALID] = 0.0, 0.5, 0.0, 0.0


@compiled
def know_axis(s: FloatArray, j: Injected) -> None:
    """Nothing is injected, the back-EMF tells the angle: once injection begins, it counts as found until it is seen not to be."""
    s[AXIS_ACROSS], s[AXIS_SPREAD], s[AXIS_HELD], s[AXIS_VALID] = 0.0, 0.0, j.settle, 0.0


@compiled
def begin_counting(s: FloatArray) -> None:
    """Begin to average what the winding takes."""
    s[POLE_COUNT] = s[POLE_SUM] = s[POLE_SQUARES] = 0.0


@compiled
def counted(s: FloatArray) -> tuple[float, float]:
    """Return the mean of what the winding took and its variance; neighbours lean against each other, so that is rather too much."""
    n = max(s[POLE_COUNT], 1.0)
    mean = s[POLE_SUM] / n
    return mean, max(s[POLE_SQUARES] / n - mean * mean, 0.0) / n


@compiled
def take_pole(s: FloatArray, o: Estimator, other: bool) -> None:
    """Begin with the pole found: half a turn on if it is the ``other`` one."""
    if other:
        s[ANGLE] = wrapped(s[ANGLE] + math.pi)
    s[LAG], s[OUT_ANGLE] = 0.0, s[ANGLE]
    s[FLUX_ALPHA], s[FLUX_BETA] = o.psi * math.cos(s[ANGLE]), o.psi * math.sin(s[ANGLE])
