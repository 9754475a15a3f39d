"""Two estimators of the rotor's angle from currents and applied voltages, as the processor runs them; compiled.

Both rest on the balance of one sampling period, exact whatever the current did within it:
v̄ − R·ī = Δλ/Ts, with the stator's flux λ. What is left of λ beyond Lq·i points along the d axis of a round or salient machine
(the active flux: I. Boldea, M. C. Paicu, G.-D. Andreescu, IEEE Trans. Power Electron. 23, 2008). Its change is the back-EMF over the
period; the back-EMF's phase lies in the middle of the period, a quarter turn ahead of the rotor by the sense of rotation.

- ``BACK_EMF``: that change is filtered in a frame that turns along, so the filter makes no lag at steady speed, and a phase-locked
  loop follows it.
- ``FLUX``: the changes are summed to the active flux; a correction at rate k pulls its length to what ψ says, so that offsets do not
  let it drift, and the same phase-locked loop follows it.

The loop is of second type (F. M. Gardner, Phaselock Techniques, 3rd ed., 2005, ch. 2): Kp = 2ζω_n, Ki = ω_n², lag α/ω_n² under acceleration α.
The slow part of its phase error may be added to the angle (``catch``), which takes that lag away.
"""

from __future__ import annotations

import math
from typing import NamedTuple

from crisp_compass.compiled import compiled, inlined
from crisp_compass.estimates import FloatArray

BACK_EMF, FLUX = 0, 1
# fmt: off
(I_ALPHA, I_BETA, ANGLE, SPEED, E_ALPHA, E_BETA, OFFSET_ALPHA, OFFSET_BETA, LAG, SPREAD, HELD, VALID, EMF, OUT_ANGLE, FLUX_ALPHA,
 FLUX_BETA, PAIR_RE, PAIR_IM, POWER, RAW_ALPHA, RAW_BETA, SINCE, I_D, RATIO) = range(24)
# fmt: on
SEEN = 24
_TWO_PI = 2 * math.pi


class Estimator(NamedTuple):
    """What the estimator believes and how it is tuned; SI, electrical radians.

    ``kind`` BACK_EMF or FLUX. ``kp`` [1/s] and ``ki`` [1/s²] of the phase-locked loop, ``filter`` [rad/s] of the back-EMF, ``correction`` k
    [1/s] of the flux, ``catch`` [rad/s] at which the loop's lag is taken up (0: never), ``offset`` the share of the electrical speed at which a
    constant voltage error is learned (0: never). The angle is valid once the back-EMF is above ``floor`` [V], its length within
    ``length`` (ratio) of ψω and the loop's error within ``spread`` [rad, rms], all through ``hold`` [rad, electrical];
    what was valid stays so up to 1.5 times those bounds.
    """

    ts: float
    r: float
    ld: float
    lq: float
    psi: float
    kind: float = float(BACK_EMF)
    kp: float = 0.0
    ki: float = 0.0
    filter: float = 0.0
    correction: float = 0.0
    catch: float = 0.0
    offset: float = 0.0
    floor: float = 0.0
    length: float = 0.2
    spread: float = math.radians(20.0)
    hold: float = 10 * _TWO_PI


@inlined
def wrapped(angle: float) -> float:
    """Return an angle within ±π."""
    return angle - _TWO_PI * math.floor(angle / _TWO_PI + 0.5)


@compiled
def clear(s: FloatArray, i_alpha: float, i_beta: float) -> None:
    """Forget everything but the currents [A] of this moment; ``s`` (SEEN,)."""
    s[:] = 0.0
    s[I_ALPHA], s[I_BETA], s[SPREAD] = i_alpha, i_beta, 1.0


@inlined
def estimate(
    s: FloatArray,
    o: Estimator,
    dt: float,
    v_alpha: float,
    v_beta: float,
    i_alpha: float,
    i_beta: float,
    trust: float = 1.0,
) -> None:
    """Take in one period of ``dt`` seconds: the voltage's mean over it [V] and the currents at its end [A]; ``s`` (SEEN,) is changed.

    The share ``trust`` of its phase error moves the loop: less where injection tells the angle too (sensorless.injection).
    """
    ts = dt
    w = s[SPEED]
    ahead = s[ANGLE] + w * ts
    c, n = math.cos(ahead), math.sin(ahead)
    # 1. the active flux's change over the period
    change_a = ts * (v_alpha - s[OFFSET_ALPHA] - 0.5 * o.r * (i_alpha + s[I_ALPHA])) - o.lq * (i_alpha - s[I_ALPHA])
    change_b = ts * (v_beta - s[OFFSET_BETA] - 0.5 * o.r * (i_beta + s[I_BETA])) - o.lq * (i_beta - s[I_BETA])
    i_d = i_alpha * c + i_beta * n
    saliency = o.ld - o.lq
    whole_a, whole_b = change_a, change_b
    if saliency != 0.0:  # what a changing i_d does to its length is no back-EMF
        grown = saliency * (i_d - s[I_D])
        change_a -= grown * c
        change_b -= grown * n
    s[I_ALPHA], s[I_BETA], s[I_D] = i_alpha, i_beta, i_d
    raw_a, raw_b = change_a / ts, change_b / ts
    # 2. filter in the turning frame; and what two neighbours say of the speed
    turn = w * ts
    half = 0.5 * turn
    ch, sh = math.cos(half), math.sin(half)
    ct, st = ch * ch - sh * sh, 2.0 * sh * ch
    share = o.filter * ts / (1.0 + o.filter * ts) if o.filter > 0.0 else 1.0
    ea, eb = s[E_ALPHA] * ct - s[E_BETA] * st, s[E_ALPHA] * st + s[E_BETA] * ct
    ea += share * (raw_a - ea)
    eb += share * (raw_b - eb)
    s[E_ALPHA], s[E_BETA] = ea, eb
    slow = 0.25 * share
    s[PAIR_RE] += slow * (raw_a * s[RAW_ALPHA] + raw_b * s[RAW_BETA] - s[PAIR_RE])
    s[PAIR_IM] += slow * (raw_b * s[RAW_ALPHA] - raw_a * s[RAW_BETA] - s[PAIR_IM])
    s[POWER] += slow * (raw_a * raw_a + raw_b * raw_b - s[POWER])
    s[RAW_ALPHA], s[RAW_BETA] = raw_a, raw_b
    size = math.sqrt(ea * ea + eb * eb)
    sense = 1.0 if w >= 0.0 else -1.0
    # where the back-EMF should point: a quarter turn from the rotor's place in the middle of the period
    ua, ub = -sense * (n * ch - c * sh), sense * (c * ch + n * sh)
    along, across = ea * ua + eb * ub, eb * ua - ea * ub
    # 3. the phase error
    uneven = 0.0
    if o.kind == FLUX:
        fa, fb = s[FLUX_ALPHA] + whole_a, s[FLUX_BETA] + whole_b
        length = math.sqrt(fa * fa + fb * fb)
        wanted = o.psi + saliency * i_d
        if length > 0.0:
            uneven = length / wanted - 1.0 if wanted > 0.0 else 1.0
            pull = min(o.correction * ts, 1.0) * (wanted / length - 1.0)
            if o.offset > 0.0 and s[SPREAD] <= o.spread * o.spread:
                rate = o.offset * abs(w)
                s[OFFSET_ALPHA] -= rate * pull * fa
                s[OFFSET_BETA] -= rate * pull * fb
            fa += pull * fa
            fb += pull * fb
        s[FLUX_ALPHA], s[FLUX_BETA] = fa, fb
        error = math.atan2(fb * c - fa * n, fa * c + fb * n)
    else:
        error = math.atan2(across, along)
    weight = trust * (min(1.0, size / o.floor) if o.floor > 0.0 else 1.0)
    # 4. the loop
    s[SPEED] = w + o.ki * ts * error * weight
    s[ANGLE] = wrapped(ahead + o.kp * ts * error * weight)
    if o.catch > 0.0:
        s[LAG] += o.catch * ts / (1.0 + o.catch * ts) * (error * weight - s[LAG])
    s[SPREAD] += 0.5 * slow * (error * error + min(uneven * uneven, 1.0) - s[SPREAD])
    # 5. is it to be trusted
    sinc = 1.0 - half * half * (1.0 / 6.0 - half * half / 120.0) if abs(half) < 1.5 else 0.665
    s[EMF] = size / sinc - abs(w) * saliency * i_d
    expected = o.psi * abs(w)
    slack = 1.5 if s[VALID] != 0.0 else 1.0
    s[RATIO] = s[EMF] / expected if expected > 0.0 else 0.0
    good = (
        s[EMF] * slack >= o.floor
        and abs(s[RATIO] - 1.0) <= o.length * slack
        and s[SPREAD] <= (o.spread * slack) ** 2
        and abs(w) * ts < 1.5
    )
    if good and s[HELD] * w >= 0.0:
        s[HELD] += w * ts
    else:
        s[HELD] = 0.0
    was = s[VALID]
    s[VALID] = 1.0 if good and (was != 0.0 or abs(s[HELD]) >= o.hold) else 0.0
    if o.kind == BACK_EMF and o.offset > 0.0 and s[SPREAD] <= o.spread * o.spread and good:
        rate = o.offset * abs(w) * ts
        s[OFFSET_ALPHA] += rate * (raw_a - along * ua)
        s[OFFSET_BETA] += rate * (raw_b - along * ub)
    s[OUT_ANGLE] = wrapped(s[ANGLE] + s[LAG])
    # 6. lost, but the voltage turns evenly: take angle and speed from it
    s[SINCE] += 1.0
    pair = math.sqrt(s[PAIR_RE] * s[PAIR_RE] + s[PAIR_IM] * s[PAIR_IM])
    if (
        not good
        and trust == 1.0
        and s[SINCE] > 8.0 / slow
        and s[SPREAD] > 0.3
        and s[POWER] > o.floor * o.floor
        and pair > 0.7 * s[POWER]
    ):
        s[SPEED] = math.atan2(s[PAIR_IM], s[PAIR_RE]) / ts
        side = 1.0 if s[SPEED] >= 0.0 else -1.0
        s[ANGLE] = wrapped(math.atan2(raw_b, raw_a) - side * 0.5 * math.pi + 0.5 * s[SPEED] * ts)
        s[E_ALPHA], s[E_BETA] = raw_a, raw_b
        s[FLUX_ALPHA], s[FLUX_BETA] = o.psi * math.cos(s[ANGLE]), o.psi * math.sin(s[ANGLE])
        s[LAG] = s[SINCE] = 0.0


@compiled
def over_rows(
    o: Estimator, t: FloatArray, v: FloatArray, i: FloatArray, longest: float, s: FloatArray, out: FloatArray
) -> None:
    """Run over the rows of a capture: ``t`` (n,), ``v`` and ``i`` (n, 2) in α and β; write angle, speed, back-EMF and valid into ``out`` (n, 4).

    ``s`` (SEEN,) is what the estimator knows at the first row. A gap longer than ``longest`` [s] forgets everything.
    """
    for k in range(len(t)):
        if k > 0:
            dt = t[k] - t[k - 1]
            if dt > longest:
                clear(s, i[k, 0], i[k, 1])
            else:
                estimate(s, o, dt, v[k, 0], v[k, 1], i[k, 0], i[k, 1])
        # under acceleration the integrator lags by Kp times what the angle does
        out[k, 0], out[k, 1], out[k, 2], out[k, 3] = s[OUT_ANGLE], s[SPEED] + o.kp * s[LAG], s[EMF], s[VALID]
